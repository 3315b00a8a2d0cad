package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/inventory"
	"pilotrix/core/line"
	"pilotrix/core/logbook"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/source/goldentest"
	"pilotrix/core/suggest"
	"pilotrix/tui/inputs"
	"pilotrix/tui/runbooks"
	"pilotrix/tui/start"
)

const talk = `
dialect: lamp
title: Lamp
about: A lamp that talks.
modes: [{mode: ready, prompt: '^> $'}]
readings: [{reading: state, in: [ready], command: tell, facts: [{fact: lamp.lit, pattern: 'lit (\S+)'}]}]
actions: [{action: light, title: Lights it, in: [ready], with: [colour], command: 'light ${colour}', done: lit, danger: blinds whoever looks}]
`

const lighting = `
runbook: light-it
title: Light the lamp
about: Lights it, and proves that it is lit.
inputs:
  - {input: image, kind: image, about: what it shows}
  - {input: colour, kind: choice, choices: [red, white], about: the colour}
  - {input: key, kind: secret, about: its key}
  - {input: note, kind: text, default: '', about: anything}
phases:
  - phase: do it
    steps:
      - step: Light it
        hold: 'Lights it ${colour}.'
        irreversible: true
        act: {action: light, with: {colour: '${colour}'}}
      - step: Read it
        read: [state]
`

// lampLibrary has one runbook for the lamp, one that is for another device, and the lamp's one action.
type lampLibrary struct {
	*testing.T
	d    *dialect.Dialect
	book *runbook.Runbook
	got  map[string]string
}

func newLampLibrary(t *testing.T) *lampLibrary {
	d, err := dialect.Parse("lamp.yaml", []byte(talk))
	require.NoError(t, err)
	book, err := runbook.Parse("light-it.yaml",
		[]byte(strings.Replace(lighting, "  - {input: image, kind: image, about: what it shows}\n", "", 1)))
	require.NoError(t, err)
	return &lampLibrary{T: t, d: d, book: book}
}

func (l *lampLibrary) Entries() []runbooks.Entry {
	single, err := verbs.Single(l.d, "light", "")
	require.NoError(l, err)
	return []runbooks.Entry{
		{Book: single, Name: "action-light", Title: "Lights it", About: "It blinds whoever looks.", Single: true},
		{Name: "rescue", Title: "Rescue", WhyNot: "dialect lamp has no mode “monitor”"},
		{Book: l.book, Name: "light-it", Title: l.book.Title, About: l.book.About, Last: "took 00:12, 3 days ago"},
	}
}

func (l *lampLibrary) Needs(book *runbook.Runbook) (all []inputs.Need) {
	for _, input := range book.Inputs {
		need := inputs.Need{Input: input, Picks: book.Picks(input, l.d, runbook.Kit{}, &device.Facts{})}
		if input.Input == "note" {
			need.Picks = []runbook.Pick{
				{Value: "a.brm", Text: "4.2.1 · fits", Fit: image.Yes},
				{Value: "b.brm", Text: "made for another", Fit: image.No},
			}
		}
		all = append(all, need)
	}
	return all
}

func (l *lampLibrary) Takes(book *runbook.Runbook, input runbook.Input, value string) error {
	return book.Takes(input, value, l.d, runbook.Kit{})
}

func (l *lampLibrary) Prepare(book *runbook.Runbook, values map[string]string) (*runbook.Prepared, error) {
	l.got = values
	if values["note"] == "refuse" {
		return nil, errors.New("not with that note")
	}
	return book.Prepare(l.d, values, runbook.Kit{})
}

func (l *lampLibrary) Available(string) suggest.Kit { return suggest.Kit{HasShelf: true} }

// does presses a key and carries out what it gives, and what that gives.
func does(m tea.Model, key tea.Key) { carry(m, func() tea.Msg { return tea.KeyPressMsg(key) }) }

func carry(m tea.Model, cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	msg := cmd()
	if batch, ok := msg.(tea.BatchMsg); ok {
		for _, one := range batch {
			carry(m, one)
		}
		return
	}
	if _, isTick := msg.(tickMsg); msg == nil || isTick {
		return
	}
	_, next := m.Update(msg)
	if _, isKey := msg.(tea.KeyPressMsg); isKey || next == nil {
		carry(m, next)
		return
	}
	carry(m, next)
}

func writes(m tea.Model, text string) {
	for _, letter := range text {
		does(m, tea.Key{Code: letter, Text: string(letter)})
	}
}

// lampApp is a session with the lamp, in whose runbooks one may look.
func lampApp(t *testing.T) (*app, *lampLibrary) {
	a, l := newWired(t).app, newLampLibrary(t)
	a.opt.Library = l
	a.places = a.allPlaces()
	a.show("console")
	return a, l
}

