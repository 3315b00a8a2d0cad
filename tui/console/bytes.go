package console

import (
	tea "charm.land/bubbletea/v2"
)

// special are the bytes of keys that type no text, as a VT220 and its successors send them.
var special = map[rune]string{
	tea.KeyEnter:     "\r",
	tea.KeyTab:       "\t",
	tea.KeyBackspace: "\x7f",
	tea.KeyEscape:    "\x1b",
	tea.KeySpace:     " ",
	tea.KeyInsert:    "\x1b[2~",
	tea.KeyDelete:    "\x1b[3~",
	tea.KeyPgUp:      "\x1b[5~",
	tea.KeyPgDown:    "\x1b[6~",
	tea.KeyF1:        "\x1bOP",
	tea.KeyF2:        "\x1bOQ",
	tea.KeyF3:        "\x1bOR",
	tea.KeyF4:        "\x1bOS",
	tea.KeyF5:        "\x1b[15~",
	tea.KeyF6:        "\x1b[17~",
	tea.KeyF7:        "\x1b[18~",
	tea.KeyF8:        "\x1b[19~",
	tea.KeyF9:        "\x1b[20~",
	tea.KeyF10:       "\x1b[21~",
	tea.KeyF11:       "\x1b[23~",
	tea.KeyF12:       "\x1b[24~",
}

// moving are the keys with two forms: normal, and the one a device asks for with DECCKM.
var moving = map[rune]byte{
	tea.KeyUp: 'A', tea.KeyDown: 'B', tea.KeyRight: 'C', tea.KeyLeft: 'D', tea.KeyHome: 'H', tea.KeyEnd: 'F',
}

// Bytes is what a key sends to the device, nil for a key that sends nothing.
func Bytes(k tea.Key, appKeys bool) []byte {
	out := plainBytes(k, appKeys)
	if len(out) > 0 && k.Mod&tea.ModAlt != 0 {
		out = append([]byte{0x1b}, out...)
	}
	return out
}

func plainBytes(k tea.Key, appKeys bool) []byte {
	if final, moves := moving[k.Code]; moves {
		if appKeys {
			return []byte{0x1b, 'O', final}
		}
		return []byte{0x1b, '[', final}
	}
	if k.Mod&tea.ModCtrl != 0 {
		return controlByte(k.Code)
	}
	if k.Code == tea.KeyTab && k.Mod&tea.ModShift != 0 {
		return []byte("\x1b[Z")
	}
	if text, known := special[k.Code]; known && k.Text == "" {
		return []byte(text)
	}
	if k.Text != "" {
		return []byte(k.Text)
	}
	if k.Mod&tea.ModAlt != 0 && k.Code > ' ' && k.Code < 0x7f {
		return []byte(string(k.Code))
	}
	return nil
}

// controlByte is Ctrl with a key, as ECMA-48 has it: columns 4 and 5 of the code table moved to 0 and
// 1.
func controlByte(code rune) []byte {
	switch {
	case code >= 'a' && code <= 'z':
		return []byte{byte(code) & 0x1f}
	case code >= '@' && code <= '_':
		return []byte{byte(code) & 0x1f}
	case code == ' ':
		return []byte{0}
	case code == '/':
		return []byte{0x1f}
	case code == tea.KeyBackspace:
		return []byte{0x08}
	}
	if text, known := special[code]; known {
		return []byte(text)
	}
	return nil
}
