// Package cards draws the side column: what the present step needs, and nothing else.
package cards

import (
	"fmt"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/attached"
	"pilotrix/tui/banks"
	"pilotrix/tui/dryrun"
	"pilotrix/tui/flash"
	"pilotrix/tui/keys"
	"pilotrix/tui/layers"
	"pilotrix/tui/newdevices"
	"pilotrix/tui/paint"
	"pilotrix/tui/reach"
	"pilotrix/tui/stack"
	"pilotrix/tui/systems"
	"pilotrix/tui/theme"
	"pilotrix/tui/transfers"
)

// Column draws the cards for the present step, at most that many rows.
func Column(t theme.Theme, s *state.State, leader string, width, rows int) []paint.Line {
	p := painter{t, s, width, leader}
	var lines []paint.Line
	for _, card := range p.cards() {
		if len(card) == 0 {
			continue
		}
		if len(lines) > 0 {
			card = append([]paint.Line{nil}, card...)
		}
		if len(lines)+len(card) > rows {
			break
		}
		lines = append(lines, card...)
	}
	return lines
}

type painter struct {
	t      theme.Theme
	s      *state.State
	width  int
	leader string // the leader key as shown
}

// cards chooses by what happens now.
func (p painter) cards() [][]paint.Line {
	if p.s.RunEnd != nil {
		return [][]paint.Line{p.ended(), p.yours(), p.byItself(), p.pending(), p.proved(), p.banks(), p.checked(), p.device()}
	}
	if !p.s.Running() {
		return [][]paint.Line{p.line(), p.yours(), p.byItself(), p.pending(), p.banks(), p.reach(), p.device(), p.remarks()}
	}
	if p.s.Helm.Who == event.Hand || p.s.Helm.Who == event.ByDeed {
		return [][]paint.Line{p.byHand(), p.yours(), p.pending(), p.device(), p.remarks()}
	}
	all := [][]paint.Line{p.now(), p.pending()}
	if len(p.s.Tried) > 0 {
		all = append(all, p.tried())
	}
	if step := p.s.Present(); step != nil {
		all = append(all, p.flash(step))
		all = append(all, p.asked(step)...)
	}
	all = append(all, p.dryRun())
	return append(all, p.checked(), p.device(), p.remarks())
}

// asked are the cards that the present step's verb asks for. A file on its way goes before whether the device
// answers.
func (p painter) asked(step *state.Step) (all [][]paint.Line) {
	moving := false
	for _, card := range step.Cards {
		switch card {
		case "transfer":
			if t := p.moved(); t != nil && !p.s.AwaitsWindow() {
				moving = true
				all = append(all, p.transfer(t), p.image(t))
			}
		case "banks":
			all = append(all, p.banks())
		case "preflight":
			all = append(all, p.preflight())
		case "newcomer":
			all = append(all, p.newDevice())
		case "window":
			all = append(all, p.window())
		case "restart":
			all = append(all, p.restart())
		case "reach":
			if !moving {
				all = append(all, p.reach())
			}
		}
	}
	return all
}

// yours is the file that is on its way by what the operator began.
func (p painter) yours() []paint.Line {
	if len(p.s.Deeds) == 0 {
		return nil
	}
	for _, t := range []*state.Transfer{p.s.Transfer, p.s.Moving()} {
		if t.Active() {
			return p.transfer(t)
		}
	}
	return nil
}

// moved is the file that is on its way now: over the line, or else by a server.
func (p painter) moved() *state.Transfer {
	if p.s.Transfer != nil && (p.s.Transfer.Active() || p.s.Transfer.Begun.After(p.s.Present().Begun)) {
		return p.s.Transfer
	}
	if m := p.s.Moving(); m.Active() {
		return m
	}
	return nil
}

func (p painter) banks() []paint.Line {
	var lines []paint.Line
	switch {
	case len(p.s.Units) > 0:
		lines = append(
			[]paint.Line{p.head("units", paint.Line{stack.Ring(p.t, p.s)})},
			stack.Card(p.t, p.s, p.width)...)
	case len(p.s.Banks) > 0:
		lines = append([]paint.Line{p.head("banks", p.asOf("before ⇢ now"))}, banks.Card(p.t, p.s, p.width)...)
	}
	if len(p.s.Systems) > 0 {
		lines = append(append(lines, p.head("systems", p.asOf("packed → lasts"))), systems.Card(p.t, p.s, p.width)...)
	}
	if len(p.s.Layers) > 0 {
		lines = append(
			append(lines, p.head("layers", paint.Line{layers.Agree(p.t, p.s)})),
			layers.Card(p.t, p.s, p.width)...)
	}
	if len(p.s.Attached) > 0 {
		lines = append(
			append(lines, p.head("attached", paint.Line{attached.Count(p.t, p.s)})),
			attached.Card(p.t, p.s, p.width, maxAttached)...)
	}
	return lines
}