// TestARunbookIsPickedFilledInAndPlanned goes the whole way by keys, with what is wrong on it.
func TestARunbookIsPickedFilledInAndPlanned(t *testing.T) {
	for _, size := range [][2]int{{160, 40}, {80, 24}} {
		a, l := lampApp(t)
		text := func() string { return strings.Join(shown(a, size[0], size[1]), "\n") }
		does(a, tea.Key{Code: 'g', Mod: tea.ModCtrl})
		does(a, tea.Key{Code: 'r', Text: "r"})
		for _, want := range []string{"runbooks for this device", "▸ Light the lamp", "took 00:12, 3 days ago", "single actions", "Lights it", "✗ dialect lamp has no mode"} {
			assert.Contains(t, text(), want, size)
		}
		writes(a, "resc")
		does(a, tea.Key{Code: tea.KeyEnter})
		assert.Contains(t, text(), "it cannot be carried out here")
		for range 4 {
			does(a, tea.Key{Code: tea.KeyBackspace})
		}
		does(a, tea.Key{Code: tea.KeyEnter})
		assert.Contains(t, text(), "▸ colour", size)
		does(a, tea.Key{Code: tea.KeyEnter})
		assert.Contains(t, text(), "✗ it is needed")
		writes(a, "green")
		does(a, tea.Key{Code: tea.KeyEnter})
		assert.Contains(t, text(), `✗ "green" is none of red, white`)
		does(a, tea.Key{Code: tea.KeyDown})
		does(a, tea.Key{Code: tea.KeyDown})
		assert.Contains(t, text(), "● white")
		does(a, tea.Key{Code: tea.KeyTab})
		writes(a, "lamp-and-tide")
		assert.NotContains(t, text(), "lamp-and", "a secret is typed unseen")
		does(a, tea.Key{Code: tea.KeyEnter})
		writes(a, "refuse")
		does(a, tea.Key{Code: tea.KeyEnter})
		assert.Contains(t, text(), "✗ not with that note")
		does(a, tea.Key{Code: 'u', Mod: tea.ModCtrl})
		does(a, tea.Key{Code: tea.KeyDown})
		does(a, tea.Key{Code: tea.KeyEnter})
		assert.Equal(t, map[string]string{"colour": "white", "key": "lamp-and-tide", "note": "a.brm"}, l.got)
		for _, want := range []string{"2 steps, 1 hold", "▲  1.1  Light it", "holds: Lights it white.", "⟩ light white", "⟩ tell", "Enter carry it out"} {
			assert.Contains(t, text(), want, size)
		}
		does(a, tea.Key{Code: tea.KeyEnter})
		assert.Contains(t, text(), "press Enter once more", "an Enter right behind the last one begins nothing")
		assert.Nil(t, a.run)
		does(a, tea.Key{Code: tea.KeyEscape})
		assert.Contains(t, text(), "▸ note", "Esc leads back to what was typed")

		// what comes late, or for a session that was left, turns nobody away from what they do
		a.show("console")
		a.Update(needed{a, runbooks.Entry{Book: l.book}, l.Needs(l.book)})
		a.Update(prepared{app: a, from: "inputs"})
		assert.Equal(t, "console", a.places[a.shown].name)
		a.show("runbooks")
		a.Update(needed{nil, runbooks.Entry{Book: l.book}, l.Needs(l.book)})
		assert.Equal(t, "runbooks", a.places[a.shown].name)
		a.show("inputs")

		// another one later knows what was given before
		does(a, tea.Key{Code: tea.KeyEscape})
		does(a, tea.Key{Code: tea.KeyEnter})
		assert.Contains(t, text(), "••••••")
	}
}

// trial is a router whose new release was looked at twice before it was activated, and runs on trial now.
func trial() []event.Body {
	system := func(release, packed, running, lasting string) map[string]string {
		return map[string]string{
			"release":  release,
			"packed":   packed,
			"unpacked": "yes",
			"running":  running,
			"lasting":  lasting,
		}
	}
	part := func(name, effect, seconds, verdict, reason string) map[string]string {
		return map[string]string{
			"part":    name,
			"effect":  effect,
			"seconds": seconds,
			"verdict": verdict,
			"reason":  reason,
		}
	}
	return []event.Body{
		event.RunBegin{Runbook: "install", Title: "Install on trial", Steps: []event.StepPlan{
			{ID: "1.1", Phase: "look", Title: "Look ahead", Expected: 4 * time.Second},
			{
				ID:       "2.1",
				Phase:    "activate",
				Title:    "Activate 5.4 on trial",
				Hold:     true,
				Expected: 90 * time.Second,
				Timeout:  10 * time.Minute,
				Cards:    []string{"restart", "banks"},
			},
			{
				ID:       "3.1",
				Phase:    "prove",
				Title:    "Watch it for a while",
				Expected: 20 * time.Minute,
				Timeout:  time.Hour,
				Cards:    []string{"banks"},
			},
			{ID: "3.2", Phase: "prove", Title: "Confirm", Expected: 2 * time.Second, Timeout: time.Minute},
		}},
		event.Fact{Name: "device.name", Value: "quay-er1", Source: "view self"},
		event.Fact{
			Name:   "systems",
			Value:  "1 row",
			Source: "view systems",
			Rows:   []map[string]string{system("5.2", "no", "yes", "yes")},
		},
		event.Fact{Name: "dryrun", Value: "3 rows", Source: "foresee", Rows: []map[string]string{
			part("system", "is replaced", "70", "goes", ""),
			part("lan", "restarts", "20", "goes", ""),
			part("room", "is needed", "26", "goes", ""),
		}},
		event.Fact{Name: "dryrun", Value: "3 rows", Source: "foresee", Rows: []map[string]string{
			part("system", "is replaced", "70", "refuses", "made for E8-16, this is E8-1"),
			part("lan", "restarts", "35", "goes", ""),
			part("setup", "is taken over", "0", "warns", "drops old gauges"),
		}},
		event.StepEnd{ID: "1.1", Outcome: event.Done, Took: 4 * time.Second},
		event.StepEnd{ID: "2.1", Outcome: event.Done, Took: 70 * time.Second},
		event.StepBegin{ID: "3.1", Try: 1},
		event.Pending{
			Name:  "trial",
			State: event.PendingOpen,
			Says:  "the release that runs is on trial, and the old one comes back",
			Until: time.Date(2026, 3, 2, 14, 12, 0, 0, time.UTC),
		},
		event.Fact{
			Name:   "systems",
			Value:  "2 rows",
			Source: "view systems",
			Rows:   []map[string]string{system("5.4", "yes", "yes", "no"), system("5.2", "no", "no", "yes")},
		},
	}
}

// TestATrialAsItIsShown keeps the board, the dry run and the course of a trial as they are drawn, at both sizes.
func TestATrialAsItIsShown(t *testing.T) {
	for _, size := range [][2]int{{160, 40}, {80, 24}} {
		a, _ := lampApp(t)
		feed(a, trial()...)
		for _, name := range []string{"console", "device", "dry-run", "course"} {
			a.show(name)
			goldentest.Same(t, fmt.Sprintf("trial-%s-%dx%d", name, size[0], size[1]), drawn(a, size))
		}
		then := func(body event.Body) {
			a.apply([]event.Event{{At: time.Date(2026, 3, 2, 14, 1, 0, 0, time.UTC), Body: body}})
		}
		then(event.Change{Command: "turn over"})
		a.show("device")
		assert.Contains(t, strings.Join(shown(a, size[0], size[1]), "\n"), "changed since")
		a.show("console")
		then(event.RunEnd{Outcome: event.Stopped, Message: "STILL OPEN: so", Exit: 3})
		assert.Contains(t, strings.Join(shown(a, size[0], size[1]), "\n"), "STILL OPEN 1")
		then(event.Pending{Name: "trial", State: event.PendingRan, Says: "x"})
		assert.NotContains(t, strings.Join(shown(a, size[0], size[1]), "\n"), "STILL OPEN 1")
	}
}

