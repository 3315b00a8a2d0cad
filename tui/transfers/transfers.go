// Package transfers draws what the device fetches from this laptop: what is staged, each transfer, and
// the ladder of messages between the two.
package transfers

import (
	"fmt"
	"net"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/newdevices"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// New makes the view of a session.
func New(s *state.State) view.View {
	return view.NewPage(func(r view.Room) []paint.Line { return View(r.Theme, s, r.Width) })
}

// View draws servers, staged files, transfers, then the ladder of the one that matters now.
func View(t theme.Theme, s *state.State, width int) []paint.Line {
	p := painter{t, s, width}
	above, below := p.staged(), []paint.Line(nil)
	if len(above) > few { // a whole folder: what moves is more telling
		above, below = nil, above
	}
	var lines []paint.Line
	parts := [][]paint.Line{
		p.listening(),
		p.awaited(),
		above,
		p.preflight(),
		p.transfers(),
		p.ladder(),
		p.estimates(),
		below,
	}
	if len(s.NewDevice) > 0 {
		parts = [][]paint.Line{p.listening(), newdevices.View(t, s, width), p.joint(), p.refused(), p.staged()}
	}
	for _, part := range parts {
		if len(part) == 0 {
			continue
		}
		if len(lines) > 0 {
			lines = append(lines, nil)
		}
		lines = append(lines, part...)
	}
	return lines
}

// few rows of files stand above what moves, more of them below.
const few = 7

type painter struct {
	t     theme.Theme
	s     *state.State
	width int
}

func (p painter) head(name string, right paint.Line) paint.Line {
	return paint.Rule(paint.Look{FG: p.t.Faint}, paint.Line{paint.Strong(p.t.Quiet, name)}, right, p.width)
}

func (p painter) listening() []paint.Line {
	if len(p.s.Servers) == 0 {
		return []paint.Line{
			{
				paint.In(p.t.Quiet,
					"Nothing is served now. A runbook's step starts what it needs; pilotrix serve FOLDER does so alone."),
			},
		}
	}
	var line paint.Line
	for _, c := range p.s.Servers {
		mark, color := "●", p.t.Good
		if c.State != event.Listening {
			mark, color = "○", p.t.Quiet
		}
		line = append(line, paint.Strong(color, mark+" "+c.Name), paint.In(p.t.Text, " "+c.Address+"   "))
		if c.Note != "" {
			line = append(line, paint.In(p.t.Bad, c.Note+"   "))
		}
	}
	return []paint.Line{line.Cut(p.width)}
}

// awaited are the files that a device may leave here.
func (p painter) awaited() (lines []paint.Line) {
	for _, f := range p.s.Staged {
		if f.Slot {
			lines = append(lines,
				paint.Between(paint.Line{paint.Strong(p.t.Here, " ◁ "), paint.In(p.t.Text, f.Name)},
					paint.Line{paint.In(p.t.Quiet, "may be left here once, up to "+units.Count(f.Size)+" B")}, p.width))
		}
	}
	return p.under("awaited, under exactly these names", lines)
}

// staged are the files that a device may fetch.
func (p painter) staged() (lines []paint.Line) {
	for _, f := range p.s.Staged {
		if f.Slot {
			continue
		}
		right := paint.Line{paint.In(p.t.Quiet, units.Count(f.Size)+" B")}
		if len(f.SHA256) > 8 {
			right = append(right, paint.In(p.t.Faint, "  sha256 "), paint.In(p.t.Quiet, f.SHA256[:8]+"…"))
		}
		lines = append(lines,
			paint.Between(paint.Line{paint.Strong(p.t.Good, " ▷ "), paint.In(p.t.Text, f.Name)}, right, p.width))
	}
	return p.under("staged, under exactly these names", lines)
}

// under puts a head over lines when there are any.
func (p painter) under(name string, lines []paint.Line) []paint.Line {
	if len(lines) == 0 {
		return nil
	}
	return append([]paint.Line{p.head(name, nil)}, lines...)
}

// preflight shows the checks of the present step.
func (p painter) preflight() []paint.Line {
	return p.under("before the device is asked", Checks(p.t, p.s, p.width))
}

// Checks are the present step's checks, a row each, with the remedy of those that failed.
func Checks(t theme.Theme, s *state.State, width int) (lines []paint.Line) {
	for _, c := range s.Preflight {
		mark := paint.Strong(t.Good, " ✓ ")
		if !c.Held {
			mark = paint.Strong(t.Bad, " ✗ ")
		}
		for i, row := range paint.Wrap(c.Text, max(20, width-14)) {
			if i == 0 {
				lines = append(lines,
					paint.Line{mark, paint.In(t.Quiet, fmt.Sprintf("%-10s", c.What)), paint.In(t.Text, row)})
				continue
			}
			lines = append(lines, paint.Line{paint.In(t.Text, strings.Repeat(" ", 13)+row)})
		}
		for _, row := range paint.Wrap(c.Remedy, max(20, width-16)) {
			if row != "" {
				lines = append(lines,
					paint.Line{paint.Strong(t.Here, strings.Repeat(" ", 13)+"→ "), paint.In(t.Bright, row)})
			}
		}
	}
	return lines
}

// estimates are what each protocol would take for the file staged last, and why.
func (p painter) estimates() []paint.Line {
	e := p.s.Estimates
	if e == nil {
		return nil
	}
	longest := time.Second
	for _, one := range e.All {
		longest = max(longest, one.Time)
	}
	lines := []paint.Line{
		p.head("what each would take", paint.Line{paint.In(p.t.Quiet, e.File+", "+units.Count(e.Size)+" B")}),
	}
	const bar = 12
	for _, one := range e.All {
		color, mark := p.t.Text, "   "
		if one.Chosen {
			color, mark = p.t.Good, " ▸ "
		}
		long := max(1, int(float64(bar)*one.Time.Seconds()/longest.Seconds()))
		why := one.Why
		if one.Warn != "" {
			why = one.Warn
		}
		lines = append(lines, paint.Line{
			paint.Strong(color, mark+fmt.Sprintf("%-10s", one.Protocol)),
			paint.In(color, fmt.Sprintf("%8s ", units.Clock(one.Time))),
			paint.In(p.t.Good, strings.Repeat("━", long)),
			paint.In(p.t.Faint, strings.Repeat(" ", bar-long)),
			paint.In(p.t.Quiet, "  "+one.Terms+": "+why),
		}.Cut(p.width))
	}
	return lines
}

func (p painter) transfers() []paint.Line {
	if len(p.s.Moves) == 0 {
		return nil
	}
	lines := []paint.Line{p.head("transfers", nil)}
	const most = 4
	for _, m := range p.s.Moves[max(0, len(p.s.Moves)-most):] {
		lines = append(lines, p.transfer(m)...)
	}
	return lines
}

// transfer is two rows: what and how far, then the figures.
func (p painter) transfer(m *state.Transfer) []paint.Line {
	mark, color := "▶", p.t.Here
	if m.Plan.Receive {
		mark = "◀"
	}
	share := 0.0
	if m.Plan.Size > 0 {
		share = min(1, float64(m.Got.Bytes)/float64(m.Plan.Size))
	}
	right := paint.Line{
		paint.Strong(p.t.Here, fmt.Sprintf("%.0f %%", 100*share)),
		paint.In(p.t.Text, "  "+units.Clock(m.Got.Left)+" left"),
	}
	switch {
	case m.Whole():
		color, right = p.t.Good, paint.Line{paint.Strong(p.t.Good, "whole ✓"), paint.In(p.t.Quiet, took(m.End.Took))}
		share = 1
	case m.End != nil && m.End.Outcome == event.Done:
		color, right = p.t.Good, paint.Line{paint.Strong(p.t.Good, "a part ✓"), paint.In(p.t.Quiet, took(m.End.Took))}
	case m.End != nil:
		color, right = p.t.Bad, paint.Line{paint.Strong(p.t.Bad, "broken off ✗")}
	}
	peer, _, _ := strings.Cut(m.Plan.Peer, ":")
	left := paint.Line{
		paint.Strong(color, " "+mark+" "),
		paint.Strong(p.t.Bright, m.Plan.File),
		paint.In(p.t.Quiet, "  "+m.Plan.Protocol+"  "+peer),
	}
	lines := []paint.Line{paint.Between(left, append(paint.Line{{Text: " "}}, right...), p.width)}
	long := max(8, min(40, p.width/3))
	full := int(share * float64(long))
	figures := fmt.Sprintf("  %s B  %.1f kB/s  %s resent  %s", units.Count(m.Got.Bytes), m.Got.Rate/1000,
		units.Count(int64(m.Got.Resent)), m.Plan.Terms)
	lines = append(lines, paint.Line{
		paint.Piece{Text: "   "},
		paint.In(color, strings.Repeat("━", full)),
		paint.In(p.t.Faint, strings.Repeat("━", long-full)),
		paint.In(p.t.Quiet, figures),
	}.Cut(p.width))
	if m.End != nil && m.End.Message != "" {
		lines = append(lines, paint.Line{paint.In(p.t.Bad, "   "+m.End.Message)}.Cut(p.width))
	}
	return lines
}

// took is how long it took, behind how it ended.
func took(d time.Duration) string {
	if d < time.Millisecond {
		return "  at once"
	}
	return "  in " + units.Span(d)
}

// ladder draws the messages of the transfer that matters, and what was refused.
func (p painter) ladder() []paint.Line {
	var lines []paint.Line
	if m := p.s.Moving(); m != nil {
		rungs := p.s.Rungs(m.Plan.ID)
		lines = append(lines, p.head("ladder", paint.Line{paint.In(p.t.Quiet, m.Plan.File)}))
		lines = append(lines,
			paint.Between(paint.Line{paint.Strong(p.t.Text, "  this laptop")},
				paint.Line{paint.Strong(p.t.Text, "device "), paint.In(p.t.Quiet, m.Plan.Peer+"  ")}, p.width))
		for _, r := range rungs {
			lines = append(lines, p.rung(r))
		}
	}
	if refused := p.refused(); len(refused) > 0 {
		lines = append(append(lines, nil), refused...)
	}
	return lines
}

// joint is one ladder of all protocols together: what a device that provisions itself says and hears, one after the
// other. The newest stands first, so that it is in sight while it is waited.
func (p painter) joint() []paint.Line {
	lines := []paint.Line{
		p.head("messages, the newest first", paint.Line{paint.In(p.t.Quiet, "DHCP, TFTP and HTTP together")}),
		paint.Between(paint.Line{paint.Strong(p.t.Text, "  this laptop")},
			paint.Line{paint.Strong(p.t.Text, "new device  ")}, p.width),
	}
	for i := len(p.s.Ladder) - 1; i >= 0; i-- {
		if r := p.s.Ladder[i]; r.Transfer != "" {
			lines = append(lines, p.rungOf(r, r.Protocol+" "+r.Line()))
		}
	}
	return lines
}

// refused are the requests that were refused last.
func (p painter) refused() (lines []paint.Line) {
	refused := p.s.Rungs("")
	const most = 6
	for i, r := range refused[max(0, len(refused)-most):] {
		if i == 0 {
			lines = append(lines, p.head("refused", nil))
		}
		for j, row := range paint.Wrap(asker(r)+r.Text, p.width-14) {
			lead := "              "
			if j == 0 {
				lead = r.At.Format(" 15:04:05 ") + "✗   "
			}
			lines = append(lines,
				paint.Line{paint.In(p.t.Bad, lead[:min(len(lead), 16)]), paint.In(p.t.Text, row)}.Cut(p.width))
		}
	}
	return lines
}

// asker is who was refused, and by which server.
func asker(r state.Rung) string {
	host, _, err := net.SplitHostPort(r.Peer)
	if err != nil {
		return ""
	}
	return r.Protocol + " " + host + ": "
}

// rung is one arrow between the two sides; a run of packets is a heavy one with its first and last.
func (p painter) rung(r state.Rung) paint.Line { return p.rungOf(r, r.Line()) }

func (p painter) rungOf(r state.Rung, words string) paint.Line {
	heavy := r.Count > 1
	note := ""
	if r.Resent > 0 {
		note = fmt.Sprintf(" %s resent", units.Count(int64(r.Resent)))
	}
	color := p.t.Quiet
	switch {
	case r.What == "ERROR" || r.What == "STRAY":
		color = p.t.Bad
	case heavy:
		color = p.t.Good
	}
	const stamp = 10
	room := max(20, p.width-stamp-6-paint.Width(note))
	if over := paint.Width(words) + 8 - room; over > 0 {
		words = string([]rune(words)[:max(4, len([]rune(words))-over-1)]) + "…"
	}
	dash := "─"
	if heavy {
		dash = "═"
	}
	rest := max(2, room-paint.Width(words)-4)
	before := min(6, rest/2)
	line := strings.Repeat(dash, before) + " " + words + " " + strings.Repeat(dash, rest-before)
	if r.FromDevice {
		line = "◀" + line
	} else {
		line += "▶"
	}
	return paint.Line{
		paint.In(p.t.Faint, r.At.Format("15:04:05  ")),
		paint.In(p.t.Faint, "│"),
		paint.In(color, line),
		paint.In(p.t.Faint, "│"),
		paint.Strong(p.t.Here, note),
	}.Cut(p.width)
}
