package brindle

import (
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
	*bench.Shell
	image running
	since time.Time
	name  string
}

// run boots, asks the question of a first start, then lets users in until a restart.
func (t *tern) run() {
	t.boot()
	t.Words, t.LogsOut, t.TooLow = t.words(), true, "not allowed here; rise first"
	t.Prompt = func() string { return t.name + []string{" ~ ", " ! "}[t.Level] }
	_ = t.Serve(func() bench.Login {
		return bench.Login{
			Name: t.name + " login: ", Word: "password: ", Refusal: "not known here",
			Knows: func(user, password string) bool { return user == t.Login && password == t.Password },
		}
	})
}

func (t *tern) boot() {
	t.Dots("\r\nunpacking "+t.image.name+" ", 24, 12*time.Second, " done\r\n")
	t.Sayf("tern %s for Brindle %s\r\n", t.image.Release, t.Model)
	for _, part := range []string{"memory", "clock", "uplink", "lan", "tide gauge bus"} {
		t.Phases(4, bench.Phase{Text: fmt.Sprintf("  %-16s", part), Takes: 1500 * time.Millisecond, End: " passed"})
	}
	_, saved := t.Store.Get(savedName)
	t.name = "r40"
	if saved {
		t.name = t.HostName
	}
	if t.started != t.image.Release {
		t.firstStart(saved)
	}
	if t.OK() {
		t.started = t.image.Release
	}
	t.Say("ready\r\n\r\n")
}

// firstStart asks until it is answered, once for each release.
func (t *tern) firstStart(saved bool) {
	question := "No saved configuration. Go through the opening questions now? (y/n) "
	if saved {
		question = fmt.Sprintf("First start of tern %s. Take over the saved configuration? (y/n) ", t.image.Release)
	}
	for t.OK() {
		switch answer := t.Ask(question); {
		case answer == "y" && saved:
			t.Dots("  taking it over ", 8, 2*time.Second, " done\r\n")
			return
		case answer == "n" && saved:
			t.name = "r40"
			t.Say("  left aside; it stays in the store\r\n")
			return
		case answer == "n":
			t.Say("  factory settings\r\n")
			return
		case answer == "y":
			if name := t.Ask("  name of this router? "); name != "" {
				t.name = name
			}
			return
		}
	}
}

func (t *tern) words() []bench.Word {
	return []bench.Word{
		t.Help("words"),
		{Form: "tell release", About: "what runs", Run: t.tellRelease},
		{Form: "tell store", About: "what the store holds", Run: t.tellStore},
		{Form: "tell line", About: "how the console is set", Run: t.tellLine},
		t.Raise("rise"), t.Lower("sink"),
		{Form: "line rate SPEED", About: "change the console's speed now", Run: rate(t.Shell), Level: 1},
		{Form: "keep", About: "save the configuration", Run: t.keep, Level: 1},
		{Form: "restart", About: "restart the router", Run: t.restart, Level: 1},
		t.Leave("leave"),
	}
}

func (t *tern) tellRelease([]string) error {
	f, _ := t.Store.Get(t.image.name)
	_, saved := t.Store.Get(savedName)
	configuration := "factory settings"
	if saved && t.name == t.HostName {
		configuration = "saved, taken over"
	}
	t.Fields("name", t.name, "model", t.Model, "release", t.image.Release, "image", t.image.name, "sha256", fmt.Sprintf("%x", sha256.Sum256(f.Data)),
		"configuration", configuration, "up", t.Wire.Clock().Since(t.since).Round(time.Second))
	return nil
}

func (t *tern) tellStore([]string) error {
	for _, f := range t.Store.Files() {
		t.Sayf("  %-24s %12s B\r\n", f.Name, bench.Commas(len(f.Data)))
	}
	t.Sayf("  free                     %12s B\r\n", bench.Commas(t.Store.Free()))
	return nil
}

func (t *tern) tellLine([]string) error {
	t.Fields("speed now", t.Wire.Baud(), "speed kept", t.savedBaud)
	return nil
}

func (t *tern) keep([]string) error {
	t.SaveConfiguration(t.Wire.Clock().Now().Format("2006-01-02"))
	t.Dots("  keeping ", 5, time.Second, " kept\r\n")
	return nil
}

func (t *tern) restart([]string) error {
	if !strings.HasPrefix(t.Ask("  restart now? (y/n) "), "y") {
		return errors.New("nothing done")
	}
	t.Say("  going down\r\n")
	return bench.ErrRestart
}