// maxAttached bounds the rows of attached devices in the side column.
const maxAttached = 14

// flash is the part of the flash that the present phase deals with.
func (p painter) flash(step *state.Step) []paint.Line {
	if p.s.Flash == nil || p.s.FlashPhase != step.Phase {
		return nil
	}
	return append(
		[]paint.Line{p.head("flash, "+p.s.Flash.Part, paint.Line{flash.Word(p.t, p.s)})},
		flash.Card(p.t, p.s, p.width)...)
}

// newDevice is the device that provisions itself: the progress.
func (p painter) newDevice() []paint.Line {
	if len(p.s.NewDevice) == 0 {
		return nil
	}
	return append(
		[]paint.Line{p.head("new device", paint.Line{newdevices.Word(p.t, p.s)})},
		newdevices.Card(p.t, p.s, p.width)...)
}

// window is a loader's window: how long it is waited for, what has been seen of it, and what the operator does.
func (p painter) window() []paint.Line {
	w := p.s.Window
	step := p.s.Present()
	if w == nil || step == nil {
		return nil
	}
	gone := p.s.Now.Sub(p.s.WindowBegun)
	looks := map[string]paint.Piece{
		event.WindowAwaited: paint.Strong(p.t.Here, "not open yet"),
		event.WindowOpen:    paint.Strong(p.t.Good, "open"),
		event.WindowCut:     paint.Strong(p.t.Bad, "cut, begun again"),
		event.WindowTaken:   paint.Strong(p.t.Good, "taken"),
		event.WindowMissed:  paint.Strong(p.t.Bad, "missed"),
	}
	lines := []paint.Line{
		p.head("window",
			paint.Line{paint.Strong(p.t.Here,
				units.Clock(gone)), paint.In(p.t.Quiet, " of "+units.Span(step.Timeout))}),
	}
	full := 0
	if step.Timeout > 0 {
		full = min(p.width, int(gone.Seconds()/step.Timeout.Seconds()*float64(p.width)))
	}
	lines = append(lines,
		paint.Line{paint.In(p.t.Here,
			strings.Repeat("━", full)), paint.In(p.t.Faint, strings.Repeat("━", p.width-full))})
	lines = append(lines, p.row(w.To, paint.Line{looks[w.State]}),
		p.row("tries", paint.Line{paint.In(p.t.Text, fmt.Sprint(w.Tries))}))
	if w.Reach != "" {
		look := p.t.Quiet
		if w.Reach == "answers" {
			look = p.t.Good
		}
		lines = append(lines, p.row("ping", paint.Line{paint.In(look, w.Reach)}))
	}
	if w.Hand != "" && w.State == event.WindowAwaited {
		lines = append(lines, p.row("your hands", nil))
		for _, row := range paint.Wrap(w.Hand, p.width-2) {
			lines = append(lines, paint.Line{paint.In(p.t.Bright, "  "+row)})
		}
	}
	return lines
}

// asOf are words beside a board's name, in whose place it is said when the board is old.
func (p painter) asOf(words string) paint.Line { return paint.Line{systems.AsOf(p.t, p.s, words)} }

// dryRun is what a dry run foresaw, as long as nothing has restarted since.
func (p painter) dryRun() []paint.Line {
	d := p.s.DryRun
	if d == nil || p.s.Restart != nil && p.s.Restart.Begun.After(d.At) {
		return nil
	}
	lines := dryrun.Card(p.t, p.s, p.width)
	return append([]paint.Line{p.head("dry run", paint.Line{paint.In(p.t.Quiet, d.At.Format("15:04:05"))})}, lines...)
}

func (p painter) preflight() []paint.Line {
	if len(p.s.Preflight) == 0 {
		return nil
	}
	return append([]paint.Line{p.head("before it is asked", nil)}, transfers.Checks(p.t, p.s, p.width)...)
}

