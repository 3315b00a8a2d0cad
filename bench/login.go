package bench

import (
	"errors"
	"time"
)

// Login is how a device asks who is there.
type Login struct {
	Name, Word string // its questions
	Refusal    string
	Login      string // the account
	Knows      func(name, word string) bool
}

// refusalTakes is how long a wrong word is looked at.
const refusalTakes = time.Second

// LogIn asks until somebody is let in. A session has done that by itself.
func (s *Shell) LogIn(l Login) {
	for s.OK() {
		name := s.Ask(l.Name)
		if s.Wire.User() != "" && s.Wire.User() == l.Login {
			break
		}
		if name == "" {
			continue
		}
		if word := s.Secret(l.Word); l.Knows(name, word) {
			break
		}
		s.Wait(refusalTakes)
		s.Say(l.Refusal + "\r\n")
	}
	s.Say("\r\n")
}

// Serve lets users in, one after another, until the device restarts or loses its power.
func (s *Shell) Serve(l func() Login) error {
	for {
		s.Level = 0
		s.LogIn(l())
		if err := s.Run(); errors.Is(err, ErrRestart) || !s.OK() {
			return err
		}
	}
}
