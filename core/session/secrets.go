package session

import (
	"bytes"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/sense"
	"pilotrix/core/shown"
)

// What the operator types is recorded in clear where the device shows it, and by its length alone where it was asked
// for as a secret. At a prompt or a question that is known the one or the other is known at once. Anywhere else, and
// ahead of what the device has to say, the keys wait until the device shows: it shows them, or it asks for a secret, or
// it has ended their line and has shown nothing of them.

// handLine is what the operator types, as far as its record goes. It belongs to the session's loop.
type handLine struct {
	secret  []byte        // what was typed of a line while a secret was asked for
	waiting []keysWaiting // whose record waits for what the device shows
	drawn   []string      // the lines that the device has ended since
	from    int           // the first of them that can be of what waits
}

// keysWaiting are keys of one line.
type keysWaiting struct {
	keys  []byte
	ended bool // its Enter is among them
}

// maxDrawn is how many lines are looked at for what was typed.
const maxDrawn = 60

// record keeps what the operator types, or has it wait.
func (s *Session) record(keys []byte, v sense.State) {
	h := &s.hand
	switch {
	case v.Secret && !h.ahead():
		s.settleWaiting(true) // what was typed of it before it was asked for
		s.hub.Emit(event.Out{Who: event.Hand, Secret: len(keys)})
	case len(h.waiting) == 0 && s.seen(keys, v):
		s.hub.Emit(event.Out{Who: event.Hand, Bytes: event.Text(bytes.Clone(keys))})
	default:
		s.wait(keys)
	}
}

// ahead reports whether a line waits whose Enter has gone out: what is asked now is answered by that one.
func (h *handLine) ahead() bool { return len(h.waiting) > 0 && h.waiting[0].ended }

// seen reports whether keys of the operator's are known to be shown, or to have no text.
func (s *Session) seen(keys []byte, v sense.State) bool {
	switch {
	case len(bytes.Trim(keys, "\x00\x01\x02\x03\x04\x05\x06\x07\b\t\n\v\f\r\x1b\x7f")) == 0, keys[0] == 0x1b:
		return true
	case (v.AtPrompt || s.exchanges.Typed.Mode != "") && (s.Dialect() != nil || s.echoes[exchange.Kind(s.exchanges.Typed.Base)]),
		v.Dialog != "",
		v.Pager:
		return true
	case !v.Ended: // it is typed ahead of what the device has to say to the line before
		return false
	}
	shown, known := v.Typed()
	return known && strings.TrimSpace(shown) != "" // behind a prompt that is known, and shown
}

// wait has keys wait for what the device shows of them.
func (s *Session) wait(keys []byte) {
	h := &s.hand
	if len(h.waiting) == 0 {
		if h.from = 0; !s.sense.State().Ended {
			h.from = 1 // the present line is another one's
		}
	}
	for len(keys) > 0 {
		n := bytes.IndexAny(keys, "\r\n") + 1
		ended := n > 0
		if !ended {
			n = len(keys)
		}
		if last := len(h.waiting) - 1; last >= 0 && !h.waiting[last].ended {
			h.waiting[last].keys, h.waiting[last].ended = append(h.waiting[last].keys, keys[:n]...), ended
		} else {
			h.waiting = append(h.waiting, keysWaiting{bytes.Clone(keys[:n]), ended})
		}
		keys = keys[n:]
	}
}

// draws takes a line that the device has ended while keys wait.
func (h *handLine) draws(line string) {
	if len(h.waiting) == 0 {
		return
	}
	h.drawn = append(h.drawn, line)
	if over := len(h.drawn) - maxDrawn; over > 0 {
		h.drawn, h.from = h.drawn[over:], max(0, h.from-over)
	}
}

// settleKeys records the keys that waited, as far as the device has shown of them.
func (s *Session) settleKeys(v sense.State) {
	h := &s.hand
	for len(h.waiting) > 0 {
		one := h.waiting[0]
		lines := append(h.drawn[:len(h.drawn):len(h.drawn)], v.Partial)
		if h.from >= len(lines) {
			return
		}
		secret, at, known := s.shownBy(one, lines[h.from:], v)
		if !known {
			return
		}
		if h.from += at; one.ended {
			h.from++
		}
		h.waiting = h.waiting[1:]
		s.keep(one, secret)
	}
	h.drawn, h.from = nil, 0
}