func (p painter) reach() []paint.Line {
	if len(p.s.Reach) == 0 {
		return nil
	}
	var lines []paint.Line
	for _, target := range p.s.Reach {
		lines = append(lines,
			p.head("reach "+strings.TrimPrefix(target.Name, "icmp:"), paint.Line{reach.Word(p.t, target, p.s.Now)}),
			reach.Strip(p.t, target, p.s.Now, 5*time.Second, p.width))
	}
	return lines
}

// restart is the wait for the device: time against what was expected, and what agrees that it is back.
func (p painter) restart() []paint.Line {
	step := p.s.Present()
	if r := p.s.Restart; r != nil && step != nil && r.Step == step.ID {
		return p.restarts(r)
	}
	return nil
}

// byItself is a restart that is none of a runbook's, while it lasts.
func (p painter) byItself() []paint.Line {
	if r := p.s.OwnRestart(); r != nil {
		return p.restarts(r)
	}
	return nil
}

func (p painter) restarts(r *event.Restart) []paint.Line {
	gone := p.s.Now.Sub(r.Begun)
	head := paint.Line{paint.Strong(p.t.Here, units.Clock(gone))}
	if r.Expected > 0 {
		head = append(head, paint.In(p.t.Quiet, " of ~"+units.Clock(r.Expected)))
	}
	lines := []paint.Line{p.head("restart", head)}
	share := 0.0
	if r.Expected > 0 {
		share = min(1, gone.Seconds()/r.Expected.Seconds())
	}
	full := int(share * float64(p.width))
	color := p.t.Here
	if gone > r.Expected && r.Expected > 0 {
		color = p.t.Bad
	}
	lines = append(lines,
		paint.Line{paint.In(color, strings.Repeat("━", full)), paint.In(p.t.Faint, strings.Repeat("━", p.width-full))})
	row := func(name, value string, held bool) {
		mark := paint.In(p.t.Quiet, "○ ")
		if held {
			mark = paint.Strong(p.t.Good, "● ")
		}
		lines = append(lines,
			paint.Between(paint.Line{mark, paint.In(p.t.Text, name)}, paint.Line{paint.In(p.t.Text, value)}, p.width))
	}
	row("console", r.Console, r.Console != "silent" && r.Console != "unknown")
	row("prompt", strings.TrimSpace(r.Prompt), r.Prompt != "")
	if answers, watched := p.answers(); watched {
		row("reach", answers, answers == "answers")
	}
	if r.Longest > 0 {
		lines = append(lines, paint.Line{paint.In(p.t.Quiet, "longest "+units.Clock(r.Longest))})
	}
	return lines
}

func (p painter) answers() (string, bool) {
	for _, target := range p.s.Reach {
		if _, gone := target.Gone(); gone {
			return "no answer", true
		}
	}
	return "answers", len(p.s.Reach) > 0
}

func (p painter) head(name string, right paint.Line) paint.Line {
	return paint.Rule(paint.Look{FG: p.t.Faint}, paint.Line{paint.Strong(p.t.Quiet, name)}, right, p.width)
}

// row sets a label and its value.
func (p painter) row(label string, value paint.Line) paint.Line {
	return paint.Between(paint.Line{paint.In(p.t.Quiet, label)}, value, p.width)
}

func (p painter) text(piece paint.Piece) []paint.Line {
	var lines []paint.Line
	for _, row := range paint.Wrap(piece.Text, p.width) {
		lines = append(lines, paint.Line{{Text: row, Look: piece.Look}})
	}
	return lines
}

func (p painter) now() []paint.Line {
	doing := p.s.Doing
	right := paint.Line{}
	switch {
	case p.s.Ask != nil:
		right = paint.Line{paint.Strong(p.t.Here, "waits for you")}
	case doing.Timeout > 0:
		begun := p.s.DoingAt
		if step := p.s.Present(); step != nil && len(step.Cards) > 1 {
			begun = step.Begun // what it does changes, its limit does not
		}
		right = paint.Line{
			paint.In(p.t.Quiet, units.Clock(p.s.Now.Sub(begun))+" of "),
			paint.In(p.t.Text, "timeout "+units.Span(doing.Timeout)),
		}
	}
	lines := append([]paint.Line{p.head("now", right)}, p.text(paint.Strong(p.t.Bright, doing.Doing))...)
	if doing.Awaiting != "" {
		lines = append(lines, p.text(paint.In(p.t.Quiet, "awaiting "+doing.Awaiting))...)
	}
	return append(lines, p.part(doing)...)
}

