// Package strip draws the rows under the console: holds and questions, and else who has the helm and
// what a key would do. It is the only place where the interface asks something.
package strip

import (
	"fmt"
	"image/color"
	"math"
	"strings"

	"pilotrix/core/event"
	"pilotrix/core/state"
	"pilotrix/core/suggest"
	"pilotrix/core/units"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// View is what the strip needs to know of the interface.
type View struct {
	Message            string   // of the interface itself
	Back               int      // rows scrolled back
	Moved              bool     // something arrived meanwhile
	Other              keys.Map // of another view that is shown than the console; nil for none
	Leader             string   // the leader key as shown
	Answers            keys.Map // of the question that is open
	Sends              keys.Map // of a command that is held at its Enter
	Kept               keys.Map // of keys that wait while a transfer has the line
	Replay             bool
	Playing            string              // where a replay is, in words
	Serving            bool                // servers alone
	Locked             bool                // every key goes to the device
	Second, SecondLine string              // the second line whose console is shown, empty for none
	LogsIn             bool                // a key logs in where the device is now
	Offers             *suggest.Suggestion // what can be done now, nil for nothing
	NotYet             bool                // a key came too soon after the question
	Narrow             bool                // there is no side column: say here what it would
	Yours              string              // what is open that the operator began, and what there is to do for it
}

// Lines draws the strip: one row, or several with a ground of their own for a question.
func Lines(t theme.Theme, s *state.State, v View, width int) []paint.Line {
	if s.Kept > 0 {
		return kept(t, s, v, width)
	}
	if s.Held != nil {
		return held(t, s, v, width)
	}
	if s.Ask != nil && !s.Ask.Typed {
		return ask(t, s, v, width)
	}
	return []paint.Line{plain(t, s, v).Fit(width).On(t.Strip)}
}

// kept draws what a transfer would lose by keys that were pressed meanwhile.
func kept(t theme.Theme, s *state.State, v View, width int) []paint.Line {
	text := map[bool]string{true: "A key waits", false: fmt.Sprintf("%s wait",
		units.Many(s.Kept, "key"))}[s.Kept == 1] + ": a transfer has the line"
	if m := s.Transfer; m.Active() {
		text = strings.TrimSuffix(text, "a transfer has the line") + fmt.Sprintf("the transfer is %s done after %s",
			shareText(m), units.Clock(s.Now.Sub(m.Begun)))
		if m.Got.Left > 0 {
			text += ", " + units.Clock(m.Got.Left) + " left"
		}
	}
	return question(t, width, t.Here, "▪", "Not sent", text+".", [][2]string{{"Ctrl-C", "twice cancels it, too"}},
		v.Kept)
}

// shareText is how much of a file was moved.
func shareText(m *state.Transfer) string {
	if m.Plan.Size <= 0 {
		return units.Bytes(m.Got.Bytes)
	}
	return fmt.Sprintf("%.0f %%", 100*float64(m.Got.Bytes)/float64(m.Plan.Size))
}

// held draws a command that an interlock stopped at its Enter.
func held(t theme.Theme, s *state.State, v View, width int) []paint.Line {
	text := "“" + s.Held.Command + "” " + s.Held.Says + "."
	facts := append(now(s.Held.Now), [2]string{"Other keys", "go to the device, and this Enter is forgotten"})
	return question(t, width, t.Bad, "▲", "Held at its Enter", text, facts, v.Sends)
}

// now is what is under way while something is asked.
func now(words []string) (facts [][2]string) {
	if len(words) > 0 {
		facts = append(facts, [2]string{"Now", strings.Join(words, "; ")})
	}
	return facts
}

// ask draws a question of the session with what it would type and its rollback.
func ask(t theme.Theme, s *state.State, v View, width int) []paint.Line {
	a := s.Ask
	var facts [][2]string
	if len(a.Types) > 0 {
		facts = append(facts, [2]string{"Will type", strings.Join(a.Types, "   ·   ")})
	}
	if a.Rollback != "" {
		facts = append(facts, [2]string{"Rollback", a.Rollback})
	}
	if len(a.Pending) > 0 {
		facts = append(facts, [2]string{"Pending", strings.Join(a.Pending, "; ")})
	}
	facts = append(facts, now(a.Now)...)
	color, mark, word := asks(t, a)
	if a.Form == event.FormDialog {
		facts = append(facts, [2]string{"Answer it", "by typing, then give the helm back with " + keys.Helm.Shown})
	}
	if v.NotYet {
		facts = append(facts, [2]string{"Too soon", "press it once more: that key came too soon after the question"})
	}
	return question(t, width, color, mark, word, a.Text, facts, v.Answers)
}

// asks is how a question of the session is headed.
func asks(t theme.Theme, a *event.Ask) (color color.Color, mark, word string) {
	switch a.Form {
	case event.FormHold:
		if a.Irreversible {
			return t.Bad, "▲", "Hold, no rollback"
		}
		return t.Here, "◇", "Hold"
	case event.FormOperator:
		return t.Here, "☞", "Your hands"
	case event.FormDialog:
		return t.Here, "?", "The device asks"
	case event.FormNewDevice:
		return t.Here, "?", "A new device"
	case event.FormRecord:
		return t.Bad, "✗", "Not recorded"
	case event.FormIdentity:
		return t.Bad, "?", "Which device"
	case event.FormLine:
		return t.Here, "?", "The line"
	case event.FormOverrun:
		return t.Here, "◷", "Takes longer"
	}
	return t.Bad, "✗", "Failed"
}

// question draws a strip of several rows.
func question(
	t theme.Theme, width int, color color.Color, mark, word, text string, facts [][2]string, choices keys.Map,
) []paint.Line {
	head := paint.Line{paint.Strong(color, " "+mark+"  "), paint.Strong(color, word+"   ")}
	indent := head.Width()
	var lines []paint.Line
	const maxText = 3
	wrapped := paint.Wrap(text, max(20, width-indent-1))
	for i, row := range wrapped[:min(len(wrapped), maxText)] {
		if i == 0 {
			lines = append(lines, append(head, paint.Strong(t.Bright, row)))
			continue
		}
		lines = append(lines, paint.Line{paint.Piece{Text: strings.Repeat(" ", indent)}, paint.Strong(t.Bright, row)})
	}
	for _, row := range facts {
		label := fmt.Sprintf("    %-12s", row[0])
		for _, part := range paint.Wrap(row[1], max(20, width-len(label)-1)) {
			lines = append(lines, paint.Line{paint.In(t.Quiet, label), paint.In(t.Text, part)})
			label = strings.Repeat(" ", len(label))
		}
	}
	for _, line := range rows(t, choices.Enabled(), width-3) {
		lines = append(lines, append(paint.Line{paint.Piece{Text: "   "}}, line...))
	}
	for i := range lines {
		lines[i] = lines[i].Fit(width).On(t.Hold)
	}
	return lines
}

// Row lays choices out in one row.
func Row(t theme.Theme, choices keys.Map, width int) paint.Line {
	return rows(t, choices.Enabled(), math.MaxInt)[0].Cut(width)
}

// rows lays choices out from left to right, on as many rows as they need.
func rows(t theme.Theme, choices keys.Map, width int) []paint.Line {
	const between = "  "
	lines := []paint.Line{nil}
	for _, k := range choices {
		choice := paint.Line{paint.Strong(t.Key, " "+k.Shown()), paint.In(t.Text, " "+k.Does())}
		last := &lines[len(lines)-1]
		switch {
		case len(*last) == 0:
		case last.Width()+len(between)+choice.Width() > width:
			lines = append(lines, nil)
			last = &lines[len(lines)-1]
		default:
			*last = append(*last, paint.Piece{Text: between})
		}
		*last = append(*last, choice...)
	}
	return lines
}

// news is what was said last.
func news(t theme.Theme, said *state.Remark) paint.Line {
	mark := paint.In(t.Good, " ●  ")
	if said.Level != event.Info {
		mark = paint.Strong(t.Here, " !  ")
	}
	return paint.Line{mark, paint.In(t.Text, said.Text+"  ")}
}

// restarts is a restart that no runbook waits for, in one row.
func restarts(t theme.Theme, s *state.State, r *event.Restart) paint.Line {
	line := paint.Line{
		paint.Strong(t.Here, " ●  "),
		paint.In(t.Text, "The device restarts: "),
		paint.Strong(t.Here, units.Clock(s.Now.Sub(r.Begun))),
	}
	if r.Expected > 0 {
		line = append(line, paint.In(t.Quiet, " of ~"+units.Clock(r.Expected)))
	}
	if r.Console != "" {
		line = append(line, paint.In(t.Text, ", console "+r.Console))
	}
	if r.Reach != "" {
		line = append(line, paint.In(t.Text, ", address "+r.Reach))
	}
	return line
}

// progress is the transfer in one row.
func progress(t theme.Theme, s *state.State, m *state.Transfer) paint.Line {
	got, size := m.Got, m.Plan.Size
	share := 0.0
	if size > 0 {
		share = 100 * float64(got.Bytes) / float64(size)
	}
	return paint.Line{
		paint.Strong(t.Here, fmt.Sprintf(" ●  %.0f %%  ", share)),
		paint.In(t.Bright, units.Clock(got.Left)+" left  "),
		paint.In(t.Text, fmt.Sprintf("%.1f kB/s  ", got.Rate/1000)),
		paint.In(t.Quiet, fmt.Sprintf("%d resent  ", got.Resent)),
		paint.Strong(t.Key, keys.Helm.Shown),
		paint.In(t.Text, " cancels it"),
	}
}

// ProgressText is how far a transfer is, in words.
func ProgressText(m *state.Transfer) string {
	text := m.Plan.File + ", " + shareText(m)
	if m.Got.Left > 0 {
		text += ", " + units.Clock(m.Got.Left) + " left"
	}
	return fmt.Sprintf("%s, %.1f kB/s, %d resent", text, m.Got.Rate/1000, m.Got.Resent)
}

func ended(t theme.Theme, s *state.State, v View) paint.Line {
	color, mark := t.End(s.RunEnd.Outcome), " ✗  "
	if s.RunEnd.Outcome.Taking() != event.Bad {
		mark = " ■  "
	}
	words := s.Run.Title + ": " + string(s.RunEnd.Outcome)
	if v.Narrow { // the title is no news, and what follows has to find room
		words = string(s.RunEnd.Outcome)
	}
	line := paint.Line{paint.Strong(color, mark), paint.Strong(t.Bright, words)}
	if n := len(s.RunEnd.Proved); n > 0 {
		line = append(line,
			paint.In(t.Text, fmt.Sprintf(", %d %s proved", n, map[bool]string{true: "thing", false: "things"}[n == 1])))
	}
	if open := s.Deadline(); open != nil {
		line = append(paint.Line{paint.Strong(t.Bad, " STILL OPEN "+units.Clock(open.Left(s.Now))+" ")}, line...)
	}
	return append(line, paint.In(t.Text, ". The helm is yours. "), paint.Strong(t.Key, keys.Quit.After(v.Leader)),
		paint.In(t.Text, " leaves."))
}
