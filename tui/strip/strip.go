// Package strip draws the rows under the console: holds and questions, and else who has the helm and
// what a key would do. It is the only place where the interface asks something.
package strip

import (
	"fmt"
	"image/color"
	"slices"
	"strings"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// Mode is what the strip is used for besides what the session asks.
type Mode int

// Modes of the strip.
const (
	Plain    Mode = iota
	Leader        // the leader key was pressed
	HandBack      // how to go on after the hand had the helm
	Quit          // really leave while a runbook runs
	Search        // a text to look for is typed
	Speed         // a speed is typed
	Folder        // a folder for the shelf is typed
	Reply         // the answer to a question of the session is typed
)

// View is what the strip needs to know of the interface.
type View struct {
	Mode    Mode
	Typed   string // in Search, Speed, Folder and Reply
	Message string // of the interface itself
	Back    int    // rows scrolled back
	Moved   bool   // something arrived meanwhile
	Other   bool   // another view than the console is shown
	Adds    bool   // it is the shelf, and folders can be added
	Leader  string // the leader key as shown
	Replay  bool
	Serving bool // servers alone
	NotYet  bool // a key came too soon after the question
	Narrow  bool // there is no side column: say here what it would
}

// Answer is a key and what it does.
type Answer struct{ Key, Does string }

// Lines draws the strip: one row, or several with a ground of their own for a question.
func Lines(t theme.Theme, s *state.State, v View, width int) []paint.Line {
	switch v.Mode {
	case Leader:
		return leader(t, s, v, width)
	case HandBack:
		first := []Answer{{"Enter", "repeat this step"}}
		if s.Doing.Resumes {
			first = []Answer{{"Enter", "go on waiting"}, {"r", "begin this step again"}}
		}
		return question(t, width, t.Here, "◉", "Helm", "Give the helm back to the runbook, which waits in “"+presentTitle(s)+"”.", nil, append(first, []Answer{
			{"n", "it is done, go on"}, {"x", "stop the runbook"}, {"Esc", "keep the helm"},
		}...))
	case Quit:
		return question(t, width, t.Bad, "▲", "Leave", "A runbook is under way; leaving stops it, and the line's speed is put back first.", nil, []Answer{{"y", "leave"}, {"Esc", "stay"}})
	case Search:
		return typed(t, width, "search back for", v, "Enter finds, again finds the one before, Esc ends")
	case Speed:
		return typed(t, width, "our end's speed in baud", v, "Enter sets it, Esc leaves it")
	case Reply:
		if s.Ask == nil {
			break
		}
		if s.Ask.Secret {
			v.Typed = strings.Repeat("•", len([]rune(v.Typed)))
		}
		return typed(t, width, s.Ask.Text, v, "Enter gives it, Esc gives nothing")
	case Folder:
		return typed(t, width, "folder to put on the shelf", v, "Enter puts it there, Esc leaves it")
	}
	if s.Held != nil {
		return held(t, s, width)
	}
	if s.Ask != nil {
		return ask(t, s, v, width)
	}
	return []paint.Line{plain(t, s, v).Fit(width).On(t.Strip)}
}

// leader lists what may follow the leader key, on as many rows as that takes: a choice that is cut off
// cannot be taken.
func leader(t theme.Theme, s *state.State, v View, width int) []paint.Line {
	lines := rows(t, []Answer{
		{"h", "hunt the speed"},
		{"s", "set our speed"},
		{"b", "send a break"},
		{"/", "search"},
		{"x", "stop the runbook"},
		{"i", "interlocks " + onOff(s.LocksOff)},
		{"u", "charset"},
		{"p", "plain screen"},
		{"q", "quit"},
		{v.Leader + " F1–F10", "to the device"},
	}, width)
	for i := range lines {
		lines[i] = lines[i].Fit(width).On(t.Strip)
	}
	return lines
}

func onOff(off bool) string {
	if off {
		return "on"
	}
	return "off"
}

// held draws a command that an interlock stopped at its Enter.
func held(t theme.Theme, s *state.State, width int) []paint.Line {
	text := "“" + s.Held.Command + "” " + s.Held.Says + "."
	answers := []Answer{{"F9", "sends it"}, {"any other key", "goes to the device, and this Enter is forgotten"}}
	if s.Running() {
		answers = append(answers, Answer{"F10", "gives the helm back only after that"})
	}
	return question(t, width, t.Bad, "▲", "Held at its Enter", text, now(s.Held.Now), answers)
}

// now is what is under way while something is asked.
func now(words []string) (facts [][2]string) {
	if len(words) > 0 {
		facts = append(facts, [2]string{"Now", strings.Join(words, "; ")})
	}
	return facts
}

func presentTitle(s *state.State) string {
	if step := s.Present(); step != nil {
		return step.Title
	}
	return "its first step"
}

func typed(t theme.Theme, width int, label string, v View, help string) []paint.Line {
	says := paint.In(t.Quiet, help)
	if v.Message != "" {
		says = paint.In(t.Here, v.Message)
	}
	room := max(1, width-paint.Width(label)-5)
	text := []rune(v.Typed)
	for paint.Width(string(text)) > room {
		text = text[1:] // the end is where one types
	}
	line := paint.Line{paint.In(t.Quiet, " "+label+" "), paint.Strong(t.Bright, string(text)), paint.In(t.Here, "▏ ")}
	if line.Width()+paint.Width(says.Text) < width {
		return []paint.Line{append(line, says).Fit(width).On(t.Strip)}
	}
	lines := []paint.Line{line.Fit(width).On(t.Strip)}
	for _, row := range paint.Wrap(says.Text, max(20, width-2)) {
		lines = append(lines, paint.Line{{Text: " "}, {Text: row, Look: says.Look}}.Fit(width).On(t.Strip))
	}
	return lines
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
	color, mark, word, keys := asks(t, a, v)
	if a.Form == event.FormDialog {
		facts = append(facts, [2]string{"Answer it", "by typing, then give the helm back with F10"})
	}
	if v.NotYet {
		keys[0].Does += " (press it once more: that one came too soon)"
	}
	return question(t, width, color, mark, word, a.Text, facts, keys)
}

// asks is how a question of the session is headed, and what answers it.
func asks(t theme.Theme, a *event.Ask, v View) (color color.Color, mark, word string, keys []Answer) {
	switch a.Form {
	case event.FormHold:
		stop := "stop here, nothing changed"
		if a.Changed {
			stop = "stop here"
		}
		keys = []Answer{{"Enter", "go on"}, {"Esc", stop}, {"F3", "show the plan"}}
		if a.Irreversible {
			return t.Bad, "▲", "Hold, no rollback", keys
		}
		return t.Here, "◇", "Hold", keys
	case event.FormOperator:
		return t.Here, "☞", "Your hands", []Answer{{"Enter", "done"}, {"Esc", "stop here"}}
	case event.FormDialog:
		return t.Here, "?", "The device asks", []Answer{{"Enter", "it was answered"}, {"Esc", "stop here"}}
	case event.FormLine:
		return t.Here, "?", "The line", []Answer{{"Enter", "yes"}, {"Esc", "no"}}
	case event.FormOverrun:
		return t.Here, "◷", "Takes longer", []Answer{{"Enter", "wait on, as long again"}, {"Esc", "end the wait: the step failed"}, {"F10", "take the helm and look"}}
	}
	keys = []Answer{{"Enter", "repeat the step"}, {"Esc", "stop"}, {v.Leader + " n", "go on without it"}}
	if slices.Contains(a.Answers, runbook.RollBack) {
		keys = append(keys, Answer{v.Leader + " w", "roll back"})
	}
	return t.Bad, "✗", "Failed", keys
}

// question draws a strip of several rows.
func question(t theme.Theme, width int, color interface {
	RGBA() (r, g, b, a uint32)
}, mark, word, text string, facts [][2]string, keys []Answer,
) []paint.Line {
	head := paint.Line{paint.Strong(color, " "+mark+"  "), paint.Strong(color, word+"   ")}
	indent := head.Width()
	var lines []paint.Line
	const mostText = 3
	wrapped := paint.Wrap(text, max(20, width-indent-1))
	for i, row := range wrapped[:min(len(wrapped), mostText)] {
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
	for _, line := range rows(t, keys, width-3) {
		lines = append(lines, append(paint.Line{paint.Piece{Text: "   "}}, line...))
	}
	for i := range lines {
		lines[i] = lines[i].Fit(width).On(t.Hold)
	}
	return lines
}

// rows lays choices out from left to right, on as many rows as they need.
func rows(t theme.Theme, keys []Answer, width int) []paint.Line {
	const between = "  "
	lines := []paint.Line{nil}
	for _, k := range keys {
		choice := paint.Line{paint.Strong(t.Key, " "+k.Key), paint.In(t.Text, " "+k.Does)}
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

// plain says who has the helm and what typing does.
func plain(t theme.Theme, s *state.State, v View) paint.Line {
	switch {
	case v.Message != "":
		return paint.Line{paint.In(t.Here, " ●  "), paint.In(t.Text, v.Message)}
	case v.Serving:
		return paint.Line{paint.In(t.Good, " ●  "), paint.In(t.Text, "Serving until you leave. "), paint.Strong(t.Key, "Ctrl-C"), paint.In(t.Text, " or "), paint.Strong(t.Key, "q"), paint.In(t.Text, " ends it; "), paint.Strong(t.Key, "↑ ↓"), paint.In(t.Text, " move")}
	case v.Other:
		line := paint.Line{paint.In(t.Quiet, " ○  "), paint.Strong(t.Key, "F2"), paint.In(t.Text, " or "), paint.Strong(t.Key, "Esc"), paint.In(t.Text, " back to the console; "), paint.Strong(t.Key, "↑ ↓"), paint.In(t.Text, " move")}
		if v.Adds {
			line = append(line, paint.In(t.Text, "; "), paint.Strong(t.Key, "a"), paint.In(t.Text, " puts a folder on the shelf"))
		}
		return line
	case v.Back > 0:
		line := paint.Line{paint.In(t.Here, " ↑  "), paint.In(t.Text, fmt.Sprintf("%d rows back; ", v.Back)), paint.Strong(t.Key, "Shift+PgDn"), paint.In(t.Text, " forth, any other key returns to the live line")}
		if v.Moved {
			line = append(line, paint.In(t.Here, "   something arrived meanwhile"))
		}
		return line
	case v.Replay:
		return paint.Line{paint.In(t.Here, " ▷  "), paint.In(t.Text, "Replay. "), paint.Strong(t.Key, v.Leader+" q"), paint.In(t.Text, " leaves")}
	case s.LocksOff:
		return paint.Line{paint.Strong(t.Here, " !  "), paint.In(t.Text, "Interlocks are off for this session: nothing is held at its Enter. "), paint.Strong(t.Key, v.Leader+" i"), paint.In(t.Text, " switches them on.")}
	case s.RunEnd != nil:
		return ended(t, s, v)
	case v.Narrow && s.Running() && s.Transfer.Active():
		return progress(t, s, s.Transfer)
	case v.Narrow && s.Running() && s.Moving().Active():
		return progress(t, s, s.Moving())
	case v.Narrow && s.Running() && s.Helm.Who == event.Runbook && s.Doing.Awaiting != "":
		return paint.Line{paint.Strong(t.Here, " ●  "), paint.In(t.Text, "awaiting "+s.Doing.Awaiting), paint.In(t.Quiet, fmt.Sprintf(", %s of %s", units.Span(s.Now.Sub(s.DoingAt)), units.Span(s.Doing.Timeout)))}
	case s.Running() && s.Helm.Who == event.Runbook && s.Transfer.Active():
		return paint.Line{paint.Strong(t.Here, " ●  "), paint.In(t.Text, "The runbook has the helm. "), paint.Strong(t.Bright, "Type to take it"), paint.In(t.Text, "; the transfer is cancelled cleanly first.")}
	case s.Running() && s.Helm.Who == event.Runbook:
		return paint.Line{paint.Strong(t.Here, " ●  "), paint.In(t.Text, "The runbook has the helm. "), paint.Strong(t.Bright, "Type to take it"), paint.In(t.Text, "; it waits meanwhile.")}
	case s.Running():
		return paint.Line{paint.Strong(t.Here, " ○  "), paint.In(t.Text, "You have the helm; the runbook waits. "), paint.Strong(t.Key, "F10"), paint.In(t.Text, " gives it back.")}
	case s.Line.State == event.LineLost:
		return paint.Line{paint.Strong(t.Bad, " ✗  "), paint.In(t.Text, "The line is lost; it is tried again until it is back.")}
	case s.Line.State == event.LineClosed:
		line := paint.Line{paint.Strong(t.Bad, " ✗  "), paint.In(t.Text, "The line is closed. "+s.Line.Note+" ")}
		if !strings.HasPrefix(s.Session.Target, "exec:") { // a program that is started again would be another session
			line = append(line, paint.Strong(t.Key, "Any key"), paint.In(t.Text, " tries it again, "))
		}
		return append(line, paint.Strong(t.Key, v.Leader+" q"), paint.In(t.Text, " leaves."))
	}
	return paint.Line{paint.In(t.Quiet, " ○  "), paint.In(t.Text, "What you type goes to the device. "), paint.Strong(t.Key, v.Leader), paint.In(t.Text, " more, "), paint.Strong(t.Key, "F1"), paint.In(t.Text, " help.")}
}

// progress is the transfer in one row.
func progress(t theme.Theme, s *state.State, m *state.Transfer) paint.Line {
	got, size := m.Got, m.Plan.Size
	share := 0.0
	if size > 0 {
		share = 100 * float64(got.Bytes) / float64(size)
	}
	return paint.Line{
		paint.Strong(t.Here, fmt.Sprintf(" ●  %.0f %%  ", share)), paint.In(t.Bright, units.Clock(got.Left)+" left  "),
		paint.In(t.Text, fmt.Sprintf("%.1f kB/s  ", got.Rate/1000)), paint.In(t.Quiet, fmt.Sprintf("%d resent  ", got.Resent)),
		paint.Strong(t.Bright, "type to take the helm"),
	}
}

func ended(t theme.Theme, s *state.State, v View) paint.Line {
	color, mark := t.End(s.RunEnd.Outcome), " ✗  "
	if s.RunEnd.Outcome.Good() || s.RunEnd.Outcome == event.DoneBut {
		mark = " ■  "
	}
	words := s.Run.Title + ": " + string(s.RunEnd.Outcome)
	if v.Narrow { // the title is no news, and what follows has to find room
		words = string(s.RunEnd.Outcome)
	}
	line := paint.Line{paint.Strong(color, mark), paint.Strong(t.Bright, words)}
	if n := len(s.RunEnd.Proved); n > 0 {
		line = append(line, paint.In(t.Text, fmt.Sprintf(", %d %s proved", n, map[bool]string{true: "thing", false: "things"}[n == 1])))
	}
	return append(line, paint.In(t.Text, ". The helm is yours. "), paint.Strong(t.Key, v.Leader+" q"), paint.In(t.Text, " leaves."))
}
