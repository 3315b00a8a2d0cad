package evidence

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"sync"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/sfnt"

	"pilotrix/core/palette"
	"pilotrix/core/plain"
)

// pageHeight is the most that a page of a PDF has, in points: that of a landscape page.
const pageHeight = 560.0

// PDF writes the drawing on as many pages as it needs, broken between its rows.
func (d *Drawing) PDF(out io.Writer) error {
	doc := fpdf.NewCustom(
		&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: d.Width, Ht: math.Min(d.Height, pageHeight)}})
	doc.SetTitle(plain.Text(d.Title), true)
	doc.SetCreator("Pilotrix", true)
	doc.AddUTF8FontFromBytes("go", "", goregular.TTF)
	doc.AddUTF8FontFromBytes("go", "B", gobold.TTF)
	doc.SetMargins(0, 0, 0)
	doc.SetAutoPageBreak(false, 0)
	breaks := d.breaks()
	for n := range len(breaks) - 1 {
		top, bottom := breaks[n], breaks[n+1]
		doc.AddPageFormat("P", fpdf.SizeType{Wd: d.Width, Ht: math.Max(bottom-top, 40)})
		for _, one := range d.items {
			if from, to := extent(one); to >= top && from <= bottom {
				drawn(doc, moved(one, -top))
			}
		}
		if len(breaks) > 2 {
			drawn(doc, words{
				d.Width - margin,
				bottom - top - 8,
				8,
				palette.Quiet,
				false,
				"end",
				fmt.Sprintf("page %d of %d", n+1, len(breaks)-1),
			})
		}
	}
	return doc.Output(out)
}

// breaks are where pages begin and end: at the latest place that cuts through no words.
func (d *Drawing) breaks() []float64 {
	breaks := []float64{0}
	for top := 0.0; d.Height-top > pageHeight; {
		at := top + pageHeight - margin
		for least := top + pageHeight/2; at > least; at-- {
			if !slices.ContainsFunc(d.items, func(one item) bool {
				w, ok := one.(words)
				from, to := extent(one)
				return ok && w.text != "" && from < at && to > at
			}) {
				break
			}
		}
		breaks = append(breaks, at)
		top = at
	}
	return append(breaks, d.Height)
}

// extent is how far down an item begins and ends.
func extent(one item) (from, to float64) {
	switch i := one.(type) {
	case stroke:
		return math.Min(i.y1, i.y2), math.Max(i.y1, i.y2)
	case words:
		return i.y - i.size, i.y + i.size/3
	case circle:
		return i.y - i.r, i.y + i.r
	case polygon:
		from, to = math.Inf(1), math.Inf(-1)
		for _, p := range i.points {
			from, to = math.Min(from, p[1]), math.Max(to, p[1])
		}
	}
	return from, to
}

// moved is an item farther down.
func moved(one item, by float64) item {
	switch i := one.(type) {
	case stroke:
		i.y1, i.y2 = i.y1+by, i.y2+by
		return i
	case words:
		i.y += by
		return i
	case circle:
		i.y += by
		return i
	case polygon:
		points := slices.Clone(i.points)
		for n := range points {
			points[n][1] += by
		}
		i.points = points
		return i
	}
	return one
}

func drawn(doc *fpdf.Fpdf, one item) {
	switch i := one.(type) {
	case stroke:
		c := palette.Colors[i.tone]
		doc.SetDrawColor(c[0], c[1], c[2])
		doc.SetLineWidth(i.weight)
		doc.Line(i.x1, i.y1, i.x2, i.y2)
	case words:
		i.pdf(doc)
	case polygon:
		var points []fpdf.PointType
		for _, p := range i.points {
			points = append(points, fpdf.PointType{X: p[0], Y: p[1]})
		}
		doc.Polygon(points, ground(doc, i.tone, i.filled))
	case circle:
		doc.Circle(i.x, i.y, i.r, ground(doc, i.tone, i.filled))
	}
}

func (w words) pdf(doc *fpdf.Fpdf) {
	style := ""
	if w.bold {
		style = "B"
	}
	c := palette.Colors[w.tone]
	doc.SetFont("go", style, w.size)
	doc.SetTextColor(c[0], c[1], c[2])
	text, x := inFont(plain.Text(w.text)), w.x
	switch w.anchor {
	case "end":
		x -= doc.GetStringWidth(text)
	case "middle":
		x -= doc.GetStringWidth(text) / 2
	}
	doc.Text(x, w.y, text)
}

// standIn is written for a sign that the fonts of a PDF do not have; what reads an SVG has fonts of its own.
const standIn = '□'

var fontOfPDF = sync.OnceValue(func() *sfnt.Font {
	font, err := sfnt.Parse(goregular.TTF)
	if err != nil { // it is compiled in
		panic(err)
	}
	return font
})

// inFont is a text with a stand-in for every sign that the font does not have.
func inFont(text string) string {
	var buffer sfnt.Buffer
	return strings.Map(func(r rune) rune {
		if index, err := fontOfPDF().GlyphIndex(&buffer, r); err != nil || index == 0 || r > 0xffff {
			return standIn
		}
		return r
	}, text)
}

func ground(doc *fpdf.Fpdf, tone palette.Tone, filled bool) string {
	c := palette.Colors[tone]
	doc.SetDrawColor(c[0], c[1], c[2])
	doc.SetLineWidth(1.2)
	if filled {
		doc.SetFillColor(c[0], c[1], c[2])
		return "F"
	}
	doc.SetFillColor(0xff, 0xff, 0xff)
	return "FD"
}
