package line

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"pilotrix/core/secret"
)

// The kinds of target that this package opens itself.
const (
	Serial = "serial"
	Unix   = "unix"
	TCP    = "tcp"
	Exec   = "exec"
	Bench  = "bench"
	Telnet = "telnet"
	SSH    = "ssh"
	// ComPort is a port of a console server, by com-port control over telnet.
	ComPort = "rfc2217"
	// None is no line at all: a device that is dealt with over the network alone. Its address is what it is called.
	None = "none"
)

// Target says what to open: a kind, an address, and for a serial line how it is set.
type Target struct {
	Kind    string
	Address string
	Speed   int    // baud; 0 when the target does not say
	Framing string // data bits, parity, stop bits, such as 8N1; empty when the target does not say
	Flow    string // none, rtscts or xonxoff; empty when the target does not say
	Size    string // of the terminal, such as 80x24, where the line cannot say it; empty when the target does not say
	Legacy  bool   // a shell session may use algorithms that are not safe any more
}

// User is who logs in at a shell session, empty when the target does not say.
func (t Target) User() string {
	if who, _, ok := strings.Cut(t.Address, "@"); ok {
		return who
	}
	return ""
}

// Host is the host of a shell session, with its port where the target says one.
func (t Target) Host() string {
	_, host, ok := strings.Cut(t.Address, "@")
	if !ok {
		host = t.Address
	}
	return host
}

// Flows are the kinds of flow control.
var Flows = []string{"none", "rtscts", "xonxoff"}

// ParseSize reads columns and rows, such as 80x24; both are 0 for an empty text.
func ParseSize(text string) (cols, rows int, err error) {
	if text == "" {
		return 0, 0, nil
	}
	width, height, _ := strings.Cut(text, "x")
	cols, errCols := strconv.Atoi(width)
	rows, errRows := strconv.Atoi(height)
	if errCols != nil || errRows != nil || cols < 20 || rows < 2 || cols > 500 || rows > 300 {
		return 0, 0, fmt.Errorf("size=%s: want columns and rows, such as 80x24", text)
	}
	return cols, rows, nil
}

// Defaults of a serial target.
const (
	DefaultSpeed   = 9600
	DefaultFraming = "8N1"
	DefaultFlow    = "none"
)

// ParseTarget reads KIND:ADDRESS, for a serial line (real or of the bench) with
// ?speed=…&framing=…&flow=…&size=…, for a socket with ?size=…. A path, or a COM port's name, is taken as serial.
func ParseTarget(text string) (Target, error) {
	if strings.HasPrefix(text, "/") || isCOMName(text) {
		text = Serial + ":" + text
	}
	if holdsPassword(text) {
		return Target{}, ErrPassword
	}
	name, rest, found := strings.Cut(text, ":")
	if !found || rest == "" {
		return Target{}, fmt.Errorf("target %q: want KIND:ADDRESS, such as %s", text, Forms())
	}
	kind, known := kindNamed(name)
	if !known {
		return Target{}, fmt.Errorf("target %q: no kind %q; there are %s", text, name, kindNames())
	}
	target := Target{Kind: name}
	if err := kind.read(&target, rest); err != nil {
		return Target{}, fmt.Errorf("target %q: %w", text, err)
	}
	if target.Address == "" {
		return Target{}, fmt.Errorf("target %q: the address is empty", text)
	}
	return target, nil
}

// ErrPassword refuses a target with a password in it, which it does not repeat: targets are kept in files, recorded,
// and on show in the list of processes.
var ErrPassword = errors.New("the target has a password in it, which would be kept and shown with it: leave it out and say where it comes " + "from, with --password " + secret.Sources("") + ", or wait to be asked for it")

// passwordIn finds one in a command: in an address, as an option, or as a variable. One that is looked up when the
// command runs ($NAME), or a file that holds it, is none.
var passwordIn = regexp.MustCompile(`(?i)://[^/\s@:]*:[^\s@$]+@` +
	`|(^|[\s:])-{1,2}(pass(word|wd|phrase)?|pw|secret|token)(=|\s+)[^\s$-]` +
	`|\bsshpass\s+-p\s*[^\s$]` +
	`|(^|[\s:])[a-z_]*(password|passwd|passphrase|secret|token)[a-z_]*=[^\s$]`)

// holdsPassword reports whether a target has a password in it.
func holdsPassword(text string) bool {
	kind, rest, _ := strings.Cut(text, ":")
	switch kind {
	case SSH, Telnet, ComPort, TCP:
		at := strings.LastIndexByte(rest, '@')
		return at >= 0 && strings.Contains(rest[:at], ":")
	case Exec:
		return passwordIn.MatchString(text)
	}
	return false
}

