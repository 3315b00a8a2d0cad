package exchange

import (
	"time"

	"pilotrix/core/event"
	"pilotrix/core/sense"
	"pilotrix/core/shown"
)

// Remaker makes the exchanges of a record that has none of its own, by the same maker over the record's bytes and keys.
type Remaker struct {
	maker   *Maker
	sense   *sense.Sense
	learner Learner
	learns  bool
	secret  func(line string) bool
	talk    Talk
	now     time.Time
	hidden  bool // keys that are not recorded were typed, and nothing has come since
}

// NewRemaker reads a record as a session would that knows as much of how the device talks. Where no prompt is known it
// is learnt.
func NewRemaker(config sense.Config, talk Talk) *Remaker {
	r := &Remaker{talk: talk, secret: config.AsksSecret, learns: true}
	if r.secret == nil {
		r.secret = func(string) bool { return false }
	}
	for _, mode := range config.Modes {
		r.learns = r.learns && mode.Prompt == nil
	}
	config.Ended = func(line shown.Ended) { r.maker.Ended(line) }
	config.Reply = nil
	r.sense = sense.New(config, time.Time{})
	r.sense.Model().Resize(wide, 50)
	r.maker = NewMaker(r.sense, talk, func() time.Time { return r.now })
	return r
}

// Event returns an event with those of the exchanges that it belongs to, in their order.
func (r *Remaker) Event(e event.Event) (all []event.Event) {
	all = r.until(e.At)
	switch b := e.Body.(type) {
	case event.In:
		r.hidden = false
		r.sense.Feed(e.At, b.Bytes)
		return append(all, r.split(e, b)...)
	case event.Out:
		r.typed(b)
	case event.Line:
		if b.State != event.LineOpen {
			r.maker.Close(event.EndLost, r.sense.State())
			r.sense.Forget(e.At)
		}
	case event.Speed:
		r.maker.Close(event.EndSpeed, r.sense.State())
		r.sense.Forget(e.At)
	case event.SessionEnd:
		r.maker.Close(event.EndLeft, r.sense.State())
	}
	return append(append(all, r.found(e.At)...), e)
}

// until lets time pass up to a moment.
func (r *Remaker) until(at time.Time) (all []event.Event) {
	const most = 20
	for range most {
		next := r.sense.Next()
		if soon := r.learner.Next(
			r.sense.State()); r.learns && !soon.IsZero() && (next.IsZero() || soon.Before(next)) &&
			soon.After(r.now) {
			next = soon
		}
		if r.now.IsZero() || next.IsZero() || !next.Before(at) {
			break
		}
		r.now = next
		r.sense.Tick(next)
		r.see()
		all = append(all, r.found(next)...)
	}
	r.now = at
	r.sense.Tick(at)
	r.see()
	return append(all, r.found(at)...)
}

func (r *Remaker) see() {
	v := r.sense.State()
	if r.learns {
		if mode := r.learner.See(v, r.now, r.secret); mode != nil {
			r.learns = false
			r.sense.AddMode(*mode, r.now)
			v = r.sense.State()
		}
	}
	r.maker.See(v)
}

func (r *Remaker) found(at time.Time) (all []event.Event) {
	for _, found := range r.maker.Take() {
		all = append(all, event.Event{At: at, Body: found.Body})
	}
	return all
}

// split gives bytes that came with what they show, each behind the line that shows it.
func (r *Remaker) split(e event.Event, in event.In) (all []event.Event) {
	begin := 0
	for _, found := range r.maker.Take() {
		if found.After > begin {
			all = append(all, event.Event{Seq: e.Seq, At: e.At, Body: event.In{Bytes: in.Bytes[begin:found.After]}})
			begin = found.After
		}
		all = append(all, event.Event{At: e.At, Body: found.Body})
	}
	if begin < len(in.Bytes) {
		all = append(all, event.Event{Seq: e.Seq, At: e.At, Body: event.In{Bytes: in.Bytes[begin:]}})
	}
	return all
}

// typed follows what went to the device.
func (r *Remaker) typed(b event.Out) {
	if b.Who == event.Answerer {
		return
	}
	if b.Secret > 0 {
		if !r.hidden {
			r.hidden = true
			v := r.sense.State()
			r.sense.Entered(r.now, r.maker.Enter(Sent{Who: b.Who, Secret: true, Base: v.Partial}, v))
			r.maker.Typed.Entered('\r', r.now)
		}
		return
	}
	for _, key := range b.Bytes {
		v := r.sense.State()
		line := &r.maker.Typed
		switch key {
		case '\r', '\n', takeAndNext:
			one := Sent{Who: b.Who, Text: line.Text(v), Certain: line.Certain(), Mode: line.Mode, Base: line.Base}
			e := r.maker.Enter(one, v)
			line.Entered(key, r.now)
			r.sense.Entered(r.now, e)
			r.learner.Entered()
		case interrupt:
			r.sense.Entered(r.now, r.maker.Interrupt())
		default:
			line.Begin(b.Who, v, r.now)
			line.Key(key, r.now)
			r.sense.Typed(r.now, []byte{key}, line.Keys)
		}
	}
}
