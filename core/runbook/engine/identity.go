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

// Which device it is. Nothing that changes anything is typed at a device whose identity was not read since it could
// have become another one: behind a question to the operator, while the operator had the helm, when the line was lost,
// when nothing was heard for long, when a login was seen. Another one ends the run; one that cannot be read is the
// operator's to vouch for.

const (
	identityTimeout = 20 * time.Second
	// inDoubt is no count of the console's doubts.
	inDoubt = -1
)

// identity is which device it is.
type identity struct {
	run      *Run
	is       string // what the device is known by, empty while that is not known
	read     bool   // in this run
	checking bool   // whether it is still the same: the first one that is read in a run is not taken for granted then
}

// knownBefore is what the device is known by when a run begins: what was read of it before, or the name in its prompt
// where its dialect reads no identity.
func (dev *identity) knownBefore() string {
	if name := dev.run.Prepared.Dialect.IdentityFact(); name != "" {
		fact, _ := dev.run.Console.Facts().Get(name)
		return fact.Text
	}
	return dev.nameInPrompt()
}

func (dev *identity) nameInPrompt() string {
	v := dev.run.Console.Device()
	if !v.AtPrompt || dev.run.Prepared.Dialect == nil {
		return ""
	}
	host, _ := dev.run.Prepared.Dialect.PromptGroups(v.Mode, v.Prompt)["host"].(string)
	return host
}

// Doubted reports whether the device may be another one than when its identity was read, or vouched for, last.
func (dev *identity) Doubted() bool {
	return dev.run.Deed() == "" && !dev.run.Console.certain(dev.run.Console.Doubts())
}

// certain reports whether nothing has happened since the device was known.
func (c *StepConsole) certain(now Doubts) bool { return now.Count == c.sure || now.Count == c.granted }

// lasted takes a silence for no doubt that lay between one of our commands and the end that only the device which it
// was typed at can say: it may erase its flash meanwhile.
func (c *StepConsole) lasted(from Doubts) {
	now := c.Doubts()
	if c.certain(from) && now.Count-from.Count == now.Silences-from.Silences {
		c.granted = now.Count
	}
}

