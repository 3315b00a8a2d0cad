package app

import (
	"context"
	"errors"

	"pilotrix/bench"
	"pilotrix/core/event"
	"pilotrix/core/logbook"
	"pilotrix/core/session"
	"pilotrix/demo"
)

// Opened is a session with all that has to be closed after it.
type Opened struct {
	*session.Session
	place   demo.Place
	book    *logbook.Logbook
	keeper  *logbook.Keeper
	machine *bench.Machine
	host    host
	notices []string
	seconds []*OpenedSecond
	cutOff  string // how an earlier run on this device was cut off, in words
}

// Device is what the device is called, empty where it has no name.
func (o *Opened) Device() string { return o.place.Name }

// About is the device's family and place, in words.
func (o *Opened) About() string { return o.place.Text() }

// Notices are what the operator has to know from the beginning.
func (o *Opened) Notices() []string { return o.notices }

// Close ends the session and says what could not be kept.
func (o *Opened) Close(why string) (err error) {
	for _, one := range o.seconds {
		err = errors.Join(err, one.close(why))
	}
	if o.Session != nil {
		o.Session.Close(why)
	}
	if o.keeper != nil {
		err = errors.Join(err, unrecorded(o.keeper.Wait()))
	}
	if o.book != nil {
		err = errors.Join(err, o.book.Close())
	}
	if o.machine != nil {
		o.machine.Stop()
	}
	return err
}

// warn says what went wrong without being a reason to end the session.
func (o *Opened) warn(err error) {
	if err != nil {
		o.Emit(event.Note{Level: event.Warning, Text: err.Error()})
	}
}

// follow calls each with every event until the session ends.
func (o *Opened) follow(each func(event.Body)) {
	feed := o.Subscribe()
	go func() {
		for {
			batch, err := feed.Next(context.Background())
			if err != nil {
				return
			}
			for _, e := range batch {
				each(e.Body)
			}
		}
	}()
}
