package evidence

import (
	"fmt"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/palette"
	"pilotrix/core/state"
	"pilotrix/core/units"
)

// Sheet sizes, in points: as wide as a landscape page.
const (
	sheet  = 780.0
	margin = 24.0
	row    = 18.0
)

// Charts are the drawings that can be made, by name.
var Charts = map[string]func(*state.State) *Drawing{
	"course":     Course,
	"upgrades":   Upgrades,
	"banks":      Banks,
	"stack":      Stack,
	"systems":    Systems,
	"layers":     Layers,
	"attached":   Attached,
	"dry-run":    DryRun,
	"flash":      Flash,
	"first-boot": FirstBoot,
	"reach":      Reach,
	"ladder":     Ladder,
}

// head begins a drawing with its title and whom it is about.
func head(s *state.State, title string, rows float64) *Drawing {
	d := &Drawing{Title: title, Width: sheet, Height: 70 + rows*row}
	who := s.Session.Device
	if who == "" {
		who, _, _ = strings.Cut(s.Session.Target, "?")
	}
	d.Strong(margin, 28, 14, palette.Ink, short(title, 50))
	d.Ending(sheet-margin, 28, 10, palette.Quiet, short(who, 30)+"   "+s.Now.Format("2006-01-02 15:04:05"))
	d.Line(margin, 36, sheet-margin, 36, 0.5, palette.Faint)
	return d
}

// Course draws the steps to the scale of the time that each took, with their holds and their outcomes.
func Course(s *state.State) *Drawing {
	title := "Course"
	if s.Run != nil {
		title = s.Run.Title
	}
	d := head(s, title, float64(len(s.Steps))+3)
	var total time.Duration
	for _, step := range s.Steps {
		total += max(step.Took, 0)
	}
	const left = 330.0
	wide := sheet - margin - left - 60
	y, gone, phase := 58.0, time.Duration(0), ""
	for _, step := range s.Steps {
		if step.Phase != phase {
			phase = step.Phase
			d.Ending(left-190, y+3, 8, palette.Quiet, short(phase, 26))
		}
		tone := toneOf(step)
		mark(d, left-178, y, step, tone)
		lines := wrapped(step.Title, 30)
		for i, line := range lines {
			d.Text(left-166, y+3+10*float64(i), 8.5, palette.Ink, line)
		}
		x := left
		if total > 0 {
			x += wide * gone.Seconds() / total.Seconds()
		}
		switch {
		case total > 0 && step.Outcome != "" && step.Outcome != event.Skipped:
			d.Box(x, y-4, max(1.2, wide*step.Took.Seconds()/total.Seconds()), 8, tone, true)
			d.Ending(sheet-margin, y+3, 8, palette.Quiet, units.Span(step.Took))
		case step.Outcome == "" && !step.Begun.IsZero(): // it never ended
			d.Box(x, y-4, max(24, wide/20), 8, palette.Bad, false)
			d.Ending(sheet-margin, y+3, 8, palette.Bad, "cut off")
		}
		gone += step.Took
		y += row*0.78 + 10*float64(len(lines)-1)
	}
	y = deadlines(d, s, y)
	if s.RunEnd != nil {
		tone := palette.Good
		if !s.RunEnd.Outcome.Good() {
			tone = palette.Bad
		}
		y += 14
		for _, line := range wrapped(s.RunEnd.Text(), 120) {
			d.Strong(margin, y, 10, tone, line)
			y += 14
		}
		for _, proof := range s.RunEnd.Proved {
			for _, line := range wrapped("proved: "+proof, 130) {
				d.Text(margin+12, y, 8.5, palette.Ink, line)
				y += 13
			}
		}
	} else if s.Run != nil {
		y += 14
		d.Strong(margin, y, 10, palette.Bad,
			"The record ends here, in the middle of the run: nothing is known of what came after.")
		y += 14
	}
	d.Height = y + margin
	return d
}

func toneOf(step state.Step) palette.Tone {
	switch {
	case step.Outcome == "":
		return palette.Faint
	case step.Outcome.Taking() == event.Bad:
		return palette.Bad
	case step.Outcome.Taking() == event.Nothing:
		return palette.Faint
	}
	return palette.Good
}

// mark draws a stop: a triangle where there is no rollback, a diamond for a hold, else a circle.
func mark(d *Drawing, x, y float64, step state.Step, tone palette.Tone) {
	const r = 3.5
	filled := step.Outcome != "" && step.Outcome != event.Skipped
	switch {
	case step.Irreversible:
		d.Shape(tone, filled, [2]float64{x, y - r}, [2]float64{x + r, y + r}, [2]float64{x - r, y + r})
	case step.Hold:
		d.Shape(tone, filled, [2]float64{x, y - r - 1}, [2]float64{x + r + 1, y}, [2]float64{x, y + r + 1},
			[2]float64{x - r - 1, y})
	default:
		d.Circle(x, y, r, tone, filled)
	}
}