// shownBy is what the lines that the device has drawn say of keys, and which of them does.
func (s *Session) shownBy(one keysWaiting, lines []string, v sense.State) (secret bool, at int, known bool) {
	text := strings.TrimSpace(string(withoutErased(one.keys)))
	last := len(lines) - 1
	switch {
	case text == "":
		return false, 0, true
	case !one.ended:
		asks := v.Secret && s.Dialect().AsksSecret(lines[last])
		return asks, last, asks || strings.HasSuffix(strings.TrimRight(lines[last], " "), text)
	}
	joined := ""
	for at, line := range lines {
		joined += line
		switch {
		case shown.Resembles(line, text) || shown.Resembles(joined, text):
			return false, at, true
		case s.Dialect().AsksSecret(line):
			return true, at, true
		}
	}
	over := v.AtPrompt && s.Dialect().Echoes() && last > 0
	long := last > 0 && v.Partial != "" && v.LastByte.Add(shownWithin).Before(s.opt.Clock.Now())
	return true, 0, over || long
}

// shownWithin is how long a device that has ended a line may take to show it all the same.
const shownWithin = 3 * time.Second

// settleWaiting records all keys that wait, without waiting any longer.
func (s *Session) settleWaiting(secret bool) {
	h := &s.hand
	for _, one := range h.waiting {
		s.keep(one, secret)
	}
	h.waiting, h.drawn, h.from = nil, nil, 0
}

// keep records keys: in clear, or by their number.
func (s *Session) keep(one keysWaiting, secret bool) {
	if !secret {
		s.hub.Emit(event.Out{Who: event.Hand, Bytes: event.Text(one.keys)})
		return
	}
	if one.ended {
		s.hub.Protect(string(withoutErased(one.keys)))
	} else {
		s.hand.secret = append(s.hand.secret, one.keys...)
	}
	s.hub.Emit(event.Out{Who: event.Hand, Secret: len(one.keys)})
}

// follows notes what the operator types, before it goes out.
func (s *Session) follows(keys []byte, v sense.State) {
	h := &s.hand
	end := bytes.IndexAny(keys, "\r\n\x03")
	if v.Secret && !h.ahead() {
		text := keys
		if end >= 0 {
			text = keys[:end]
		}
		h.secret = append(h.secret, text...)
		s.secretTyped(false)
		s.hub.Typing(string(withoutErased(h.secret)))
	}
	if end >= 0 {
		if len(h.secret) > 0 { // a device that prints it back later does so in vain
			s.hub.Protect(string(withoutErased(h.secret)))
			s.secretTyped(true)
		}
		h.secret = nil
	}
}

// onItsWay is a secret that was typed and whose echo may come yet. It belongs to the session's loop.
type onItsWay struct {
	open bool
	sent bool      // its line was ended
	over time.Time // zero while that is not known
}

const (
	// echoLasts is how long behind the prompt that follows a secret's line its echo may still come.
	echoLasts = time.Second
	// maxEcho is how long it may come where no prompt follows.
	maxEcho = 10 * time.Second
)

// secretTyped has the device's words held to what is nearly a secret; ended says that its line was ended.
func (s *Session) secretTyped(ended bool) {
	w := &s.secretOut
	w.open, w.sent, w.over = true, w.sent && w.over.IsZero() || ended, time.Time{}
	if ended {
		w.over = s.opt.Clock.Now().Add(maxEcho)
	}
	s.hub.Strict(true)
	s.schedule()
}

// secretOver ends that a while behind the prompt that follows.
func (s *Session) secretOver(v sense.State) {
	w := &s.secretOut
	now := s.opt.Clock.Now()
	switch soon := now.Add(echoLasts); {
	case !w.open:
	case w.sent && v.AtPrompt && v.Answered && w.over.After(soon):
		w.over = soon
		s.schedule()
	case !w.over.IsZero() && !now.Before(w.over):
		*w = onItsWay{}
		s.hub.Strict(false)
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