// ofThree is a stack that is being filled, with what can be wrong with one.
func ofThree() []event.Body {
	unit := func(number, role, release, state string) map[string]string {
		return map[string]string{"unit": number, "model": "S24", "role": role, "release": release, "state": state}
	}
	bank := func(unit, name, state, release, next string) map[string]string {
		return map[string]string{
			"unit":    unit,
			"bank":    name,
			"state":   state,
			"release": release,
			"next":    next,
			"saved":   next,
		}
	}
	taken := func(unit, how, percent, reason string) map[string]string {
		return map[string]string{"unit": unit, "copy": how, "percent": percent, "reason": reason}
	}
	return []event.Body{
		event.RunBegin{
			Runbook: "stack",
			Title:   "Upgrade the stack",
			Steps: []event.StepPlan{
				{
					ID:       "1.1",
					Phase:    "fill",
					Title:    "Fill them",
					Expected: time.Minute,
					Timeout:  time.Hour,
					Cards:    []string{"banks"},
				},
			},
		},
		event.Fact{Name: "device.name", Value: "tangle-sw1", Source: "report self"},
		event.Fact{Name: "ring.state", Value: "broken", Source: "report ring"},
		event.Fact{Name: "ring.where", Value: "between unit 2 and unit 3", Source: "report ring"},
		event.Fact{
			Name:   "units",
			Value:  "4 rows",
			Source: "report units",
			Rows: []map[string]string{
				unit("1", "lead", "3.1", "here"),
				unit("2", "deputy", "3.1", "here"),
				unit("3", "member", "3.1", "here"),
				unit("4", "none", "", "away"),
			},
		},
		event.StepBegin{ID: "1.1", Try: 1},
		event.Pending{
			Name:  "timed restart",
			State: event.PendingOpen,
			Says:  "a restart of every unit is set",
			Until: time.Date(2026, 3, 2, 14, 20, 0, 0, time.UTC),
		},
		event.Fact{
			Name:   "units",
			Value:  "4 rows",
			Source: "report units",
			Rows: []map[string]string{
				unit("1", "member", "3.1", "here"),
				unit("2", "lead", "3.1", "here"),
				unit("3", "none", "2.9", "apart"),
				unit("4", "none", "", "away"),
			},
		},
		event.Fact{Name: "banks", Value: "6 rows", Source: "report banks", Rows: []map[string]string{
			bank("1", "A", "running", "3.1", "no"),
			bank("1", "B", "standby", "3.2", "yes"),
			bank("2", "A", "running", "3.1", "yes"),
			bank("2", "B", "standby", "2.8", "no"),
			bank("3", "A", "running", "2.9", "yes"),
			bank("3", "B", "standby", "2.8", "no"),
		}},
		event.Fact{
			Name:   "copies",
			Value:  "4 rows",
			Source: "report copies",
			Rows: []map[string]string{
				taken("1", "written", "100", ""),
				taken("2", "copying", "40", ""),
				taken("3", "refused", "0", "made for S24-48, this is S24"),
				taken("4", "waits", "0", ""),
			},
		},
	}
}

// TestAStackAsItIsShown keeps the board of units as it is drawn, at both sizes.
func TestAStackAsItIsShown(t *testing.T) {
	for _, size := range [][2]int{{160, 40}, {80, 24}} {
		a, _ := lampApp(t)
		feed(a, ofThree()...)
		for _, name := range []string{"console", "device"} {
			a.show(name)
			goldentest.Same(t, fmt.Sprintf("stack-%s-%dx%d", name, size[0], size[1]), drawn(a, size))
		}
	}
}

// burning is a flash that is written, a window that was cut, and a system that is tried.
func burning(state string) event.Flash {
	return event.Flash{
		Base:    0xbf000000,
		Sectors: []event.FlashSectors{{Count: 127, Size: 64 << 10}, {Count: 8, Size: 8 << 10}},
		Parts: []event.FlashPart{
			{Name: "loader", Size: 256 << 10, Protected: true},
			{Name: "system", At: 256 << 10, Size: 7808 << 10},
			{Name: "notes", At: 8064 << 10, Size: 64 << 10},
			{Name: "board", At: 8176 << 10, Size: 16 << 10, Protected: true},
		},
		Part:      "system",
		File:      "skua-2.6.pws",
		State:     state,
		EraseFrom: 256 << 10,
		EraseTo:   5 << 20,
		WriteFrom: 256 << 10,
		WriteTo:   5<<20 - 70_000,
	}
}

