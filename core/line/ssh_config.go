package line

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"unicode"

	"github.com/kevinburke/ssh_config"
)

// sshConfig is what the user's own settings say of hosts: Host, HostName, Port, User, IdentityFile, UserKnownHostsFile and
// ProxyJump.
type sshConfig struct {
	home, path string
	files      []*ssh_config.Config
}

// sshHost is one host with all that is said of it.
type sshHost struct {
	name, address, user, jump string
	keys, knownHosts          []string
	ownKeys                   bool // they are named for it
}

// readSSHConfig reads the settings. A file that is not there says nothing. What of the user's own file is not understood
// is an error: a setting that is left out may lead to another host. The system's is left out whole then, since its user may
// not be able to mend it.
func readSSHConfig(home string) (*sshConfig, error) {
	c := &sshConfig{home: home, path: filepath.Join(home, ".ssh", "config")}
	for _, path := range []string{c.path, "/etc/ssh/ssh_config"} {
		text, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		var config *ssh_config.Config
		if err == nil {
			config, err = decodeSSHConfig(text)
		}
		switch {
		case err == nil:
			c.files = append(c.files, config)
		case path == c.path:
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	return c, nil
}

// decodeSSHConfig reads one file. Of Match it takes those that say a host and nothing else: the package would take every
// word behind "host" for one more.
func decodeSSHConfig(text []byte) (*ssh_config.Config, error) {
	lines := strings.Split(string(text), "\n")
	for i, line := range lines {
		key, values := settingOf(line)
		switch {
		case key == "include" && strings.Contains(line, `"`):
			return nil, quotedInclude(i+1, line)
		case key == "include":
			if err := checkIncluded(values, 1); err != nil {
				return nil, err
			}
		case key == "match" && len(values) == 2 && strings.EqualFold(values[0], "host"):
			lines[i] = "Host " + strings.ReplaceAll(values[1], ",", " ")
		case key == "match" && !plainMatch(values):
			return nil, fmt.Errorf("line %d: %q is not understood here; of Match, \"all\" and \"host NAME\" are", i+1, strings.TrimSpace(line))
		}
	}
	return ssh_config.DecodeBytes([]byte(strings.Join(lines, "\n")))
}

// quotedInclude is said of a path in quotes, which the package would look for with them and not find.
func quotedInclude(number int, line string) error {
	return fmt.Errorf("line %d: %q is not understood here: write the path without quotes, with ? for each blank", number, strings.TrimSpace(line))
}

// settingOf is the key of a line, in small letters, and its values.
func settingOf(line string) (key string, values []string) {
	words := strings.FieldsFunc(line, func(r rune) bool { return unicode.IsSpace(r) || r == '=' })
	if len(words) == 0 {
		return "", nil
	}
	return strings.ToLower(words[0]), words[1:]
}

// plainMatch reports whether the package takes a Match as it is meant.
func plainMatch(values []string) bool {
	switch {
	case len(values) == 1:
		return strings.EqualFold(values[0], "all")
	case len(values) == 2:
		return strings.EqualFold(values[0], "host") && !strings.Contains(values[1], ",")
	}
	return false
}

// mostIncluded is how deep files include each other before the package complains of it.
const mostIncluded = 5

// checkIncluded looks into the files that are included, which the package reads by itself, for what it would not take as
// it is meant. One that cannot be read is the package's to tell.
func checkIncluded(patterns []string, depth int) error {
	for _, pattern := range patterns {
		paths, _ := filepath.Glob(includedPath(pattern))
		for _, path := range paths {
			text, err := os.ReadFile(path)
			if err != nil {
				continue
			}
			for i, line := range strings.Split(string(text), "\n") {
				key, values := settingOf(line)
				if key == "match" && !plainMatch(values) {
					return fmt.Errorf("%s line %d: %q is not understood here; of Match, \"all\" and \"host NAME\" are", path, i+1, strings.TrimSpace(line))
				}
				if key == "include" && strings.Contains(line, `"`) {
					return fmt.Errorf("%s %w", path, quotedInclude(i+1, line))
				}
				if key != "include" || depth == mostIncluded {
					continue
				}
				if err := checkIncluded(values, depth+1); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// includedPath is where an included file is: beside the user's settings, if it is not said in full.
func includedPath(pattern string) string {
	home, _ := os.UserHomeDir()
	switch rest, inHome := strings.CutPrefix(pattern, "~/"); {
	case inHome:
		return filepath.Join(home, rest)
	case filepath.IsAbs(pattern):
		return pattern
	}
	return filepath.Join(home, ".ssh", pattern)
}

// get is the first value of a key, empty for none.
func (c *sshConfig) get(host, key string) string {
	for _, file := range c.files {
		if value, err := file.Get(host, key); err == nil && value != "" {
			return value
		}
	}
	return ""
}

// all are the values of a key that may stand several times.
func (c *sshConfig) all(host, key string) (values []string) {
	for _, file := range c.files {
		more, err := file.GetAll(host, key)
		if err == nil {
			values = append(values, more...)
		}
	}
	return values
}

// host is what is said of a host; what the target says goes before it. Address has a port in any case.
func (c *sshConfig) host(address, login string) sshHost {
	name, port := address, ""
	if host, p, err := net.SplitHostPort(address); err == nil {
		name, port = host, p
	}
	h := sshHost{name: name}
	h.address = net.JoinHostPort(cmp.Or(strings.ReplaceAll(c.get(name, "HostName"), "%h", name), name), cmp.Or(port, c.get(name, "Port"), sshPort))
	h.user = cmp.Or(login, c.get(name, "User"), loginName())
	for _, path := range c.all(name, "IdentityFile") {
		h.keys, h.ownKeys = append(h.keys, c.expand(path, h)), true
	}
	if len(h.keys) == 0 {
		for _, kind := range []string{"ed25519", "ecdsa", "rsa"} {
			h.keys = append(h.keys, filepath.Join(c.home, ".ssh", "id_"+kind))
		}
	}
	for path := range strings.FieldsSeq(c.get(name, "UserKnownHostsFile")) {
		h.knownHosts = append(h.knownHosts, c.expand(path, h))
	}
	if len(h.knownHosts) == 0 {
		h.knownHosts = []string{filepath.Join(c.home, ".ssh", "known_hosts")}
	}
	if jump := c.get(name, "ProxyJump"); !strings.EqualFold(jump, "none") {
		h.jump = jump
	}
	return h
}

func loginName() string {
	if who, err := user.Current(); err == nil {
		return who.Username
	}
	return ""
}

func (c *sshConfig) expand(path string, h sshHost) string {
	path = strings.NewReplacer("%d", c.home, "%h", hostOf(h.address), "%r", h.user, "%u", loginName(), "%%", "%").Replace(path)
	if rest, is := strings.CutPrefix(path, "~/"); is {
		path = filepath.Join(c.home, rest)
	}
	return path
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
	text := strings.TrimPrefix(strings.TrimSpace(jump[at+1:]), "ssh://")
	if at >= 0 {
		rest, more = jump[:at], true
	}
	if who, host, is := strings.Cut(text, "@"); is {
		last.user, text = who, host
	}
	last.host = text
	if host, port, err := net.SplitHostPort(text); err == nil {
		last.host, last.port = host, port
	}
	return last, rest, more
}
