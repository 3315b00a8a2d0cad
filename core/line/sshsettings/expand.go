package sshsettings

import (
	"cmp"
	"crypto/sha1" //nolint:gosec // ssh_config(5) has it so
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
)

// tokens are what stands for names in settings (ssh_config(5), TOKENS).
func (s *Settings) tokens() *strings.Replacer {
	local, _ := os.Hostname()
	short, _, _ := strings.Cut(local, ".")
	host, port, who := s.HostName(), s.Port(), s.User()
	jump := s.Jump()
	if at := strings.LastIndexByte(jump, ','); at >= 0 {
		jump = jump[at+1:]
	}
	return strings.NewReplacer(
		"%%",
		"%",
		"%C",
		fmt.Sprintf("%x", sha1.Sum([]byte(local+host+port+who+jump))),
		"%d",
		s.Home,
		"%h",
		host,
		"%i",
		fmt.Sprint(os.Getuid()),
		"%j",
		jump, //nolint:gosec // the same
		"%k",
		cmp.Or(s.Get("hostkeyalias"), host),
		"%L",
		short,
		"%l",
		local,
		"%n",
		s.Name,
		"%p",
		port,
		"%r",
		who,
		"%u",
		loginName(),
	)
}

var variable = regexp.MustCompile(`\$\{[A-Za-z_][A-Za-z0-9_]*\}`)

func (s *Settings) expand(text string, command bool) string {
	if !command {
		text = variable.ReplaceAllStringFunc(text, func(name string) string { return os.Getenv(name[2 : len(name)-1]) })
	}
	return s.tokens().Replace(text)
}

// Path is a path as it is meant.
func (s *Settings) Path(path string) string {
	path = s.expand(path, false)
	if path == "~" {
		return s.Home
	}
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		path = filepath.Join(s.Home, rest)
	}
	return path
}

// CommandLine is the command that leads to the host, with its names filled in, for a shell.
func (s *Settings) CommandLine() string { return s.expand(s.Command(), true) }