// pending is what the device loses, or does by itself, unless it is dealt with.
func (p painter) pending() []paint.Line {
	if len(p.s.Pending) == 0 {
		return nil
	}
	lines := []paint.Line{p.head("pending", nil)}
	for _, one := range p.s.Pending {
		lines = append(lines, p.text(paint.In(p.t.Here, one.Says))...)
		if !one.Until.IsZero() {
			lines = append(lines,
				paint.Between(paint.Line{paint.In(p.t.Quiet, "by itself in")},
					paint.Line{paint.Strong(p.t.Bad, units.Clock(max(0, one.Until.Sub(p.s.Now))))}, p.width))
			lines = append(lines, p.clock(one.Name)...)
		}
	}
	return lines
}

// clock is how much of a deadline is gone, to scale.
func (p painter) clock(name string) []paint.Line {
	for _, d := range p.s.Deadlines {
		if d.Name == name && d.End.IsZero() {
			gone := int(d.Part(p.s.Now) * float64(p.width))
			return []paint.Line{
				{paint.In(p.t.Bad, strings.Repeat("━", gone)), paint.In(p.t.Faint, strings.Repeat("━", p.width-gone))},
			}
		}
	}
	return nil
}

// part is how far the device says that it is.
func (p painter) part(doing event.StepNow) []paint.Line {
	if doing.Part <= 0 {
		return nil
	}
	full := int(doing.Part * float64(p.width))
	left := ""
	if doing.Left > 0 {
		left = units.Clock(max(0, doing.Left-p.s.Now.Sub(p.s.DoingAt))) + " left"
	}
	return []paint.Line{
		{paint.In(p.t.Here, strings.Repeat("━", full)), paint.In(p.t.Faint, strings.Repeat("━", p.width-full))},
		paint.Between(paint.Line{paint.Strong(p.t.Text, fmt.Sprintf("%.0f %%", 100*doing.Part))},
			paint.Line{paint.In(p.t.Quiet, left)}, p.width),
	}
}

func (p painter) byHand() []paint.Line {
	if p.s.HandedOver() {
		step := p.s.Present()
		lines := append(
			[]paint.Line{
				p.head("yours to try", paint.Line{paint.Strong(p.t.Here, units.Clock(p.s.Now.Sub(step.Begun)))}),
			},
			p.text(paint.Strong(p.t.Bright, p.s.Helm.Why))...)
		return append(lines,
			paint.Line{paint.Strong(p.t.Key,
				keys.Helm.Shown), paint.In(p.t.Quiet, " when it is enough, or to stop here")})
	}
	lines := []paint.Line{
		p.head("now", paint.Line{paint.Strong(p.t.Here, "paused")}),
		{paint.Strong(p.t.Bright, "The hand has the helm")},
	}
	if step := p.s.Present(); step != nil {
		lines = append(lines, p.text(paint.In(p.t.Quiet, "The runbook waits in “"+step.Title+"”."))...)
	}
	if p.s.Held != nil {
		return append(
			lines,
			p.text(paint.In(p.t.Quiet, "It can be given back when the held Enter is sent or forgotten."))...)
	}
	return append(lines, paint.Line{paint.Strong(p.t.Key, keys.Helm.Shown), paint.In(p.t.Quiet, " gives it back")})
}

// tried is the hunt: each speed that was listened at.
func (p painter) tried() []paint.Line {
	lines := []paint.Line{p.head("hunt", paint.Line{paint.In(p.t.Quiet, "baud · what was heard")})}
	for _, tried := range p.s.Tried {
		what := strings.TrimPrefix(tried.Why, "tried: ")
		piece := paint.In(p.t.Quiet, what)
		if strings.Contains(what, "clean") {
			piece = paint.In(p.t.Good, what+"  ✓")
		}
		lines = append(lines,
			paint.Between(paint.Line{paint.In(p.t.Text, fmt.Sprintf("%7d", tried.To))}, paint.Line{piece}, p.width))
	}
	return lines
}