// wrapped is a text in rows of so many characters at most, broken at words where there are some.
func wrapped(text string, most int) (rows []string) {
	line := ""
	for _, word := range strings.Fields(text) {
		for runes := []rune(word); len(runes) > most; runes = []rune(word) {
			if line != "" {
				rows, line = append(rows, line), ""
			}
			rows, word = append(rows, string(runes[:most])), string(runes[most:])
		}
		switch {
		case line == "":
			line = word
		case len([]rune(line))+1+len([]rune(word)) <= most:
			line += " " + word
		default:
			rows, line = append(rows, line), word
		}
	}
	if line != "" || len(rows) == 0 {
		rows = append(rows, line)
	}
	return rows
}

func short(text string, most int) string {
	runes := []rune(text)
	if len(runes) <= most {
		return text
	}
	return string(runes[:most-1]) + "…"
}

// maxStations are drawn in one row.
const maxStations = 5

// Upgrades draws the releases on the way as stations, as many rows as they need.
func Upgrades(s *state.State) *Drawing {
	d := head(s, "The releases on the way", 5)
	if s.Upgrades == nil {
		d.Text(margin, 60, 10, palette.Quiet, "No way was planned.")
		return d
	}
	running := s.Fact("running.release")
	steps, at := s.Upgrades.Steps, -1
	for i, upgrade := range steps {
		if upgrade.Release == running {
			at = i
		}
	}
	cell := (sheet - 2*margin) / float64(min(len(steps), maxStations)+1)
	station := func(x, y float64, release string, passed bool) {
		d.Circle(x, y, 6, map[bool]palette.Tone{true: palette.Good, false: palette.Quiet}[passed], passed)
		d.Strong(x-6, y-12, 11, palette.Ink, short(release, int(cell/7)))
		if release == running {
			d.Text(x-6, y+20, 8.5, palette.Here, "runs")
		}
	}
	x, y, low := margin+8, 76.0, 76.0
	station(x, y, s.Upgrades.From, true)
	for i, upgrade := range steps {
		if i > 0 && i%maxStations == 0 {
			x, y = margin+8, low+46
			d.Text(x-6, y-8, 8.5, palette.Quiet, "goes on")
		}
		tone := palette.Faint
		if i <= at {
			tone = palette.Good
		}
		d.Arrow(x+9, y, x+cell-9, 1.6, tone)
		x += cell
		station(x, y, upgrade.Release, i <= at)
		said := upgrade.Image
		if len(upgrade.Before) > 0 {
			said += " before: " + strings.Join(upgrade.Before, ", ")
		}
		if len(upgrade.After) > 0 {
			said += " after: " + strings.Join(upgrade.After, ", ")
		}
		below := y + 34
		for _, line := range wrapped(said, max(12, int(cell/5.8))) {
			d.Ending(x+6, below, 8.5, palette.Quiet, line)
			below += 11
		}
		low = max(low, below)
	}
	if s.Upgrades.Downgrade {
		low += 16
		d.Strong(margin, low, 10, palette.Here,
			"A downgrade: what the newer release has converted, the older one may not read.")
	}
	d.Height = low + margin
	return d
}

// Banks draws the bank board.
func Banks(s *state.State) *Drawing {
	d := head(s, "Banks, before and now", 3*float64(len(s.Banks))+1)
	y := 56.0
	for _, b := range s.Banks {
		tone := palette.Quiet
		if b.Runs {
			tone = palette.Good
		}
		d.Box(margin, y, 44, 34, tone, false)
		d.Strong(margin+14, y+22, 14, tone, b.Unit+b.Name)
		release := b.Now
		if b.Before != "" && b.Before != b.Now {
			release = b.Before + " → " + b.Now
		}
		d.Strong(margin+60, y+14, 12, palette.Ink, release)
		d.Text(margin+60, y+30, 9, palette.Quiet, strings.Join(bankText(b), ", "))
		y += 3 * row
	}
	if len(s.Banks) == 0 {
		d.Text(margin, y, 10, palette.Quiet, "No banks were read.")
	}
	return d
}

func bankText(b state.Bank) (words []string) {
	role := "standby"
	if b.Runs {
		role = "runs"
	}
	for _, one := range []string{role, b.ThenText(), b.ChoiceText()} {
		if one != "" {
			words = append(words, one)
		}
	}
	return words
}

// Reach draws each target's tries over time, with its absences.
func Reach(s *state.State) *Drawing {
	rows := 1.0
	for _, t := range s.Reach {
		rows += 5 + float64(len(t.Away))
	}
	d := head(s, "Reach", rows)
	y := 60.0
	for _, t := range s.Reach {
		y = reachOf(d, s, t, y) + row
	}
	if len(s.Reach) == 0 {
		d.Text(margin, y, 10, palette.Quiet, "Nothing was watched.")
	}
	d.Height = y + margin
	return d
}

