package screen

// Color is the terminal's default (0), one of its 256 palette entries, or 24-bit red, green, blue.
type Color uint32

const (
	paletteColor Color = 1 << 24
	directColor  Color = 2 << 24
)

// Palette is entry n of the palette.
func Palette(n uint8) Color { return paletteColor | Color(n) }

// RGB is a colour by its parts.
func RGB(r, g, b uint8) Color {
	return directColor | Color(r)<<16 | Color(g)<<8 | Color(b)
}

// Index is the palette entry, if the colour is one.
func (c Color) Index() (uint8, bool) { return uint8(c), c&paletteColor != 0 }

// Parts are red, green and blue, if the colour is given by them.
func (c Color) Parts() (r, g, b uint8, direct bool) {
	return uint8(c >> 16), uint8(c >> 8), uint8(c), c&directColor != 0
}

// Attr is a set of text attributes.
type Attr uint8

// The attributes that SGR sets.
const (
	Bold Attr = 1 << iota
	Faint
	Italic
	Underline
	Blink
	Reverse
	Hidden
	Struck
)

// Role says what a piece of text is, beside how the device drew it.
type Role uint8

// Output is what the device says; the others are told apart on the screen.
const (
	Output Role = iota
	Prompt
	Typed
	Mark
	Noise // what it says unasked
)

// Style is how a cell looks and what it is.
type Style struct {
	FG, BG Color
	Attr   Attr
	Role   Role
}

// styles numbers the styles in use, so that a cell needs two bytes for its own.
type styles struct {
	all    []Style
	number map[Style]uint16
}

const maxStyles = 1 << 15 // a device that makes up more than this loses its colours, nothing else

func newStyles() styles {
	return styles{all: []Style{{}}, number: map[Style]uint16{{}: 0}}
}

func (s *styles) of(style Style) uint16 {
	if n, known := s.number[style]; known {
		return n
	}
	if len(s.all) >= maxStyles {
		plain := Style{Role: style.Role}
		if n, known := s.number[plain]; known {
			return n
		}
		if len(s.all) >= maxStyles+16 {
			return 0
		}
		style = plain
	}
	n := uint16(len(s.all))
	s.all = append(s.all, style)
	s.number[style] = n
	return n
}
