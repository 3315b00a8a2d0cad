package app

import (
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/logbook"
	"pilotrix/core/session"
)

// UnrecordedError is an end of its own: what happened could not be kept whole.
type UnrecordedError struct{ err error }

// Error implements error.
func (u UnrecordedError) Error() string { return "not recorded: " + u.err.Error() }

// Unwrap is why.
func (u UnrecordedError) Unwrap() error { return u.err }

func unrecorded(err error) error {
	if err == nil {
		return nil
	}
	return UnrecordedError{err}
}

// keep writes the session into the logbook. Where that is not possible now the session goes on, says so, and is written
// as soon as it is.
func (p *Settings) keep(o *Opened, target line.Target) {
	if p.Logbook == NoLogbook {
		return
	}
	var err error
	if o.keeper, err = p.keeperOf(o, o.Session); err != nil {
		o.notices = append(o.notices, "nothing is recorded for now: "+err.Error())
	}
	if o.book != nil {
		o.sayCutOff(target)
	}
}

// keeperOf keeps the events of a session. Its error is why nothing can be kept now.
func (p *Settings) keeperOf(o *Opened, s *session.Session) (keeper *logbook.Keeper, err error) {
	feed := s.Subscribe()
	open := func() (*logbook.Logbook, error) { return logbook.Open(p.Logbook) }
	if o.book == nil {
		o.book, err = open()
	}
	if err == nil {
		keeper, err = o.book.Keep(feed)
	}
	if err != nil {
		keeper = logbook.KeepWhenPossible(feed, open, err)
	}
	go reportRecording(s, keeper)
	return keeper, err
}

// sayCutOff says what is known of sessions that were cut off.
func (o *Opened) sayCutOff(target line.Target) {
	cut, err := o.book.CutOff(o.place.Name, target.String())
	if err != nil {
		o.notices = append(o.notices, "whether an earlier session was cut off is not known: "+err.Error())
	}
	for _, last := range cut {
		o.notices = append(o.notices, last.String())
		if last.Step != "" && last.On(o.place.Name, target.String()) && o.cutOff == "" {
			o.cutOff = last.String()
		}
	}
}

// reportRecording says how the keeping of a session goes, until its entry is closed.
func reportRecording(s *session.Session, keeper *logbook.Keeper) {
	for now := range keeper.Changes() {
		report := event.Recording{Lost: now.Lost}
		if now.Problem != nil {
			report.Problem = now.Problem.Error()
		}
		s.Emit(report)
	}
}
