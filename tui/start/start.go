// Package start is the view that the program begins with: runs that were cut off, the devices that are kept with what
// the logbook knows of each, the serial ports that are there now, and the folders of the shelf. Typing filters it, and
// a target that is typed can be opened as well.
package start

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/inventory"
	"pilotrix/core/line"
	"pilotrix/core/logbook"
	"pilotrix/core/units"
	"pilotrix/tui/field"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Source is where what is shown comes from. Each is asked beside the interface, and may take a while.
type Source interface {
	Inventory() (*inventory.Inventory, error)
	Ports() ([]line.Port, error)
	Book() (known map[string]logbook.Known, cut []logbook.Last, err error)
	Folders() []string
}

// Opening is what is to be opened.
type Opening struct {
	inventory.Device
	Saved bool // it is one that is kept
}

// Open is reported when one was chosen.
type Open struct{ Opening }

// Start is the view's model.
type Start struct {
	choice view.Choice
	filter *field.Field
	source Source
	change func(inventory.Device) tea.Cmd // asks for a new device, or edits one
	forget func(inventory.Device) tea.Cmd

	inventory *inventory.Inventory
	ports     []line.Port
	known     map[string]logbook.Known
	cut       []logbook.Last
	folders   []string
	wrong     map[string]string // what could not be looked at, by part
	looked    map[string]bool
	round     int // of looking at the ports: what an earlier one began is over
	Now       func() time.Time
}

// New makes the view.
func New(source Source, change, forget func(inventory.Device) tea.Cmd) *Start {
	return &Start{
		source: source, change: change, forget: forget, filter: field.New(""), inventory: &inventory.Inventory{},
		wrong: map[string]string{}, looked: map[string]bool{}, Now: time.Now,
	}
}

// The parts are looked at by themselves: what takes long keeps nothing else from being shown.
type (
	sawInventory struct {
		is  *inventory.Inventory
		err error
	}
	sawPorts struct {
		round int
		are   []line.Port
		err   error
	}
	sawBook struct {
		known map[string]logbook.Known
		cut   []logbook.Last
		err   error
	}
	sawFolders []string
	lookAgain  int
)

// portsEvery is how often the ports are looked at: one that is plugged in appears as it is.
const portsEvery = time.Second

// Load looks at everything.
func (v *Start) Load() tea.Cmd {
	v.round++
	return tea.Batch(v.LoadInventory(), v.lookAtPorts(v.round), func() tea.Msg {
		known, cut, err := v.source.Book()
		return sawBook{known, cut, err}
	}, func() tea.Msg { return sawFolders(v.source.Folders()) })
}

// LoadInventory looks at the devices that are kept.
func (v *Start) LoadInventory() tea.Cmd {
	return func() tea.Msg {
		ok, err := v.source.Inventory()
		return sawInventory{ok, err}
	}
}

func (v *Start) lookAtPorts(round int) tea.Cmd {
	return func() tea.Msg {
		are, err := v.source.Ports()
		return sawPorts{round, are, err}
	}
}

// SawBook is the message that the logbook was looked at; SawPorts and SawFolders are those of the others.
func (v *Start) SawBook(known map[string]logbook.Known, cut []logbook.Last, err error) tea.Msg {
	return sawBook{known, cut, err}
}

// SawPorts is the message that the ports were looked at.
func (v *Start) SawPorts(are []line.Port, err error) tea.Msg { return sawPorts{v.round, are, err} }

// SawFolders is the message that the shelf was looked at.
func (v *Start) SawFolders(are []string) tea.Msg { return sawFolders(are) }

// Inventory is what is kept.
func (v *Start) Inventory() *inventory.Inventory { return v.inventory }

// Ports are those that are there.
func (v *Start) Ports() []line.Port { return v.ports }

// Keys implements view.View.
func (v *Start) Keys() keys.Map {
	at := v.at()
	saved := at != nil && at.opening != nil && at.opening.Saved
	free := v.filter.Text() == "" && v.wrong["devices"] == "" // a file that is broken is mended by hand first
	return append(
		v.choice.Keys(func() int { return len(v.rows()) }),
		keys.New("Enter", "open", v.open, "enter").If(at != nil && at.opening != nil),
		keys.New("n", "new device", func() tea.Cmd { return v.change(inventory.Device{}) }, "n").
			Explain("keeps a new device, while nothing is typed in the filter; a blank before it makes it a letter of the filter").
			If(free),
		keys.New("Ctrl-E", "edit it", func() tea.Cmd { return v.change(at.opening.Device) }, "ctrl+e").If(saved),
		keys.New("Ctrl-S", "keep it", func() tea.Cmd { return v.change(at.opening.Device) }, "ctrl+s").
			Explain("keeps what is chosen as a device").
			If(at != nil && at.opening != nil && !saved && v.wrong["devices"] == ""),
		keys.New("Delete", "forget it", func() tea.Cmd { return v.forget(at.opening.Device) }, "delete").
			If(saved && free),
		keys.Typed("letters", "filter; a target such as ssh://user@host is opened"),
	)
}

