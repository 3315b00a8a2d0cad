// Package theme is the one look of the interface: a few colours, each with a meaning, for dark and
// light grounds.
package theme

import (
	"image/color"

	"charm.land/lipgloss/v2"

	"pilotrix/core/event"
	"pilotrix/core/palette"
)

// Theme holds the colours by what they mean. Colour is never the only sign: every use goes with a
// mark or a word.
type Theme struct {
	Dark   bool
	Ground color.Color
	Text   color.Color // what is said
	Quiet  color.Color // labels
	Faint  color.Color // rules
	Bright color.Color // what matters most
	Here   color.Color // where we are, what wants attention
	Good   color.Color // done, held
	Bad    color.Color // no rollback, failed
	Key    color.Color // keys to press
	Hold   color.Color // ground of a hold
	Strip  color.Color // ground of the strip
}

// Names are the grounds that can be said; auto is as the terminal says.
var Names = []string{"auto", "dark", "light"}

// Dark is for dark grounds.
func Dark() Theme {
	return Theme{
		Dark:   true,
		Ground: hex("#0f1419"),
		Text:   hex("#d0d6dc"),
		Quiet:  hex("#76828e"),
		Faint:  hex("#3e4852"),
		Bright: hex("#f0f4f8"),
		Here:   hex("#f0b450"),
		Good:   hex("#5fbea0"),
		Bad:    hex("#eb695a"),
		Key:    hex("#6ea5d7"),
		Hold:   hex("#3c3018"),
		Strip:  hex("#1e262e"),
	}
}

// Light is for light grounds.
func Light() Theme {
	return Theme{
		Ground: hex("#f7f5f0"),
		Text:   hex("#2c343c"),
		Quiet:  hex("#6b747d"),
		Faint:  on(palette.Faint),
		Bright: hex("#0c1116"),
		Here:   on(palette.Here),
		Good:   on(palette.Good),
		Bad:    on(palette.Bad),
		Key:    hex("#1f5f9e"),
		Hold:   hex("#f6e3b8"),
		Strip:  hex("#e7e5de"),
	}
}

// Few is the theme for terminals with 256 colours, in which the grounds and the greens would come out
// as something else.
func (t Theme) Few() Theme {
	if t.Dark {
		t.Hold, t.Strip, t.Good, t.Faint = hex("237"), hex("235"), hex("79"), hex("239")
		return t
	}
	t.Hold, t.Strip, t.Good, t.Faint = hex("223"), hex("254"), hex("29"), hex("250")
	return t
}

// End is the colour of how something ended.
func (t Theme) End(o event.Outcome) color.Color {
	switch o.Taking() {
	case event.Good:
		return t.Good
	case event.InPart:
		return t.Here
	}
	return t.Bad
}

// Runs is the colour of what runs, or does not.
func (t Theme) Runs(runs bool) color.Color {
	if runs {
		return t.Good
	}
	return t.Text
}

// on is a tone as drawings have it.
func on(tone palette.Tone) color.Color { return hex(tone.Hex()) }

func hex(code string) color.Color { return lipgloss.Color(code) }