// TestABurnAsItIsShown keeps the map of the flash, the window and the trial by hand as they are drawn, at both sizes.
func TestABurnAsItIsShown(t *testing.T) {
	for _, size := range [][2]int{{160, 40}, {80, 24}} {
		a, _ := lampApp(t)
		feed(a, event.RunBegin{Runbook: "burn", Title: "Try it, then burn it", Steps: []event.StepPlan{
			{ID: "1.1", Phase: "try", Title: "Try it yourself", Verb: "hand-over", Yours: true, Rehearsed: true, Timeout: time.Hour},
			{ID: "2.1", Phase: "burn", Title: "Erase it", Cards: []string{"flash"}, Timeout: time.Minute},
			{
				ID:      "3.1",
				Phase:   "put",
				Title:   "Put it",
				Cards:   []string{"window", "transfer"},
				Timeout: 10 * time.Minute,
			},
		}}, event.StepBegin{ID: "1.1", Try: 1}, event.Helm{Who: event.Hand, Why: "2.6 runs from memory: try it."})
		keep := func(name string) {
			goldentest.Same(t, fmt.Sprintf("burn-%s-%dx%d", name, size[0], size[1]), drawn(a, size))
		}
		a.show("console")
		keep("by-hand")
		feed(a, event.Helm{Who: event.Runbook}, event.StepEnd{ID: "1.1", Outcome: event.Done},
			event.StepBegin{ID: "2.1", Try: 1}, burning(event.FlashErasing))
		keep("erasing")
		a.show("device")
		doubtful, verified := burning(event.FlashDoubtful), burning(event.FlashVerified)
		feed(a, doubtful)
		keep("doubtful")
		verified.Checksum = "cacaea87"
		feed(a, verified)
		keep("verified")
		a.show("console")
		feed(
			a,
			event.StepEnd{ID: "2.1", Outcome: event.Done},
			event.StepBegin{ID: "3.1", Try: 1},
			event.TransferBegin{ID: "send", File: "skua-2.6.pws", Size: 100, Protocol: "TFTP"},
			event.Window{
				ID:    "send",
				To:    "192.0.2.45:69",
				State: event.WindowAwaited,
				Tries: 1,
				Hand:  "Hold the button.",
			},
		)
		keep("window")
		feed(a, event.Window{
			ID:    "send",
			To:    "192.0.2.45:69",
			State: event.WindowCut,
			Tries: 40,
			Reach: "answers",
			Hand:  "Hold the button.",
		})
		keep("cut")
	}
}

// TestEveryViewAsItIs keeps each view as it is drawn, at both sizes.
func TestEveryViewAsItIs(t *testing.T) {
	for _, size := range [][2]int{{160, 40}, {80, 24}} {
		a, l := lampApp(t)
		feed(a, append(rescue(), serving()...)...)
		feed(a, event.Fact{Name: "store.free", Value: "8,004,793", Source: "store"},
			event.Fact{Name: "store.free", Value: "6,694,073", Source: "store"})
		carry(a, a.runbooks.Load())
		a.show("runbooks")
		a.Update(needed{a, runbooks.Entry{Book: l.book, Title: "Light the lamp"}, l.Needs(l.book)})
		p, err := l.book.Prepare(l.d, map[string]string{"colour": "red", "key": "x", "note": ""}, runbook.Kit{})
		require.NoError(t, err)
		a.plan.Show(p.Plan(&device.Facts{}), nil)
		a.dialects.Show([]dialect.Likely{{Dialect: l.d, Score: 4, Reasons: []string{"“>” (prompt ready)"}}},
			[]*dialect.Dialect{l.d})
		for _, place := range a.places {
			a.show(place.name)
			if place.name == "device" {
				does(a, tea.Key{Code: tea.KeyDown})
			}
			goldentest.Same(t, fmt.Sprintf("%s-%dx%d", place.name, size[0], size[1]), drawn(a, size))
		}
		f := newTestFront(t, nil)
		carry(f, f.start.LoadInventory())
		for name, show := range map[string]func(){
			"start": func() {}, "start-device": func() { f.change(inventory.Device{}) },
			"start-opening": func() { f.opening("ssh://harbour@192.0.2.41", func() {}) },
			"start-asks": func() {
				f.answer(lineAsks{question: line.Question{Text: "password of harbour at 192.0.2.41", Secret: true}})
			},
		} {
			f.over, f.busy = nil, nil
			f.shell.show("start")
			show()
			goldentest.Same(t, fmt.Sprintf("%s-%dx%d", name, size[0], size[1]), drawn(f, size))
		}
	}
}

// drawn is what a model draws, without colours.
func drawn(m tea.Model, size [2]int) string {
	m.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
	var out strings.Builder
	for _, row := range strings.Split(ansi.Strip(m.View().Content), "\n") {
		out.WriteString(strings.TrimRight(row, " ") + "\n")
	}
	return out.String()
}

// shelved is a source of the start with something of everything.
type shelved struct {
	*testing.T
	path string
	more []line.Port
}

// Times of the logbook are reported as the clock on the wall has them.
func init() { time.Local = time.UTC }

var today = time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)

func (s *shelved) Inventory() (*inventory.Inventory, error) { return inventory.Load(s.path) }
func (s *shelved) Folders() []string                        { return []string{"/srv/images"} }

func (s *shelved) Ports() ([]line.Port, error) {
	return append(
		[]line.Port{{Path: "/dev/ttyUSB0", Maker: "Marl", Name: "Serial adapter", Serial: "A10", UsedBy: "cu (4711)"}},
		s.more...), nil
}

func (s *shelved) Book() (map[string]logbook.Known, []logbook.Last, error) {
	known := map[string]logbook.Known{"mare-gw1": {
		Facts: map[string]string{"running.release": "7.4.2", "device.model": "G2-4"},
		At:    today,
		Last: &logbook.Run{
			Title:   "Upgrade the standby bank",
			Outcome: event.Done,
			Began:   today.Add(-50 * time.Hour),
			Ended:   today.Add(-49 * time.Hour),
			Message: "lark 7.4.2 runs",
		},
	}}
	return known, []logbook.Last{
		{
			Entry: logbook.Entry{
				Device: "hollow-rtr1",
				Target: "serial:/dev/ttyUSB0",
				Title:  "Rescue over the serial console",
				Began:  today,
			},
			At:       today.Add(-20 * time.Minute),
			Step:     "Send the image",
			Transfer: "10 of 20 B",
			Change:   "take x tern.brm",
		},
	}, nil
}

// newTestFront is the start with two devices that are kept.
func newTestFront(t *testing.T, more []line.Port) *front {
	path := filepath.Join(t.TempDir(), "devices.yaml")
	require.NoError(t,
		os.WriteFile(path,
			[]byte("devices:\n  - {device: hollow-rtr1, place: Hollow Skerry, target: 'serial:/dev/ttyUSB0', dialect: brindle-r40, identity: hollow-rtr1}\n  - {device: mare-gw1, place: Grey Mare, target: 'ssh://harbour@192.0.2.41'}\n"),
			0o600))
	f := newFront(Interface{
		Theme:  "dark",
		Leader: "ctrl+g",
		Start: &Start{
			Source:   &shelved{T: t, path: path, more: more},
			Dialects: []string{"brindle-r40", "cormel-g2"},
		},
	})
	f.now, f.start.Now = func() time.Time { return today }, func() time.Time { return today }
	known, cut, err := f.source.Book()
	f.start.Update(f.start.SawBook(known, cut, err))
	ports, err := f.source.Ports()
	f.start.Update(f.start.SawPorts(ports, err))
	f.start.Update(f.start.SawFolders(f.source.Folders()))
	carry(f, f.start.LoadInventory())
	return f
}

