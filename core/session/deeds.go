package session

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"sync"

	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

// deeds are what the operator has done by itself, without a run. They belong to the session's loop.
type deeds struct {
	next  int
	open  map[string]context.CancelCauseFunc
	over  bool           // none is begun any more
	group sync.WaitGroup // of those that are open
}

// errEndedByHand is why a deed ends that the operator wants no longer.
var errEndedByHand = errors.New("ended by the operator")

// errSessionOver is why deeds end that are open when the session ends.
var errSessionOver = errors.New("the session ended")

// maxAdvice is how much a deed says before it is heard; more is dropped.
const maxAdvice = 8

// Do carries out a deed, until it is done, EndDeed, or the session's end; it returns at once. One that needs the line
// borrows it from the operator, where no runbook has the helm, and ends when the operator takes it. On advice comes what
// the operator has to know and what is
// recorded nowhere; it is closed when the deed is over.
func (s *Session) Do(p *runbook.Prepared, needs engine.Needs) (id string, advice <-chan string, err error) {
	s.hub.Protect(p.Secrets()...)
	ctx, cancel := context.WithCancelCause(context.Background())
	title := engine.Deed{Prepared: p}.Title(s.Facts())
	begun := s.do(func() {
		switch {
		case s.deeds.over:
			err = errSessionOver
			return
		case needs == engine.Line && s.guard.held != nil:
			err = fmt.Errorf("the Enter behind “%s” is held: send it, or change the line, first", s.guard.command)
			return
		case needs == engine.Line:
			if err = s.helm.borrow(title); err != nil {
				return
			}
		}
		s.deeds.next++
		id = strconv.Itoa(s.deeds.next)
		if s.deeds.open == nil {
			s.deeds.open = map[string]context.CancelCauseFunc{}
		}
		s.deeds.open[id] = cancel
		s.deeds.group.Add(1)
	})
	if !begun {
		err = errSessionOver
	}
	if err != nil {
		cancel(err)
		return "", nil, err
	}
	advised := make(chan string, maxAdvice)
	deed := engine.Deed{ID: id, Prepared: p, Needs: needs, Advise: func(text string) {
		select {
		case advised <- text:
		default:
		}
	}}
	go func() {
		defer s.deeds.group.Done()
		defer close(advised)
		defer cancel(nil)
		_ = deed.Execute(ctx, s.deed()) // its end is an event
		s.do(func() {
			delete(s.deeds.open, id)
			if needs == engine.Line {
				s.helm.giveBack("it is over")
			}
		})
	}()
	return id, advised, nil
}

// EndDeed ends a deed that is open. It reports whether there was one.
func (s *Session) EndDeed(id string) (open bool) {
	s.do(func() {
		var cancel context.CancelCauseFunc
		if cancel, open = s.deeds.open[id]; open {
			cancel(errEndedByHand)
		}
	})
	return open
}

// endDeeds ends all that are open and waits for them: their servers are closed, and their ends said.
func (s *Session) endDeeds() {
	s.do(func() {
		s.deeds.over = true
		for _, cancel := range s.deeds.open {
			cancel(errSessionOver)
		}
	})
	s.deeds.group.Wait()
}
