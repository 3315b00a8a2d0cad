package brindle

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"time"

	"pilotrix/bench"
)

// tern is the operating system.
type tern struct {
	*Router
	bench.Shell
	image running
	since time.Time
	admin bool
	name  string
}

// run boots, asks the question of a first start, then lets users in until a restart.
func (t *tern) run(ctx context.Context) error {
	if err := t.boot(ctx); err != nil {
		return err
	}
	for {
		err := t.login(ctx)
		if err == nil {
			err = t.Shell.Run(ctx)
		}
		if errors.Is(err, bench.ErrRestart) || ctx.Err() != nil {
			return err
		}
	}
}

func (t *tern) boot(ctx context.Context) error {
	if err := t.Dots(ctx, "\r\nunpacking "+t.image.name+" ", 24, 12*time.Second, " done\r\n"); err != nil {
		return err
	}
	if err := t.Sayf(ctx, "tern %s for Brindle %s\r\n", t.image.Release, t.Model); err != nil {
		return err
	}
	for _, part := range []string{"memory", "clock", "uplink", "lan", "tide gauge bus"} {
		if err := t.Dots(ctx, fmt.Sprintf("  %-16s", part), 4, 1500*time.Millisecond, " passed\r\n"); err != nil {
			return err
		}
	}
	_, saved := t.Store.Get(savedName)
	t.name = "r40"
	if saved {
		t.name = t.HostName
	}
	if t.started != t.image.Release {
		if err := t.firstStart(ctx, saved); err != nil {
			return err
		}
	}
	t.started = t.image.Release
	return t.Say(ctx, "ready\r\n\r\n")
}

// firstStart asks until it is answered, once for each release.
func (t *tern) firstStart(ctx context.Context, saved bool) error {
	question := "No saved configuration. Go through the opening questions now? (y/n) "
	if saved {
		question = fmt.Sprintf("First start of tern %s. Take over the saved configuration? (y/n) ", t.image.Release)
	}
	for {
		answer, err := t.Ask(ctx, question)
		if err != nil {
			return err
		}
		switch {
		case answer == "y" && saved:
			return t.Dots(ctx, "  taking it over ", 8, 2*time.Second, " done\r\n")
		case answer == "n" && saved:
			t.name = "r40"
			return t.Say(ctx, "  left aside; it stays in the store\r\n")
		case answer == "n":
			return t.Say(ctx, "  factory settings\r\n")
		case answer == "y":
			name, err := t.Ask(ctx, "  name of this router? ")
			if err == nil && name != "" {
				t.name = name
			}
			return err
		}
	}
}

// login lets in whom the configuration knows; with factory settings, anyone who says operator.
func (t *tern) login(ctx context.Context) error {
	t.admin = false
	for {
		user, err := t.Ask(ctx, t.name+" login: ")
		if err != nil {
			return err
		}
		if user == "" {
			continue
		}
		if err := t.Say(ctx, "password: "); err != nil {
			return err
		}
		password, err := t.ReadLine(ctx, false)
		if err != nil {
			return err
		}
		if user == t.Login && password == t.Password {
			break
		}
		if err := t.Wire.Clock().Wait(ctx, time.Second); err != nil {
			return err
		}
		if err := t.Say(ctx, "not known here\r\n"); err != nil {
			return err
		}
	}
	t.Words = t.words()
	t.Prompt = func() string {
		if t.admin {
			return t.name + " ! "
		}
		return t.name + " ~ "
	}
	return t.Say(ctx, "\r\n")
}

func (t *tern) words() []bench.Word {
	return []bench.Word{
		{Name: "words", About: "list these", Run: func(ctx context.Context, _ []string) error { return t.Help(ctx) }},
		{Name: "tell release", About: "what runs", Run: t.tellRelease},
		{Name: "tell store", About: "what the store holds", Run: t.tellStore},
		{Name: "tell line", About: "how the console is set", Run: t.tellLine},
		{Name: "rise", About: "be allowed to change things", Run: func(context.Context, []string) error { t.admin = true; return nil }},
		{Name: "sink", About: "give that up", Run: func(context.Context, []string) error { t.admin = false; return nil }},
		{Name: "line rate", Usage: "SPEED", About: "change the console's speed now", Run: t.allowed(t.lineRate)},
		{Name: "keep", About: "save the configuration", Run: t.allowed(t.keepWord)},
		{Name: "restart", About: "restart the router", Run: t.allowed(t.restart)},
		{Name: "leave", About: "log out", Run: func(context.Context, []string) error { return bench.ErrLeave }},
	}
}

func (t *tern) allowed(run func(context.Context, []string) error) func(context.Context, []string) error {
	return func(ctx context.Context, rest []string) error {
		if !t.admin {
			return errors.New("not allowed here; rise first")
		}
		return run(ctx, rest)
	}
}

func (t *tern) tellRelease(ctx context.Context, _ []string) error {
	f, _ := t.Store.Get(t.image.name)
	_, saved := t.Store.Get(savedName)
	configuration := "factory settings"
	if saved && t.name == t.HostName {
		configuration = "saved, taken over"
	}
	up := t.Wire.Clock().Since(t.since).Round(time.Second)
	return t.Sayf(ctx, "  name           %s\r\n  model          %s\r\n  release        %s\r\n  image          %s\r\n  sha256         %x\r\n  configuration  %s\r\n  up             %s\r\n",
		t.name, t.Model, t.image.Release, t.image.name, sha256.Sum256(f.Data), configuration, up)
}

func (t *tern) tellStore(ctx context.Context, _ []string) error {
	for _, f := range t.Store.Files() {
		if err := t.Sayf(ctx, "  %-24s %12s B\r\n", f.Name, commas(len(f.Data))); err != nil {
			return err
		}
	}
	return t.Sayf(ctx, "  free                     %12s B\r\n", commas(t.Store.Free()))
}

func (t *tern) tellLine(ctx context.Context, _ []string) error {
	return t.Sayf(ctx, "  speed now      %d\r\n  speed kept     %d\r\n", t.Wire.Baud(), t.savedBaud)
}

func (t *tern) lineRate(ctx context.Context, rest []string) error {
	baud, err := parseBaud(rest)
	if err != nil {
		return err
	}
	if err := t.Sayf(ctx, "  moving to %d now\r\n", baud); err != nil {
		return err
	}
	t.Wire.Retune(baud)
	return nil
}

func (t *tern) keepWord(ctx context.Context, _ []string) error {
	t.SaveConfiguration(t.Wire.Clock().Now().Format("2006-01-02"))
	return t.Dots(ctx, "  keeping ", 5, time.Second, " kept\r\n")
}

func (t *tern) restart(ctx context.Context, _ []string) error {
	answer, err := t.Ask(ctx, "  restart now? (y/n) ")
	if err != nil {
		return err
	}
	if !strings.HasPrefix(answer, "y") {
		return errors.New("nothing done")
	}
	_ = t.Say(ctx, "  going down\r\n")
	return bench.ErrRestart
}