func (p painter) transfer(t *state.Transfer) []paint.Line {
	size := t.Plan.Size
	share := 0.0
	if size > 0 {
		share = min(1, float64(t.Got.Bytes)/float64(size))
	}
	color, right := p.t.Here, paint.Line{paint.Strong(p.t.Here, fmt.Sprintf("%.0f %%", 100*share))}
	switch {
	case t.End != nil && t.End.Outcome == event.Done:
		color, right = p.t.Good, paint.Line{paint.Strong(p.t.Good, "acknowledged ✓")}
	case t.End != nil:
		color, right = p.t.Bad, paint.Line{paint.Strong(p.t.Bad, string(t.End.Outcome)+" ✗")}
	case t.Got.Left > 0:
		right = append(right, paint.In(p.t.Text, "   "+units.Clock(t.Got.Left)+" left"))
	}
	done := int(share * float64(p.width))
	lines := []paint.Line{
		p.head("transfer", right),
		{paint.In(color, strings.Repeat("━", done)), paint.In(p.t.Faint, strings.Repeat("━", p.width-done))},
		paint.Between(paint.Line{paint.In(p.t.Bright,
			units.Count(t.Got.Bytes)), paint.In(p.t.Quiet, " of "+units.Count(size)+" B")},
			paint.Line{paint.In(p.t.Quiet, blocksAgain(t.Got.Resent))}, p.width),
		nil,
	}
	lines = append(lines,
		paint.Between(p.sparkline(t, p.width-12), paint.Line{paint.In(p.t.Bright, units.Rate(t.Got.Rate))}, p.width))
	if t.Plan.Allowed > 0 && t.Got.Rate > 0 {
		lines = append(lines,
			paint.Line{paint.In(p.t.Quiet,
				fmt.Sprintf("%.0f %% of what this line allows", 100*t.Got.Rate/t.Plan.Allowed))})
	}
	return lines
}

func blocksAgain(n int) string {
	switch n {
	case 0:
		return "no block twice"
	case 1:
		return "1 block resent"
	}
	return fmt.Sprintf("%s resent", units.Many(n, "block"))
}

var bars = []rune(" ▁▂▃▄▅▆▇█")

// sparkline draws the rate against the most that the line allows.
func (p painter) sparkline(t *state.Transfer, width int) paint.Line {
	most := t.Plan.Allowed
	for _, rate := range t.Rates {
		most = max(most, rate)
	}
	rates := t.Rates
	if len(rates) > width {
		rates = rates[len(rates)-width:]
	}
	var out strings.Builder
	for _, rate := range rates {
		level := 0
		if most > 0 {
			level = int(rate / most * float64(len(bars)-1))
		}
		out.WriteRune(bars[min(max(level, 1), len(bars)-1)])
	}
	return paint.Line{paint.In(p.t.Good, out.String())}
}

func (p painter) image(t *state.Transfer) []paint.Line {
	lines := []paint.Line{
		p.head("image", nil),
		p.row(t.Plan.File, paint.Line{paint.In(p.t.Text, units.Bytes(t.Plan.Size))}),
		p.row("sent by", paint.Line{paint.In(p.t.Text, t.Plan.Protocol)}),
	}
	if t.Plan.Terms != "" {
		lines = append(lines, p.row("terms", paint.Line{paint.In(p.t.Text, t.Plan.Terms)}))
	}
	if len(t.Plan.SHA256) >= 12 {
		lines = append(lines,
			p.row("sha256, computed here",
				paint.Line{paint.In(p.t.Text, t.Plan.SHA256[:8]+"…"+t.Plan.SHA256[len(t.Plan.SHA256)-4:])}))
	}
	return lines
}

func (p painter) checked() []paint.Line {
	if len(p.s.Checks) == 0 {
		return nil
	}
	lines := []paint.Line{p.head("checked", nil)}
	const most = 7
	for _, c := range p.s.Checks[max(0, len(p.s.Checks)-most):] {
		got := c.Got
		if len(got) > 20 {
			got = got[:8] + "…" + got[len(got)-4:]
		}
		if c.Before != "" && c.Before != c.Got && len(c.Before) < 12 {
			got = c.Before + " ⇢ " + got
		}
		mark := paint.In(p.t.Good, strings.TrimLeft(got+"  ✓", " "))
		if !c.Held {
			mark = paint.Strong(p.t.Bad, strings.TrimLeft(got+"  ✗", " "))
		}
		lines = append(lines,
			paint.Between(paint.Line{paint.In(p.t.Text, c.Text)}, paint.Line{paint.Piece{Text: " "}, mark}, p.width))
	}
	return lines
}

