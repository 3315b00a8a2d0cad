package strip

import (
	"fmt"
	"math"
	"regexp"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// plain says who has the helm and what typing does: what comes first in the table.
func plain(t theme.Theme, s *state.State, v View) paint.Line {
	for _, one := range situations {
		if one.when(s, v) {
			return one.says(t, s, v)
		}
	}
	return nil
}

// situation is one of those that the strip has a row for, and what that says.
type situation struct {
	when func(s *state.State, v View) bool
	says func(t theme.Theme, s *state.State, v View) paint.Line
}

// situations are in their rank; the last one always holds.
var situations = []situation{
	{
		func(_ *state.State, v View) bool { return v.Message != "" },
		func(t theme.Theme, _ *state.State, v View) paint.Line {
			return paint.Line{paint.In(t.Here, " ●  "), paint.In(t.Text, v.Message)}
		},
	},
	{func(_ *state.State, v View) bool { return v.Serving }, func(t theme.Theme, _ *state.State, _ View) paint.Line {
		return sentence(t, paint.In(t.Good, " ●  "), "Serving until you leave. «Ctrl-C» or «q» ends it; «↑ ↓» move")
	}},
	{func(_ *state.State, v View) bool { return v.Replay }, func(t theme.Theme, _ *state.State, v View) paint.Line {
		return sentence(t, paint.In(t.Here, " ▷  "),
			"Replay, "+v.Playing+"«Space» pauses  «n b» steps  «+ -» speed  «"+keys.Quit.After(v.Leader)+"» leaves")
	}},
	{func(_ *state.State, v View) bool { return v.Locked }, func(t theme.Theme, _ *state.State, v View) paint.Line {
		return sentence(t, paint.Strong(t.Here, " ▣  "),
			"Every key goes to the device. «"+keys.Lock.After(v.Leader)+"» gives the function keys back.")
	}},
	{
		func(_ *state.State, v View) bool { return v.Other != nil },
		func(t theme.Theme, _ *state.State, v View) paint.Line {
			return append(paint.Line{paint.In(t.Quiet, " ○ ")}, rows(t, v.Other.Enabled(), math.MaxInt)[0]...)
		},
	},
	{func(_ *state.State, v View) bool { return v.Back > 0 }, scrolledBack},
	{func(s *state.State, _ View) bool { return s.LocksOff }, func(t theme.Theme, _ *state.State, v View) paint.Line {
		return sentence(t, paint.Strong(t.Here, " !  "),
			"Interlocks are off for this session: nothing is held at its Enter. «"+keys.Interlocks.After(v.Leader)+"» switches them on.")
	}},
	{
		func(s *state.State, v View) bool { return v.Narrow && s.OwnRestart() != nil },
		func(t theme.Theme, s *state.State, _ View) paint.Line {
			return restarts(t, s, s.OwnRestart())
		},
	},
	{
		func(s *state.State, _ View) bool { return s.JustSaid() != nil && s.Running() },
		func(t theme.Theme, s *state.State, _ View) paint.Line {
			does := " gives the helm back."
			if s.HandedOver() {
				does = " when it is enough."
			}
			return append(news(t, s.JustSaid()), paint.Strong(t.Key, keys.Helm.Shown), paint.In(t.Text, does))
		},
	},
	{
		func(s *state.State, _ View) bool { return s.JustSaid() != nil && s.RunEnd != nil },
		func(t theme.Theme, s *state.State, v View) paint.Line {
			return append(news(t, s.JustSaid()), paint.Strong(t.Key, keys.Quit.After(v.Leader)),
				paint.In(t.Text, " leaves."))
		},
	},
	{func(s *state.State, _ View) bool { return s.RunEnd != nil }, ended},
	{
		func(s *state.State, v View) bool {
			return v.Narrow && s.Running() && s.OfStep() != nil && !s.AwaitsWindow()
		},
		func(t theme.Theme, s *state.State, _ View) paint.Line { return progress(t, s, s.OfStep()) },
	},
	{
		func(s *state.State, v View) bool { return v.Narrow && runs(s) && s.Doing.Awaiting != "" },
		func(t theme.Theme, s *state.State, _ View) paint.Line {
			return paint.Line{
				paint.Strong(t.Here, " ●  "),
				paint.In(t.Text, "awaiting "+s.Doing.Awaiting),
				paint.In(t.Quiet,
					fmt.Sprintf(", %s of %s", units.Clock(s.Now.Sub(s.DoingAt)), units.Span(s.Doing.Timeout))),
			}
		},
	},
	{
		func(s *state.State, _ View) bool { return runs(s) && s.OfStep() == s.Transfer && s.Transfer.Active() },
		func(t theme.Theme, _ *state.State, _ View) paint.Line {
			return sentence(t, paint.Strong(t.Here, " ●  "),
				"The runbook has the helm. ‹Type to take it›; you are asked before the transfer is cancelled.")
		},
	},
	{func(s *state.State, _ View) bool { return runs(s) }, func(t theme.Theme, _ *state.State, _ View) paint.Line {
		return sentence(t, paint.Strong(t.Here, " ●  "),
			"The runbook has the helm. ‹Type to take it›; it waits meanwhile.")
	}},
	{
		func(s *state.State, v View) bool { return v.Yours != "" && !s.HandedOver() },
		func(t theme.Theme, s *state.State, v View) paint.Line {
			text := "‹Yours›: " + v.Yours + ". "
			switch {
			case s.Helm.Who == event.ByDeed:
				text += "«" + keys.Helm.Shown + "» takes the line back."
			case s.Running():
				text += "«" + keys.Watch.After(v.Leader) + "» ends it. «" + keys.Helm.Shown + "» gives the helm back."
			default:
				text += "«" + keys.Watch.After(v.Leader) + "» shows and ends it."
			}
			return sentence(t, paint.Strong(t.Here, " ●  "), text)
		},
	},
	{
		func(s *state.State, _ View) bool { return s.Running() && s.HandedOver() },
		func(t theme.Theme, _ *state.State, _ View) paint.Line {
			return sentence(t, paint.Strong(t.Here, " ○  "),
				"‹Yours to try›, for as long as you want. «"+keys.Helm.Shown+"» when it is enough.")
		},
	},
	{func(s *state.State, _ View) bool { return s.Running() }, func(t theme.Theme, _ *state.State, _ View) paint.Line {
		return sentence(t, paint.Strong(t.Here, " ○  "),
			"You have the helm; the runbook waits. «"+keys.Helm.Shown+"» gives it back.")
	}},
	{
		func(s *state.State, _ View) bool { return s.Line.State == event.LineLost },
		func(t theme.Theme, _ *state.State, _ View) paint.Line {
			return sentence(t, paint.Strong(t.Bad, " ✗  "), "The line is lost; it is tried again until it is back.")
		},
	},
	{
		func(s *state.State, _ View) bool { return s.Line.State == event.LineClosed },
		func(t theme.Theme, s *state.State, v View) paint.Line {
			line := paint.Line{paint.Strong(t.Bad, " ✗  "), paint.In(t.Text, "The line is closed. "+s.Line.Note+" ")}
			if !strings.HasPrefix(s.Session.Target,
				"exec:") { // a program that is started again would be another session
				line = append(line, paint.Strong(t.Key, "Any key"), paint.In(t.Text, " tries it again, "))
			}
			return append(line, paint.Strong(t.Key, keys.Quit.After(v.Leader)), paint.In(t.Text, " leaves."))
		},
	},
	{
		func(_ *state.State, v View) bool { return v.Second != "" },
		func(t theme.Theme, _ *state.State, v View) paint.Line {
			return sentence(t, paint.Strong(t.Here, " ◧  "),
				"This is the line ‹"+v.Second+"› ("+v.SecondLine+"): what you type goes there. «F2» switches.")
		},
	},
	{
		func(s *state.State, _ View) bool { return strings.HasPrefix(s.Session.Target, "none:") },
		func(t theme.Theme, _ *state.State, v View) paint.Line {
			return sentence(t, paint.In(t.Quiet, " ○  "),
				"This device has no line here: nothing can be typed. «"+keys.Runbooks.After(v.Leader)+"» has runbooks that go over the network.")
		},
	},
	{
		func(s *state.State, v View) bool { return v.Offers != nil && !lately(s) },
		func(t theme.Theme, _ *state.State, v View) paint.Line {
			return sentence(t, paint.Strong(t.Here, " →  "),
				"«"+keys.Accept.After(v.Leader)+"» "+v.Offers.Does+". "+v.Offers.Text+".")
		},
	},
	{func(*state.State, View) bool { return true }, func(t theme.Theme, s *state.State, v View) paint.Line {
		line := sentence(t, paint.In(t.Quiet, " ○  "), "What you type goes to the device. ")
		if said := s.JustSaid(); said != nil {
			line = news(t, said)
		}
		switch {
		case v.LogsIn:
			line = append(line, paint.Strong(t.Key, keys.LogIn.After(v.Leader)), paint.In(t.Text, " logs in, "))
		case v.Offers != nil:
			line = append(line, paint.Strong(t.Key, keys.Accept.After(v.Leader)), paint.In(t.Text, " "+v.Offers.Does+", "))
		}
		return append(line, paint.Strong(t.Key, v.Leader), paint.In(t.Text, " more, "), paint.Strong(t.Key, "F1"),
			paint.In(t.Text, " help."))
	}},
}

// firstRead is how long news stands before what can be done.
const firstRead = 6 * time.Second

// lately reports whether something was said only just now.
func lately(s *state.State) bool {
	said := s.JustSaid()
	return said != nil && s.Now.Sub(said.At) < firstRead
}

// runs reports whether a runbook has the helm.
func runs(s *state.State) bool { return s.Running() && s.Helm.Who == event.Runbook }

func scrolledBack(t theme.Theme, _ *state.State, v View) paint.Line {
	line := sentence(t, paint.In(t.Here, " ↑  "),
		fmt.Sprintf("%s back; «Shift+PgDn» forth, any other key returns to the live line", units.Many(v.Back, "row")))
	if v.Moved {
		line = append(line, paint.In(t.Here, "   something arrived meanwhile"))
	}
	return line
}

// marked are the parts of a sentence that stand out: «a key», ‹what matters›.
var marked = regexp.MustCompile(`«[^»]*»|‹[^›]*›`)

// sentence is text behind a mark, in which «…» is a key and ‹…› is what matters most.
func sentence(t theme.Theme, mark paint.Piece, text string) paint.Line {
	line, at := paint.Line{mark}, 0
	for _, m := range marked.FindAllStringIndex(text, -1) {
		if m[0] > at {
			line = append(line, paint.In(t.Text, text[at:m[0]]))
		}
		look := t.Bright
		if strings.HasPrefix(text[m[0]:], "«") {
			look = t.Key
		}
		inner := []rune(text[m[0]:m[1]])
		line, at = append(line, paint.Strong(look, string(inner[1:len(inner)-1]))), m[1]
	}
	if at < len(text) {
		line = append(line, paint.In(t.Text, text[at:]))
	}
	return line
}
