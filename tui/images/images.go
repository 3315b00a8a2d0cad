// Package images draws the shelf: the chain of releases to the wanted one, and every image with whether
// it fits the device and, where not, why.
package images

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/arithmetic"
	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// Images is the view's model.
type Images struct {
	view.Scroll
	state  *state.State
	add    func() tea.Cmd // asks for a folder, nil where none can be added
	say    func(string)
	chosen int  // place from the top of the image that is shown whole, -1 for none
	follow bool // the chosen one is kept in sight
}

// New makes the view of a session's shelf. add asks for a folder to put there, and is nil where that cannot be.
func New(s *state.State, add func() tea.Cmd, say func(string)) *Images {
	return &Images{state: s, add: add, say: say, chosen: -1}
}

// Keys implements view.View.
func (v *Images) Keys() keys.Map {
	to := func(by int) func() tea.Cmd {
		return keys.Just(func() { v.chosen, v.follow = max(-1, min(count(v.state)-1, v.chosen+by)), true })
	}
	all := keys.Map{
		keys.New("↑ ↓", "show an image whole", to(-1), "up"),
		keys.New("", "", to(1), "down"),
		keys.New("a", "puts a folder on the shelf", v.add, "a").If(v.add != nil),
	}
	for _, k := range v.Scroll.Keys() {
		do := k.Do
		k.Do = func(press tea.KeyPressMsg) tea.Cmd { v.follow = false; return do(press) }
		all = append(all, k.Unnamed())
	}
	return all
}

// Update implements view.View: a digest that is pasted is held against all images.
func (v *Images) Update(msg tea.Msg) tea.Cmd {
	if pasted, ok := msg.(tea.PasteMsg); ok && v.state.Shelf != nil {
		v.say(compare(v.state.Shelf.Images, pasted.Content))
	}
	return nil
}

// Draw implements view.View.
func (v *Images) Draw(r view.Room) []paint.Line {
	lines, from, to := v.lines(r.Theme, r.Width)
	if v.follow {
		v.Keep(from, to, r.Rows)
	}
	return v.Window(lines, r.Rows)
}

// compare holds a published digest against the images.
func compare(all []event.ShelfImage, text string) string {
	published, err := image.ParsePasted(text)
	if err != nil {
		return err.Error()
	}
	for _, img := range all {
		if img.Digests[published.Algorithm] == published.Digest ||
			(published.Algorithm == "sha256" && img.SHA256 == published.Digest) {
			return fmt.Sprintf("✓ %s has that %s", img.Name, published.Algorithm)
		}
	}
	if !slices.Contains(image.Algorithms, published.Algorithm) {
		return fmt.Sprintf("no image on the shelf is hashed by %s; pilotrix shelf add FILE --digest … does that, and keeps it with the file",
			published.Algorithm)
	}
	return fmt.Sprintf("✗ no image on the shelf has that %s (%.12s…)", published.Algorithm, published.Digest)
}

var groups = []struct {
	name  string
	holds func(event.ShelfImage) bool
}{
	{"fits", func(i event.ShelfImage) bool { return i.Companion == "" && i.Fit == event.FitYes }},
	{
		"fits once something is done first",
		func(i event.ShelfImage) bool { return i.Companion == "" && i.Fit == event.FitFirst },
	},
	{"not known yet", func(i event.ShelfImage) bool { return i.Companion == "" && i.Fit == event.FitUnknown }},
	{"does not fit", func(i event.ShelfImage) bool { return i.Companion == "" && i.Fit == event.FitNo }},
	{"goes along", func(i event.ShelfImage) bool { return i.Companion != "" }},
}

// count is how many images are drawn.
func count(s *state.State) int {
	if s.Shelf == nil {
		return 0
	}
	return len(s.Shelf.Images)
}

// lines draws the chain, then the shelf. The chosen image has the rows from and to, without the last.
func (v *Images) lines(t theme.Theme, width int) (lines []paint.Line, from, to int) {
	s := v.state
	if s.Upgrades != nil {
		lines = append(lines, chain(t, s, width)...)
		lines = append(lines, nil)
	}
	if s.Shelf == nil {
		return append(lines, append(paint.Line{paint.In(t.Quiet, "No shelf on this session. ")}, v.adding(t)...)), 0, 0
	}
	place := 0
	for _, group := range groups {
		var rows []paint.Line
		head := len(lines) + 1
		for _, img := range s.Shelf.Images {
			if !group.holds(img) {
				continue
			}
			drawn := row(t, s, img, width)
			if place == v.chosen {
				drawn[0] = drawn[0].Fit(width).On(t.Strip)
				drawn = append(drawn, whole(t, img, width)...)
				from, to = head+len(rows), head+len(rows)+len(drawn)
			}
			rows = append(rows, drawn...)
			place++
		}
		if len(rows) > 0 {
			lines = append(lines,
				paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, group.name)}, nil, width))
			lines = append(append(lines, rows...), nil)
		}
	}
	if more := s.Shelf.Total - len(s.Shelf.Images); more > 0 {
		lines = append(lines,
			paint.Line{paint.In(t.Quiet, fmt.Sprintf("   and %d more that fit less well: pilotrix shelf list", more))},
			nil)
	}
	lines = append(lines, held(t, s.Shelf.Held, width)...)
	foot := []paint.Line{
		{
			paint.Strong(t.Key, "↓"),
			paint.In(t.Quiet, " shows an image whole; a published digest that is pasted here is compared"),
		},
		append(v.adding(t), paint.In(t.Faint, "   "+strings.Join(s.Shelf.Folders, ", "))),
	}
	for _, line := range foot {
		lines = append(lines, line.Cut(width))
	}
	return lines, from, to
}

