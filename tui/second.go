package tui

import (
	"slices"

	"pilotrix/core/event"
	"pilotrix/core/session"
	"pilotrix/core/state"
	"pilotrix/tui/console"
	"pilotrix/tui/paint"
)

// Second is another line to the same device, such as its console beside a shell session. The operator may type on it;
// it has no helm to take.
type Second struct {
	Name    string
	Session *session.Session
	Line    string // as the header shows it
}

// second is one as it is shown.
type second struct {
	Second
	state   *state.State
	console *console.Console
}

// secondMsg is for one of them.
type secondMsg struct {
	name  string
	batch []event.Event
}

// place is the name of its view: the line's own may be that of another view.
func (s *second) place() string { return "line " + s.Name }

func (a *app) makeSeconds() {
	for _, one := range a.opt.Seconds {
		shown := &second{one, state.New(), console.New(80, 18)}
		shown.console.Press = one.Session.Press
		shown.console.Paste = func(text string) { a.paste(at{one.Session, shown.state}, text) }
		a.seconds = append(a.seconds, shown)
	}
}

// hearSecond takes what has happened on a second line.
func (a *app) hearSecond(msg secondMsg) {
	for _, one := range a.seconds {
		if one.Name != msg.name {
			continue
		}
		for _, e := range msg.batch {
			one.state.Apply(e)
			one.console.Apply(e)
		}
	}
	a.attend()
}

// at is a line with what is known of it.
type at struct {
	session *session.Session // nil in a replay
	state   *state.State
}

// present is the line that is typed on now: the first, or the second one whose console is shown.
func (a *app) present() at {
	if one := a.presentSecond(); one != nil {
		return at{one.Session, one.state}
	}
	return at{a.session, a.state}
}

// presentSecond is the second line whose console is shown, nil for none.
func (a *app) presentSecond() *second {
	at := slices.IndexFunc(a.seconds, func(s *second) bool { return s.place() == a.places[a.shown].name })
	if at < 0 {
		return nil
	}
	return a.seconds[at]
}

// toLine turns to the console of the line that is typed on, and returns it.
func (a *app) toLine() *console.Console {
	if one := a.presentSecond(); one != nil {
		return one.console
	}
	a.show("console")
	return a.console
}

// nextConsole is the console that F2 leads to: the first, or from a console the one of the next line.
func (a *app) nextConsole() string {
	if a.inConsole() && len(a.seconds) > 0 {
		return a.seconds[0].place()
	}
	if one := a.presentSecond(); one != nil {
		if at := slices.Index(a.seconds, one); at+1 < len(a.seconds) {
			return a.seconds[at+1].place()
		}
	}
	return "console"
}

// maxGlance is how many rows of a second line stand beside the first.
const maxGlance = 6

// glance is what the second lines show, beside the first.
func (a *app) glance(width int) (lines []paint.Line) {
	t := a.theme
	for _, one := range a.seconds {
		about := paint.Line{paint.In(t.Quiet, one.Line)}
		if one.state.Ask != nil || one.state.Held != nil {
			about = paint.Line{paint.Strong(t.Here, "waits for you")}
		} else if one.state.Line.State == event.LineLost || one.state.Line.State == event.LineClosed {
			about = paint.Line{paint.Strong(t.Bad, "line "+one.state.Line.State)}
		}
		lines = append(lines,
			paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, one.Name), paint.In(t.Quiet, " F2")},
				about, width))
		all := one.console.Lines(t)
		end := len(all)
		for end > 0 && all[end-1].Width() == 0 {
			end--
		}
		for _, row := range all[max(0, end-maxGlance):end] {
			lines = append(lines, row.Cut(width))
		}
		lines = append(lines, nil)
	}
	return lines
}
