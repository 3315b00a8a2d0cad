package line

import (
	"net"
	"strings"

	"pilotrix/core/line/sshsettings"
)

// sshHost is one host with all that the user's own settings say of it.
type sshHost struct {
	*sshsettings.Settings
	name, address, user, jump string
	final                     bool // it is where the target leads, and not on the way there
}

// host is what is said of a host; what the target says goes before it. Address has a port in any case.
func (d *dialer) host(address, login string) (h sshHost, err error) {
	name, port := address, ""
	if host, p, err := net.SplitHostPort(address); err == nil {
		name, port = host, p
	}
	asked := sshsettings.Asked{Name: name, User: login, Port: port, Home: d.with.Home}
	s, err := sshsettings.Read(asked, sshsettings.Files(d.with.Home)...)
	if err != nil {
		return h, d.fail(ErrCannot, nil, err.Error())
	}
	return sshHost{
		Settings: s,
		name:     name,
		address:  net.JoinHostPort(s.HostName(), s.Port()),
		user:     s.User(),
		jump:     s.Jump(),
	}, nil
}

func hostOf(address string) string {
	if host, _, err := net.SplitHostPort(address); err == nil {
		return host
	}
	return address
}

// jumpHost is one host of a ProxyJump: [user@]host[:port].
type jumpHost struct{ user, host, port string }

// cutLast takes the last host of a ProxyJump: the one that is next to where it leads. Rest is the way to that one.
func cutLast(jump string) (last jumpHost, rest string, more bool) {
	at := strings.LastIndexByte(jump, ',')
	text := strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(jump[at+1:]), "ssh://"), "/")
	if at >= 0 {
		rest, more = jump[:at], true
	}
	if at := strings.LastIndexByte(text, '@'); at >= 0 {
		last.user, text = text[:at], text[at+1:]
	}
	last.host = strings.Trim(text, "[]")
	if host, port, err := net.SplitHostPort(text); err == nil {
		last.host, last.port = host, port
	}
	return last, rest, more
}
