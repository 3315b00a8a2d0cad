// Package reach draws whether the watched addresss answer, as strips over time, with the absences and the
// steps that they began in.
package reach

import (
	"fmt"
	"strings"
	"time"

	"pilotrix/core/state"
	"pilotrix/core/units"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// levels draw a round trip: the taller, the longer.
var levels = []rune("▁▂▃▄▅▆▇")

// Strip draws the last columns of one's tries, each column one stretch of time. A stretch with an
// answer is as tall as its longest round trip; one without is a gap.
func Strip(t theme.Theme, watched *state.Watched, now time.Time, each time.Duration, columns int) paint.Line {
	type bucket struct {
		tries, held int
		trip        time.Duration
	}
	buckets := make([]bucket, columns)
	slowest := 2 * time.Millisecond
	end := now.Truncate(each).Add(each)
	for _, try := range watched.Tries {
		i := columns - 1 - int(end.Sub(try.At)/each)
		if i < 0 || i >= columns {
			continue
		}
		buckets[i].tries++
		if try.Held {
			buckets[i].held++
			buckets[i].trip = max(buckets[i].trip, try.Trip)
			slowest = max(slowest, try.Trip)
		}
	}
	var line paint.Line
	for i, b := range buckets {
		switch {
		case b.tries == 0 && i == columns-1 && i > 0 && buckets[i-1].tries > 0:
			line = append(line, paint.Piece{Text: " "}) // its tries are still to come
		case b.tries == 0:
			line = append(line, paint.In(t.Faint, "·"))
		case b.held == 0:
			line = append(line, paint.In(t.Bad, "_"))
		case b.held < b.tries:
			line = append(line, paint.In(t.Here, "▖"))
		default:
			level := int(float64(b.trip) / float64(slowest) * float64(len(levels)-1))
			line = append(line, paint.In(t.Good, string(levels[min(level, len(levels)-1)])))
		}
	}
	return line
}

// Word is how it stands, in words.
func Word(t theme.Theme, watched *state.Watched, now time.Time) paint.Piece {
	if !watched.Over.IsZero() {
		return paint.In(t.Quiet, "watched until "+watched.Over.Format("15:04:05"))
	}
	if away, gone := watched.Gone(); gone {
		return paint.Strong(t.Bad, "away "+units.Clock(now.Sub(away.Begin)))
	}
	if len(watched.Tries) == 0 {
		return paint.In(t.Quiet, "not tried yet")
	}
	if !watched.Last.Held {
		return paint.Strong(t.Here, "no answer")
	}
	return paint.In(t.Good, "answers, "+units.Trip(watched.Last.Trip))
}

// New makes the view of a session.
func New(s *state.State) view.View {
	return view.NewPage(func(r view.Room) []paint.Line { return View(r.Theme, s, r.Width) })
}

// View draws each address with its strip, its figures and its absences.
func View(t theme.Theme, s *state.State, width int) []paint.Line {
	if len(s.Reach) == 0 {
		return []paint.Line{
			{
				paint.In(t.Quiet,
					"Nothing is watched. Start with --watch icmp:ADDRESS, tcp:ADDRESS:PORT or http://ADDRESS/, or in a runbook's step."),
			},
		}
	}
	each := scale(s, width)
	var lines []paint.Line
	for i, watched := range s.Reach {
		if i > 0 {
			lines = append(lines, nil)
		}
		lines = append(lines, one(t, s, watched, each, width)...)
	}
	return append(lines, nil, paint.Line{
		paint.In(t.Good, "▁▇"),
		paint.In(t.Quiet, " answers (taller: slower)   "),
		paint.In(t.Here, "▖"),
		paint.In(t.Quiet, " some lost   "),
		paint.In(t.Bad, "_"),
		paint.In(t.Quiet, " no answer   "),
		paint.In(t.Quiet, "a column is "+units.Span(each)),
	}.Cut(width))
}

// scale is how much time a column stands for, so that all tries find room.
func scale(s *state.State, width int) time.Duration {
	first := s.Now
	for _, watched := range s.Reach {
		if len(watched.Tries) > 0 && watched.Tries[0].At.Before(first) {
			first = watched.Tries[0].At
		}
	}
	for _, each := range []time.Duration{time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 30 * time.Second, time.Minute, 5 * time.Minute} {
		if s.Now.Sub(first) < each*time.Duration(width-2) {
			return each
		}
	}
	return 10 * time.Minute
}

func one(t theme.Theme, s *state.State, watched *state.Watched, each time.Duration, width int) []paint.Line {
	sent := len(watched.Tries)
	lost := watched.Lost()
	share := 0.0
	if sent > 0 {
		share = 100 * float64(lost) / float64(sent)
	}
	lines := []paint.Line{
		paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Text, watched.Name)},
			paint.Line{Word(t, watched, s.Now)}, width),
		Strip(t, watched, s.Now, each, width-1),
		axis(t, s, each, width-1),
		{paint.In(t.Quiet, fmt.Sprintf("%d tries, %d without an answer (%.0f %%)", sent, lost, share))},
	}
	for _, away := range watched.Away {
		length, color := units.Clock(away.Length), t.Text
		if away.Length == 0 {
			length, color = units.Clock(s.Now.Sub(away.Begin))+" so far", t.Bad
		}
		end := "          "
		if away.Length > 0 {
			end = " – " + away.Begin.Add(away.Length).Format("15:04:05")
		}
		row := paint.Line{
			paint.Strong(color, "  away "+fmt.Sprintf("%-14s", length)),
			paint.In(t.Quiet, away.Begin.Format("15:04:05")+end),
		}
		if away.Step != "" {
			row = append(row, paint.In(t.Quiet, "   in “"+away.Step+"”"))
		}
		lines = append(lines, row.Cut(width))
	}
	return lines
}

// axis puts the time under a strip, a stamp about every twenty columns.
func axis(t theme.Theme, s *state.State, each time.Duration, width int) paint.Line {
	const gap = 20
	row := []rune(strings.Repeat(" ", width))
	end := s.Now.Truncate(each).Add(each)
	for column := width - 1; column-8 >= 0; column -= gap {
		at := end.Add(-time.Duration(width-column) * each)
		copy(row[column-8:], []rune(at.Format("15:04:05")+"╵"))
	}
	return paint.Line{paint.In(t.Faint, string(row))}
}
