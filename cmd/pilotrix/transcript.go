package main

import (
	"strings"
	"unicode/utf8"

	"pilotrix/core/event"
	"pilotrix/core/units"
)

// transcript tells what the hand and the device said to each other, line by line: a recorded session knows every
// key, and nobody reads those. Secrets are not in a record.
type transcript struct {
	say     func(format string, args ...any)
	drawn   *drawnLines
	typed   []byte   // of the line that is being typed
	waiting []string // lines that were ended and that the device has not drawn yet
	secret  bool     // it is one: neither its keys nor its Enter are recorded
	hand    bool     // the hand has the helm
}

func newTranscript(say func(format string, args ...any)) *transcript {
	t := &transcript{say: say}
	t.drawn = newDrawnLines(t.line)
	return t
}

func (t *transcript) line(text string) {
	t.tellTyped(text)
	if t.hand && strings.TrimSpace(text) != "" {
		t.say("  │ %s", text)
	}
}

// tellTyped tells the lines that were typed before the device ended this one. What it has not shown may be a secret
// that nothing knew for one.
func (t *transcript) tellTyped(drawn string) {
	for _, typed := range t.waiting {
		if strings.Contains(drawn, strings.TrimSpace(typed)) {
			t.say("  ⟩ %s", typed)
		} else {
			t.say("  ⟩ [%s that the device did not show]", units.Many(utf8.RuneCountInString(typed), "character"))
		}
	}
	t.waiting = nil
}

func (t *transcript) event(e event.Event) {
	switch b := e.Body.(type) {
	case event.Helm:
		t.hand = b.Who == event.Hand
	case event.Out:
		if b.Who == event.Hand {
			t.keys(b)
		}
	}
	t.drawn.event(e)
}

// keys follows what is typed and tells a line when it is ended.
func (t *transcript) keys(b event.Out) {
	if b.Secret > 0 {
		t.secret = true
		return
	}
	if t.secret {
		t.say("  ⟩ [secret]")
		t.secret = false
	}
	for _, key := range b.Bytes {
		switch {
		case key == '\r' || key == '\n':
			t.ended("")
		case key == 0x03:
			t.ended("  (Ctrl-C)")
		case key == 0x15:
			t.typed = t.typed[:0]
		case key == 0x7f || key == '\b':
			t.typed = t.typed[:max(0, len(t.typed)-1)]
		case key >= 0x20:
			t.typed = append(t.typed, key)
		}
	}
}

func (t *transcript) ended(how string) {
	switch text := string(t.typed); {
	case strings.TrimSpace(text) == "":
	case how != "":
		t.say("  ⟩ %s%s", text, how)
	default:
		t.waiting = append(t.waiting, text)
	}
	t.typed = t.typed[:0]
}

// end tells the line on which the session stood.
func (t *transcript) end() {
	t.drawn.end()
	t.tellTyped("")
	if t.secret {
		t.say("  ⟩ [secret]")
	}
}
