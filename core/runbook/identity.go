package runbook

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
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
func (e *Engine) knownBefore() string {
	if name := e.p.Dialect.IdentityFact(); name != "" {
		fact, _ := e.console.Facts().Get(name)
		return fact.Text
	}
	return e.nameInPrompt()
}

func (e *Engine) nameInPrompt() string {
	v := e.console.Device()
	if !v.AtPrompt || e.p.Dialect == nil {
		return ""
	}
	host, _ := e.p.Dialect.PromptGroups(v.Mode, v.Prompt)["host"].(string)
	return host
}

// doubted reports whether the device may be another one than when its identity was read, or vouched for, last.
func (e *Engine) doubted() bool {
	return !e.console.certain(e.console.Doubts())
}

// certain reports whether nothing has happened since the device was known.
func (c *steered) certain(now Doubts) bool { return now.Count == c.sure || now.Count == c.granted }

// lasted takes a silence for no doubt that lay between one of our commands and the end that only the device which it was
// typed at can say: it may erase its flash meanwhile.
func (c *steered) lasted(from Doubts) {
	now := c.Doubts()
	if c.certain(from) && now.Count-from.Count == now.Silences-from.Silences {
		c.granted = now.Count
	}
}

// thisDevice holds that what is about to be changed is the device that the run is for.
func (e *Engine) thisDevice(ctx context.Context, s *PreparedStep) error {
	for e.doubted() {
		if err := e.identify(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// thisDeviceHere holds the same where nothing has to be typed to get to where that can be read; elsewhere it is left to
// whatever changes the device next.
func (e *Engine) thisDeviceHere(ctx context.Context, s *PreparedStep) error {
	if reading := e.identity(); reading != nil && !e.readable(reading) {
		return nil
	}
	return e.thisDevice(ctx, s)
}

// sameDeviceBack holds the same behind a line that was lost. What cannot be read yet, since it is starting, is read before
// it is changed.
func (e *Engine) sameDeviceBack(ctx context.Context, s *PreparedStep) error {
	for {
		held, release := e.console.WithHelm(ctx)
		err := e.readIdentity(held, s)
		release()
		var unread *unreadError
		switch {
		case errors.As(err, &unread):
			return nil
		case !errors.Is(err, ErrHelm) || ctx.Err() != nil:
			return err
		}
		switch wish, err := e.console.AwaitHelm(ctx); {
		case err != nil:
			return err
		case wish == Stop:
			return fmt.Errorf("%w before the device was known to be the same", errStopped)
		}
	}
}

// identity is the reading that identifies the device, nil where its dialect has none.
func (e *Engine) identity() *dialect.CompiledReading {
	if e.p.Dialect.IdentityFact() == "" {
		return nil
	}
	return e.p.Dialect.Reading(e.p.Dialect.Identity.Read)
}

// otherDevice ends a run: what is on the line is not what it is for.
type otherDevice struct{ text string }

func (o *otherDevice) Error() string { return o.text }
func (o *otherDevice) Unwrap() error { return errStopped }

// unreadError is why the device's identity could not be read.
type unreadError struct{ why string }

func (u *unreadError) Error() string { return u.why }

// identify reads which device it is, or has the operator vouch for it.
func (e *Engine) identify(ctx context.Context, s *PreparedStep) error {
	doubts := e.console.Doubts()
	err := e.readIdentity(ctx, s)
	var unread *unreadError
	if !errors.As(err, &unread) {
		return err
	}
	if _, kept := e.console.Kept(); e.device.is == "" && (kept == "" || unread.why == "") { // there is nothing that it could differ from
		e.console.granted = doubts.Count
		return nil
	}
	e.console.Emit(event.StepNow{ID: s.ID, Doing: e.title(s), Awaiting: "your word on which device this is"})
	answer, err := e.console.Ask(ctx, event.Ask{
		Form: event.FormIdentity, Step: s.ID, Title: e.title(s), Answers: []string{Approve, StopHere}, Changed: e.mayHaveChanged(),
		Text: fmt.Sprintf("Whether this is %s cannot be read: %s%s.", e.deviceText(), e.unreadText(unread), sinceText(doubts.Why)),
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w: whether this is %s cannot be read: %s", errStopped, e.deviceText(), e.unreadText(unread))
	}
	if err == nil { // it is vouched for as it is by now
		e.console.granted = e.console.Doubts().Count
	}
	return err
}

func sinceText(why string) string {
	if why == "" {
		return ""
	}
	return "; since it was read last, " + why
}

func (e *Engine) unreadText(unread *unreadError) string {
	if unread.why != "" {
		return unread.why
	}
	return "nothing shows that in mode " + e.p.Dialect.ModeTitle(e.console.Device().Mode)
}

// deviceText is what the device is known by.
func (e *Engine) deviceText() string {
	name := e.p.Dialect.IdentityFact()
	switch {
	case e.device.is == "":
		kept, identity := e.console.Kept()
		return kept + " (" + name + " " + identity + ")"
	case name == "":
		return "still " + e.device.is
	}
	return "still " + name + " " + e.device.is
}

// readIdentity reads the device's identity where it is, or takes the name in its prompt. Its error is an unreadError where
// neither shows it, and ends the run where another one is there.
func (e *Engine) readIdentity(ctx context.Context, s *PreparedStep) error {
	reading := e.identity()
	switch {
	case reading == nil:
		return e.sameName()
	case !e.readable(reading):
		return &unreadError{}
	}
	e.console.doubt()
	e.device.checking = true
	defer func() { e.device.checking = false }()
	limited, cancel := e.console.Clock().WithTimeout(ctx, identityTimeout)
	defer cancel()
	before := e.console.Doubts().Count
	err := e.readOne(limited, s, reading)
	switch {
	case ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) && e.console.Doubts().Count != before:
		return e.readIdentity(ctx, s) // the operator had the helm meanwhile, or the line was lost: its time was not the device's
	case err == nil && e.console.sure == inDoubt:
		return &unreadError{why: fmt.Sprintf("%s says nothing of %s", reading.Command, e.p.Dialect.IdentityFact())}
	case err == nil, errors.Is(err, errStopped), errors.Is(err, ErrLineLost):
		return err
	case ctx.Err() != nil:
		return causeOf(ctx, err)
	}
	if said := lastLines(e.console.Device().Output()); said != "" && !errors.Is(err, context.DeadlineExceeded) {
		return &unreadError{why: fmt.Sprintf("%s was answered “%s”", reading.Command, sense.Sample([]byte(said), 80))}
	}
	return &unreadError{why: err.Error()}
}

// sameName holds the name in the prompt, where the dialect reads no identity.
func (e *Engine) sameName() error {
	doubts := e.console.Doubts()
	name := e.nameInPrompt()
	switch {
	case name == "":
		return &unreadError{}
	case e.device.is != "" && name != e.device.is:
		return &otherDevice{fmt.Sprintf("another device is on the line now: its prompt names %s, and named %s before", name, e.device.is)}
	}
	e.device.is, e.console.sure = name, doubts.Count
	return nil
}

// identified takes what a reading says of the device's identity, where it is that which does. Doubts are the console's
// from before it was typed. A run may be the first on another device than the last one: it is for the one that its own
// first reading shows.
func (e *Engine) identified(reading *dialect.CompiledReading, facts []device.Fact, doubts Doubts) error {
	name := e.p.Dialect.IdentityFact()
	at := slices.IndexFunc(facts, func(f device.Fact) bool { return f.Name == name })
	if reading != e.identity() || at < 0 {
		return nil
	}
	now, before := facts[at].Text, e.device.is
	switch {
	case before == "" || before == now:
	case e.device.read || e.device.checking:
		return &otherDevice{fmt.Sprintf("another device is on the line now: %s reads %s, was %s", name, now, before)}
	default:
		e.console.Emit(event.Note{Level: event.Warning, Text: fmt.Sprintf("this is another device than before: %s reads %s, was %s", name, now, before)})
	}
	e.device.is, e.device.read, e.console.sure = now, true, doubts.Count
	return nil
}

// aboutDevice is what a hold says of which device it is: that another one is kept under its name, and that it cannot be read
// whether it is still the same. Who approves that vouches for it.
func (e *Engine) aboutDevice() (text string, unread bool) {
	if name, identity := e.console.Kept(); identity != "" && e.device.is != "" && identity != e.device.is && e.identity() != nil {
		text = fmt.Sprintf(" This is another device: %s is known by %s, and %s answers.", name, identity, e.device.is)
	}
	v, reading := e.console.Device(), e.identity()
	if e.device.is == "" || reading == nil || len(reading.In) == 0 || e.readable(reading) || e.moveTo(v.Mode, reading.In) != nil {
		return text, false
	}
	return text + fmt.Sprintf(" Whether it is %s cannot be read in mode %s.", e.deviceText(), e.p.Dialect.ModeTitle(v.Mode)), true
}

// grants takes an approval of a hold for the operator's word on the device, where the hold has said that nothing else shows it.
func (e *Engine) grants(approved present) {
	if approved.unread {
		e.console.granted = e.console.Doubts().Count
	}
}