// TestTheStart chooses a device, a port, a target that is typed; keeps, changes and forgets.
func TestTheStart(t *testing.T) {
	f := newTestFront(t, nil)
	var opened []start.Opening
	enter := func() {
		_, cmd := f.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
		require.NotNil(t, cmd)
		opened = append(opened, cmd().(start.Open).Opening)
	}
	text := func() string { return drawn(f, [2]int{120, 30}) }
	for _, want := range []string{"cut off", "20 min ago", "Rescue over the serial console", "in “Send the image”", "mare-gw1", "ran 7.4.2", "Upgrade the standby bank: done, 2 days ago", "Serial adapter", "held by cu (4711)", "/srv/images"} {
		assert.Contains(t, text(), want)
	}
	enter()
	assert.Equal(t, "hollow-rtr1", opened[0].Device.Device)
	assert.True(t, opened[0].Saved, "what was cut off is opened as the device that is kept")
	writes(f, "mare")
	assert.NotContains(t, text(), "hollow-rtr1")
	enter()
	assert.Equal(t, "ssh://harbour@192.0.2.41", opened[1].Target)
	does(f, tea.Key{Code: tea.KeyEscape})
	f.Update(tea.PasteMsg{Content: "harbour@192.0.2.60"})
	assert.Contains(t, text(), "open ssh://harbour@192.0.2.60")
	enter()
	assert.Equal(t, start.Opening{Device: inventory.Device{Target: "ssh://harbour@192.0.2.60"}}, opened[2])

	does(f, tea.Key{Code: 's', Mod: tea.ModCtrl})
	writes(f, "tangle-sw1")
	does(f, tea.Key{Code: tea.KeyEnter})
	does(f, tea.Key{Code: tea.KeyEnter})
	assert.Contains(t, text(), "▸ target           ssh://harbour@192.0.2.60")
	for range 3 {
		does(f, tea.Key{Code: tea.KeyEnter})
	}
	kept, err := f.source.Inventory()
	require.NoError(t, err)
	assert.Equal(t, []string{"hollow-rtr1", "mare-gw1", "tangle-sw1"}, kept.Names())
	does(f, tea.Key{Code: tea.KeyEscape})
	writes(f, " tangle")
	does(f, tea.Key{Code: 'e', Mod: tea.ModCtrl})
	does(f, tea.Key{Code: 'u', Mod: tea.ModCtrl})
	writes(f, "mare-gw1")
	for range 5 {
		does(f, tea.Key{Code: tea.KeyEnter})
	}
	assert.Contains(t, text(), "device mare-gw1 is kept already")
	does(f, tea.Key{Code: tea.KeyEscape})
	does(f, tea.Key{Code: tea.KeyEscape})
	does(f, tea.Key{Code: tea.KeyDown})
	does(f, tea.Key{Code: tea.KeyDelete})
	assert.Contains(t, text(), "hollow-rtr1 is taken out of")
	does(f, tea.Key{Code: 'y', Text: "y"})
	assert.NotContains(t, text(), "known by hollow-rtr1")
	kept, err = f.source.Inventory()
	require.NoError(t, err)
	assert.Equal(t, []string{"mare-gw1", "tangle-sw1"}, kept.Names())
}

// TestABrokenFileOfDevicesIsMendedByHandFirst neither keeps nor changes anything in it.
func TestABrokenFileOfDevicesIsMendedByHandFirst(t *testing.T) {
	f := newTestFront(t, nil)
	path := f.start.Inventory().Path()
	broken := "devices:\n  - {device: a, target: 'smoke:x'}\n"
	f.change(inventory.Device{Device: "b", Target: "unix:/x"})
	require.NoError(t, os.WriteFile(path, []byte(broken), 0o600))
	for range 5 {
		does(f, tea.Key{Code: tea.KeyEnter})
	}
	assert.Contains(t, drawn(f, [2]int{120, 30}), `no kind "smoke"`)
	does(f, tea.Key{Code: tea.KeyEscape})
	carry(f, f.start.LoadInventory())
	does(f, tea.Key{Code: 'n', Text: "n"})
	text := drawn(f, [2]int{120, 30})
	assert.Contains(t, text, `"smoke:x"`)
	assert.Contains(t, text, "filter n")
	left, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, broken, string(left))
}

