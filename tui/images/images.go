// Package images draws the shelf: the chain of releases to the wanted one, and every image with whether
// it fits the device and, where not, why.
package images

import (
	"fmt"
	"strings"

	"pilotrix/core/event"
	"pilotrix/core/state"
	"pilotrix/tui/paint"
	"pilotrix/tui/theme"
)

// View draws the chain, then the shelf.
func View(t theme.Theme, s *state.State, width int) []paint.Line {
	var lines []paint.Line
	if s.Hops != nil {
		lines = append(lines, chain(t, s, width)...)
		lines = append(lines, nil)
	}
	if s.Shelf == nil {
		return append(lines, paint.Line{paint.In(t.Quiet, "No shelf on this session. pilotrix shelf add FOLDER puts images there.")})
	}
	for _, group := range []struct {
		name  string
		holds func(event.ShelfImage) bool
	}{
		{"fits", func(i event.ShelfImage) bool { return i.Companion == "" && i.Fit == "yes" }},
		{"fits once something is done first", func(i event.ShelfImage) bool { return i.Companion == "" && i.Fit == "first" }},
		{"not known yet", func(i event.ShelfImage) bool { return i.Companion == "" && i.Fit == "unknown" }},
		{"does not fit", func(i event.ShelfImage) bool { return i.Companion == "" && i.Fit == "no" }},
		{"goes along", func(i event.ShelfImage) bool { return i.Companion != "" }},
	} {
		var rows []paint.Line
		for _, img := range s.Shelf.Images {
			if group.holds(img) {
				rows = append(rows, image(t, s, img, width)...)
			}
		}
		if len(rows) > 0 {
			lines = append(lines, paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, group.name)}, nil, width))
			lines = append(append(lines, rows...), nil)
		}
	}
	return append(lines, paint.Line{paint.In(t.Quiet, "paste a published digest here, and it is compared   "), paint.In(t.Faint, strings.Join(s.Shelf.Folders, ", "))}.Cut(width))
}

var marks = map[string]string{"yes": "✓", "no": "✗", "first": "◇", "unknown": "?"}

// image is a row for the image and one for each reason against it.
func image(t theme.Theme, s *state.State, img event.ShelfImage, width int) []paint.Line {
	color := t.Text
	switch img.Fit {
	case "yes":
		color = t.Good
	case "no":
		color = t.Bad
	case "first":
		color = t.Here
	}
	mark := marks[img.Fit]
	if img.Companion != "" {
		mark, color = "+", t.Quiet
	}
	name := paint.In(t.Text, img.Name)
	if onTheWay(s, img) {
		name = paint.Strong(t.Bright, img.Name)
	}
	left := paint.Line{paint.Strong(color, " "+mark+" "), paint.Strong(color, fmt.Sprintf("%-8s ", img.Release+img.Companion)), name}
	if img.Inside != "" {
		left = append(left, paint.In(t.Quiet, "  in "+img.Inside))
	}
	right := paint.Line{paint.In(t.Quiet, fmt.Sprintf(" %9s", size(img.Size)))}
	if width >= 90 && len(img.SHA256) > 8 {
		right = append(right, paint.In(t.Faint, "  sha256 "), paint.In(t.Quiet, img.SHA256[:8]+"…"))
	}
	right = append(right, digest(t, img))
	lines := []paint.Line{paint.Between(left, right, width)}
	for _, reason := range img.Against {
		for i, row := range paint.Wrap(reason, width-16) {
			lead := "            "
			if i > 0 {
				lead += "  "
			}
			lines = append(lines, paint.Line{paint.In(t.Quiet, lead+row)})
		}
	}
	return lines
}

func digest(t theme.Theme, img event.ShelfImage) paint.Piece {
	switch {
	case img.Broken:
		return paint.Strong(t.Bad, "  not as published ✗")
	case img.Published != "":
		return paint.In(t.Good, "  as published ✓    ")
	}
	return paint.In(t.Faint, "  none published    ")
}

func size(n int64) string {
	if n < 1<<20 {
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%.2f MiB", float64(n)/(1<<20))
}

func onTheWay(s *state.State, img event.ShelfImage) bool {
	if s.Hops == nil {
		return false
	}
	for _, hop := range s.Hops.Hops {
		if hop.Image == img.Name || hop.Companion == img.Name {
			return true
		}
	}
	return false
}

// chain draws the releases as stations, each with its image and what is done before and after.
func chain(t theme.Theme, s *state.State, width int) []paint.Line {
	hops := s.Hops.Hops
	head := paint.Rule(paint.Look{FG: t.Faint}, paint.Line{paint.Strong(t.Quiet, "the way")}, paint.Line{paint.In(t.Quiet, s.Hops.From+" to "+s.Hops.To)}, width)
	if len(hops) == 0 {
		return []paint.Line{head, {paint.In(t.Good, " ● "), paint.In(t.Text, s.Hops.From+" runs already; nothing has to be done")}}
	}
	running := s.Fact("running.release")
	first := paint.Width(s.Hops.From) + 3
	cell := max(14, min(34, (width-first)/len(hops)))
	stations := paint.Line{station(t, s.Hops.From, running, -1, hops)}
	details := [3]paint.Line{{paint.In(t.Quiet, pad("", first))}, {paint.In(t.Quiet, pad("", first))}, {paint.In(t.Quiet, pad("", first))}}
	stations = paint.Line(stations).Fit(first)
	for i, hop := range hops {
		done := reached(hops, running) >= i
		color := t.Faint
		if done {
			color = t.Good
		}
		way := cell - paint.Width(hop.Release) - 6
		stations = append(stations, paint.In(color, " "+strings.Repeat("━", max(1, way))+"▶ "), station(t, hop.Release, running, i, hops), paint.Piece{Text: " "})
		said := [3]string{hop.Image, "", ""}
		if len(hop.Before) > 0 {
			said[1] = strings.TrimSpace("before: " + strings.Join(hop.Before, ", "))
		}
		if len(hop.After) > 0 {
			said[2] = "after: " + strings.Join(hop.After, ", ")
		}
		for j := range details {
			details[j] = append(details[j], paint.In(t.Quiet, pad(said[j], cell)))
		}
	}
	lines := []paint.Line{head, stations.Cut(width)}
	for _, detail := range details {
		if strings.TrimSpace(plain(detail)) != "" {
			lines = append(lines, detail.Cut(width))
		}
	}
	return lines
}

func plain(l paint.Line) string {
	var out strings.Builder
	for _, p := range l {
		out.WriteString(p.Text)
	}
	return out.String()
}

func pad(text string, width int) string {
	if over := paint.Width(text) - width + 1; over > 0 {
		runes := []rune(text)
		text = string(runes[:max(0, len(runes)-over-1)]) + "…"
	}
	return text + strings.Repeat(" ", max(0, width-paint.Width(text)))
}

// reached is the index of the hop whose release runs, -1 before the first.
func reached(hops []event.HopPlan, running string) int {
	for i := len(hops) - 1; i >= 0; i-- {
		if hops[i].Release == running {
			return i
		}
	}
	return -1
}

// station is one release: passed, running, or ahead.
func station(t theme.Theme, release, running string, i int, hops []event.HopPlan) paint.Piece {
	switch at := reached(hops, running); {
	case release == running:
		return paint.Strong(t.Here, "◉ "+release)
	case i < at:
		return paint.In(t.Good, "● "+release)
	}
	return paint.In(t.Text, "○ "+release)
}