// ensureSame holds that what is about to be changed is the device that the run is for.
func (dev *identity) ensureSame(ctx context.Context, s *runbook.PreparedStep) error {
	for dev.Doubted() {
		if err := dev.identify(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// EnsureSameHere holds the same where nothing has to be typed to get to where that can be read; elsewhere it is left to
// whatever changes the device next.
func (dev *identity) EnsureSameHere(ctx context.Context, s *runbook.PreparedStep) error {
	if reading := dev.Reading(); reading != nil && !dev.run.Readings.readable(reading) {
		return nil
	}
	return dev.ensureSame(ctx, s)
}

// sameBack holds the same behind a line that was lost. What cannot be read yet, since it is starting, is read before
// it is changed.
func (dev *identity) sameBack(ctx context.Context, s *runbook.PreparedStep) error {
	for {
		held, release := dev.run.Console.WithHelm(ctx)
		err := dev.readNow(held, s)
		release()
		var unread *unreadError
		switch {
		case errors.As(err, &unread):
			return nil
		case !errors.Is(err, ErrHelm) || ctx.Err() != nil:
			return err
		}
		switch wish, err := dev.run.Console.AwaitHelm(ctx); {
		case err != nil:
			return err
		case wish == Stop:
			return fmt.Errorf("%w before the device was known to be the same", ErrStopped)
		}
	}
}

// Reading is the reading that identifies the device, nil where its dialect has none.
func (dev *identity) Reading() *dialect.CompiledReading {
	if dev.run.Prepared.Dialect.IdentityFact() == "" {
		return nil
	}
	return dev.run.Prepared.Dialect.Reading(dev.run.Prepared.Dialect.Identity.Read)
}

// otherDevice ends a run: what is on the line is not what it is for.
type otherDevice struct{ text string }

func (o *otherDevice) Error() string { return o.text }
func (o *otherDevice) Unwrap() error { return ErrStopped }

// unreadError is why the device's identity could not be read.
type unreadError struct{ why string }

func (u *unreadError) Error() string { return u.why }

// identify reads which device it is, or has the operator vouch for it.
func (dev *identity) identify(ctx context.Context, s *runbook.PreparedStep) error {
	doubts := dev.run.Console.Doubts()
	err := dev.readNow(ctx, s)
	var unread *unreadError
	if !errors.As(err, &unread) {
		return err
	}
	if _, kept := dev.run.Console.Kept(); dev.is == "" &&
		(kept == "" || unread.why == "") { // there is nothing that it could differ from
		dev.run.Console.granted = doubts.Count
		return nil
	}
	dev.run.Console.Emit(
		event.StepNow{ID: s.ID, Doing: dev.run.Title(s), Awaiting: "your word on which device this is"})
	answer, err := dev.run.Console.Ask(ctx, event.Ask{
		Form:    event.FormIdentity,
		Step:    s.ID,
		Title:   dev.run.Title(s),
		Answers: []string{Approve, StopHere},
		Changed: dev.run.MayHaveChanged(),
		Text: fmt.Sprintf("Whether this is %s cannot be read: %s%s.", dev.text(), dev.unreadText(unread),
			sinceText(doubts.Why)),
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w: whether this is %s cannot be read: %s", ErrStopped, dev.text(), dev.unreadText(unread))
	}
	if err == nil { // it is vouched for as it is by now
		dev.run.Console.granted = dev.run.Console.Doubts().Count
	}
	return err
}

func sinceText(why string) string {
	if why == "" {
		return ""
	}
	return "; since it was read last, " + why
}

func (dev *identity) unreadText(unread *unreadError) string {
	if unread.why != "" {
		return unread.why
	}
	return "nothing shows that in mode " + dev.run.Prepared.Dialect.ModeTitle(dev.run.Console.Device().Mode)
}

// text is what the device is known by.
func (dev *identity) text() string {
	name := dev.run.Prepared.Dialect.IdentityFact()
	switch {
	case dev.is == "":
		kept, identity := dev.run.Console.Kept()
		return kept + " (" + name + " " + identity + ")"
	case name == "":
		return "still " + dev.is
	}
	return "still " + name + " " + dev.is
}

// readNow reads the device's identity where it is, or takes the name in its prompt. Its error is an unreadError where
// neither shows it, and ends the run where another one is there.
func (dev *identity) readNow(ctx context.Context, s *runbook.PreparedStep) error {
	reading := dev.Reading()
	switch {
	case reading == nil:
		return dev.sameName()
	case !dev.run.Readings.readable(reading):
		return &unreadError{}
	}
	dev.run.Console.Doubt()
	dev.checking = true
	defer func() { dev.checking = false }()
	limited, cancel := dev.run.Console.Clock().WithTimeout(ctx, identityTimeout)
	defer cancel()
	before := dev.run.Console.Doubts().Count
	err := dev.run.Readings.Take(limited, s, reading)
	switch {
	case ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) && dev.run.Console.Doubts().Count != before:
		// The operator had the helm meanwhile, or the line was lost: its time was not the device's.
		if err := dev.run.Console.Tidy(ctx); err != nil {
			return err
		}
		return dev.readNow(ctx, s)
	case err == nil && dev.run.Console.sure == inDoubt:
		return &unreadError{
			why: fmt.Sprintf("%s says nothing of %s", reading.Command, dev.run.Prepared.Dialect.IdentityFact()),
		}
	case err == nil, errors.Is(err, ErrStopped), errors.Is(err, ErrLineLost):
		return err
	case ctx.Err() != nil:
		return CauseOf(ctx, err)
	}
	if said := LastLines(dev.run.Console.Device().Output()); said != "" && !errors.Is(err, context.DeadlineExceeded) {
		return &unreadError{why: fmt.Sprintf("%s was answered “%s”", reading.Command, sense.Sample([]byte(said), 80))}
	}
	return &unreadError{why: err.Error()}
}

// sameName holds the name in the prompt, where the dialect reads no identity.
func (dev *identity) sameName() error {
	doubts := dev.run.Console.Doubts()
	name := dev.nameInPrompt()
	switch {
	case name == "":
		return &unreadError{}
	case dev.is != "" && name != dev.is:
		return &otherDevice{
			fmt.Sprintf("another device is on the line now: its prompt names %s, and named %s before", name, dev.is),
		}
	}
	dev.is, dev.run.Console.sure = name, doubts.Count
	return nil
}

// identified takes what a reading says of the device's identity, where it is that which does. Doubts are the console's
// from before it was typed. A run may be the first on another device than the last one: it is for the one that its own
// first reading shows.
func (dev *identity) identified(reading *dialect.CompiledReading, facts []device.Fact, doubts Doubts) error {
	name := dev.run.Prepared.Dialect.IdentityFact()
	at := slices.IndexFunc(facts, func(f device.Fact) bool { return f.Name == name })
	if reading != dev.Reading() || at < 0 {
		return nil
	}
	now, before := facts[at].Text, dev.is
	switch {
	case before == "" || before == now:
	case dev.read || dev.checking:
		return &otherDevice{fmt.Sprintf("another device is on the line now: %s reads %s, was %s", name, now, before)}
	default:
		dev.run.Console.Emit(event.Note{
			Level: event.Warning,
			Text:  fmt.Sprintf("this is another device than before: %s reads %s, was %s", name, now, before),
		})
	}
	dev.is, dev.read, dev.run.Console.sure = now, true, doubts.Count
	return nil
}

// about is what a hold says of which device it is: that another one is kept under its name, and that it cannot be read
// whether it is still the same. Who approves that vouches for it.
func (dev *identity) about() (text string, unread bool) {
	if name, identity := dev.run.Console.Kept(); identity != "" && dev.is != "" && identity != dev.is &&
		dev.Reading() != nil {
		text = fmt.Sprintf(" This is another device: %s is known by %s, and %s answers.", name, identity, dev.is)
	}
	v, reading := dev.run.Console.Device(), dev.Reading()
	if dev.is == "" || reading == nil || len(reading.In) == 0 || dev.run.Readings.readable(reading) ||
		dev.run.Talk.moveTo(v.Mode, reading.In) != nil {
		return text, false
	}
	return text + fmt.Sprintf(" Whether it is %s cannot be read in mode %s.", dev.text(),
		dev.run.Prepared.Dialect.ModeTitle(v.Mode)), true
}

// grants takes an approval of a hold for the operator's word on the device, where the hold has said that nothing else
// shows it.
func (dev *identity) grants(approved holdState) {
	if approved.unread {
		dev.run.Console.granted = dev.run.Console.Doubts().Count
	}
}
