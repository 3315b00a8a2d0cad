package session

import (
	"strings"

	"pilotrix/core/sense"
)

// What stands on the device's line and was not sent stands there still when the line is lost and comes back, when our
// speed is changed, or when it is learnt how the device talks. Nothing shows it then: it is remembered until the device
// shows its line, and is a part of what the next Enter sends.

// strands takes note of what stands on the line, before all that is known of it is forgotten.
func (k *guard) strands(v sense.State) {
	text, known := k.line.Drawn(v)
	switch ended := k.line.Ended(v) && v.Mode != sense.Silent && v.Mode != sense.Unknown && v.Mode != sense.Garbled; {
	case k.held != nil:
		text = k.command
	case k.line.Empty() || ended:
		return
	case !known:
		text = string(k.line.Keys)
	}
	if strings.TrimSpace(text) != "" {
		k.stranded += text
	}
}

// ashore forgets that once the device shows a line at its prompt, whatever stands there, or has begun to start.
func (k *guard) ashore(v sense.State, starts bool) {
	if _, known := v.Typed(); k.stranded != "" && (starts || v.AtPrompt && known && !v.Pushed) {
		k.stranded = ""
	}
}

// emptied notes a key that empties the device's line, or ends it.
func (k *guard) emptied(key byte) {
	if key == 0x15 || key == interrupt || key == '\r' || key == '\n' {
		k.stranded = ""
	}
}

// whole is what an Enter would send of a text that is typed now.
func (k *guard) whole(typed string) string { return k.stranded + typed }