func reachOf(d *Drawing, s *state.State, t *state.Watched, y float64) float64 {
	d.Strong(margin, y, 10, palette.Ink, t.Name)
	d.Ending(sheet-margin, y, 9, palette.Quiet, fmt.Sprintf("%d tries, %d without an answer", len(t.Tries), t.Lost()))
	if len(t.Tries) == 0 {
		return y + row
	}
	const high = 28.0
	first, last := t.Tries[0].At, t.Tries[len(t.Tries)-1].At
	for _, away := range t.Away {
		if end := away.Begin.Add(awayFor(s, away)); end.After(last) {
			last = end
		}
	}
	span := max(last.Sub(first), time.Second)
	at := func(when time.Time) float64 {
		return margin + (sheet-2*margin)*when.Sub(first).Seconds()/span.Seconds()
	}
	slowest := time.Millisecond
	for _, try := range t.Tries {
		slowest = max(slowest, try.Trip)
	}
	base := y + 8 + high
	for _, away := range t.Away {
		begin := max(margin, at(away.Begin))
		d.Box(begin, base, max(1, at(away.Begin.Add(awayFor(s, away)))-begin), 3, palette.Bad, true)
	}
	for _, try := range t.Tries {
		if try.Held {
			d.Line(at(try.At), base, at(try.At), base-max(2, high*float64(try.Trip)/float64(slowest)), 0.8,
				palette.Good)
		}
	}
	d.Line(margin, base, sheet-margin, base, 0.5, palette.Faint)
	d.Text(margin, base+14, 8, palette.Quiet, first.Format("15:04:05"))
	d.Ending(sheet-margin, base+14, 8, palette.Quiet, last.Format("15:04:05"))
	d.Middle(sheet/2, base+14, 8, palette.Quiet, "highest trip "+slowest.Round(100*time.Microsecond).String())
	y = base + 28
	for _, away := range t.Away {
		text := fmt.Sprintf("away %s from %s", units.Clock(awayFor(s, away)), away.Begin.Format("15:04:05"))
		if away.Length == 0 {
			text += " until the end of the record"
		}
		if away.Step != "" {
			text += ", in “" + away.Step + "”"
		}
		for _, line := range wrapped(text, 130) {
			d.Text(margin+12, y, 9, palette.Bad, line)
			y += 14
		}
	}
	return y
}

// awayFor is how long something was away; until the end of the record where it did not come back.
func awayFor(s *state.State, away state.Away) time.Duration {
	if away.Length == 0 {
		return max(0, s.Now.Sub(away.Begin))
	}
	return away.Length
}

// Ladder draws the messages of every transfer by a protocol.
func Ladder(s *state.State) *Drawing {
	rows := 1.0
	for _, m := range s.Moves {
		rows += 3 + float64(len(s.Rungs(m.Plan.ID)))
	}
	d := head(s, "Messages between this laptop and the device", rows)
	y := 60.0
	for _, m := range s.Moves {
		d.Strong(margin, y, 10, palette.Ink, short(m.Plan.File, 60))
		d.Ending(sheet-margin, y, 9, palette.Quiet,
			fmt.Sprintf("%s, %s, %s B, %d resent", m.Plan.Protocol, m.Plan.Peer, units.Count(m.Got.Bytes),
				m.Got.Resent))
		y += row
		if left := s.LeftOut[m.Plan.ID]; left > 0 {
			d.Text(margin, y, 8.5, palette.Here, fmt.Sprintf("%d earlier messages are left out here.", left))
			y += row
		}
		top := y - 10
		const left, right = margin + 80, sheet - margin - 80
		for _, r := range s.Rungs(m.Plan.ID) {
			rung(d, r, left, right, y)
			y += row
		}
		d.Line(left, top, left, y-8, 0.8, palette.Quiet)
		d.Line(right, top, right, y-8, 0.8, palette.Quiet)
		y += row
	}
	if len(s.Moves) == 0 {
		d.Text(margin, y, 10, palette.Quiet, "Nothing was transferred by a protocol.")
	}
	d.Height = y + margin
	return d
}

func rung(d *Drawing, r state.Rung, left, right, y float64) {
	saying(d, r, r.Line(), left, right, y)
}

func saying(d *Drawing, r state.Rung, said string, left, right, y float64) {
	tone, weight := palette.Quiet, 0.8
	switch {
	case r.What == "ERROR" || r.What == "STRAY":
		tone = palette.Bad
	case r.Count > 1:
		tone, weight = palette.Good, 2.2
	}
	d.Text(margin, y+3, 8, palette.Quiet, r.At.Format("15:04:05"))
	if r.FromDevice {
		d.Arrow(right, y, left, weight, tone)
	} else {
		d.Arrow(left, y, right, weight, tone)
	}
	d.Middle((left+right)/2, y-3, 8, palette.Ink, short(said, 96))
	if r.Resent > 0 {
		d.Text(right+8, y+3, 8, palette.Here, fmt.Sprintf("%d resent", r.Resent))
	}
}