// TestWhatIsOpenedMayAskAndBeGivenUp opens by the root, answers a question, and gives another one up.
func TestWhatIsOpenedMayAskAndBeGivenUp(t *testing.T) {
	device := newWired(t)
	asked := make(chan string, 1)
	closed := 0
	r := &root{
		ctx: t.Context(),
		opt: Interface{
			Theme:  "dark",
			Leader: "ctrl+g",
			Start:  &Start{Source: &shelved{T: t}},
			Open: func(ctx context.Context, what start.Opening, ask Ask) (Options, func() error, error) {
				if what.Target == "unix:/never" {
					<-ctx.Done()
					return Options{}, nil, ctx.Err()
				}
				text, err := ask(ctx, line.Question{Text: "password", Secret: true})
				asked <- text
				return Options{
					Session: device.app.session,
					Device:  "mare-gw1",
				}, func() error { closed++; return nil }, err
			},
		},
	}
	r.front = newFront(r.opt)
	messages := make(chan tea.Msg, 100)
	r.send = func(m tea.Msg) { messages <- m }
	next := func() tea.Msg {
		select {
		case m := <-messages:
			return m
		case <-time.After(20 * time.Second):
			require.Fail(t, "nothing was told")
			return nil
		}
	}
	opening := func(target string) {
		_, cmd := r.Update(start.Open{Opening: start.Opening{Device: inventory.Device{Target: target}}})
		go func() { messages <- cmd() }()
	}
	opening("unix:/never")
	assert.Contains(t, drawn(r, [2]int{80, 24}), "opening unix:/never")
	r.Update(tea.KeyPressMsg{Code: tea.KeyEscape})
	r.Update(next())
	assert.Contains(t, drawn(r, [2]int{80, 24}), "it was given up")
	r.Update(tea.KeyPressMsg{Code: tea.KeyEscape})

	opening("ssh://harbour@192.0.2.41")
	r.Update(next())
	for _, letter := range "tide" {
		r.Update(tea.KeyPressMsg{Code: letter, Text: string(letter)})
	}
	assert.Contains(t, drawn(r, [2]int{80, 24}), "password ••••")
	r.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Equal(t, "tide", <-asked)
	r.Update(next())
	require.NotNil(t, r.app)
	assert.Contains(t, drawn(r, [2]int{80, 24}), "mare-gw1")
	app := r.app
	_, cmd := r.Update(leftMsg{})
	_, again := r.Update(leftMsg{})
	assert.Nil(t, again, "it is left once")
	r.Update(cmd())
	assert.Nil(t, r.app)
	assert.Equal(t, 1, closed)
	r.Update(fedMsg{app, eventsMsg{{Body: event.SessionBegin{Target: "late"}}}})
	assert.Contains(t, drawn(r, [2]int{80, 24}), "filter", "what comes late is nobody's")
}

// TestASecondLineIsWatchedAndTypedOn shows it beside the first, and whole by F2; what is typed there answers no hold.
func TestASecondLineIsWatchedAndTypedOn(t *testing.T) {
	first, other := newWired(t), &wired{T: t}
	a := newApp(t.Context(), Options{
		Leader:  "ctrl+g",
		Theme:   "dark",
		Session: first.app.session,
		Seconds: []Second{{Name: "console", Session: other.open(), Line: "ttyUSB0"}},
	})
	a.Update(secondMsg{"console", []event.Event{{Body: event.Line{State: event.LineOpen}}, {Body: event.In{Bytes: event.Text("unpacking lark 8.1.0\r\n")}}}})
	wide := drawn(a, [2]int{160, 40})
	assert.Contains(t, wide, "console F2")
	assert.Contains(t, wide, "│ unpacking lark 8.1.0", "beside the first")
	assert.NotContains(t, drawn(a, [2]int{80, 24}), "unpacking")
	feed(
		a,
		append(rescue(), event.Ask{
			ID:      "1",
			Form:    event.FormHold,
			Text:    "Restarts it.",
			Answers: []string{engine.Approve, engine.StopHere},
		})...)
	a.tooSoon = true // it was asked long ago
	press(a, tea.KeyF2)
	narrow := drawn(a, [2]int{80, 24})
	assert.Contains(t, narrow, "unpacking lark 8.1.0", "F2 shows it whole")
	assert.Contains(t, narrow, "F2 leads to where it is answered")
	press(a, 'l', 'o', tea.KeyEnter, tea.KeyEscape)
	other.gets("lo\r\x1b", "all of it is the second line's, Enter and Esc too")
	assert.NotNil(t, a.state.Ask)
	feed(a, event.Answer{ID: "1", Answer: "stop"})
	assert.Contains(t, drawn(a, [2]int{80, 24}), "This is the line console (ttyUSB0)")
	press(a, tea.KeyF2)
	assert.NotContains(t, drawn(a, [2]int{80, 24}), "unpacking")
	a.Update(secondMsg{"console", []event.Event{{Body: event.Line{State: event.LineLost}}}})
	assert.Contains(t, drawn(a, [2]int{160, 40}), "line lost")
}

// TestATextOfSeveralLettersIsNoKey gives words that are names of keys, as an input method may.
func TestATextOfSeveralLettersIsNoKey(t *testing.T) {
	device := newWired(t)
	feed(
		device.app,
		append(rescue(),
			event.Ask{ID: "1", Form: event.FormHold, Text: "Removes it.", Answers: []string{"approve", "stop"}})...)
	device.app.tooSoon = true
	for _, word := range []string{"enter", "f9", "up"} {
		device.app.press(tea.KeyPressMsg{Code: tea.KeyExtended, Text: word})
	}
	device.gets("enterf9up", "they are text")
	assert.NotNil(t, device.app.state.Ask)
}

// TestWhatGoesWrongIsSaidWithoutASideColumn says that another device answers, on 80 columns.
func TestWhatGoesWrongIsSaidWithoutASideColumn(t *testing.T) {
	a := newWired(t).app
	feed(a, event.SessionBegin{Target: "unix:/x"}, event.Note{Level: event.Error, Text: "this is another device"})
	assert.Contains(t, drawn(a, [2]int{80, 24}), "this is another device")
}

// TestASecondLineIsHeldAndAskedAsTheFirst has an interlock and a question on it, and uses the leader key there.
func TestASecondLineIsHeldAndAskedAsTheFirst(t *testing.T) {
	first, other := newWired(t), &wired{T: t}
	a := newApp(
		t.Context(),
		Options{
			Leader:  "ctrl+g",
			Theme:   "dark",
			Session: first.app.session,
			Seconds: []Second{{Name: "console", Session: other.open(), Line: "ttyUSB0"}},
		},
	)
	report := func(bodies ...event.Body) {
		for _, b := range bodies {
			a.Update(secondMsg{"console", []event.Event{{At: today, Body: b}}})
		}
	}
	text := func() string { return drawn(a, [2]int{160, 40}) }
	report(event.Line{State: event.LineOpen},
		event.Interlock{State: event.InterlockHeld, Command: "recommence", Says: "restarts it"})
	assert.Contains(t, text(), "waits for you")
	assert.NotContains(t, text(), "Held at its Enter", "it is not the first line's")
	press(a, tea.KeyF2)
	assert.Contains(t, text(), "Held at its Enter")
	assert.Contains(t, text(), "F9 sends it")
	report(event.Interlock{State: event.InterlockForgotten})
	a.press(tea.KeyPressMsg{Code: 'g', Mod: tea.ModCtrl})
	press(a, tea.KeyF3)
	other.gets("\x1bOR", "what stands behind the leader key is done to the line that is shown")
	report(event.Ask{ID: "1", Form: event.FormLine, Text: "password of harbour", Typed: true, Secret: true})
	for _, letter := range "tide" {
		press(a, letter)
	}
	assert.Contains(t, text(), "password of harbour ••••")
	press(a, tea.KeyEnter)
	assert.NotContains(t, text(), "password of harbour")
	other.gets("\x1bOR", "none of it goes to the device")
	report(event.Line{State: event.LineLost})
	assert.Contains(t, text(), "The line is lost", "of the line that is shown")
}

