package session

import (
	"fmt"

	"pilotrix/core/event"
	"pilotrix/core/units"
)

// A transfer is not ended by one stray key: minutes of it would be lost. Keys that are pressed while one has the line
// are kept, and the interface asks: they are typed once it was cancelled, or forgotten. Ctrl-C twice, with nothing
// between, cancels it.

const interrupt = 0x03

// keepKeys keeps keys while a transfer has the line.
func (s *Session) keepKeys(keys []byte) {
	for _, key := range keys {
		if last := len(s.kept) - 1; key == interrupt && last >= 0 && s.kept[last] == interrupt {
			s.endKept(event.KeysForgotten)
			s.helm.take("Ctrl-C twice")
			return
		}
		s.kept = append(s.kept, key)
	}
	s.presses++
	s.hub.Emit(event.KeysKept{State: event.KeysWaiting, Count: s.presses})
}

func (s *Session) endKept(state string) {
	if len(s.kept) > 0 {
		s.kept, s.presses = nil, 0
		s.hub.Emit(event.KeysKept{State: state})
	}
}

// typeKept has the keys that wait typed once the transfer was cancelled.
func (s *Session) typeKept() {
	s.held = append(s.held, s.kept...)
	s.endKept(event.KeysTyped)
}

// dropKept forgets keys that wait when the transfer ends by itself: what comes next is something else.
func (s *Session) dropKept() {
	if n := s.presses; n > 0 {
		s.endKept(event.KeysForgotten)
		s.hub.Emit(event.Note{
			Level: event.Warning,
			Text:  fmt.Sprintf("not sent: %s, pressed during the transfer", units.Many(n, "key")),
		})
	}
}

// CancelForKept cancels the transfer and types the keys that wait.
func (s *Session) CancelForKept() {
	s.do(func() {
		if len(s.kept) > 0 {
			s.typeKept()
			s.helm.take("typing")
		}
	})
}

// ForgetKept forgets the keys that wait: the transfer goes on.
func (s *Session) ForgetKept() { s.do(func() { s.endKept(event.KeysForgotten) }) }