func (v *Images) adding(t theme.Theme) paint.Line {
	if v.add != nil {
		return paint.Line{paint.Strong(t.Key, "a"), paint.In(t.Quiet, " puts a folder on the shelf")}
	}
	return paint.Line{paint.In(t.Quiet, "pilotrix shelf add FOLDER puts one on the shelf")}
}

// whole is all that is known of an image, and what each protocol would take.
func whole(t theme.Theme, img event.ShelfImage, width int) (lines []paint.Line) {
	const lead, label = 2, 11 // so that 64 digits fit in 80 columns
	row := func(name, text string, color func(string) paint.Piece) {
		if text == "" {
			return
		}
		for _, part := range pieces(text, max(16, width-lead-label)) {
			lines = append(lines,
				paint.Line{paint.In(t.Quiet, strings.Repeat(" ", lead)+pad(name, label)), color(part)})
			name = ""
		}
	}
	plain := func(text string) paint.Piece { return paint.In(t.Text, text) }
	row("file", img.Path, plain)
	row("size", units.Count(img.Size)+" B", plain)
	for _, name := range slices.Sorted(maps.Keys(img.Says)) {
		row(strings.TrimSuffix(name, "itecture"), img.Says[name], plain) // the one word that is too long
	}
	row("sha256", img.SHA256, plain)
	for _, name := range []string{"sha512", "md5", "crc32"} {
		row(name, img.Digests[name], plain)
	}
	switch {
	case img.Broken:
		row("published", "another digest than it has: it is broken, or another file",
			func(text string) paint.Piece { return paint.In(t.Bad, text) })
	case img.Published != "":
		row("published", "as in "+img.Published, plain)
	}
	row("problem", img.Problem, func(text string) paint.Piece { return paint.In(t.Bad, text) })
	for _, e := range carrier.Estimates(img.Size,
		arithmetic.Way{Link: arithmetic.UsualLink, Trip: arithmetic.UsualTrip}) {
		row("by "+e.Protocol, strings.TrimSpace(fmt.Sprintf("about %s (%s) %s", units.Span(e.Time), e.Terms, e.Warn)),
			plain)
	}
	return append(lines, nil)
}

// pieces cuts a text into rows: words where it has some, long ones in multiples of 32, as digests are read.
func pieces(text string, width int) (rows []string) {
	if strings.Contains(text, " ") {
		return paint.Wrap(text, width)
	}
	most := width
	if len(text) > width && width > 32 {
		most = width / 32 * 32
	}
	runes := []rune(text)
	for len(runes) > most {
		rows, runes = append(rows, string(runes[:most])), runes[most:]
	}
	return append(rows, string(runes))
}

var marks = map[event.Fit]string{event.FitYes: "✓", event.FitNo: "✗", event.FitFirst: "◇", event.FitUnknown: "?"}

// row is a row for the image and one for each reason against it.
func row(t theme.Theme, s *state.State, img event.ShelfImage, width int) []paint.Line {
	color := t.Text
	switch img.Fit {
	case event.FitYes:
		color = t.Good
	case event.FitNo:
		color = t.Bad
	case event.FitFirst:
		color = t.Here
	}
	mark := marks[img.Fit]
	if img.Companion != "" {
		mark, color = "+", t.Quiet
	}
	name := paint.In(t.Text, img.Name)
	if onTheWay(s, img) {
		name = paint.Strong(t.Bright, img.Name)
	}
	left := paint.Line{
		paint.Strong(color, " "+mark+" "),
		paint.Strong(color, fmt.Sprintf("%-8s ", img.Release+img.Companion)),
		name,
	}
	switch {
	case img.Inside != "":
		left = append(left, paint.In(t.Quiet, "  in "+img.Inside))
	case img.Whole != "":
		left = append(left, paint.In(t.Quiet, "  a "+img.Whole+", sent whole"))
	}
	right := paint.Line{paint.In(t.Quiet, fmt.Sprintf(" %9s", units.Bytes(img.Size)))}
	if width >= 90 && len(img.SHA256) > 8 {
		right = append(right, paint.In(t.Faint, "  sha256 "), paint.In(t.Quiet, img.SHA256[:8]+"…"))
	}
	right = append(right, digest(t, img))
	lines := []paint.Line{paint.Between(left, right, width)}
	for _, reason := range img.Against {
		for i, row := range paint.Wrap(reason, width-16) {
			lead := "            "
			if i > 0 {
				lead += "  "
			}
			lines = append(lines, paint.Line{paint.In(t.Quiet, lead+row)})
		}
	}
	return lines
}