// setHost reads //HOST[:PORT] and options, of which only a port of a console server has those of a serial line.
func (t *Target) setHost(rest string) error {
	address, query, _ := strings.Cut(strings.TrimPrefix(rest, "//"), "?")
	address = strings.TrimSuffix(address, "/")
	if _, _, err := net.SplitHostPort(address); err != nil && t.Kind != SSH { // its port may be said elsewhere
		if t.Kind == ComPort {
			return fmt.Errorf("want %s://HOST:PORT: each port of a console server has its own", t.Kind)
		}
		address = net.JoinHostPort(strings.Trim(address, "[]"), telnetPort)
	}
	if strings.HasPrefix(address, ":") || strings.HasPrefix(address, "@") || strings.HasSuffix(address, "@") ||
		address == "" {
		return fmt.Errorf("want %s://HOST:PORT", t.Kind)
	}
	t.Address = address
	if err := t.setOptions(query); err != nil {
		return err
	}
	if t.Legacy && t.Kind != SSH {
		return fmt.Errorf("legacy goes with ssh")
	}
	if t.Kind != ComPort && (t.Speed != 0 || t.Framing != "" || t.Flow != "") {
		return fmt.Errorf("%s has no speed, framing or flow control; rfc2217://%s has, where the console server does com-port control",
			t.Kind, address)
	}
	return nil
}

// IsSerial reports whether a target has a speed, framing and flow control.
func (t Target) IsSerial() bool { return t.Kind == Serial || t.Kind == Bench || t.Kind == ComPort }

func (t *Target) setOptions(query string) error {
	values, err := url.ParseQuery(query)
	if err != nil {
		return fmt.Errorf("options %q: %w", query, err)
	}
	for key, all := range values {
		value := all[len(all)-1]
		switch key {
		case "speed":
			baud, err := strconv.Atoi(value)
			if err != nil || baud < 50 || baud > 4_000_000 {
				return fmt.Errorf("speed=%s: want a speed in baud, from 50 to 4000000", value)
			}
			t.Speed = baud
		case "framing":
			if _, err := ParseFraming(value); err != nil {
				return err
			}
			t.Framing = strings.ToUpper(value)
		case "flow":
			if !slices.Contains(Flows, value) {
				return fmt.Errorf("flow=%s: want none, rtscts or xonxoff", value)
			}
			t.Flow = value
		case "legacy":
			if value != "yes" && value != "no" {
				return fmt.Errorf("legacy=%s: want yes or no", value)
			}
			t.Legacy = value == "yes"
		case "size":
			if _, _, err := ParseSize(value); err != nil {
				return err
			}
			t.Size = value
		default:
			return fmt.Errorf("no option %q; there are speed, framing, flow and size", key)
		}
	}
	return nil
}

// Or fills in from another target's settings what this one leaves open.
func (t Target) Or(usual Target) Target {
	t.Speed, t.Framing, t.Flow, t.Size = cmp.Or(t.Speed, usual.Speed), cmp.Or(t.Framing, usual.Framing), cmp.Or(t.Flow,
		usual.Flow), cmp.Or(t.Size, usual.Size)
	return t
}

// WithDefaults fills in what the target leaves open: the given speed (or DefaultSpeed), 8N1, no
// flow control.
func (t Target) WithDefaults(speed int) Target {
	if speed == 0 {
		speed = DefaultSpeed
	}
	if t.Speed == 0 {
		t.Speed = speed
	}
	if t.Framing == "" {
		t.Framing = DefaultFraming
	}
	if t.Flow == "" {
		t.Flow = DefaultFlow
	}
	return t
}

// String writes the target so that ParseTarget reads it back.
func (t Target) String() string {
	var options []string
	if t.Speed != 0 {
		options = append(options, "speed="+strconv.Itoa(t.Speed))
	}
	if t.Framing != "" {
		options = append(options, "framing="+t.Framing)
	}
	if t.Flow != "" {
		options = append(options, "flow="+t.Flow)
	}
	if t.Size != "" {
		options = append(options, "size="+t.Size)
	}
	if t.Legacy {
		options = append(options, "legacy=yes")
	}
	text := t.Kind + ":" + t.Address
	if t.Kind == Telnet || t.Kind == ComPort || t.Kind == SSH {
		text = t.Kind + "://" + t.Address
	}
	if len(options) > 0 {
		text += "?" + strings.Join(options, "&")
	}
	return text
}

// Framing is how one character is framed on a serial line.
type Framing struct {
	DataBits int
	Parity   byte // N, E, O, M or S
	StopBits int
}

// ParseFraming reads 8N1 and its like.
func ParseFraming(text string) (Framing, error) {
	upper := strings.ToUpper(text)
	if len(upper) != 3 || upper[0] < '5' || upper[0] > '8' || !strings.Contains("NEOMS", upper[1:2]) ||
		upper[2] < '1' ||
		upper[2] > '2' {
		return Framing{}, fmt.Errorf("framing=%s: want data bits, parity and stop bits, such as 8N1 or 7E1", text)
	}
	return Framing{DataBits: int(upper[0] - '0'), Parity: upper[1], StopBits: int(upper[2] - '0')}, nil
}

// Bits is how many bit times one character takes, its start bit counted.
func (f Framing) Bits() int {
	bits := 1 + f.DataBits + f.StopBits
	if f.Parity != 'N' {
		bits++
	}
	return bits
}

func isCOMName(text string) bool {
	rest, found := strings.CutPrefix(strings.ToUpper(text), "COM")
	if !found {
		return false
	}
	_, err := strconv.Atoi(rest)
	return err == nil
}
