package tui

import (
	"cmp"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/event"
	"pilotrix/core/units"
	"pilotrix/tui/cards"
	"pilotrix/tui/course"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/strip"
	"pilotrix/tui/transfers"
	"pilotrix/tui/view"
)

const (
	sideLeast  = 110 // columns from which there is a side column
	sideShare  = 3   // the side column takes a third, within limits
	sideMin    = 38
	sideMax    = 54
	headHigh   = 2
	courseHigh = 2
)

// side is the width of the side column, 0 when there is no room for one.
func (a *app) side() int {
	if a.width < sideLeast {
		return 0
	}
	return min(max(a.width/sideShare, sideMin), sideMax)
}

// top is how many rows stand above the console.
func (a *app) top() int {
	rows := 1
	if a.state.Run != nil {
		rows = headHigh + courseHigh
	}
	return rows + 1 // the rule
}

func (a *app) strip() []paint.Line {
	if a.over != nil {
		return a.over.Lines(a.theme, a.width)
	}
	back, moved := a.console.Back()
	v := strip.View{
		Message: a.messageNow(),
		Back:    back,
		Moved:   moved,
		Leader:  keys.Name(a.opt.Leader),
		Replay:  a.replay,
		Playing: a.playing,
		Serving: a.serving,
		Locked:  a.locked,
		NotYet:  a.tooSoon,
		Narrow:  a.side() == 0,
		Sends:   a.sends(),
		Kept:    a.kept(),
		Yours:   a.yours(),
		Offers:  a.offered.Suggestion,
		LogsIn:  a.loginAction() != "",
	}
	shown, one := a.present().state, a.presentSecond()
	if one != nil && shown.Ask == nil && shown.Held == nil && (a.state.Ask != nil || a.state.Held != nil) {
		shown = a.state // what waits on the first line is in sight, and dealt with there
		v.Answers = keys.Map{keys.New("F2", "leads to where it is answered", nil, "f2")}
		v.Sends = v.Answers
	} else if shown.Ask != nil {
		v.Answers = append(a.answerKeys(shown.Ask), a.hints(shown.Ask)...)
		if a.asked() == nil && shown.Ask.Deed != "" {
			v.Answers = keys.Map{
				keys.New(keys.Accept.After(v.Leader), a.acceptText(), nil, keys.Accept.Name),
				keys.New(keys.Watch.After(v.Leader), "ends it", nil, keys.Watch.Name),
			}
		}
	}
	if one != nil {
		v.Second, v.SecondLine = one.Name, one.Line
		v.Back, v.Moved = one.console.Back()
	} else if name := a.places[a.shown].name; name != a.home {
		v.Other = append(a.view().Keys(), keys.New("Esc", "back", nil, "esc"))
	}
	return strip.Lines(a.theme, shown, v, a.width)
}

// consoleSize is the room of the console.
func (a *app) consoleSize() (cols, rows int) {
	cols = a.width - 1
	if side := a.side(); side > 0 && !a.serving {
		cols = a.width - side - 4
	}
	return max(cols, 10), max(a.height-a.top()-stripRoom, 3)
}

// stripRoom is what the console leaves for the strip and the row of keys. A question that needs more
// lies over the console's last rows only as long as it is open.
const stripRoom = 2

// View implements tea.Model.
func (a *app) View() tea.View {
	lines := a.header()
	low := a.strip()
	keep := max(0, a.height-len(lines)-1-len(low))
	body, cursor := a.body(keep)
	cursor.y += len(lines)
	lines = append(lines, body...)
	for len(lines) < a.height-1-len(low) {
		lines = append(lines, nil)
	}
	lines = append(lines, low...)
	lines = append(lines, a.keysRow(a.rowKeys()))
	v := tea.NewView(a.paint(lines))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	if cursor.shown && cursor.y < a.height-1-len(low) && cursor.y >= 0 {
		v.Cursor = tea.NewCursor(cursor.x, cursor.y)
	}
	if !a.plain {
		v.BackgroundColor, v.ForegroundColor = a.theme.Ground, a.theme.Text
	}
	v.WindowTitle = "Pilotrix " + a.opt.Device
	return v
}

type cursorAt struct {
	x, y  int
	shown bool
}

