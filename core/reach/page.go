package reach

import (
	"context"
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"unicode"

	"pilotrix/core/plain"
)

// Page is what a web page was.
type Page struct {
	Status int
	Text   string // its beginning
}

// maxPage is how much of a page is looked at, in bytes.
const maxPage = 256 << 10

// Dialer is what getting a page needs of the network.
type Dialer interface {
	Dial(ctx context.Context, to netip.AddrPort) (net.Conn, error)
}

// GetPage gets a page over a network. Redirections are not followed: what the device itself says counts.
func GetPage(ctx context.Context, n Dialer, address string) (Page, error) {
	watched, err := ParseWatched(address)
	if err != nil {
		return Page{}, err
	}
	response, _, err := get(ctx, n, watched)
	if err != nil {
		return Page{}, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, maxPage))
	return Page{response.StatusCode, string(text)}, err
}

// Holds reports whether a text stands on the page as a word of its own: 2.6 is not found in 2.61, 12.6 or 2.6.1.
func (p Page) Holds(text string) bool {
	for at := 0; text != ""; {
		i := strings.Index(p.Text[at:], text)
		if i < 0 {
			return false
		}
		from := at + i
		if !endsInWord(p.Text[:from]) && !beginsWithWord(p.Text[from+len(text):]) {
			return true
		}
		at = from + 1 // what is found next may begin inside of this one, and counts with all that stands before it
	}
	return false
}

func ofWord(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) || r == '_' || r == '-' }

func endsInWord(text string) bool {
	runes := []rune(text[max(0, len(text)-16):])
	n := len(runes)
	return n > 0 && (ofWord(runes[n-1]) || n > 1 && runes[n-1] == '.' && ofWord(runes[n-2]))
}

func beginsWithWord(text string) bool {
	runes := []rune(text[:min(len(text), 16)])
	return len(runes) > 0 && (ofWord(runes[0]) || len(runes) > 1 && runes[0] == '.' && ofWord(runes[1]))
}

// StatusText are its status, empty where there was no page.
func (p Page) StatusText() string {
	if p.Status == 0 {
		return ""
	}
	return strconv.Itoa(p.Status)
}

// Beginning is the page's first words, safe to be shown.
func (p Page) Beginning() string { return plain.Clip(strings.Join(strings.Fields(p.Text), " "), 80) }

// get asks for a page. Devices come with certificates that nobody has signed: they answer all the same, and unsigned
// says so.
func get(ctx context.Context, n Dialer, t Watched) (response *http.Response, unsigned string, err error) {
	client := http.Client{
		Transport: &http.Transport{
			DisableKeepAlives: true,
			TLSClientConfig: &tls.Config{
				InsecureSkipVerify: true, // nothing is told to the device or believed of it but what it says of itself
				VerifyConnection: func(c tls.ConnectionState) error {
					unsigned = doubtOf(c)
					return nil
				},
			},
			DialContext: func(_ context.Context, _, address string) (net.Conn, error) { // by our context: the transport's outlives the try
				to, err := netip.ParseAddrPort(address)
				if err != nil {
					return nil, err
				}
				return n.Dial(ctx, to)
			},
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, t.URL, nil)
	if err != nil {
		return nil, "", err
	}
	response, err = client.Do(request)
	return response, unsigned, err
}
