package reach

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type dialer struct{}

func (dialer) Dial(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, "tcp", to.String())
}

func TestAPageIsGotAsItIs(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/old" {
			http.Redirect(w, r, "/", http.StatusFound)
			return
		}
		_, _ = w.Write([]byte("<b>release 2.6</b>\x1b[2J"))
	}))
	defer server.Close()
	page, err := GetPage(t.Context(), dialer{}, server.URL+"/")
	require.NoError(t, err)
	assert.Equal(t, 200, page.Status)
	assert.True(t, page.Holds("2.6"))
	assert.NotContains(t, page.Beginning(), "\x1b")
	page, err = GetPage(t.Context(), dialer{}, server.URL+"/old")
	require.NoError(t, err)
	assert.Equal(t, 302, page.Status, "what the device itself says counts")
	_, err = GetPage(t.Context(), dialer{}, "http://name/")
	require.Error(t, err)
	server.Close()
	_, err = GetPage(t.Context(), dialer{}, server.URL+"/")
	require.Error(t, err)
}

// TestAReleaseOnAPageIsAWordOfItsOwn: a longer one that has it inside is another one.
func TestAReleaseOnAPageIsAWordOfItsOwn(t *testing.T) {
	for text, want := range map[string]bool{
		"2.6": true, "skua 2.6, up": true, "release 2.6.": true, "(2.6)": true, "v2.6": false, "12.6": false, "2.61": false, "2.6.1": false, "1.2.6": false,
		"2.6-rc1": false, "": false, "2.61 and 2.6": true, "<p>2.6</p>": true, "2.6\n": true, "7-2.6": false,
		"2.62.6": false, "2.6.2.6": false, "2.62.6 2.6": true,
	} {
		assert.Equal(t, want, Page{Text: text}.Holds("2.6"), "%q", text)
	}
	assert.False(t, Page{Text: "anything"}.Holds(""))
}
