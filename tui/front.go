package tui

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/inventory"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/secret"
	"pilotrix/core/source"
	"pilotrix/tui/field"
	"pilotrix/tui/help"
	"pilotrix/tui/inputs"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/start"
	"pilotrix/tui/strip"
	"pilotrix/tui/view"
)

// Start is what the program begins with, where nothing was said to be opened.
type Start struct {
	start.Source
	Dialects []string // that a device may be said to talk
}

// front is the interface before a line is open: the start, and the opening itself with what it asks.
type front struct {
	shell
	leader string
	source *Start // nil where only one thing is opened
	start  *start.Start
	form   *inputs.Form
	busy   *busy
	now    func() time.Time
}

// busy is a line that is being opened.
type busy struct {
	words string
	since time.Time
	end   context.CancelFunc
}

// lineAsks is a question of what is being opened; the answer goes to the channel, and nothing for none.
type lineAsks struct {
	question line.Question
	answer   chan<- string
}

func newFront(opt Interface) *front {
	f := &front{shell: newShell(opt.Theme), leader: opt.Leader, source: opt.Start, now: time.Now}
	f.home = "start"
	if f.source == nil {
		f.places = []place{{"", "start", "", "", view.NewPage(func(view.Room) []paint.Line { return nil })}}
		return f
	}
	f.start = start.New(opt.Start, f.change, f.forget)
	f.form = inputs.New()
	f.places = []place{
		{"f1", "help", "keys", "", help.New(f.help)},
		{"f2", "start", "devices, ports, what was cut off", "", f.start},
		{"", "device", "", "", f.form},
	}
	f.show("start")
	return f
}

func (f *front) help() []help.Section {
	return []help.Section{
		help.Of("Everywhere", "", f.frameKeys()), help.Of("In F2 start", "", f.start.Keys()),
		{Name: "What can be opened", Rows: [][2]string{
			{"serial:/dev/ttyUSB0", "a serial port; ?speed=9600&framing=8N1&flow=none behind it say how it is set"},
			{"ssh://user@host", "a shell session; user@host alone is one too"},
			{"telnet://host", "a telnet session"},
			{"rfc2217://host:port", "a port of a console server, by com-port control"},
			{"unix:/path tcp:host:port", "a socket"},
			{"bench:mare-gw1", "a simulated device, to try things on; pilotrix bench lists them"},
		}},
	}
}

// Init implements tea.Model.
func (f *front) Init() tea.Cmd {
	commands := []tea.Cmd{tick(f), f.asksGround()}
	if f.start != nil {
		commands = append(commands, f.start.Load())
	}
	return tea.Batch(commands...)
}

// Update implements tea.Model.
func (f *front) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	if f.hears(msg) {
		return f, nil
	}
	switch msg := msg.(type) {
	case tickMsg:
		if msg.of == tea.Model(f) {
			f.quiet()
			return f, tick(f)
		}
	case tea.KeyPressMsg:
		return f, f.press(msg, f.focus())
	case lineAsks:
		f.answer(msg)
	case saidMsg:
		f.say(string(msg))
	default:
		return f, f.describes(msg)
	}
	return f, nil
}

func (f *front) focus() []keys.Map {
	switch {
	case f.over != nil:
		return []keys.Map{f.over.Keys()}
	case f.busy != nil:
		return []keys.Map{f.busyKeys(), {}}
	}
	return []keys.Map{f.frameKeys(), f.view().Keys()}
}

// busyKeys give up what is being opened.
func (f *front) busyKeys() keys.Map {
	return keys.Map{keys.New("Esc", "give it up", keys.Just(func() { f.busy.end() }), "esc", "ctrl+c")}
}

func (f *front) frameKeys() keys.Map {
	away := f.places[f.shown].name != f.home
	return append(f.placeKeys(f.shell.show),
		keys.New("Esc", "back", keys.Just(func() { f.shell.show(f.back()) }), "esc").If(away),
		keys.New("Esc", "clear the filter", keys.Just(func() { f.start.Clear() }), "esc").If(!away),
		keys.New("Ctrl-C", "quit", func() tea.Cmd { return f.leaves }, "ctrl+c"),
		keys.New("", "", keys.Just(f.openLeader), f.leader),
	)
}