// TestAnEnterRightBehindTheFirstAcceptsNoKeyOfAHost presses Enter twice to open a device that is met for the first
// time.
func TestAnEnterRightBehindTheFirstAcceptsNoKeyOfAHost(t *testing.T) {
	f := newTestFront(t, nil)
	now := today
	f.now = func() time.Time { return now }
	given := make(chan string, 1)
	f.answer(
		lineAsks{line.Question{Text: "Is that its own?", Choice: []string{line.KeyIsRight, line.KeyIsWrong}}, given})
	does(f, tea.Key{Code: tea.KeyEnter})
	assert.Empty(t, given)
	assert.Contains(t, drawn(f, [2]int{120, 30}), "came too soon")
	does(f, tea.Key{Code: tea.KeyEnter})
	assert.Equal(t, line.KeyIsRight, <-given, "the second one is meant")
	f.answer(lineAsks{line.Question{Text: "password", Secret: true}, given})
	does(f, tea.Key{Code: tea.KeyEnter})
	assert.Empty(t, given)
	assert.Contains(t, drawn(f, [2]int{120, 30}), "came too soon")
	now = now.Add(time.Second)
	writes(f, "tide")
	does(f, tea.Key{Code: tea.KeyEnter})
	assert.Equal(t, "tide", <-given)
}

// TestEveryKeyIsTheDevicesWhileTheyAreLocked presses a function key for a full-screen program of the device.
func TestEveryKeyIsTheDevicesWhileTheyAreLocked(t *testing.T) {
	device := newWired(t)
	a := device.app
	press(a, tea.KeyF3)
	assert.Equal(t, "course", a.places[a.shown].name)
	a.press(tea.KeyPressMsg{Code: 'g', Mod: tea.ModCtrl})
	press(a, 'l')
	assert.Contains(t, drawn(a, [2]int{120, 30}), "keys locked to the device")
	press(a, tea.KeyF3, tea.KeyEscape)
	device.gets("\x1bOR\x1b", "both are the device's")
	for _, size := range [][2]int{{120, 30}, {80, 24}} {
		a.locked = true
		a.show("console")
		assert.NotContains(t, drawn(a, size), "F3", "no key is offered that does nothing")
		for _, one := range a.places {
			a.locked = true
			a.show(one.name)
			screen := drawn(a, size)
			assert.Contains(t, screen, "^G l", "%s: what ends it, or does it again, is said\n%s", one.name, screen)
			assert.Equal(t, one.name == "console", a.locked, "%s: no view offers keys that are the device's", one.name)
		}
	}
	a.locked = true
	a.show("console")
	feed(
		a,
		append(rescue(), event.TransferBegin{File: "tern.brm", Size: 1000, Protocol: "XMODEM"},
			event.KeysKept{State: event.KeysWaiting, Count: 1})...)
	assert.False(t, a.locked, "what waits is dealt with by keys")
	a.locked = true
	feed(
		a,
		append(
			rescue(),
			event.Ask{ID: "1", Form: event.FormHold, Text: "Removes it.", Answers: []string{"approve", "stop"}},
		)...)
	assert.False(t, a.locked, "what is asked is answered by keys")
}

// TestAKeyOfTheLeaderSaysWhyItDoesNothing presses one in a run, where it would begin another.
func TestAKeyOfTheLeaderSaysWhyItDoesNothing(t *testing.T) {
	a := newWired(t).app
	feed(a, append(rescue(), event.Helm{Who: event.Hand})...)
	for _, key := range "rf" {
		a.press(tea.KeyPressMsg{Code: 'g', Mod: tea.ModCtrl})
		assert.NotContains(t, drawn(a, [2]int{120, 30}), "runbooks")
		press(a, key)
		assert.Contains(t, drawn(a, [2]int{120, 30}), "a runbook is under way: it ends, or ^G x stops it")
	}
}

// hanging is a controller whose access points are on their way, and its layers.
func hanging() []event.Body {
	point := func(name, release, state, percent, reason string) map[string]string {
		return map[string]string{
			"name":    name,
			"model":   "P2",
			"release": release,
			"state":   state,
			"percent": percent,
			"reason":  reason,
		}
	}
	layer := func(name, release, state, brings string) map[string]string {
		return map[string]string{"layer": name, "release": release, "state": state, "brings": brings}
	}
	return []event.Body{
		event.RunBegin{
			Runbook: "points",
			Title:   "Upgrade the controller",
			Steps: []event.StepPlan{
				{
					ID:       "1.1",
					Phase:    "follow",
					Title:    "Follow them",
					Expected: time.Minute,
					Timeout:  time.Hour,
					Cards:    []string{"banks"},
				},
			},
		},
		event.Fact{Name: "device.name", Value: "quay-wc1", Source: "about"},
		event.StepBegin{ID: "1.1", Try: 1},
		event.Fact{
			Name:   "layers",
			Value:  "2 rows",
			Source: "what layers",
			Rows: []map[string]string{
				layer("core", "6.4", "runs", ""),
				layer("mesh", "6.4", "runs", ""),
				layer("board", "6.4", "runs", ""),
			},
		},
		event.Fact{
			Name:   "layers",
			Value:  "2 rows",
			Source: "what layers",
			Rows: []map[string]string{
				layer("core", "6.2", "runs", ""),
				layer("mesh", "6.4", "rests", ""),
				layer("board", "6.4", "runs", "6.2"),
			},
		},
		event.Fact{Name: "attached", Value: "5 rows", Source: "points", Rows: []map[string]string{
			point("ap-quay-01", "3.4", "here", "0", ""),
			point("ap-quay-02", "3.4", "here", "0", ""),
			point("ap-quay-03", "3.4", "here", "0", ""),
			point("ap-a-very-long-name-01", "3.4", "here", "0", ""),
			point("ap-gone-01", "3.4", "here", "0", ""),
		}},
		event.Fact{Name: "attached", Value: "4 rows", Source: "points", Rows: []map[string]string{
			point("ap-quay-01", "3.6", "here", "0", ""),
			point("ap-quay-02", "3.4", "loading", "40", ""),
			point("ap-quay-03", "3.4", "away", "0", ""),
			point("ap-a-very-long-name-01", "3.4", "refused", "0", "no firmware for P1 in 3.6"),
		}},
	}
}

