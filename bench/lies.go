package bench

import (
	"errors"
	"slices"
	"strings"
	"time"
)

// Lie is what a device does instead of what it was told.
type Lie int

// The lies. Those behind Pretends are a family's own, as far as it can say them.
const (
	Truth       Lie = iota
	Refuses         // it says that it may not, and does nothing
	SaysNothing     // it does nothing, and its prompt comes back
	Hangs           // it does nothing, and its prompt does not come back
	IsLate          // it does it, hours later
	Pretends        // it says what it says when it did it, and did not
	StaysOld        // it restarts into what it ran before
	LosesChoice     // it restarts into what it was told before
	IsAnother       // it comes back as another device
)

func (l Lie) String() string {
	return [...]string{"truth", "refuses", "says nothing", "hangs", "is late", "pretends", "stays old", "loses the choice", "is another"}[l]
}

// lateness is longer than anybody waits.
const lateness = 3 * time.Hour

// Pretender is a device that can forget what a command did.
type Pretender interface {
	// Remember returns what puts everything back that a command may change.
	Remember() (restore func())
}

// Fibber is a device with lies of its own, which come true when it restarts next.
type Fibber interface {
	// Fibs reports whether the family knows the lie.
	Fibs(Lie) bool
}

// Fibs are lies of a family's own that it was told to say at its next start.
type Fibs struct{ StaysOld, LosesChoice, IsAnother bool }

// Report takes a lie, if it is one that the family knows.
func (f *Fibs) Report(lie Lie, knows ...Lie) bool {
	if !slices.Contains(knows, lie) {
		return false
	}
	switch lie {
	case StaysOld:
		f.StaysOld = true
	case LosesChoice:
		f.LosesChoice = true
	case IsAnother:
		f.IsAnother = true
	}
	return true
}

// liar decides about each command line, before it is obeyed.
type liar struct {
	device Device
	lie    func(command string) Lie
	repeat func(command string) func(answer string) string
}

// Lie has the device lie: it is asked about each command line before that is obeyed.
func (m *Machine) Lie(lie func(command string) Lie) {
	m.wire.mu.Lock()
	defer m.wire.mu.Unlock()
	m.wire.liar = &liar{device: m.device, lie: lie}
}

// Repeat has the device answer something else than it would: retell returns what makes the one of the other, nil for a
// command whose answer stays as it is.
func (m *Machine) Repeat(repeat func(command string) func(answer string) string) {
	m.wire.mu.Lock()
	defer m.wire.mu.Unlock()
	m.wire.liar = &liar{device: m.device, lie: func(string) Lie { return Truth }, repeat: repeat}
}

// repeated obeys a line and says something else than what it answers.
func (s *Shell) repeated(repeat func(answer string) string, obey func() error) error {
	s.captured = new(strings.Builder)
	err := obey()
	answer := s.captured.String()
	s.captured = nil
	s.Say(repeat(answer))
	return err
}

func (w *Wire) lies() *liar {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.liar
}

// lied obeys a line as a liar does. Obey is the truth.
func (s *Shell) lied(command string, obey func() error) error {
	l := s.Wire.lies()
	if l == nil || command == "" {
		return obey()
	}
	if l.repeat != nil {
		if repeat := l.repeat(command); repeat != nil {
			return s.repeated(repeat, obey)
		}
	}
	switch lie := l.lie(command); lie {
	case Refuses:
		s.Say("  not now: the store is busy\r\n")
		return s.err
	case SaysNothing:
		return nil
	case Hangs:
		s.Hang()
		return s.err
	case IsLate:
		s.Wait(lateness)
	case Pretends:
		if p, can := l.device.(Pretender); can {
			restore := p.Remember()
			defer restore()
			if err := obey(); !errors.Is(err, ErrRestart) && !errors.Is(err, ErrLeave) {
				return err
			}
			return nil // it does not even restart
		}
	case StaysOld, LosesChoice, IsAnother:
		if f, can := l.device.(Fibber); can {
			f.Fibs(lie)
		}
	}
	return obey()
}
