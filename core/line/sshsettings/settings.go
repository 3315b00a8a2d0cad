// Package sshsettings reads what a user's own settings of the SSH client say of a host, as ssh_config(5) of OpenSSH
// describes them: the first value counts, in the order of the files. What would lead to another host, another key or
// another verdict and is not carried out here is an error that names it, with its file and line.
//
// words.go splits lines; settings.go reads files; keys.go says what each setting is to us; expand.go fills in what
// stands for names.
package sshsettings

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
)

// Asked is what is known of a host before any setting: how it was called, and what the target says itself.
type Asked struct {
	Name string
	User string // empty for nothing
	Port string
	Home string
}

// Settings are those of one host.
type Settings struct {
	Asked
	values map[string]string
	lists  map[string][]string
	places map[string]string // where each was said
}

// Error is a setting that is not understood, or not carried out.
type Error struct {
	File string
	Line int
	Text string
	Why  string
}

func (e *Error) Error() string {
	return fmt.Sprintf("%s line %d: %q %s", e.File, e.Line, strings.TrimSpace(e.Text), e.Why)
}

// Files are the user's own settings and the system's.
func Files(home string) []string {
	return []string{filepath.Join(home, ".ssh", "config"), "/etc/ssh/ssh_config"}
}

// Read reads what files say of a host. One that is not there says nothing.
func Read(asked Asked, files ...string) (*Settings, error) {
	r := &reader{
		s: &Settings{
			Asked:  asked,
			values: map[string]string{},
			lists:  map[string][]string{},
			places: map[string]string{},
		},
	}
	if asked.User != "" {
		r.s.values["user"] = asked.User
	}
	if asked.Port != "" {
		r.s.values["port"] = asked.Port
	}
	for i, file := range files {
		r.system = i > 0
		err := r.file(file, true, false, 0)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	for _, key := range []string{"remotecommand", "knownhostscommand"} {
		if r.s.unlessNone(key) != "" {
			return nil, fmt.Errorf("%s: %s is not carried out here; leave it out for this host", r.s.places[key], key)
		}
	}
	return r.s, nil
}

// reader is the reading of files in their order.
type reader struct {
	s       *Settings
	system  bool // the file is the system's
	unknown []string
}

const maxDepth = 16

// file reads one file. Active says whether its first lines count; never, that none of it does, whatever its hosts.
func (r *reader) file(path string, active, never bool, depth int) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	for i, line := range strings.Split(string(text), "\n") {
		word, rest := keyword(line)
		if word == "" {
			continue
		}
		why, err := r.line(strings.ToLower(word), rest, fmt.Sprintf("%s line %d", path, i+1), &active, never, depth)
		if err != nil {
			return err
		}
		if why != "" {
			return &Error{path, i + 1, line, why}
		}
	}
	return nil
}

// line takes one line in. Why is what is wrong with it, empty for nothing.
func (r *reader) line(key, rest, place string, active *bool, never bool, depth int) (why string, err error) {
	switch key {
	case "host", "match", "include":
		args, err := arguments(rest)
		if err != nil || len(args) == 0 {
			return "has no end, or nothing behind it", nil
		}
		switch key {
		case "host":
			*active = !never && hostMatches(args, r.s.Name)
			return "", nil
		case "match":
			matched, why := r.match(args, !never)
			*active = matched && !never
			return why, nil
		}
		return "", r.include(args, *active, never, depth)
	}
	if raw[key] {
		if rest == "" {
			return "has nothing behind it", nil
		}
		if *active {
			r.command(key, rest, place)
		}
		return "", nil
	}
	args, err := arguments(rest)
	if err != nil {
		return "has a quote without an end", nil
	}
	if key == "ignoreunknown" {
		if *active && len(args) > 0 {
			r.unknown = append(r.unknown, args[0])
		}
		return "", nil
	}
	kind, known := keys[key]
	switch {
	case !known && slices.ContainsFunc(r.unknown, func(p string) bool { return MatchesList(p, key, true) }):
		return "", nil
	case !known:
		return "is not understood here, and may lead to another host", nil
	case len(args) == 0:
		return "has nothing behind it", nil
	case !*active || kind == passedOver:
		return "", nil
	}
	return r.take(kind, key, args, place), nil
}