func (v *Start) open() tea.Cmd {
	chosen := *v.at().opening
	return func() tea.Msg { return Open{chosen} }
}

// Update implements view.View.
func (v *Start) Update(msg tea.Msg) tea.Cmd {
	note := func(part string, err error) {
		v.looked[part] = true
		delete(v.wrong, part)
		if err != nil {
			v.wrong[part] = err.Error()
		}
	}
	switch msg := msg.(type) {
	case sawInventory:
		if note("devices", msg.err); msg.err == nil {
			v.inventory = msg.is
		}
	case sawPorts:
		note("serial ports", msg.err)
		v.ports = msg.are
		return tea.Tick(portsEvery, func(time.Time) tea.Msg { return lookAgain(msg.round) })
	case lookAgain:
		if int(msg) == v.round {
			return v.lookAtPorts(v.round)
		}
	case sawBook:
		note("logbook", msg.err)
		v.known, v.cut = msg.known, msg.cut
	case sawFolders:
		v.folders = msg
	case tea.KeyPressMsg, tea.PasteMsg:
		if v.filter.Update(msg) {
			v.choice.To(0, 1)
		}
	}
	return nil
}

// Clear empties the filter. It reports whether there was something in it.
func (v *Start) Clear() bool {
	had := v.filter.Text() != ""
	v.filter.Set("")
	return had
}

// row is one that can be chosen.
type row struct {
	part    string
	name    string
	words   []string // beside it, the most telling first
	state   string   // at the right
	details []string // of the chosen one
	loud    bool
	opening *Opening
}

// rows are what the filter leaves, in the order in which they are shown.
func (v *Start) rows() (all []row) {
	text := strings.TrimSpace(v.filter.Text())
	if o, ok := typedTarget(text); ok {
		all = append(all, row{part: "what was typed", name: "open " + o.Target, opening: &o})
	}
	words := strings.Fields(strings.ToLower(text))
	for _, r := range slices.Concat(v.cutRows(), v.deviceRows(), v.portRows(), v.folderRows()) {
		if matches(r, words) {
			all = append(all, r)
		}
	}
	return all
}

func (v *Start) at() *row {
	if rows := v.rows(); v.choice.At < len(rows) {
		return &rows[v.choice.At]
	}
	return nil
}

// typedTarget reads what was typed as a target: user@host is a shell session.
func typedTarget(text string) (o Opening, ok bool) {
	if !strings.ContainsAny(text, ":/@") || strings.ContainsAny(text, " ") {
		return o, false
	}
	if strings.Contains(text, "@") && !strings.Contains(text, "://") {
		text = "ssh://" + text
	}
	t, err := line.ParseTarget(text)
	if err != nil || t.Address == "" {
		return o, false
	}
	o.Target = text
	return o, true
}

func matches(r row, words []string) bool {
	text := strings.ToLower(strings.Join(append(append([]string{r.name, r.state}, r.words...), r.details...), " "))
	for _, word := range words {
		if !strings.Contains(text, word) {
			return false
		}
	}
	return true
}

func (v *Start) cutRows() (all []row) {
	for _, last := range v.cut {
		if last.Step == "" {
			continue
		}
		r := row{
			part:  "cut off",
			name:  last.Entry.Title,
			state: units.Since(v.Now().Sub(last.At)),
			loud:  true,
			details: []string{
				last.String(),
				"Open it and look at what it is in before anything else; the runbook asks so, too, when it is begun again.",
			},
		}
		r.words = append(r.words, "on "+cmp.Or(last.Entry.Device, last.Entry.Target), "in “"+last.Step+"”")
		r.opening = &Opening{
			Device: inventory.Device{Device: last.Entry.Device, Target: last.Entry.Target, Dialect: last.Entry.Dialect},
		}
		if d, kept := v.inventory.Find(last.Entry.Device); kept {
			r.opening = &Opening{d, true}
		}
		all = append(all, r)
	}
	return all
}

func (v *Start) deviceRows() (all []row) {
	for _, d := range v.inventory.Devices {
		known := v.known[d.Device]
		if known.Facts == nil && known.Last == nil {
			known = v.known[d.Target]
		}
		r := row{part: "devices", name: d.Device, opening: &Opening{d, true}, details: []string{d.Target}}
		for _, text := range []string{d.Place, known.Facts["device.model"], release(known)} {
			if text != "" {
				r.words = append(r.words, text)
			}
		}
		if d.Dialect != "" {
			r.details = append(r.details, "talks as "+d.Dialect)
		}
		if d.Identity != "" {
			r.details = append(r.details, "known by "+d.Identity)
		}
		if last := known.Last; last != nil {
			end := string(last.Outcome)
			if last.Ended.IsZero() {
				end = "did not end"
			}
			r.state = fmt.Sprintf("%s: %s, %s", last.Title, end, units.Since(v.Now().Sub(last.Began)))
			if last.Message != "" {
				r.details = append(r.details, last.Message)
			}
		}
		all = append(all, r)
	}
	return all
}

