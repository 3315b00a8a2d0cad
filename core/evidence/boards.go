package evidence

import (
	"fmt"
	"math"
	"strings"
	"time"

	"pilotrix/core/palette"
	"pilotrix/core/state"
	"pilotrix/core/units"
)

// deadlines draws what ran out by itself, or would have: each to its own scale, with where it was dealt with. It
// returns where the drawing goes on.
func deadlines(d *Drawing, s *state.State, y float64) float64 {
	const left, right = margin + 150, sheet - margin - 190
	for _, one := range s.Deadlines {
		y += 16
		d.Strong(margin, y+3, 9, palette.Ink, short("deadline: "+one.Name, 26))
		end, tone, said := s.Now, palette.Bad, "open when the record ends"
		if !one.End.IsZero() {
			end, said = one.End, fmt.Sprintf("%s at %s", one.State, one.End.Format("15:04:05"))
		}
		if one.End.Before(one.Until) && !one.End.IsZero() {
			tone = palette.Good
			said += ", " + units.Clock(one.Until.Sub(one.End)) + " before"
		}
		x := left + (right-left)*one.Part(end)
		d.Box(left, y-4, right-left, 8, palette.Faint, false)
		d.Box(left, y-4, max(1.2, x-left), 8, tone, true)
		d.Line(right, y-8, right, y+8, 1.2, palette.Bad)
		d.Ending(sheet-margin, y+3, 8.5, tone, short(said, 44))
		d.Text(left, y+15, 8, palette.Quiet, one.Opened.Format("15:04:05"))
		d.Ending(right, y+15, 8, palette.Quiet, "runs out "+one.Until.Format("15:04:05"))
		y += 26
		for _, line := range wrapped(one.Says, 120) {
			d.Text(left, y, 8.5, palette.Ink, line)
			y += 11
		}
	}
	return y
}

// Systems draws how far each release has come that a device keeps, and what a restart leads to.
func Systems(s *state.State) *Drawing {
	d := head(s, "Systems", 2*float64(len(s.Systems))+3)
	if len(s.Systems) == 0 {
		d.Text(margin, 60, 10, palette.Quiet, "No systems were read.")
		return d
	}
	const first, apart = margin + 130, 120.0
	stages := []string{"packed", "unpacked", "runs", "lasts"}
	y := 62.0
	for i, name := range stages {
		d.Middle(first+apart*float64(i), y, 9, palette.Quiet, name)
	}
	lasts, runs := "", ""
	for _, system := range s.Systems {
		y += 26
		has := []bool{system.Packed, system.Unpacked, system.Runs, system.Lasts}
		d.Strong(margin, y+4, 12, map[bool]palette.Tone{true: palette.Good, false: palette.Ink}[system.Runs],
			short(system.Release, 16))
		for i := range stages {
			x := first + apart*float64(i)
			if i > 0 && has[i] && has[i-1] {
				d.Line(x-apart+6, y, x-6, y, 1.6, palette.Good)
			}
			tone := map[bool]palette.Tone{true: palette.Good, false: palette.Faint}[has[i]]
			if stages[i] == "runs" && has[i] && !system.Lasts {
				tone = palette.Here
			}
			d.Circle(x, y, 5, tone, has[i])
		}
		d.Text(first+apart*float64(len(stages))-60, y+4, 9, palette.Quiet,
			short(strings.Join(systemText(system), ", "), 44))
		if system.Lasts {
			lasts = system.Release
		}
		if system.Runs {
			runs = system.Release
		}
	}
	y += 24
	text, tone := "A restart, or a power cut, starts "+lasts+", as now.", palette.Ink
	if lasts != runs {
		text, tone = "A restart, or a power cut, starts "+lasts+": what runs is lost by it.", palette.Here
	}
	d.Text(margin, y, 10, tone, text)
	d.Height = deadlines(d, s, y+6) + margin
	return d
}

func systemText(system state.System) (words []string) {
	switch {
	case system.Runs && system.RanThen:
		words = append(words, "runs, as before")
	case system.Runs:
		words = append(words, "runs now")
	case system.RanThen:
		words = append(words, "ran before")
	case !system.ThereThen:
		words = append(words, "new here")
	}
	switch {
	case system.Lasts && !system.LastedThen && system.ThereThen:
		words = append(words, "made lasting")
	case system.LastedThen && !system.Lasts:
		words = append(words, "lasted before")
	}
	return words
}

// DryRun draws what a dry run foresaw: what restarts to scale, what warns, what refuses, and what the first one said
// otherwise.
func DryRun(s *state.State) *Drawing {
	if s.DryRun == nil {
		d := head(s, "Dry run", 2)
		d.Text(margin, 60, 10, palette.Quiet, "There was no dry run.")
		return d
	}
	run := s.DryRun
	d := head(s, "Dry run at "+run.At.Format("15:04:05"), float64(len(run.Rows))+3)
	const bars, wide = margin + 260, 220.0
	y := 60.0
	for _, row := range run.Rows {
		tone := map[string]palette.Tone{state.Goes: palette.Good, state.Warns: palette.Here, state.Refuses: palette.Bad}[row.Verdict]
		d.Strong(margin, y, 10, palette.Ink, short(row.Part, 20))
		d.Text(margin+110, y, 9, palette.Quiet, short(row.Effect, 22))
		if row.Takes > 0 {
			d.Ending(bars-8, y, 9, palette.Ink, units.Span(row.Takes))
			d.Box(bars, y-7, max(1.2, wide*row.Takes.Seconds()/max(run.Restarts(), time.Second).Seconds()), 8,
				palette.Here, true)
		}
		d.Strong(bars+wide+16, y, 9, tone, row.Verdict)
		y += 12
		said := row.Reason
		if before := run.Before(row.Part); run.First != nil && (before == nil || *before != row) {
			said = strings.TrimPrefix(said+"; not so in the dry run at "+run.FirstAt.Format("15:04:05"), "; ")
		}
		for _, line := range wrapped(said, 90) {
			if line != "" {
				d.Text(margin+110, y, 8.5, palette.Quiet, line)
				y += 11
			}
		}
		y += 6
	}
	for _, gone := range run.Gone() {
		d.Text(margin, y, 9, palette.Quiet,
			short(gone.Part, 20)+": only in the dry run at "+run.FirstAt.Format("15:04:05"))
		y += 14
	}
	d.Height = y + margin
	return d
}