// TestWhatHangsOnADeviceAsItIsShown keeps layers and attached devices as they are drawn, at both sizes.
func TestWhatHangsOnADeviceAsItIsShown(t *testing.T) {
	for _, size := range [][2]int{{160, 40}, {80, 24}} {
		a, _ := lampApp(t)
		feed(a, hanging()...)
		for _, name := range []string{"console", "device"} {
			a.show(name)
			goldentest.Same(t, fmt.Sprintf("attached-%s-%dx%d", name, size[0], size[1]), drawn(a, size))
		}
	}
}

// TestANewDeviceAsItIsShown keeps its way and the one ladder as they are drawn, at both sizes: while it is asked about,
// while it asks for the wrong name, and where it was left alone.
func TestANewDeviceAsItIsShown(t *testing.T) {
	at := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	asks := []event.Body{
		event.RunBegin{
			Runbook: "first-boot",
			Title:   "Answer a new device",
			Steps: []event.StepPlan{
				{
					ID:       "1.1",
					Phase:    "answer it",
					Title:    "Answer it",
					Expected: time.Minute,
					Timeout:  time.Hour,
					Cards:    []string{"newcomer", "transfer"},
				},
			},
		},
		event.StepBegin{ID: "1.1", Try: 1},
		event.Server{Name: "TFTP", State: event.Listening, Address: "192.0.2.10:69"},
		event.Rung{
			Transfer:   event.RungDHCP,
			Row:        1,
			Protocol:   "DHCP",
			Peer:       "02:00:5e:10:00:01",
			FromDevice: true,
			What:       "DISCOVER",
			Text:       "02:00:5e:10:00:01",
		},
		event.NewDevice{
			MAC:    "02:00:5e:10:00:01",
			Vendor: "Maskel S8",
			Stage:  "asks",
			Since:  at,
			Next:   "that it is said whether it is answered",
			Within: 10 * time.Minute,
		},
	}
	wrong := append(
		slices.Clone(asks),
		event.Rung{
			Transfer: event.RungDHCP,
			Row:      2,
			Protocol: "DHCP",
			What:     "ACK",
			Text:     "02:00:5e:10:00:01  192.0.2.61  strand-s8-3.2.msl",
		},
		event.TransferBegin{
			ID:       "tftp 1",
			File:     "strand-s8-3.2.msl",
			Size:     1_573_030,
			Protocol: "TFTP",
			Peer:     "192.0.2.61:1025",
		},
		event.Rung{Transfer: "tftp 1", Protocol: "TFTP", What: "DATA", First: 1, Last: 1102, Count: 1102},
		event.TransferEnd{ID: "tftp 1", Outcome: event.Done},
		event.Rung{
			Protocol:   "TFTP",
			Peer:       "192.0.2.61:1026",
			FromDevice: true,
			What:       "refused",
			Text:       "no tangle-sw2.cfg here; tangle-sw2.setup is staged (asked for as .cfg, not .setup)",
		},
		event.NewDevice{
			MAC:    "02:00:5e:10:00:01",
			Vendor: "Maskel S8",
			Addr:   "192.0.2.61",
			Stage:  "restarted",
			Step:   5,
			Since:  at.Add(-2 * time.Minute),
			Next:   "its address again, then its configuration",
			Within: time.Minute,
			File:   "tangle-sw2.cfg",
			Files:  1,
			Rounds: 1,
			Wrong:  "no tangle-sw2.cfg here; tangle-sw2.setup is staged (asked for as .cfg, not .setup)",
		},
	)
	left := append(slices.Clone(asks), event.NewDevice{
		MAC:    "02:00:5e:10:00:01",
		Vendor: "Maskel S8",
		Stage:  "is left alone",
		Since:  at,
		Next:   "nothing more",
		Alone:  true,
	})
	many := slices.Clone(asks)
	for n := range 8 {
		one := event.NewDevice{
			MAC:    fmt.Sprintf("02:00:5e:10:00:%02x", n+1),
			Name:   fmt.Sprintf("tangle-sw%d", n+4),
			Vendor: "Maskel S8",
			Addr:   fmt.Sprintf("192.0.2.%d", 99+n),
			Since:  at.Add(-time.Minute),
		}
		switch n % 4 {
		case 0:
			one.Stage, one.Step, one.Next = "complete", 6, "nothing more"
		case 1:
			one.Stage, one.Step, one.Within, one.File = "fetches", 3, 15*time.Minute, "strand-s8-3.2.msl"
		case 2:
			one.Stage, one.Step, one.Within, one.Wrong = "has an address", 2, time.Hour, "no tangle-sw2.cfg here; tangle-sw2.setup is staged (asked for as .cfg, not .setup)"
		case 3:
			one.Stage, one.Step, one.Within, one.Name = "was offered an address", 1, 30*time.Second, ""
		}
		many = append(many, one)
	}
	for name, story := range map[string][]event.Body{"asked": asks, "wrong": wrong, "left": left, "many": many} {
		for _, size := range [][2]int{{160, 40}, {80, 24}} {
			a, _ := lampApp(t)
			feed(a, story...)
			a.show("transfers")
			goldentest.Same(t, fmt.Sprintf("newcomer-%s-%dx%d", name, size[0], size[1]), drawn(a, size))
		}
	}
}