func digest(t theme.Theme, img event.ShelfImage) paint.Piece {
	switch {
	case img.Broken:
		return paint.Strong(t.Bad, "  not as published ✗")
	case img.Published != "":
		return paint.In(t.Good, "  as published ✓    ")
	}
	return paint.In(t.Faint, "  none published    ")
}

func onTheWay(s *state.State, img event.ShelfImage) bool {
	if s.Upgrades == nil {
		return false
	}
	for _, upgrade := range s.Upgrades.Steps {
		if upgrade.Image == img.Name || upgrade.Companion == img.Name {
			return true
		}
	}
	return false
}

// chain draws the releases as stations, each with its image and what is done before and after.
func chain(t theme.Theme, s *state.State, width int) []paint.Line {
	upgrades := s.Upgrades.Steps
	head := paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, "upgrade path")},
		paint.Line{paint.In(t.Quiet, s.Upgrades.From+" to "+s.Upgrades.To)}, width)
	if len(upgrades) == 0 {
		return []paint.Line{
			head,
			{paint.In(t.Good, " ● "), paint.In(t.Text, s.Upgrades.From+" runs already; nothing has to be done")},
		}
	}
	running := s.Fact("running.release")
	first := paint.Width(s.Upgrades.From) + 3
	cell := max(14, min(34, (width-first)/len(upgrades)))
	stations := paint.Line{station(t, s.Upgrades.From, running, -1, upgrades)}
	details := [3]paint.Line{
		{paint.In(t.Quiet, pad("", first))},
		{paint.In(t.Quiet, pad("", first))},
		{paint.In(t.Quiet, pad("", first))},
	}
	stations = paint.Line(stations).Fit(first)
	for i, upgrade := range upgrades {
		done := reached(upgrades, running) >= i
		color := t.Faint
		if done {
			color = t.Good
		}
		way := cell - paint.Width(upgrade.Release) - 6
		stations = append(stations, paint.In(color, " "+strings.Repeat("━", max(1, way))+"▶ "),
			station(t, upgrade.Release, running, i, upgrades), paint.Piece{Text: " "})
		said := [3]string{upgrade.Image, "", ""}
		if len(upgrade.Before) > 0 {
			said[1] = strings.TrimSpace("before: " + strings.Join(upgrade.Before, ", "))
		}
		if len(upgrade.After) > 0 {
			said[2] = "after: " + strings.Join(upgrade.After, ", ")
		}
		for j := range details {
			details[j] = append(details[j], paint.In(t.Quiet, pad(said[j], cell)))
		}
	}
	lines := []paint.Line{head, stations.Cut(width)}
	for _, detail := range details {
		if strings.TrimSpace(plain(detail)) != "" {
			lines = append(lines, detail.Cut(width))
		}
	}
	return append(lines, others(t, s.Upgrades, width)...)
}

// others are the other ways to the wanted release, each with its restarts and its time.
func others(t theme.Theme, path *event.UpgradePath, width int) (lines []paint.Line) {
	if path.Downgrade {
		lines = append(lines,
			paint.Line{paint.Strong(t.Here,
				" ▲ a downgrade"), paint.In(t.Quiet,
				": what the newer release has converted, the older one may not read")}.Cut(width))
	}
	for _, other := range path.Others {
		took := ""
		if other.Takes > 0 && path.Takes > 0 {
			took = fmt.Sprintf(", about %s instead of %s", units.Span(other.Takes), units.Span(path.Takes))
		}
		lines = append(lines,
			paint.Line{paint.In(t.Quiet,
				fmt.Sprintf("   or by %s: %d restarts%s", strings.Join(other.Releases, ", "), len(other.Releases),
					took))}.Cut(width))
	}
	return lines
}

func plain(l paint.Line) string {
	var out strings.Builder
	for _, p := range l {
		out.WriteString(p.Text)
	}
	return out.String()
}

func pad(text string, width int) string {
	if over := paint.Width(text) - width + 1; over > 0 {
		runes := []rune(text)
		text = string(runes[:max(0, len(runes)-over-1)]) + "…"
	}
	return text + strings.Repeat(" ", max(0, width-paint.Width(text)))
}

// reached is the index of the upgrade whose release runs, -1 before the first.
func reached(upgrades []event.UpgradeStep, running string) int {
	for i := len(upgrades) - 1; i >= 0; i-- {
		if upgrades[i].Release == running {
			return i
		}
	}
	return -1
}

// station is one release: passed, running, or ahead.
func station(t theme.Theme, release, running string, i int, upgrades []event.UpgradeStep) paint.Piece {
	switch at := reached(upgrades, running); {
	case release == running:
		return paint.Strong(t.Here, "◉ "+release)
	case i < at:
		return paint.In(t.Good, "● "+release)
	}
	return paint.In(t.Text, "○ "+release)
}
