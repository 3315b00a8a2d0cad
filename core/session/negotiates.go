package session

import (
	"fmt"

	"pilotrix/core/event"
	"pilotrix/core/line"
)

// maxGreeting is how much of what a connection says first is looked at, in bytes.
const maxGreeting = 1 << 10

// noticeTelnet says that a plain connection speaks telnet (RFC 854): what it negotiates would stand on the console as
// garble, and wait for an answer that never comes.
func (s *Session) noticeTelnet(p []byte) {
	if s.opt.Target.Kind != line.TCP || s.greeted >= maxGreeting {
		return
	}
	p = p[:min(len(p), maxGreeting-s.greeted)]
	s.greeted += len(p)
	for i := 0; i+2 < len(p); i++ {
		const command, will, dont, newest = 0xff, 0xfb, 0xfe, 49
		if p[i] == command && p[i+1] >= will && p[i+1] <= dont && p[i+2] <= newest {
			s.greeted = maxGreeting
			s.hub.Emit(event.Note{
				Level: event.Warning,
				Text: fmt.Sprintf("this is telnet: open telnet://%s instead of %s", s.opt.Target.Address,
					s.opt.Target),
			})
			return
		}
	}
}
