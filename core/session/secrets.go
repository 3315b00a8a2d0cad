package session

import (
	"bytes"
	"regexp"
	"strings"

	"pilotrix/core/sense"
)

// What the hand types is recorded in clear only where it is known to be seen anyway: at a prompt or a question that is
// known, or behind what the device has shown of it. Anywhere else it may be a password, at a prompt in another
// language or at a speed that makes garble of it, and only its length is recorded. What the device shows of it is
// recorded as what the device wrote.

// handLine is the line that the hand is typing. It belongs to the session's loop.
type handLine struct {
	begun  bool
	base   string // what stood on the device's line before it
	secret []byte // what was typed of it while a secret was asked for
}

// plainPrompt is how a line ends behind which commands or names are typed, where no dialect knows the prompt.
var plainPrompt = regexp.MustCompile(`(?i)([\w~/)\]@-][>#$%!] ?|\b(login|user|user ?name|name): ?|^[>#$%!] )$`)

// hides reports whether keys of the hand's are recorded by their length only.
func (s *Session) hides(keys []byte, v sense.State) bool {
	switch {
	case v.Secret:
		return true
	case len(bytes.Trim(keys, "\x00\x01\x02\x03\x04\x05\x06\x07\b\t\n\v\f\r\x1b\x7f")) == 0, keys[0] == 0x1b:
		return false // keys without a text
	case v.AtPrompt, v.Dialog != "", v.Pager:
		return false
	case !v.Answered: // it was typed ahead of what the device has to say to the line before
		return true
	case v.Mode != sense.Garbled && s.hand.base == v.Partial && plainPrompt.MatchString(v.Partial):
		return false
	}
	if shown, known := v.Typed(); known && strings.TrimSpace(shown) != "" {
		return false // behind a prompt that is known, and shown
	}
	return !s.shows(keys, v)
}

// shows reports whether the device shows what the hand has typed on this line before these keys.
func (s *Session) shows(keys []byte, v sense.State) bool {
	before := bytes.TrimSuffix(s.guard.typed, keys)
	if len(before) == 0 || !s.hand.begun {
		return false
	}
	echo, grew := strings.CutPrefix(v.Partial, s.hand.base)
	return grew && echo != "" && strings.HasPrefix(string(before), strings.TrimSpace(echo))
}

// follows notes what the hand types, before it goes out.
func (s *Session) follows(keys []byte, v sense.State) {
	h := &s.hand
	if !h.begun {
		*h = handLine{begun: true, base: v.Partial}
	}
	end := bytes.IndexAny(keys, "\r\n\x03")
	if v.Secret {
		text := keys
		if end >= 0 {
			text = keys[:end]
		}
		h.secret = append(h.secret, text...)
	}
	if end >= 0 {
		if len(h.secret) > 0 { // a device that prints it back later does so in vain
			s.hub.Protect(string(withoutErased(h.secret)))
		}
		*h = handLine{}
	}
}

// withoutErased is what is left of keys that were typed, those that erase obeyed.
func withoutErased(keys []byte) (left []byte) {
	for _, key := range keys {
		switch {
		case key == 0x7f || key == '\b':
			left = left[:max(0, len(left)-1)]
		case key == 0x15:
			left = left[:0]
		case key >= 0x20:
			left = append(left, key)
		}
	}
	return left
}