// openLeader offers what stands behind the leader key before a session is there.
func (f *front) openLeader() {
	f.menu(strip.Menu{
		Choices: keys.Map{
			keys.New("q", "quit", func() tea.Cmd { return f.leaves }, "q"),
			keys.New("Esc", "stay", keys.Just(func() {}), "esc"),
		},
	})
}

// opening shows that something is being opened.
func (f *front) opening(words string, end context.CancelFunc) {
	f.busy = &busy{words: words, since: f.now(), end: end}
}

// opened takes that away, with why it was not opened.
func (f *front) opened(err error) {
	f.busy, f.over = nil, nil
	if err != nil {
		f.menu(strip.Menu{
			Bad:     true,
			Mark:    "✗",
			Word:    "Not opened",
			Text:    err.Error(),
			Choices: keys.Map{keys.New("Esc", "back to the start", keys.Just(func() {}), "esc", "enter")},
		})
	}
}

// answer has a question of what is being opened answered in the strip. An Enter that comes right after it was for
// what came before, and is asked for once more.
func (f *front) answer(asks lineAsks) {
	q, shown, again := asks.question, f.now(), false
	var over strip.Over
	give := func(text func() string, guarded func() bool, once func(words string)) func() tea.Cmd {
		return keys.Just(func() {
			if guarded() && !again && f.now().Sub(shown) < tooSoonAfter {
				again, f.over = true, over
				once("Press it once more: that key came too soon after the question.")
				return
			}
			f.over = nil
			asks.answer <- text()
		})
	}
	if len(q.Choice) > 0 {
		m := &strip.Menu{Mark: "?", Word: "The line", Text: q.Text}
		say := func(words string) { m.Text = q.Text + " " + words }
		for i, choice := range q.Choice {
			key := [2]string{"Enter", "enter"}
			if i > 0 {
				key = [2]string{"Esc", "esc"}
			}
			m.Choices = append(m.Choices, keys.New(key[0], choice,
				give(func() string { return choice }, func() bool { return true }, say), key[1]))
		}
		over = m
	} else {
		input := field.New("")
		input.Secret = q.Secret
		p := &strip.Prompt{Label: q.Text, Field: input}
		say := func(words string) { p.Complaint = words }
		untyped := func() bool { return input.Text() == "" }
		p.Choices = keys.Map{
			keys.New("Enter", "gives it", give(input.Text, untyped, say), "enter"),
			keys.New("Esc", "gives nothing", give(func() string { return "" }, func() bool { return false }, say),
				"esc"),
		}
		over = p
	}
	f.over = over
}

// change asks for a new device, or for another word of one that is kept.
func (f *front) change(d inventory.Device) tea.Cmd {
	before := ""
	title := "Keep a new device"
	if _, kept := f.start.Inventory().Find(d.Device); kept && d.Device != "" {
		before, title = d.Device, "Change "+d.Device
	}
	f.form.Fill(title, f.needs(d), func(input runbook.Input, value string) error {
		return wrongIn(input.Input, value)
	}, func(values map[string]string) tea.Cmd {
		kept := inventory.Device{
			Device:   values["device"],
			Place:    values["place"],
			Target:   values["target"],
			Dialect:  values["dialect"],
			Password: values["password"],
			Identity: d.Identity,
		}
		inventory, err := f.source.Inventory() // as it is now: it may have been edited by hand meanwhile
		if err == nil {
			err = inventory.Put(before, kept)
		}
		if err != nil {
			f.form.Complain(err.Error())
			return nil
		}
		f.shell.show("start")
		f.say(kept.Device + " is kept in " + inventory.Path())
		return f.start.LoadInventory()
	})
	f.form.Last = "keep it"
	f.shell.show("device")
	return nil
}

// wrongIn checks one value of a device.
func wrongIn(key, value string) error {
	one := map[string]inventory.Device{
		"device":   {Device: value},
		"place":    {Place: value},
		"target":   {Target: value},
		"dialect":  {Dialect: value},
		"password": {Password: value},
	}
	for _, wrong := range one[key].Check() {
		return fmt.Errorf("%s", wrong.Text)
	}
	return nil
}

