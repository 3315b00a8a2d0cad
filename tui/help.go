package tui

import (
	"fmt"

	"pilotrix/core/event"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// section is a part of the help: keys or marks, each with what it does or means.
type section struct {
	name string
	rows [][2]string
}

// servingHelp is the help of servers that serve alone.
func servingHelp() []section {
	return []section{
		{"Serving", [][2]string{
			{"q, Ctrl-C", "ends it; what is under way is told so"},
			{"F6", "what is awaited and staged, each transfer, the ladder of the one that matters, what was refused"},
			{"F8", "what happened"},
			{"↑ ↓ Home End", "move in a view, PgUp and PgDn too"},
		}},
		{"Marks", [][2]string{
			{"● ○", "a server that listens, one that ended"},
			{"▷", "a device may fetch this, under exactly this name"},
			{"◁", "a device may leave this here, once, under exactly this name"},
			{"─ ═", "one message, a run of them"},
		}},
	}
}

// sessionHelp is the help of a session with a device.
func sessionHelp(leader string) []section {
	return []section{
		{"The helm", [][2]string{
			{"type", "takes the helm at once; a transfer is cancelled cleanly first"},
			{"F10", "pauses the runbook, or gives the helm back to it"},
			{leader + " x", "stops the runbook; the line's speed is put back"},
		}},
		{"Holds and questions", [][2]string{
			{"Enter", "approves what the strip says; after a failure, repeats the step"},
			{"Esc", "stops there"},
			{"F3", "shows the plan first"},
			{leader + " n, " + leader + " w", "after a failure: goes on without the step, or rolls back"},
		}},
		{"The other views", [][2]string{
			{"F4", "images: what fits and why not; ↓ shows one whole, a adds a folder; a digest pasted there is compared"},
			{"F5", "banks: what each holds, which runs, which starts next, whether that is kept"},
			{"F6", "transfers: what is staged, each transfer, the ladder of messages"},
			{"F7", "reach: whether the device answers, and how long it was away"},
			{"F8", "events: what happened, the newest first"},
		}},
		{"Interlocks", [][2]string{
			{"F9", "sends a command that was held at its Enter; any other key forgets that Enter"},
			{leader + " i", "switches interlocks off for this session, and on again; that is recorded"},
		}},
		{"The console", [][2]string{
			{"all keys", "go to the device: Tab, Esc, Ctrl-C, ? and arrows too"},
			{"Shift+PgUp, wheel", "scroll back; any other key returns to the live line"},
			{leader + " /", "searches back"},
			{leader + " h", "hunts for the speed the device speaks"},
			{leader + " s", "sets our end's speed"},
			{leader + " b", "sends a break"},
			{leader + " F1 … F10", "sends that key to the device"},
			{leader + " u", "takes the next character set for what the device writes: UTF-8, Latin-1, code page 437"},
			{leader + " p", "back to a plain screen, where a full-screen program left its own behind"},
			{"paste", "one line goes as typed; several are typed one by one, each seen on the device before it is ended"},
			{leader + " " + leader, "sends " + leader + " itself to the device"},
			{leader + " q", "leaves"},
		}},
		{"The course", [][2]string{
			{"● ◉ ○", "done, here, ahead; the way between them is to the scale of time"},
			{"◇ ◆", "a hold, ahead and passed"},
			{"▲", "cannot be undone"},
			{"·", "skipped, since it was not needed"},
			{"✗", "failed or stopped"},
			{"due 03:10", "until the device does something by itself: what, is said beside the console and at each hold"},
		}},
	}
}

// helpLines says which keys do what, and what the marks mean.
func helpLines(t theme.Theme, sections []section, width int) []paint.Line {
	var lines []paint.Line
	for i, s := range sections {
		if i > 0 {
			lines = append(lines, nil)
		}
		lines = append(lines, paint.Line{paint.Strong(t.Text, s.name)})
		for _, row := range s.rows {
			label := row[0]
			for _, part := range paint.Wrap(row[1], max(20, width-22)) {
				lines = append(lines, paint.Line{paint.Strong(t.Key, fmt.Sprintf("  %-20s", label)), paint.In(t.Text, part)})
				label = ""
			}
		}
	}
	return lines
}

// journalLines tells the session's events, newest first.
func journalLines(t theme.Theme, journal []event.Event, width int) []paint.Line {
	lines := []paint.Line{{paint.In(t.Quiet, "newest first; every byte is in the logbook: pilotrix logbook list")}, nil}
	for i := len(journal) - 1; i >= 0; i-- {
		e := journal[i]
		text, loud := event.Tell(e.Body)
		if text == "" {
			continue
		}
		look := paint.In(t.Text, text)
		if loud {
			look = paint.Strong(t.Here, text)
		}
		lines = append(lines, paint.Line{paint.In(t.Faint, e.At.Format("15:04:05.000  ")), paint.In(t.Quiet, fmt.Sprintf("%-15s", event.KindOf(e.Body))), look}.Cut(width))
	}
	return lines
}
