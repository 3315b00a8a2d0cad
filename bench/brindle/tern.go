package brindle

import (
	"bytes"
	"cmp"
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
	kept  bool // what was set is saved
}

// run boots, asks the question of a first start, then lets users in until a restart.
func (t *tern) run() {
	t.boot()
	t.Text, t.LogsOut, t.TooLow = t.words(), true, "not allowed here; rise first"
	t.Prompt = func() string { return t.name + []string{" ~ ", " ! "}[t.Level] }
	_ = t.Serve(func() bench.Login {
		return bench.Login{
			Name: t.name + " login: ", Word: "password: ", Refusal: "not known here",
			Knows: func(user, password string) bool { return user == t.Login && password == t.Password },
		}
	})
}

func (t *tern) boot() {
	if t.TakeWarm() {
		t.name, t.entry, t.kept = t.HostName, t.Entry(), true
		t.reach(true)
		return
	}
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
	if t.fibs.IsAnother {
		t.name = "another-rtr1"
	}
	t.entry, t.kept = t.Entry(), true
	if t.started != t.image.Release {
		t.firstStart(saved)
	}
	if t.OK() {
		t.started = t.image.Release
		t.reach(true)
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
		{Form: "tell release", About: "what runs", Run: t.reportRelease},
		{Form: "tell store", About: "what the store holds", Run: listStore(t.Shell, t.Router)},
		{Form: "tell line", About: "how the console is set", Run: t.reportLine},
		{Form: "tell entry", About: "what it begins with when it starts next", Run: t.reportEntry},
		{Form: "weigh NAME", About: "size and digests of a file", Run: weigh(t.Shell, &t.Store)},
		t.Raise("rise"),
		t.Lower("sink"),
		{Form: "line rate SPEED", About: "change the console's speed now", Run: rate(t.Shell), Level: 1},
		{
			Form:  "bring tftp",
			About: "bring a file from a server; it asks from where",
			Run:   t.bring("tftp"),
			Level: 1,
			Grave: true,
		},
		{Form: "bring http", About: "the same by HTTP", Run: t.bring("http"), Level: 1, Grave: true},
		{
			Form:  "bring ftp",
			About: "the same by FTP, with an account there",
			Run:   t.bring("ftp"),
			Level: 1,
			Grave: true,
		},
		{
			Form:  "lend setup ADDRESS NAME",
			About: "leave the saved configuration on a server by TFTP",
			Run:   t.lend,
			Level: 1,
			Grave: true,
		},
		{Form: "drop NAME", About: "remove one file", Run: t.drop, Level: 1, Grave: true},
		{
			Form:  "begin with NAME",
			About: "what it begins with when it starts next",
			Run:   t.beginWith,
			Level: 1,
			Grave: true,
		},
		{Form: "keep", About: "save the configuration", Run: t.keep, Level: 1},
		{Form: "restart", About: "restart the router", Run: t.restart, Level: 1},
		t.Leave("leave"),
	}
}

func (t *tern) reportRelease([]string) error {
	_, saved := t.Store.Get(savedName)
	configuration := "factory settings"
	if saved && t.name == t.HostName {
		configuration = "saved, taken over"
	}
	address := "-"
	if t.lan != nil {
		address = t.address.String()
	}
	t.Fields("name", t.name, "model", t.Model, "architecture", Architecture, "address", address, "release",
		t.image.Release, "image", cmp.Or(t.faults.Misnames, t.image.name), "sha256", fmt.Sprintf("%x", t.image.digest),
		"configuration", configuration, "up", t.Wire.Clock().Since(t.since).Round(time.Second))
	return nil
}

func (t *tern) reportEntry([]string) error {
	t.Fields("entry now", bench.Dash(t.entry), "entry kept", bench.Dash(t.Entry()))
	return nil
}

func (t *tern) reportLine([]string) error {
	t.Fields("speed now", t.Wire.Baud(), "speed kept", t.savedBaud)
	return nil
}

// bring is a word that asks for all it wants to know, then fills the store while the file comes. What did not come
// whole stays, broken, and takes its room.
func (t *tern) bring(protocol string) func([]string) error {
	return func([]string) error {
		if t.lan == nil {
			return errors.New("the network is not plugged in")
		}
		from := t.Ask("  from which address? ")
		there := t.Ask("  its name there? ")
		here := cmp.Or(t.Ask(fmt.Sprintf("  its name here [%s]? ", there)), there)
		if t.faults.CutsNames > 0 && len(here) > t.faults.CutsNames {
			here = here[:t.faults.CutsNames]
		}
		fetch, err := t.Getting(t.net, protocol, from, there, bench.Asking{User: "  who there? ", Word: "  password: "})
		if err != nil {
			return err
		}
		if f, there := t.Store.Get(here); there &&
			!t.Yes(fmt.Sprintf("  %s is there, %s B. Write over it?", here, bench.Commas(len(f.Data)))) {
			return errors.New("nothing done")
		}
		return t.fill(here, fetch)
	}
}

func (t *tern) fill(name string, fetch bench.Fetch) error {
	t.Store.Drop(name)
	t.Say("  bringing ")
	shown := 0
	memory := &bench.FlashMemory{
		Room:  t.Store.Free(),
		Rate:  fetchRate,
		Clock: t.Wire.Clock(),
		Stall: t.StallOnce(),
		Progress: func(written int) {
			for ; shown < written/(64<<10); shown++ {
				t.Say(".")
			}
		},
	}
	err := memory.Fill(t.Context(), fetch, func(int) {})
	if keeps := t.Store.Put(
		bench.File{Name: name, Data: bytes.Clone(memory.Data.Bytes()), Broken: err != nil}); err == nil {
		err = keeps
	}
	if err != nil {
		t.Sayf("\r\n  not whole: %v\r\n", err)
		return nil
	}
	t.Sayf(" %s B\r\n  brought %s\r\n", bench.Commas(memory.Data.Len()), name)
	return nil
}

func (t *tern) lend(args []string) error {
	saved, there := t.Store.Get(savedName)
	switch {
	case !there:
		return errors.New("nothing is saved")
	case t.lan == nil:
		return errors.New("the network is not plugged in")
	}
	if err := t.net.Leave(t.Context(), args[0], args[1], saved.Data); err != nil {
		return fmt.Errorf("not lent: %w", err)
	}
	t.Say("  lent\r\n")
	return nil
}

// drop asks once more for the image that runs: that is in memory, and goes on until the next start.
func (t *tern) drop(args []string) error {
	if args[0] == t.image.name && !t.Yes(fmt.Sprintf("  %s runs now. Remove it all the same?", args[0])) {
		return errors.New("nothing done")
	}
	return drop(t.Shell, &t.Store)(args)
}

func (t *tern) beginWith(args []string) error {
	t.entry, t.kept = args[0], false
	t.Sayf("  begins with %s; keep saves that\r\n", args[0])
	return nil
}

func (t *tern) keep([]string) error {
	t.Begin(t.Wire.Clock().Now().Format("2006-01-02"), t.entry)
	t.kept = true
	t.Dots("  keeping ", 5, time.Second, " kept\r\n")
	return nil
}

func (t *tern) restart([]string) error {
	if !t.kept && t.Yes("  not saved yet. Save first?") {
		_ = t.keep(nil)
	}
	if !strings.HasPrefix(t.Ask("  restart now? (y/n) "), "y") {
		return errors.New("nothing done")
	}
	t.Say("  going down\r\n")
	return bench.ErrRestart
}