// device shows what was read, newest reading first in the head.
func (p painter) device() []paint.Line {
	var right paint.Line
	if !p.s.ReadAt.IsZero() {
		right = paint.Line{paint.In(p.t.Quiet, "read "+units.Ago(p.s.Now.Sub(p.s.ReadAt)))}
	}
	lines := []paint.Line{p.head("device", right)}
	if !p.s.ReadAt.IsZero() && p.s.Old(p.s.ReadAt) {
		lines = append(lines, paint.Line{paint.Strong(p.t.Here, p.s.ChangedText())})
	}
	if p.s.Mode.Name != "" {
		lines = append(lines, p.row("mode", paint.Line{paint.In(p.t.Text, p.s.Mode.Name)}))
	}
	for _, f := range p.s.Facts {
		if f.Rows != nil || strings.Contains(f.Value, "\n") {
			continue // a list has a view of its own
		}
		value := f.Value
		if len(value) > 24 {
			value = value[:10] + "…" + value[len(value)-6:]
		}
		if value == "" {
			value = "–"
		}
		piece := paint.In(p.t.Text, value)
		line := paint.Line{piece}
		if f.Was != "" && len(f.Was) < 16 && len(value) < 16 {
			line = paint.Line{paint.In(p.t.Faint, f.Was+" ⇢ "), piece}
		}
		lines = append(lines, p.row(strings.NewReplacer(".", " ", "_", " ").Replace(f.Name), line))
	}
	if len(lines) == 1 {
		lines = append(lines, paint.Line{paint.In(p.t.Quiet, "nothing read yet")})
	}
	const most = 12
	return lines[:min(len(lines), most)]
}

// line is for a session without a runbook.
func (p painter) line() []paint.Line {
	target, _, _ := strings.Cut(p.s.Session.Target, "?")
	lines := []paint.Line{p.head("line", nil), p.row("target", paint.Line{paint.In(p.t.Text, target)})}
	if p.s.Speed > 0 {
		lines = append(lines,
			p.row("our end", paint.Line{paint.In(p.t.Text, fmt.Sprintf("%d baud %s", p.s.Speed, p.s.Framing))}))
	}
	switch {
	case p.s.Mode.Name == "garbled" && p.s.Speed == 0:
		lines = append(lines, paint.Line{paint.Strong(p.t.Here, "What comes is no text.")})
	case p.s.Mode.Name == "garbled":
		lines = append(lines, paint.Line{
			paint.Strong(p.t.Here, "The speeds differ."),
			paint.Piece{Text: " "},
			paint.Strong(p.t.Key, keys.Hunt.After(p.leader)),
			paint.In(p.t.Quiet, " hunts for the right one."),
		})
	}
	return lines
}

func (p painter) ended() []paint.Line {
	end := p.s.RunEnd
	color := p.t.End(end.Outcome)
	lines := []paint.Line{
		p.head("ended", paint.Line{paint.In(p.t.Quiet, "after "+units.Clock(p.s.Gone()))}),
		{paint.Strong(color, string(end.Outcome))},
	}
	if end.Message != string(end.Outcome) {
		lines = append(lines, p.text(paint.In(p.t.Text, end.Message))...)
	}
	return lines
}

func (p painter) proved() []paint.Line {
	if len(p.s.RunEnd.Proved) == 0 {
		return nil
	}
	lines := []paint.Line{p.head("proved", nil)}
	if p.s.ChangedAt.After(p.s.Ended) {
		lines = append(lines,
			paint.Line{paint.Strong(p.t.Here,
				"held until "+p.s.ChangedAt.Format("15:04:05")), paint.In(p.t.Here,
				", "+p.s.ChangedText())}.Cut(p.width))
	}
	for _, proof := range p.s.RunEnd.Proved {
		for i, row := range paint.Wrap(proof, p.width-2) {
			mark := "  "
			if i == 0 {
				mark = "✓ "
			}
			lines = append(lines, paint.Line{paint.In(p.t.Good, mark), paint.In(p.t.Text, row)})
		}
	}
	return lines
}

// Remarks are the latest things that were said, for a view that has no side column.
func Remarks(t theme.Theme, s *state.State, width int) []paint.Line {
	return painter{t, s, width, ""}.remarks()
}

func (p painter) remarks() []paint.Line {
	if len(p.s.Remarks) == 0 {
		return nil
	}
	lines := []paint.Line{p.head("remarks", nil)}
	const most = 3
	for _, r := range p.s.Remarks[max(0, len(p.s.Remarks)-most):] {
		color := p.t.Quiet
		if r.Level != event.Info {
			color = p.t.Here
		}
		lines = append(lines, p.text(paint.In(color, r.At.Format("15:04:05 ")+r.Text))...)
	}
	return lines
}
