package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
)

// Which device it is. Nothing that changes anything is typed at a device whose identity was not read since it could have
// become another one: behind a question to the operator, while the operator had the helm, when the line was lost, when nothing
// was heard for long, when a login was seen. Another one ends the run; one that cannot be read is the operator's to vouch for.

const (
	identityTimeout = 20 * time.Second
	// inDoubt is no count of the console's doubts.
	inDoubt = -1
)

// identity is which device it is.
type identity struct {
	is       string // what the device is known by, empty while that is not known
	read     bool   // in this run
	checking bool   // whether it is still the same: the first one that is read in a run is not taken for granted then
}

// knownBefore is what the device is known by when a run begins: what was read of it before, or the name in its prompt where
// its dialect reads no identity.
func (e *Run) knownBefore() string {
	if name := e.Prepared.Dialect.IdentityFact(); name != "" {
		fact, _ := e.Console.Facts().Get(name)
		return fact.Text
	}
	return e.nameInPrompt()
}

func (e *Run) nameInPrompt() string {
	v := e.Console.Device()
	if !v.AtPrompt || e.Prepared.Dialect == nil {
		return ""
	}
	host, _ := e.Prepared.Dialect.PromptGroups(v.Mode, v.Prompt)["host"].(string)
	return host
}

// Doubted reports whether the device may be another one than when its identity was read, or vouched for, last.
func (e *Run) Doubted() bool {
	return !e.Console.certain(e.Console.Doubts())
}

// certain reports whether nothing has happened since the device was known.
func (c *StepConsole) certain(now Doubts) bool { return now.Count == c.sure || now.Count == c.granted }

// lasted takes a silence for no doubt that lay between one of our commands and the end that only the device which it was
// typed at can say: it may erase its flash meanwhile.
func (c *StepConsole) lasted(from Doubts) {
	now := c.Doubts()
	if c.certain(from) && now.Count-from.Count == now.Silences-from.Silences {
		c.granted = now.Count
	}
}

