package screen

import (
	"fmt"
	"unicode/utf8"
)

// sets are the four character sets G0 to G3 and which of them is in use.
type sets struct {
	hold   [4]byte // the final byte that each was designated by
	left   int     // the one in use
	single int     // the one for the next character alone, 0 for none
}

// drawing is the DEC special graphics set, from 0x60 on.
var drawing = []rune("◆▒␉␌␍␊°±␤␋┘┐┌└┼⎺⎻─⎼⎽├┤┴┬│≤≥π≠£·")

func (p *parser) translate(b byte) rune {
	graphics := p.graphics
	if p.sets.single != 0 {
		graphics = p.sets.hold[p.sets.single] == '0'
		p.sets.single = 0
	}
	if graphics && b >= 0x60 && int(b-0x60) < len(drawing) {
		return drawing[b-0x60]
	}
	return rune(b)
}

// Charset is how a device encodes what is not ASCII.
type Charset int

// The character sets that consoles use.
const (
	UTF8 Charset = iota
	Latin1
	CP437
)

var charsetNames = map[string]Charset{"": UTF8, "utf-8": UTF8, "latin-1": Latin1, "cp437": CP437}

// ParseCharset reads utf-8, latin-1 or cp437.
func ParseCharset(name string) (Charset, error) {
	c, known := charsetNames[name]
	if !known {
		return 0, fmt.Errorf("no character set %q; there are utf-8, latin-1 and cp437", name)
	}
	return c, nil
}

func (c Charset) String() string { return [...]string{"utf-8", "latin-1", "cp437"}[c] }

// highCP437 are the upper 128 characters of code page 437.
var highCP437 = []rune("ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u00a0")

func (c Charset) decode(b byte) rune {
	if c == CP437 {
		return highCP437[b-0x80]
	}
	if b < 0xa0 {
		return utf8.RuneError
	}
	return rune(b)
}
