// Package secret reads secrets from where they are kept. A secret is never an argument, which everybody on the machine
// can see: what is said is its source, such as env:PASS.
package secret

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"github.com/zalando/go-keyring"
)

// sources are where a secret may come from, each by the word before its colon.
var sources = []struct {
	kind, where string
	read        func(where string) (string, error)
}{
	{"env", "VARIABLE", fromEnvironment},
	{"file", "PATH", fromFile},
	{"command", "COMMAND", fromCommand},
	{"keyring", "SERVICE/USER", fromKeyring},
}

// Sources lists the forms of a source, each behind a prefix: env:VARIABLE, file:PATH and so on.
func Sources(prefix string) string {
	var forms []string
	for _, source := range sources {
		forms = append(forms, prefix+source.kind+":"+source.where)
	}
	last := len(forms) - 1
	return strings.Join(forms[:last], ", ") + " or " + forms[last]
}

// Check reports what is wrong with a source, without reading it.
func Check(source string) error {
	kind, _, _ := strings.Cut(source, ":")
	for _, one := range sources {
		if one.kind == kind && strings.Contains(source, ":") {
			return nil
		}
	}
	return errors.New("want " + Sources(""))
}

// Read reads the secret from its source. Errors never quote what may be the secret itself.
func Read(source string) (string, error) {
	kind, where, _ := strings.Cut(source, ":")
	for _, one := range sources {
		if one.kind == kind {
			return one.read(where)
		}
	}
	return "", Check(source)
}

func fromEnvironment(variable string) (string, error) {
	value, set := os.LookupEnv(variable)
	if !set {
		return "", fmt.Errorf("the variable %s is not set", variable)
	}
	return value, nil
}

func fromFile(path string) (string, error) {
	data, err := os.ReadFile(path)
	return strings.TrimRight(string(data), "\r\n"), err
}

func fromKeyring(where string) (string, error) {
	service, user, found := strings.Cut(where, "/")
	if !found {
		return "", errors.New("want keyring:SERVICE/USER")
	}
	value, err := keyring.Get(service, user)
	if err != nil {
		err = fmt.Errorf("the system's keyring has none for %s at %s: %w", user, service, err)
	}
	return value, err
}

// fromCommand is the first line that a command prints. It is run as the shell runs it, so that a store of secrets is
// asked as its owner asks it.
func fromCommand(command string) (string, error) {
	run := exec.Command("sh", "-c", command)
	run.Stdin, run.Stderr = os.Stdin, os.Stderr
	out, err := run.Output()
	if err != nil {
		return "", fmt.Errorf("the command that gives it failed: %w", err)
	}
	first, _, _ := strings.Cut(string(out), "\n")
	if first = strings.TrimRight(first, "\r"); first == "" {
		return "", errors.New("the command that gives it printed nothing")
	}
	return first, nil
}
