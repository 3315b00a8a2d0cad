package line

import (
	"context"
	"errors"
	"strings"

	"pilotrix/core/clock"
)

// kind is a kind of target: how one is written and read, and how it is opened.
type kind struct {
	name, form string // form is such as unix:/path, empty for what is not offered as an example
	read       func(t *Target, rest string) error
	open       func(ctx context.Context, t Target, c clock.Clock, with *Shells) (Line, error) // nil where others open it
}

// kinds are all of them. A new one is its own file and its row here.
var kinds = []kind{
	{Serial, "serial:/dev/ttyUSB0?speed=9600", readOptions, without(openSerial)},
	{SSH, "ssh://user@host", (*Target).setHost, openShell},
	{Telnet, "telnet://host", (*Target).setHost, without(openTelnet)},
	{ComPort, "rfc2217://host:port?speed=9600", (*Target).setHost, without(openComPort)},
	{TCP, "tcp:host:port", readTCP, without(openTCP)},
	{Unix, "unix:/path", readSocket, without(openUnix)},
	{Exec, "exec:COMMAND", readWhole, without(openExec)},
	{Bench, "bench:NAME", readOptions, nil},
	{
		None,
		"",
		readWhole,
		without(func(_ context.Context, t Target, c clock.Clock) (Line, error) { return openNone(t, c), nil }),
	},
}

// without opens what needs nothing of shell sessions.
func without(
	open func(context.Context, Target, clock.Clock) (Line, error),
) func(context.Context, Target, clock.Clock, *Shells) (Line, error) {
	return func(ctx context.Context, t Target, c clock.Clock, _ *Shells) (Line, error) { return open(ctx, t, c) }
}

func kindNamed(name string) (kind, bool) {
	for _, one := range kinds {
		if one.name == name {
			return one, true
		}
	}
	return kind{}, false
}

// Forms lists how targets are written, in words.
func Forms() string {
	var forms []string
	for _, one := range kinds {
		if one.form != "" {
			forms = append(forms, one.form)
		}
	}
	return enumerate(forms, " or ")
}

func kindNames() string {
	var names []string
	for _, one := range kinds {
		names = append(names, one.name)
	}
	return enumerate(names, " and ")
}

func enumerate(all []string, last string) string {
	return strings.Join(all[:len(all)-1], ", ") + last + all[len(all)-1]
}

// readWhole takes everything behind the kind for the address.
func readWhole(t *Target, rest string) error {
	t.Address = rest
	return nil
}

// readOptions takes what stands behind a question mark for how the line is set.
func readOptions(t *Target, rest string) error {
	address, query, _ := strings.Cut(rest, "?")
	t.Address = address
	return t.setOptions(query)
}

// readSocket takes ?size=… at the end for the size of the terminal.
func readSocket(t *Target, rest string) error {
	t.Address = rest
	at := strings.LastIndex(rest, "?size=")
	if at < 0 {
		return nil
	}
	t.Address, t.Size = rest[:at], rest[at+len("?size="):]
	_, _, err := ParseSize(t.Size)
	return err
}

func readTCP(t *Target, rest string) error {
	if err := readSocket(t, rest); err != nil {
		return err
	}
	if !strings.Contains(t.Address, ":") {
		return errors.New("want tcp:HOST:PORT")
	}
	return nil
}

func openUnix(ctx context.Context, t Target, c clock.Clock) (Line, error) {
	return openSocket(ctx, t, "unix", c)
}

func openTCP(ctx context.Context, t Target, c clock.Clock) (Line, error) {
	return openSocket(ctx, t, "tcp", c)
}
