package session

import (
	"io"
	"sync"

	"pilotrix/core/event"
)

// shares are what runs and deeds have in common, such as the servers that listen: each is there once, for as long as
// somebody has it.
type shares struct {
	mu   sync.Mutex // held while one is opened or closed: what closes is not there again before it is closed
	open map[any]*share
}

type share struct {
	io.Closer
	uses int
}

// Share implements engine.Console.
func (c console) Share(key any, open func(emit func(event.Body)) io.Closer) (shared io.Closer, giveBack func()) {
	all := &c.s.shares
	all.mu.Lock()
	defer all.mu.Unlock()
	if all.open == nil {
		all.open = map[any]*share{}
	}
	one := all.open[key]
	if one == nil {
		one = &share{Closer: open(c.s.Emit)}
		all.open[key] = one
	}
	one.uses++
	return one.Closer, sync.OnceFunc(func() {
		all.mu.Lock()
		defer all.mu.Unlock()
		if one.uses--; one.uses == 0 {
			delete(all.open, key)
			_ = one.Close()
		}
	})
}
