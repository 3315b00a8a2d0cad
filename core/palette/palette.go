// Package palette is the colours on a light ground by what they mean, for drawings and for the light theme of the
// interface.
package palette

import "fmt"

// Tone is a colour by what it means.
type Tone int

// The tones.
const (
	Ink   Tone = iota // what is said
	Quiet             // labels
	Faint             // rules
	Here              // what wants attention
	Good              // done, held
	Bad               // failed, no rollback
)

// Colors are red, green and blue of each tone, from 0 to 255.
var Colors = [...][3]int{
	Ink:   {0x1c, 0x22, 0x28},
	Quiet: {0x66, 0x70, 0x7a},
	Faint: {0xc2, 0xc6, 0xc8},
	Here:  {0x9a, 0x5b, 0x00},
	Good:  {0x1b, 0x7a, 0x5c},
	Bad:   {0xb9, 0x32, 0x22},
}

// Hex is the tone as #rrggbb.
func (t Tone) Hex() string {
	c := Colors[t]
	return fmt.Sprintf("#%02x%02x%02x", c[0], c[1], c[2])
}