// Stack draws the ring of the units that answer as one, with their roles, and beside it what each runs, starts next,
// and has taken.
func Stack(s *state.State) *Drawing {
	d := head(s, "Units", 12)
	if len(s.Units) == 0 {
		d.Text(margin, 60, 10, palette.Quiet, "No units were read.")
		return d
	}
	bottom := ringOf(d, s, margin+130, 150, 72)
	const left = margin + 280
	y := 66.0
	for i, name := range []string{"unit", "role", "model", "runs", "banks", "load"} {
		d.Text(left+[]float64{0, 34, 100, 160, 236, 380}[i], y, 8.5, palette.Quiet, name)
	}
	for _, u := range s.Units {
		y += 24
		tone := palette.Ink
		if u.State != "here" && u.State != "" {
			tone = palette.Bad
		}
		d.Strong(left, y, 11, tone, short(u.Number, 4))
		d.Text(left+34, y, 9, tone, short(changed(u.RoleThen, roleText(u)), 16))
		d.Text(left+100, y, 9, palette.Ink, short(u.Model, 12))
		d.Strong(left+160, y, 9, palette.Ink, short(changed(u.ReleaseThen, u.Release), 16))
		for i, b := range s.BanksOf(u.Number) {
			bankTone, mark := palette.Quiet, ""
			switch {
			case b.Runs:
				bankTone, mark = palette.Good, "runs"
			case b.Next:
				bankTone, mark = palette.Here, "next"
			}
			d.Text(left+236+70*float64(i), y, 9, bankTone, short(strings.TrimSpace(b.Name+" "+b.Now+" "+mark), 14))
		}
		switch u.Copy {
		case "", "idle":
		case "copying":
			d.Box(left+380, y-7, 60, 8, palette.Faint, false)
			d.Box(left+380, y-7, max(1, 60*float64(u.Percent)/100), 8, palette.Here, true)
			d.Text(left+446, y, 8.5, palette.Ink, fmt.Sprintf("%d %%", u.Percent))
		default:
			d.Text(left+380, y, 9,
				map[bool]palette.Tone{true: palette.Good, false: palette.Bad}[u.Copy == "written" || u.Copy == "waits"],
				short(u.Copy, 16))
		}
		if u.Reason != "" {
			y += 12
			d.Text(left+34, y, 8.5, palette.Bad, short(u.Reason, 80))
		}
	}
	y = max(y, bottom) + 20
	state, where := s.Ring()
	tone := palette.Good
	if state != "closed" {
		tone = palette.Bad
	}
	if state != "" {
		d.Strong(margin, y, 10, tone, strings.TrimSpace("The ring is "+state+" "+where)+".")
	}
	d.Height = deadlines(d, s, y+4) + margin
	return d
}

func changed(before, now string) string {
	if before == "" || before == now {
		return now
	}
	return before + " → " + now
}

func roleText(u state.Unit) string {
	if u.State != "here" && u.State != "" {
		return u.State
	}
	return u.Role
}

// ringOf draws the units around a ring, broken where it is, and returns where it ends.
func ringOf(d *Drawing, s *state.State, x, y, r float64) float64 {
	n := len(s.Units)
	at := func(i float64) (float64, float64) {
		angle := 2*math.Pi*i/float64(n) - math.Pi/2
		return x + r*math.Cos(angle), y + r*math.Sin(angle)
	}
	_, where := s.Ring()
	for i, u := range s.Units {
		next := s.Units[(i+1)%n]
		broken := strings.Contains(where, "unit "+u.Number) && strings.Contains(where, "unit "+next.Number) ||
			u.State == "away" ||
			next.State == "away"
		const steps = 24
		for k := range steps {
			if broken && k > steps/3 && k < 2*steps/3 {
				continue
			}
			x1, y1 := at(float64(i) + float64(k)/steps)
			x2, y2 := at(float64(i) + float64(k+1)/steps)
			d.Line(x1, y1, x2, y2, 2, map[bool]palette.Tone{true: palette.Bad, false: palette.Good}[broken])
		}
	}
	for i, u := range s.Units {
		cx, cy := at(float64(i))
		tone := palette.Good
		if u.State != "here" && u.State != "" {
			tone = palette.Bad
		}
		d.Circle(cx, cy, 15, tone, u.Role == "lead")
		said := short(roleText(u), 10)
		if u.Role == "lead" { // its mark is full
			said = "unit " + short(u.Number, 3) + " " + said
		} else {
			d.Middle(cx, cy+4, 11, tone, short(u.Number, 3))
		}
		switch { // outside of the ring
		case cx < x-r/4:
			d.Ending(cx-19, cy+4, 8.5, palette.Quiet, said)
		case cx > x+r/4:
			d.Text(cx+19, cy+4, 8.5, palette.Quiet, said)
		case cy < y:
			d.Middle(cx, cy-20, 8.5, palette.Quiet, said)
		default:
			d.Middle(cx, cy+28, 8.5, palette.Quiet, said)
		}
	}
	return y + r + 34
}