func release(known logbook.Known) string {
	if r := known.Facts["running.release"]; r != "" {
		return "ran " + r
	}
	return ""
}

func (v *Start) portRows() (all []row) {
	for _, p := range v.ports {
		r := row{
			part:    "serial ports",
			name:    p.Path,
			opening: &Opening{Device: inventory.Device{Target: "serial:" + p.Path}},
		}
		for _, text := range []string{p.Maker, p.Name} {
			if text != "" {
				r.words = append(r.words, text)
			}
		}
		if p.Serial != "" {
			r.words = append(r.words, "serial number "+p.Serial)
		}
		if p.UsedBy != "" {
			r.state, r.loud = "held by "+p.UsedBy, true
		}
		for _, d := range v.inventory.Devices {
			if t, err := line.ParseTarget(d.Target); err == nil && t.Kind == line.Serial && t.Address == p.Path {
				r.details = append(r.details, "the port of "+d.Device)
			}
		}
		all = append(all, r)
	}
	return all
}

func (v *Start) folderRows() (all []row) {
	for _, folder := range v.folders {
		all = append(all, row{part: "folders on the shelf", name: folder})
	}
	return all
}

// parts are the headings in their order, with what is said where there is nothing.
var parts = []struct{ name, none string }{
	{"what was typed", ""},
	{"cut off", ""},
	{"devices", "No device is kept yet: n keeps one, or type a target, such as ssh://user@host or unix:/path."},
	{"serial ports", "No serial port is there; one that is plugged in appears by itself."},
	{"folders on the shelf", "No folder of images is on the shelf: pilotrix shelf add FOLDER."},
}

// Draw implements view.View.
func (v *Start) Draw(r view.Room) []paint.Line {
	t := r.Theme
	lines := []paint.Line{append(paint.Line{paint.In(t.Quiet, "filter ")}, v.filter.Draw(t, r.Width-8)...), nil}
	rows := v.rows()
	v.choice.At = max(0, min(v.choice.At, len(rows)-1))
	filtered := strings.TrimSpace(v.filter.Text()) != ""
	from, to, at := 0, 0, 0
	for _, part := range parts {
		var drawn []paint.Line
		head := len(lines) + 1
		for ; at < len(rows) && rows[at].part == part.name; at++ {
			one := draw(t, rows[at], at == v.choice.At, r.Width)
			if at == v.choice.At {
				from, to = head+len(drawn), head+len(drawn)+len(one)
			}
			drawn = append(drawn, one...)
		}
		if wrong := v.wrong[part.name]; wrong != "" {
			drawn = append(drawn, paint.Paragraph(indent, paint.Look{FG: t.Bad}, "✗ "+wrong, r.Width)...)
		} else if len(drawn) == 0 && part.none != "" && !filtered && (v.looked[part.name] || part.name == "folders on the shelf") {
			drawn = paint.Paragraph(indent, paint.Look{FG: t.Quiet}, part.none, r.Width)
		}
		if len(drawn) > 0 {
			lines = append(lines,
				paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, part.name)}, nil, r.Width))
			lines = append(append(lines, drawn...), nil)
		}
	}
	if wrong := v.wrong["logbook"]; wrong != "" {
		lines = append(lines, paint.Paragraph(indent, paint.Look{FG: t.Bad}, "✗ "+wrong, r.Width)...)
	}
	if len(rows) == 0 && filtered {
		lines = append(lines, paint.Line{paint.In(t.Quiet, "  Nothing is called so. Backspace widens the filter.")})
	}
	v.choice.InSight(from, to, r.Rows)
	return v.choice.Window(lines, r.Rows)
}

const (
	nameWidth = 22
	indent    = "     " // before what is said of one
)

func draw(t theme.Theme, r row, chosen bool, width int) []paint.Line {
	mark, name := "   ", paint.In(t.Text, fmt.Sprintf("%-*s ", nameWidth, r.name))
	if r.loud && r.part == "cut off" {
		mark, name = " ✗ ", paint.Strong(t.Bad, name.Text)
	}
	if chosen {
		mark, name = " ▸ ", paint.Strong(t.Bright, name.Text)
	}
	left := paint.Line{paint.Strong(t.Here, mark), name, paint.In(t.Quiet, strings.Join(r.words, " · "))}
	state := paint.In(t.Quiet, r.state)
	if r.loud {
		state = paint.In(t.Here, r.state)
	}
	var lines []paint.Line
	if room := width - left.Width() - 2; paint.Width(r.state) > room && chosen { // it has a row of its own
		lines = append([]paint.Line{left}, paint.Paragraph(indent, state.Look, r.state, width)...)
	} else {
		lines = []paint.Line{
			paint.Between(left.Cut(max(nameWidth, width-paint.Width(r.state)-1)), paint.Line{state}, width),
		}
	}
	if !chosen {
		return lines
	}
	lines[0] = lines[0].Fit(width).On(t.Strip)
	for _, detail := range r.details {
		lines = append(lines, paint.Paragraph(indent, paint.Look{FG: t.Text}, detail, width)...)
	}
	return lines
}