// body is the view's own rows with the side column beside it, in the room that there is. Where the strip
// takes some of the console's room, the newest rows stay in sight, and the side column as it is.
func (a *app) body(most int) ([]paint.Line, cursorAt) {
	cols, rows := a.consoleSize()
	rows = min(rows, most)
	var cursor cursorAt
	room := view.Room{Theme: a.theme, Width: cols - 2, Rows: rows}
	if a.inConsole() {
		cursor.x, cursor.y, cursor.shown = a.console.CursorIn(rows)
		cursor.x++
	}
	if one := a.presentSecond(); one != nil {
		cursor.x, cursor.y, cursor.shown = one.console.CursorIn(rows)
		cursor.x++
	}
	main := a.view().Draw(room)
	side := a.side()
	if side == 0 || a.serving {
		return indent(main[:min(len(main), rows)], 1), cursor
	}
	glance := a.glance(side - 1)
	column := append(
		glance[:min(len(glance), rows)],
		cards.Column(a.theme, a.state, keys.Name(a.opt.Leader), side-1, max(0, rows-len(glance)))...)
	rule := paint.In(a.theme.Faint, "│ ")
	lines := make([]paint.Line, rows)
	for i := range lines {
		var left, right paint.Line
		if i < len(main) {
			left = main[i]
		}
		if i < len(column) {
			right = column[i]
		}
		lines[i] = append(paint.Line{{Text: " "}}, left.Fit(cols)...)
		lines[i] = append(append(lines[i], paint.Piece{Text: " "}, rule), right...)
	}
	return lines, cursor
}

// transfers is what is served. When that is all the program does, what a device has to be told to fetch
// (paths, logins) and what was remarked stands above it: the list of files may be long.
func (a *app) transfers(r view.Room) (lines []paint.Line) {
	width := r.Width
	for _, place := range a.opt.Places {
		lines = append(lines, paint.Line{paint.Strong(a.theme.Bright, place)}.Cut(width))
	}
	if remarks := cards.Remarks(a.theme, a.state, width); a.serving && len(remarks) > 0 {
		lines = append(append(lines, nil), remarks...)
	}
	if len(lines) > 0 {
		lines = append(lines, nil)
	}
	return append(lines, transfers.View(a.theme, a.state, width)...)
}

func indent(lines []paint.Line, by int) []paint.Line {
	out := make([]paint.Line, len(lines))
	for i, line := range lines {
		out[i] = append(paint.Line{{Text: strings.Repeat(" ", by)}}, line...)
	}
	return out
}

// header is who and where, what runs, and the course.
func (a *app) header() []paint.Line {
	lines := []paint.Line{a.titleRow()}
	if a.state.Run != nil {
		stops, phases := course.Bar(a.theme, a.state, a.width-2)
		lines = append(lines, a.runRow())
		lines = append(lines, indent([]paint.Line{stops, phases}, 1)...)
	}
	rule := strings.Repeat("─", a.width)
	if side := a.side(); side > 0 && !a.serving {
		at := a.width - side - 2
		rule = strings.Repeat("─", at) + "┬" + strings.Repeat("─", a.width-at-1)
	}
	return append(lines, paint.Line{paint.In(a.theme.Faint, rule)})
}

func (a *app) titleRow() paint.Line {
	t := a.theme
	name := a.deviceName()
	left := paint.Line{paint.Strong(t.Bright, " "+cmp.Or(name, a.opt.Line))}
	if a.opt.About != "" {
		left = append(left, paint.In(t.Quiet, "   "+a.opt.About))
	}
	return paint.Between(left, a.lineText(), a.width)
}

// deviceName is what the device is called: by whoever opened it, or else by itself.
func (a *app) deviceName() string {
	return cmp.Or(a.opt.Device, a.state.Session.Device, a.state.Fact("device.name"))
}