func (f *front) needs(d inventory.Device) []inputs.Need {
	need := func(name, about, value string, needed bool, picks ...runbook.Pick) inputs.Need {
		input := runbook.Input{Input: name, Kind: runbook.KindText, About: about}
		if !needed {
			input.Default = new(source.Text)
		}
		return inputs.Need{Input: input, Value: value, Picks: picks}
	}
	var ports, dialects []runbook.Pick
	for _, p := range f.start.Ports() {
		ports = append(ports, runbook.Pick{Value: "serial:" + p.Path, Text: strings.TrimPrefix(p.String(), p.Path)})
	}
	for _, name := range f.source.Dialects {
		dialects = append(dialects, runbook.Pick{Value: name})
	}
	return []inputs.Need{
		need("device", "the name it is called by, such as mare-gw1", d.Device, true),
		need("place", "where it stands, in words", d.Place, false),
		need(
			"target",
			"how it is reached: a serial port, ssh://user@host, telnet://host, rfc2217://host:port, unix:/path …",
			d.Target,
			true,
			ports...),
		need("dialect", "how it talks; it is found out on the console unless said", d.Dialect, false, dialects...),
		need("password",
			"where the password of a shell session comes from: "+secret.Sources("")+"; asked for unless said",
			d.Password, false),
	}
}

// forget asks whether a device is to be forgotten.
func (f *front) forget(d inventory.Device) tea.Cmd {
	f.menu(strip.Menu{
		Bad:  true,
		Mark: "▲",
		Word: "Forget",
		Text: d.Device + " is taken out of " + f.start.Inventory().Path() +
			". The logbook keeps what happened on it.",
		Choices: keys.Map{
			keys.New("y", "forget it", func() tea.Cmd {
				inventory, err := f.source.Inventory()
				if err == nil {
					err = inventory.Remove(d.Device)
				}
				if err != nil {
					f.say(err.Error())
				}
				return f.start.LoadInventory()
			}, "y"),
			keys.New("Esc", "keep it", keys.Just(func() {}), "esc"),
		},
	})
	return nil
}

// View implements tea.Model.
func (f *front) View() tea.View {
	t := f.theme
	lines := []paint.Line{
		paint.Between(paint.Line{paint.Strong(t.Bright, " Pilotrix")},
			paint.Line{paint.In(t.Quiet, f.now().Format("15:04:05")+" ")}, f.width),
		{paint.In(t.Faint, strings.Repeat("─", f.width))},
	}
	low := f.lowRows()
	rows := max(0, f.height-len(lines)-len(low)-1)
	for _, row := range f.view().Draw(view.Room{Theme: t, Width: f.width - 2, Rows: rows}) {
		lines = append(lines, append(paint.Line{{Text: " "}}, row...))
	}
	for len(lines) < f.height-1-len(low) {
		lines = append(lines, nil)
	}
	lines = append(lines, low...)
	if f.start != nil && f.busy == nil {
		lines = append(lines, f.keysRow(f.frameKeys()))
	}
	v := tea.NewView(f.paint(lines))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	if !f.plain {
		v.BackgroundColor, v.ForegroundColor = t.Ground, t.Text
	}
	v.WindowTitle = "Pilotrix"
	return v
}

// lowRows is the strip.
func (f *front) lowRows() []paint.Line {
	t := f.theme
	row := func(line paint.Line) []paint.Line { return []paint.Line{line.Fit(f.width).On(t.Strip)} }
	switch {
	case f.over != nil:
		return f.over.Lines(t, f.width)
	case f.busy != nil:
		text := fmt.Sprintf("opening %s, %.0f s  ", f.busy.words, f.now().Sub(f.busy.since).Seconds())
		return row(append(paint.Line{paint.In(t.Here, " ◌  "), paint.In(t.Text, text)},
			strip.Row(t, f.busyKeys(), f.width)...))
	case f.message != "":
		return row(paint.Line{paint.In(t.Here, " ●  "), paint.In(t.Text, f.message)})
	}
	return row(append(paint.Line{paint.In(t.Quiet, " ○ ")}, strip.Row(t, f.view().Keys(), f.width)...))
}
