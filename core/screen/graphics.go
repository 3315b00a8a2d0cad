package screen

var attrs = map[int]Attr{
	1:  Bold,
	2:  Faint,
	3:  Italic,
	4:  Underline,
	5:  Blink,
	6:  Blink,
	7:  Reverse,
	8:  Hidden,
	9:  Struck,
	21: Underline,
}

var noAttrs = map[int]Attr{22: Bold | Faint, 23: Italic, 24: Underline, 25: Blink, 27: Reverse, 28: Hidden, 29: Struck}

// selectGraphics obeys SGR. A parameter may have parts of its own behind colons (ISO 8613-6).
func (s *Screen) selectGraphics() {
	p := &s.parser
	pen := s.pen
	values := p.params[:max(p.count, 1)]
	for i := 0; i < len(values); i++ {
		n, parts := values[i], values[i+1:]
		for j := range parts {
			if p.joined&(1<<(i+1+j)) == 0 {
				parts = parts[:j]
				break
			}
		}
		switch {
		case n == 38 || n == 48 || n == 58:
			color, used := joinedColor(parts), len(parts)
			if used == 0 {
				color, used = extended(values[i+1:])
			}
			i += used
			switch n {
			case 38:
				pen.FG = color
			case 48:
				pen.BG = color
			}
		case n == 4 && len(parts) > 0 && parts[0] == 0:
			pen.Attr &^= Underline
			i += len(parts)
		default:
			pen = pen.with(n)
			i += len(parts)
		}
	}
	s.setPen(pen)
}

// with is the style after one plain parameter of SGR.
func (pen Style) with(n int) Style {
	switch {
	case n == 0:
		return Style{Role: pen.Role}
	case attrs[n] != 0:
		pen.Attr |= attrs[n]
	case noAttrs[n] != 0:
		pen.Attr &^= noAttrs[n]
	case n >= 30 && n <= 37:
		pen.FG = Palette(uint8(n - 30))
	case n >= 90 && n <= 97:
		pen.FG = Palette(uint8(n - 90 + 8))
	case n >= 40 && n <= 47:
		pen.BG = Palette(uint8(n - 40))
	case n >= 100 && n <= 107:
		pen.BG = Palette(uint8(n - 100 + 8))
	case n == 39:
		pen.FG = 0
	case n == 49:
		pen.BG = 0
	}
	return pen
}

// joinedColor reads 5:n, 2:r:g:b or 2:space:r:g:b.
func joinedColor(parts []int) Color {
	switch {
	case len(parts) >= 2 && parts[0] == 5:
		return Palette(uint8(parts[1]))
	case len(parts) >= 5 && parts[0] == 2:
		return RGB(uint8(parts[2]), uint8(parts[3]), uint8(parts[4]))
	case len(parts) == 4 && parts[0] == 2:
		return RGB(uint8(parts[1]), uint8(parts[2]), uint8(parts[3]))
	}
	return 0
}

// extended reads 5;n or 2;r;g;b.
func extended(values []int) (color Color, used int) {
	switch {
	case len(values) >= 2 && values[0] == 5:
		return Palette(uint8(values[1])), 2
	case len(values) >= 4 && values[0] == 2:
		return RGB(uint8(values[1]), uint8(values[2]), uint8(values[3])), 4
	}
	return 0, len(values)
}
