// Package evidence makes documents of what happened: drawings of the course, the releases on the way, the
// banks, the reach and the ladder, from the same state that the screen shows, as SVG and PDF.
package evidence

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"pilotrix/core/palette"
	"pilotrix/core/plain"
)

// Drawing is lines, shapes and words on a sheet. All lengths are points (1/72 inch), from the left upper
// corner.
type Drawing struct {
	Title         string
	Width, Height float64
	items         []item
}

// item is one of the shapes below.
type item any

type (
	stroke struct {
		x1, y1, x2, y2, weight float64
		tone                   palette.Tone
	}
	words struct {
		x, y, size float64
		tone       palette.Tone
		bold       bool
		anchor     string // start, middle or end
		text       string
	}
	polygon struct {
		points [][2]float64
		tone   palette.Tone
		filled bool
	}
	circle struct {
		x, y, r float64
		tone    palette.Tone
		filled  bool
	}
)

// Line draws a line.
func (d *Drawing) Line(x1, y1, x2, y2, weight float64, tone palette.Tone) {
	d.items = append(d.items, stroke{x1, y1, x2, y2, weight, tone})
}

// Text writes words whose baseline begins there.
func (d *Drawing) Text(x, y, size float64, tone palette.Tone, text string) {
	d.items = append(d.items, words{x, y, size, tone, false, "start", text})
}

// Strong writes bold words.
func (d *Drawing) Strong(x, y, size float64, tone palette.Tone, text string) {
	d.items = append(d.items, words{x, y, size, tone, true, "start", text})
}

// Ending writes words that end there.
func (d *Drawing) Ending(x, y, size float64, tone palette.Tone, text string) {
	d.items = append(d.items, words{x, y, size, tone, false, "end", text})
}

// Middle writes words around a place.
func (d *Drawing) Middle(x, y, size float64, tone palette.Tone, text string) {
	d.items = append(d.items, words{x, y, size, tone, false, "middle", text})
}

// Shape draws a closed line through points, filled or not.
func (d *Drawing) Shape(tone palette.Tone, filled bool, points ...[2]float64) {
	d.items = append(d.items, polygon{points, tone, filled})
}

// Circle draws a circle.
func (d *Drawing) Circle(x, y, r float64, tone palette.Tone, filled bool) {
	d.items = append(d.items, circle{x, y, r, tone, filled})
}

// Box draws a rectangle.
func (d *Drawing) Box(x, y, width, height float64, tone palette.Tone, filled bool) {
	d.Shape(tone, filled, [2]float64{x, y}, [2]float64{x + width, y}, [2]float64{x + width, y + height},
		[2]float64{x, y + height})
}

// Arrow draws a line with a head at its end.
func (d *Drawing) Arrow(x1, y, x2, weight float64, tone palette.Tone) {
	const head = 5
	back := float64(head)
	if x2 > x1 {
		back = -head
	}
	d.Line(x1, y, x2+back, y, weight, tone)
	d.Shape(tone, true, [2]float64{x2, y}, [2]float64{x2 + back, y - 3}, [2]float64{x2 + back, y + 3})
}

// SVG writes the drawing as SVG 1.1.
func (d *Drawing) SVG(out io.Writer) error {
	var b strings.Builder
	fmt.Fprintf(&b,
		`<svg xmlns="http://www.w3.org/2000/svg" width="%gpt" height="%gpt" viewBox="0 0 %g %g" font-family="Go, Helvetica, Arial, sans-serif">`+"\n",
		d.Width, d.Height, d.Width, d.Height)
	fmt.Fprintf(&b, "<title>%s</title>\n<rect width=\"100%%\" height=\"100%%\" fill=\"#ffffff\"/>\n", escaped(d.Title))
	for _, one := range d.items {
		switch i := one.(type) {
		case stroke:
			fmt.Fprintf(&b, `<line x1="%g" y1="%g" x2="%g" y2="%g" stroke="%s" stroke-width="%g"/>`+"\n", i.x1, i.y1,
				i.x2, i.y2, i.tone.Hex(), i.weight)
		case words:
			weight := ""
			if i.bold {
				weight = ` font-weight="bold"`
			}
			fmt.Fprintf(&b, `<text x="%g" y="%g" font-size="%g" fill="%s" text-anchor="%s"%s>%s</text>`+"\n", i.x, i.y,
				i.size, i.tone.Hex(), i.anchor, weight, escaped(i.text))
		case polygon:
			var points []string
			for _, p := range i.points {
				points = append(points, fmt.Sprintf("%g,%g", p[0], p[1]))
			}
			fmt.Fprintf(&b, `<polygon points="%s" %s/>`+"\n", strings.Join(points, " "), fill(i.tone, i.filled))
		case circle:
			fmt.Fprintf(&b, `<circle cx="%g" cy="%g" r="%g" %s/>`+"\n", i.x, i.y, i.r, fill(i.tone, i.filled))
		}
	}
	b.WriteString("</svg>\n")
	_, err := io.WriteString(out, b.String())
	return err
}

func fill(tone palette.Tone, filled bool) string {
	if filled {
		return fmt.Sprintf(`fill="%s"`, tone.Hex())
	}
	return fmt.Sprintf(`fill="#ffffff" stroke="%s" stroke-width="1.2"`, tone.Hex())
}

func escaped(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(plain.Text(text)))
	return b.String()
}