// take takes a setting's value in, where it has none yet.
func (r *reader) take(kind int, key string, args []string, place string) (why string) {
	switch {
	case kind == refusedUnless && !slices.Contains(harmless[key], strings.ToLower(args[0])):
		if r.s.places[key] == "" {
			r.s.places[key] = place
		}
		return "is not carried out here; leave it out for this host"
	case kind == refusedUnless:
	case kind == added:
		for _, value := range args[:1] {
			if !slices.Contains(r.s.lists[key], value) {
				r.s.lists[key] = append(r.s.lists[key], value)
			}
		}
	case kind == listed:
		if r.s.lists[key] == nil {
			r.s.lists[key] = args
		}
	case len(args) > 1:
		return "has more behind it than one value"
	default:
		if allowed := choices[key]; allowed != nil && !slices.Contains(allowed, strings.ToLower(args[0])) {
			return "has a value that is not known"
		}
		if _, there := r.s.values[key]; !there {
			r.s.values[key], r.s.places[key] = args[0], place
		}
	}
	return ""
}

// command takes a command in, which is all that follows. Of ProxyCommand and ProxyJump the first that is said counts;
// only of a ProxyJump of none a ProxyCommand after it counts all the same.
func (r *reader) command(key, text, place string) {
	_, byCommand := r.s.values["proxycommand"]
	jump, byJump := r.s.values["proxyjump"]
	if key == "proxyjump" && byCommand || key == "proxycommand" && byJump && !strings.EqualFold(jump, "none") {
		return
	}
	if _, there := r.s.values[key]; !there {
		r.s.values[key], r.s.places[key] = text, place
	}
}

// include reads further files, beside the user's settings or the system's where they are not said in full. Those that
// are not there are passed over.
func (r *reader) include(patterns []string, active, never bool, depth int) error {
	if depth == maxDepth {
		return fmt.Errorf("%s: files include each other more than %d deep", strings.Join(patterns, " "), maxDepth)
	}
	for _, pattern := range patterns {
		if rest, inHome := strings.CutPrefix(pattern, "~/"); inHome {
			pattern = filepath.Join(r.s.Home, rest)
		} else if !filepath.IsAbs(pattern) {
			folder := filepath.Join(r.s.Home, ".ssh")
			if r.system {
				folder = "/etc/ssh"
			}
			pattern = filepath.Join(folder, pattern)
		}
		paths, _ := filepath.Glob(pattern)
		for _, path := range paths {
			if err := r.file(path, active, never || !active, depth+1); err != nil && !errors.Is(err, fs.ErrNotExist) &&
				!errors.Is(err, fs.ErrPermission) {
				return err
			}
		}
	}
	return nil
}

// hostMatches holds a name to the patterns of a Host line.
func hostMatches(patterns []string, name string) bool {
	found := false
	for _, pattern := range patterns {
		bare, not := strings.CutPrefix(pattern, "!")
		if matches(bare, name) {
			if not {
				return false
			}
			found = true
		}
	}
	return found
}

// match holds what is known so far to the criteria of a Match line. A command is run only where all before it hold.
func (r *reader) match(args []string, carriedOut bool) (result bool, why string) {
	result = true
	for i := 0; i < len(args); i++ {
		name, value, hasValue := strings.Cut(args[i], "=")
		name, not := strings.CutPrefix(name, "!")
		name = strings.ToLower(name)
		switch name {
		case "all":
			if len(args) > 1 {
				return false, "has \"all\" beside something else"
			}
			return !not, ""
		case "canonical": // names are not made canonical here
			result = result && not
			continue
		case "host", "originalhost", "user", "localuser", "exec":
		default:
			return false, fmt.Sprintf(
				"is not understood here: of Match, all, host, originalhost, user, localuser and exec are, not %s", name)
		}
		if !hasValue {
			if i++; i == len(args) {
				return false, "ends before the value of " + name
			}
			value = args[i]
		}
		if !result || !carriedOut {
			continue
		}
		if name == "exec" {
			if ok := exec.Command(shell(), "-c", r.s.expand(value, true)).Run() == nil; ok == not {
				result = false
			}
			continue
		}
		text := map[string]string{"host": r.s.HostName(), "originalhost": r.s.Name, "user": r.s.User(), "localuser": loginName()}[name]
		if MatchesList(value, text, name == "host" || name == "originalhost") == not {
			result = false
		}
	}
	return result, ""
}

func shell() string {
	if shell := os.Getenv("SHELL"); shell != "" {
		return shell
	}
	return "/bin/sh"
}

func loginName() string {
	if who, err := user.Current(); err == nil {
		return who.Username
	}
	return ""
}