// thisDevice holds that what is about to be changed is the device that the run is for.
func (e *Run) thisDevice(ctx context.Context, s *runbook.PreparedStep) error {
	for e.Doubted() {
		if err := e.identify(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// ThisDeviceHere holds the same where nothing has to be typed to get to where that can be read; elsewhere it is left to
// whatever changes the device next.
func (e *Run) ThisDeviceHere(ctx context.Context, s *runbook.PreparedStep) error {
	if reading := e.IdentityReading(); reading != nil && !e.readable(reading) {
		return nil
	}
	return e.thisDevice(ctx, s)
}

// sameDeviceBack holds the same behind a line that was lost. What cannot be read yet, since it is starting, is read before
// it is changed.
func (e *Run) sameDeviceBack(ctx context.Context, s *runbook.PreparedStep) error {
	for {
		held, release := e.Console.WithHelm(ctx)
		err := e.readIdentity(held, s)
		release()
		var unread *unreadError
		switch {
		case errors.As(err, &unread):
			return nil
		case !errors.Is(err, ErrHelm) || ctx.Err() != nil:
			return err
		}
		switch wish, err := e.Console.AwaitHelm(ctx); {
		case err != nil:
			return err
		case wish == Stop:
			return fmt.Errorf("%w before the device was known to be the same", ErrStopped)
		}
	}
}

// IdentityReading is the reading that identifies the device, nil where its dialect has none.
func (e *Run) IdentityReading() *dialect.CompiledReading {
	if e.Prepared.Dialect.IdentityFact() == "" {
		return nil
	}
	return e.Prepared.Dialect.Reading(e.Prepared.Dialect.Identity.Read)
}

// otherDevice ends a run: what is on the line is not what it is for.
type otherDevice struct{ text string }

func (o *otherDevice) Error() string { return o.text }
func (o *otherDevice) Unwrap() error { return ErrStopped }

// unreadError is why the device's identity could not be read.
type unreadError struct{ why string }

func (u *unreadError) Error() string { return u.why }

// identify reads which device it is, or has the operator vouch for it.
func (e *Run) identify(ctx context.Context, s *runbook.PreparedStep) error {
	doubts := e.Console.Doubts()
	err := e.readIdentity(ctx, s)
	var unread *unreadError
	if !errors.As(err, &unread) {
		return err
	}
	if _, kept := e.Console.Kept(); e.device.is == "" && (kept == "" || unread.why == "") { // there is nothing that it could differ from
		e.Console.granted = doubts.Count
		return nil
	}
	e.Console.Emit(event.StepNow{ID: s.ID, Doing: e.Title(s), Awaiting: "your word on which device this is"})
	answer, err := e.Console.Ask(ctx, event.Ask{
		Form: event.FormIdentity, Step: s.ID, Title: e.Title(s), Answers: []string{Approve, StopHere}, Changed: e.MayHaveChanged(),
		Text: fmt.Sprintf("Whether this is %s cannot be read: %s%s.", e.deviceText(), e.unreadText(unread), sinceText(doubts.Why)),
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w: whether this is %s cannot be read: %s", ErrStopped, e.deviceText(), e.unreadText(unread))
	}
	if err == nil { // it is vouched for as it is by now
		e.Console.granted = e.Console.Doubts().Count
	}
	return err
}

func sinceText(why string) string {
	if why == "" {
		return ""
	}
	return "; since it was read last, " + why
}

func (e *Run) unreadText(unread *unreadError) string {
	if unread.why != "" {
		return unread.why
	}
	return "nothing shows that in mode " + e.Prepared.Dialect.ModeTitle(e.Console.Device().Mode)
}

// deviceText is what the device is known by.
func (e *Run) deviceText() string {
	name := e.Prepared.Dialect.IdentityFact()
	switch {
	case e.device.is == "":
		kept, identity := e.Console.Kept()
		return kept + " (" + name + " " + identity + ")"
	case name == "":
		return "still " + e.device.is
	}
	return "still " + name + " " + e.device.is
}

// readIdentity reads the device's identity where it is, or takes the name in its prompt. Its error is an unreadError where
// neither shows it, and ends the run where another one is there.
func (e *Run) readIdentity(ctx context.Context, s *runbook.PreparedStep) error {
	reading := e.IdentityReading()
	switch {
	case reading == nil:
		return e.sameName()
	case !e.readable(reading):
		return &unreadError{}
	}
	e.Console.Doubt()
	e.device.checking = true
	defer func() { e.device.checking = false }()
	limited, cancel := e.Console.Clock().WithTimeout(ctx, identityTimeout)
	defer cancel()
	before := e.Console.Doubts().Count
	err := e.ReadOne(limited, s, reading)
	switch {
	case ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) && e.Console.Doubts().Count != before:
		return e.readIdentity(ctx, s) // the operator had the helm meanwhile, or the line was lost: its time was not the device's
	case err == nil && e.Console.sure == inDoubt:
		return &unreadError{why: fmt.Sprintf("%s says nothing of %s", reading.Command, e.Prepared.Dialect.IdentityFact())}
	case err == nil, errors.Is(err, ErrStopped), errors.Is(err, ErrLineLost):
		return err
	case ctx.Err() != nil:
		return CauseOf(ctx, err)
	}
	if said := LastLines(e.Console.Device().Output()); said != "" && !errors.Is(err, context.DeadlineExceeded) {
		return &unreadError{why: fmt.Sprintf("%s was answered “%s”", reading.Command, sense.Sample([]byte(said), 80))}
	}
	return &unreadError{why: err.Error()}
}

// sameName holds the name in the prompt, where the dialect reads no identity.
func (e *Run) sameName() error {
	doubts := e.Console.Doubts()
	name := e.nameInPrompt()
	switch {
	case name == "":
		return &unreadError{}
	case e.device.is != "" && name != e.device.is:
		return &otherDevice{fmt.Sprintf("another device is on the line now: its prompt names %s, and named %s before", name, e.device.is)}
	}
	e.device.is, e.Console.sure = name, doubts.Count
	return nil
}

// identified takes what a reading says of the device's identity, where it is that which does. Doubts are the console's
// from before it was typed. A run may be the first on another device than the last one: it is for the one that its own
// first reading shows.
func (e *Run) identified(reading *dialect.CompiledReading, facts []device.Fact, doubts Doubts) error {
	name := e.Prepared.Dialect.IdentityFact()
	at := slices.IndexFunc(facts, func(f device.Fact) bool { return f.Name == name })
	if reading != e.IdentityReading() || at < 0 {
		return nil
	}
	now, before := facts[at].Text, e.device.is
	switch {
	case before == "" || before == now:
	case e.device.read || e.device.checking:
		return &otherDevice{fmt.Sprintf("another device is on the line now: %s reads %s, was %s", name, now, before)}
	default:
		e.Console.Emit(event.Note{Level: event.Warning, Text: fmt.Sprintf("this is another device than before: %s reads %s, was %s", name, now, before)})
	}
	e.device.is, e.device.read, e.Console.sure = now, true, doubts.Count
	return nil
}

// aboutDevice is what a hold says of which device it is: that another one is kept under its name, and that it cannot be read
// whether it is still the same. Who approves that vouches for it.
func (e *Run) aboutDevice() (text string, unread bool) {
	if name, identity := e.Console.Kept(); identity != "" && e.device.is != "" && identity != e.device.is && e.IdentityReading() != nil {
		text = fmt.Sprintf(" This is another device: %s is known by %s, and %s answers.", name, identity, e.device.is)
	}
	v, reading := e.Console.Device(), e.IdentityReading()
	if e.device.is == "" || reading == nil || len(reading.In) == 0 || e.readable(reading) || e.moveTo(v.Mode, reading.In) != nil {
		return text, false
	}
	return text + fmt.Sprintf(" Whether it is %s cannot be read in mode %s.", e.deviceText(), e.Prepared.Dialect.ModeTitle(v.Mode)), true
}

// grants takes an approval of a hold for the operator's word on the device, where the hold has said that nothing else shows it.
func (e *Run) grants(approved holdState) {
	if approved.unread {
		e.Console.granted = e.Console.Doubts().Count
	}
}