// lineText is the line, its rates, the helm and the clock.
func (a *app) lineText() paint.Line {
	t, s := a.theme, a.state
	right := paint.Line{{Text: " "}}
	wide := a.width >= sideLeast
	if wide && a.deviceName() != "" {
		right = append(right, paint.In(t.Text, a.opt.Line+"  "))
	}
	switch {
	case a.locked:
		right = append(right, paint.Strong(t.Here, "▣ keys locked to the device  "))
	case s.Line.State == event.LineLost:
		right = append(right, paint.Strong(t.Bad, "✗ line lost  "))
	case s.Line.State == event.LineClosed:
		right = append(right, paint.Strong(t.Bad, "✗ line closed  "))
	case s.Speed > 0:
		right = append(right, paint.In(t.Text, fmt.Sprintf("%d %s  ", s.Speed, s.Framing)))
	}
	if s.Recording.Problem != "" {
		right = append(right, paint.Strong(t.Bad, "not recorded  "))
	}
	right = append(right, a.signals(wide)...)
	if wide {
		right = append(right,
			paint.In(t.Quiet, fmt.Sprintf(" ▼ %.2f  ▲ %.2f kB/s   ", s.In.PerSecond()/1000, a.outRate()/1000)))
	}
	if scale := s.Session.Scale; scale > 1 {
		right = append(right, paint.In(t.Here, fmt.Sprintf("time ×%g  ", scale)))
	}
	if a.serving {
		return paint.Line{paint.In(t.Quiet, s.Now.Format("15:04:05")+" ")}
	}
	if next := s.Deadline(); next != nil {
		right = append(right, paint.Strong(t.Bad, "due "+units.Clock(max(0, next.Until.Sub(s.Now)))+"  "))
	}
	right = append(right, paint.In(t.Quiet, "helm "), a.helm(), paint.In(t.Quiet, "  "+s.Now.Format("15:04:05")+" "))
	return right
}

// signals are the wires of a serial line that are on. A device that holds us back by one is said at any width.
func (a *app) signals(wide bool) paint.Line {
	on := a.state.Signals
	switch {
	case !on.Known || a.state.Line.State == event.LineLost:
	case a.state.Flow == "rtscts" && !on.CTS:
		return paint.Line{paint.Strong(a.theme.Bad, "CTS off: it holds us back  ")}
	case wide && (on.CTS || on.DSR || on.DCD || on.RI): // three wires carry none
		return paint.Line{paint.In(a.theme.Quiet, on.Text()+"  ")}
	}
	return nil
}

// outRate is what goes out: what is typed, or what the transfer sends.
func (a *app) outRate() float64 {
	if a.state.Transfer.Active() && !a.state.Transfer.Plan.Receive {
		return a.state.Transfer.Got.Rate
	}
	return a.state.Out.PerSecond()
}

func (a *app) helm() paint.Piece {
	t := a.theme
	if who := a.state.Helm.Who; who != event.Hand && who != "" {
		word := " RUNBOOK "
		if who == event.ByDeed || !a.state.Running() {
			word = " YOURS "
		}
		return paint.Piece{Text: word, Look: paint.Look{FG: t.Bright, BG: t.Hold, Bold: true}}
	}
	return paint.Piece{Text: " HAND ", Look: paint.Look{FG: t.Ground, BG: t.Good, Bold: true}}
}

func (a *app) runRow() paint.Line {
	t, s := a.theme, a.state
	left := paint.Line{paint.Strong(t.Bright, " "+s.Run.Title)}
	if a.side() == 0 {
		if step := s.Present(); step != nil && s.Running() {
			left = paint.Line{paint.Strong(t.Here, " "+step.Title)}
		}
	}
	if step := s.Present(); step != nil && step.Rehearsed && s.Running() {
		left = append(left, paint.In(t.Good, "   rehearsal"))
		if a.side() > 0 {
			left = append(left, paint.In(t.Quiet, ": nothing that lasts is changed"))
		}
	}
	var right paint.Line
	if s.RunEnd != nil {
		right = paint.Line{paint.In(t.Quiet, "took "), paint.In(t.Text, units.Clock(s.Gone())+" ")}
	} else {
		right = paint.Line{
			paint.In(t.Quiet, fmt.Sprintf("step %d of %d   %s gone   ", s.Here+1, len(s.Steps), units.Clock(s.Gone()))),
			paint.In(t.Bright, "ends ~"+s.Now.Add(s.Left()).Format("15:04:05")+" "),
		}
	}
	return paint.Between(left, right, a.width)
}
