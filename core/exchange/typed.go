package exchange

import (
	"bytes"
	"strings"
	"time"

	"pilotrix/core/sense"
)

// Typed is the line that is being typed, before its Enter. Its keys say who types it and what it is meant to be; what
// the device shows of it counts where the two differ. It belongs to whoever makes exchanges.
type Typed struct {
	Who   string    // who began it; empty while nothing was typed
	Mode  string    // at whose prompt it was begun; empty where none was seen
	Base  string    // the device's line as it was before
	Asked string    // the question that it was begun at, which it answers
	Keys  []byte    // what is left of what was typed
	Doubt time.Time // when a key was typed that changes the line in ways only the device knows; zero for none

	rested  bool // the device had been quiet for a while by its first key
	command bool // at some time of its typing the device asked nothing
	proofs  int  // the device's mode proofs until a key was last typed
}

const (
	interrupt   = 0x03 // Ctrl-C
	takeAndNext = 0x0f // Ctrl-O: the device takes the line and puts the next of its history there
	eraseAll    = 0x15 // Ctrl-U
	eraseWord   = 0x17 // Ctrl-W
	maxKeys     = 4096
)

// Begin notes what the line stands behind, before its first key, and that it goes on, before each.
func (t *Typed) Begin(who string, v sense.State, now time.Time) {
	t.proofs = v.Count
	asked := v.Question()
	if t.Who == "" {
		t.Who, t.Base, t.Asked = who, v.Partial, asked
		t.rested = v.Free && now.Sub(v.LastByte) >= learnQuiet
		if v.AtPrompt {
			t.Mode = v.Mode
		}
	}
	t.command = t.command || asked == "" && !v.Secret && !v.Pager
}

// Key follows one key.
func (t *Typed) Key(b byte, now time.Time) {
	switch {
	case b == 0x7f || b == '\b':
		t.Keys = t.Keys[:max(0, len(t.Keys)-1)]
	case b == interrupt:
		t.Keys, t.Doubt = t.Keys[:0], time.Time{}
	case b == eraseAll: // shells take back what stands before the cursor, wherever that was moved to
		if t.Keys = t.Keys[:0]; !t.Doubt.IsZero() {
			t.Doubt = now
		}
	case b == eraseWord:
		t.Keys = t.Keys[:bytes.LastIndexByte(bytes.TrimRight(t.Keys, " "), ' ')+1]
	case b < 0x20: // Tab, Escape and its sequences, the keys that recall and move
		t.Doubt = now
	case len(t.Keys) < maxKeys:
		t.Keys = append(t.Keys, b)
	}
}

// Entered notes the key by which the device takes the line: the next one is empty, unless the key puts another one
// there.
func (t *Typed) Entered(key byte, now time.Time) {
	*t = Typed{Keys: t.Keys[:0], proofs: t.proofs}
	if key == takeAndNext {
		t.Doubt = now
	}
}

// Forget drops what was typed.
func (t *Typed) Forget() { t.Entered('\r', time.Time{}) }

// Empty reports whether nothing stands on the line, as far as its keys say.
func (t *Typed) Empty() bool { return len(t.Keys) == 0 && t.Doubt.IsZero() }

// Certain reports whether the keys alone say what stands there.
func (t *Typed) Certain() bool { return t.Doubt.IsZero() }

// Command reports whether it is a command, and no answer in the middle of one.
func (t *Typed) Command() bool { return t.command }

// Echo is what the device shows of it once all has come back, nil where that is not known.
func (t *Typed) Echo() []byte {
	if !t.Certain() {
		return nil
	}
	return append([]byte{}, t.Keys...)
}

// Drawn is what stands on the device's line, without what it asks there; known is false where no prompt stands before
// it.
func (t *Typed) Drawn(v sense.State) (text string, known bool) {
	text, known = v.Typed()
	if rest, answers := strings.CutPrefix(text, t.Asked); !known && t.Asked != "" && answers {
		return rest, true
	}
	return text, known
}

// Text is the line as far as it is known now: by its keys where they are certain, else as the device shows it.
func (t *Typed) Text(v sense.State) string {
	if t.Certain() && len(t.Keys) > 0 {
		return string(t.Keys)
	}
	text, _ := t.Drawn(v)
	return text
}

// Ended reports whether the device has ended the line since its last key: it has put a prompt, or a mode that has none,
// since.
func (t *Typed) Ended(v sense.State) bool { return v.Count > t.proofs }
