// Package session ties one engineer to one device. Bytes enter once, are stamped once and fan out;
// commands leave through the helm, which one writer has at a time; everything that happens becomes
// one ordered stream of events.
//
// One goroutine, the loop, owns all state. Everything else asks it.
package session

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
)

// Options is what a session needs.
type Options struct {
	Target  line.Target
	Device  string // its name, as the operator knows it
	Dialect *dialect.Dialect
	Clock   clock.Clock
	Opener  *line.Opener
	// Reach is the network that targets are watched on; nil watches nothing.
	Reach reach.Network
	// Approve answers questions where no operator is; nil leaves them to Answer.
	Approve func(event.Ask) string
}

// Session is one open console.
type Session struct {
	opt   Options
	hub   *event.Hub
	calls chan func()
	done  chan struct{}
	end   context.CancelFunc
	facts device.Facts
	watch *reach.Watch

	// owned by the loop
	line       line.Line
	lineErr    error
	sense      *sense.Sense
	helm       string
	running    bool
	helmCuts   map[int]context.CancelCauseFunc
	nextCut    int
	choice     chan runbook.Choice
	watchers   map[*watcher]struct{}
	lineWaits  []chan struct{}
	taps       map[*tap]struct{}
	port       *port
	held       []byte // the hand's keys while a carrier is being cancelled
	secret     bool   // the hand types a secret until Enter
	interlock  *interlock
	lastPrompt string
	asks       map[string]pendingAsk
	nextAsk    int
	told       sense.View
	baud       int
	timer      *time.Timer
	out        *outbox
	reopened   chan line.Line
}

type watcher struct {
	ready func(sense.View) bool
	got   chan watched
}

type watched struct {
	view sense.View
	err  error
}

type pendingAsk struct {
	ask    event.Ask
	answer chan string
}

// Open opens the line and starts the session. The session lasts until Close.
func Open(ctx context.Context, opt Options) (*Session, error) {
	usual := 0
	if opt.Dialect != nil {
		usual = opt.Dialect.Line.Speed
	}
	if opt.Target.Kind == line.Serial || opt.Target.Kind == line.Bench {
		opt.Target = opt.Target.WithDefaults(usual)
	}
	wire, err := opt.Opener.Open(ctx, opt.Target)
	if err != nil {
		return nil, err
	}
	own, end := context.WithCancel(context.Background())
	s := &Session{
		opt: opt, hub: event.NewHub(opt.Clock), calls: make(chan func()), done: make(chan struct{}), end: end,
		line: wire, helm: event.Hand, helmCuts: map[int]context.CancelCauseFunc{}, choice: make(chan runbook.Choice, 1),
		watchers: map[*watcher]struct{}{}, taps: map[*tap]struct{}{}, asks: map[string]pendingAsk{},
		timer: time.NewTimer(time.Hour), out: newOutbox(), reopened: make(chan line.Line),
	}
	s.interlock = &interlock{commands: opt.Dialect.NewInterlocks()}
	if opt.Reach != nil {
		s.watch = reach.New(own, opt.Reach, opt.Clock, s.tellReach())
	}
	s.sense = sense.New(s.senseConfig(), opt.Clock.Now())
	if speeder, can := wire.(line.Speeder); can {
		s.baud = speeder.Speed()
	}
	go s.loop(own)
	go s.write(own)
	return s, nil
}

func (s *Session) senseConfig() sense.Config {
	if s.opt.Dialect == nil {
		return sense.Config{}
	}
	return s.opt.Dialect.Sense()
}

// Begin emits the opening events. It is called once, after the views have subscribed.
func (s *Session) Begin() {
	s.do(func() {
		name := ""
		if s.opt.Dialect != nil {
			name = s.opt.Dialect.Dialect
		}
		s.hub.Emit(event.SessionBegin{Target: s.opt.Target.String(), Dialect: name, Device: s.opt.Device, Scale: s.opt.Clock.Scale()})
		s.hub.Emit(event.Line{State: event.LineOpen, Note: s.opt.Target.String(), Speed: s.baud})
		s.hub.Emit(event.Helm{Who: s.helm})
	})
}

// Subscribe starts a feed of the session's events.
func (s *Session) Subscribe() *event.Feed { return s.hub.Subscribe() }

// Emit adds an event of a view's own.
func (s *Session) Emit(body event.Body) { s.hub.Emit(body) }

// Clock is the session's time.
func (s *Session) Clock() clock.Clock { return s.opt.Clock }

// Close ends the session and its line.
func (s *Session) Close(why string) {
	s.do(func() { s.hub.Emit(event.SessionEnd{Why: why}) })
	s.end()
	<-s.done
	if s.watch != nil {
		s.watch.Wait()
	}
	s.hub.Close()
}

// tellReach turns what the watch sees into events.
func (s *Session) tellReach() reach.Tell {
	return reach.Tell{
		Sample: func(one reach.Sample) {
			s.hub.Emit(event.Probe{Target: one.Target.String(), Held: one.Held, Trip: one.Trip, Text: one.Text})
		},
		Gone: func(a reach.Absence) {
			s.hub.Emit(event.Reach{Target: a.Target.String(), State: event.Gone, Begin: a.Begin})
		},
		Back: func(a reach.Absence) {
			s.hub.Emit(event.Reach{Target: a.Target.String(), State: event.Back, Begin: a.Begin, Length: a.Length(a.End)})
		},
		Note: func(text string) { s.hub.Emit(event.Note{Level: event.Warn, Text: text}) },
	}
}

// Watch watches a target until the session ends.
func (s *Session) Watch(t reach.Target) {
	if s.watch != nil {
		s.watch.Add(t)
	}
}

// Facts are what was read so far.
func (s *Session) Facts() *device.Facts { return s.facts.Clone() }

// do runs a function in the loop and waits for it. It reports whether the loop still runs.
func (s *Session) do(f func()) bool {
	ran := make(chan struct{})
	select {
	case s.calls <- func() { f(); close(ran) }:
		<-ran
		return true
	case <-s.done:
		return false
	}
}

func (s *Session) loop(ctx context.Context) {
	defer close(s.done)
	for {
		var chunks <-chan line.Chunk
		if s.line != nil {
			chunks = s.line.Chunks()
		}
		select {
		case <-ctx.Done():
			s.shut()
			return
		case call := <-s.calls:
			call()
		case chunk, open := <-chunks:
			if !open {
				s.lost(ctx)
				continue
			}
			s.arrived(chunk)
		case wire := <-s.reopened:
			s.back(wire)
		case <-s.timer.C:
			if s.sense.Tick(s.opt.Clock.Now()) {
				s.tell()
			}
			s.schedule()
		}
	}
}

func (s *Session) shut() {
	if s.line != nil {
		_ = s.line.Close()
		s.hub.Emit(event.Line{State: event.LineClosed})
	}
	s.lineErr = &line.Error{Target: s.opt.Target, Reason: line.ErrClosed}
	s.failWaiters()
}

// arrived takes bytes in: to the carrier that owns the line, or to everything else.
func (s *Session) arrived(chunk line.Chunk) {
	if s.port != nil {
		s.port.put(chunk.Bytes)
		return
	}
	s.hub.Emit(event.In{Bytes: event.Text(chunk.Bytes)})
	for t := range s.taps {
		t.put(chunk.Bytes)
	}
	s.sense.Feed(chunk.At, chunk.Bytes)
	s.tell()
	s.schedule()
}

// tell emits what the sensing found new, and wakes who waited for it.
func (s *Session) tell() {
	v := s.sense.View()
	if v.Count != s.told.Count && (v.Mode != s.told.Mode || v.Proof != s.told.Proof) {
		s.hub.Emit(event.Mode{Name: v.Mode, Proof: sense.Sample([]byte(v.Proof), 80), Score: v.Garble})
	}
	if v.AtPrompt {
		s.lastPrompt = v.Prompt
	}
	if v.AtPrompt && !s.told.AtPrompt {
		s.hub.Emit(event.Prompt{Mode: v.Mode, Text: v.Prompt})
	}
	s.told = v
	s.noticeRestart()
	for w := range s.watchers {
		if w.ready(v) {
			delete(s.watchers, w)
			w.got <- watched{view: v}
		}
	}
}

// forget starts the sensing afresh: what was known of the device is not known any more.
func (s *Session) forget() {
	s.sense.Forget(s.opt.Clock.Now())
	if s.told.Mode != "" && s.told.Mode != sense.Unknown {
		s.hub.Emit(event.Mode{Name: sense.Unknown})
	}
	s.told = s.sense.View()
	s.schedule()
}

func (s *Session) schedule() {
	next := s.sense.Next()
	if next.IsZero() {
		s.timer.Stop()
		return
	}
	s.timer.Reset(s.opt.Clock.Wall(max(0, next.Sub(s.opt.Clock.Now()))))
}

// lost handles the end of the line: whoever waits is told, and it is tried again.
func (s *Session) lost(ctx context.Context) {
	s.lineErr = cmp.Or(s.line.Err(), error(&line.Error{Target: s.opt.Target, Reason: line.ErrUnplugged}))
	_ = s.line.Close()
	s.line = nil
	state := event.LineLost
	if !s.canComeBack() {
		state = event.LineClosed
	}
	s.hub.Emit(event.Line{State: state, Note: s.lineErr.Error()})
	s.forget()
	s.failWaiters()
	if s.canComeBack() {
		go s.reopen(ctx)
	}
}

func (s *Session) failWaiters() {
	lost := fmt.Errorf("%w: %w", runbook.ErrLineLost, s.lineErr)
	if s.port != nil {
		s.port.fail(lost)
	}
	for w := range s.watchers {
		delete(s.watchers, w)
		w.got <- watched{err: lost}
	}
	for t := range s.taps {
		t.fail(lost)
	}
}

// canComeBack leaves out a child program: starting it once more would be another session.
func (s *Session) canComeBack() bool { return s.opt.Target.Kind != line.Exec }

const reopenEvery = 500 * time.Millisecond

func (s *Session) reopen(ctx context.Context) {
	for s.opt.Clock.Wait(ctx, reopenEvery) == nil {
		wire, err := s.opt.Opener.Open(ctx, s.opt.Target)
		if err != nil {
			continue
		}
		select {
		case s.reopened <- wire:
		case <-ctx.Done():
			_ = wire.Close()
		}
		return
	}
}

// back takes the line that came back, at the speed we had.
func (s *Session) back(wire line.Line) {
	s.line, s.lineErr = wire, nil
	if speeder, can := wire.(line.Speeder); can && s.baud != 0 && speeder.Speed() != s.baud {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		if speeder.SetSpeed(ctx, s.baud) != nil {
			s.baud = speeder.Speed()
		}
		cancel()
	}
	s.forget()
	s.hub.Emit(event.Line{State: event.LineBack, Speed: s.baud})
	s.hub.Emit(event.Mark{Text: "the line is back"})
	for _, wait := range s.lineWaits {
		close(wait)
	}
	s.lineWaits = nil
	s.schedule()
}

// Press types the operator's keys. It takes the helm when the runbook has it; while a carrier is
// still being stopped the keys wait for it.
func (s *Session) Press(keys []byte) {
	s.do(func() {
		s.takeHelm("typing")
		if s.port != nil {
			s.held = append(s.held, keys...)
			return
		}
		s.pressLines(keys)
	})
}

func (s *Session) pressNow(keys []byte) {
	if len(keys) == 0 {
		return
	}
	if s.line == nil {
		s.hub.Emit(event.Note{Level: event.Warn, Text: "there is no line: what you type goes nowhere"})
		return
	}
	if !s.secret && s.opt.Dialect.AsksSecret(s.sense.View().Partial) {
		s.secret = true
	}
	if s.secret {
		s.hub.Emit(event.Out{By: event.Hand, Secret: len(keys)})
	} else {
		s.hub.Emit(event.Out{By: event.Hand, Bytes: event.Text(bytes.Clone(keys))})
	}
	if bytes.ContainsAny(keys, "\r\n\x03") {
		s.secret = false
	}
	s.sense.Sent(s.opt.Clock.Now(), keys)
	s.told = s.sense.View()
	s.out.put(outgoing{data: keys})
	s.schedule()
}

// TakeHelm gives the hand the helm.
func (s *Session) TakeHelm() { s.do(func() { s.takeHelm("asked for") }) }

func (s *Session) takeHelm(why string) {
	if s.helm == event.Hand {
		return
	}
	s.helm = event.Hand
	s.hub.Emit(event.Helm{Who: event.Hand, Why: why})
	for n, cut := range s.helmCuts {
		cut(runbook.ErrHelm)
		delete(s.helmCuts, n)
	}
}

// GiveHelm gives the helm back to a runbook that waits for it.
func (s *Session) GiveHelm(choice runbook.Choice) {
	s.do(func() {
		if !s.running || s.helm == event.Runbook {
			return
		}
		s.giveToRunbook("given back")
		select {
		case s.choice <- choice:
		default:
		}
	})
}

func (s *Session) giveToRunbook(why string) {
	if s.helm != event.Runbook {
		s.helm = event.Runbook
		s.hub.Emit(event.Helm{Who: event.Runbook, Why: why})
	}
}

// Answer answers a question of the runbook. It reports whether the question was still open and has
// that answer.
func (s *Session) Answer(id, answer, by string) (taken bool) {
	s.do(func() {
		pending, open := s.asks[id]
		if !open || !slices.Contains(pending.ask.Answers, answer) {
			return
		}
		delete(s.asks, id)
		s.hub.Emit(event.Answer{ID: id, Answer: answer, By: by})
		pending.answer <- answer
		taken = true
	})
	return taken
}

// Run carries a prepared runbook out and returns when it has ended. One runs at a time.
func (s *Session) Run(ctx context.Context, p *runbook.Prepared) (runbook.Result, error) {
	busy := false
	s.do(func() {
		busy = s.running
		if !busy {
			s.running = true
			s.choice = make(chan runbook.Choice, 1)
			s.giveToRunbook("runbook " + p.Book.Runbook)
		}
	})
	if busy {
		return runbook.Result{}, errors.New("a runbook is running already")
	}
	return runbook.NewEngine(p, console{s}, &s.facts).Run(ctx), nil
}

// Await returns the first view for which ready holds.
func (s *Session) Await(ctx context.Context, ready func(sense.View) bool) (sense.View, error) {
	return console{s}.Await(ctx, ready)
}

// SendBreak sends a break, where the line can.
func (s *Session) SendBreak(ctx context.Context) error {
	var wire line.Line
	s.do(func() { s.takeHelm("a break"); wire = s.line })
	breaker, can := wire.(line.Breaker)
	if !can {
		return &line.Error{Target: s.opt.Target, Reason: line.ErrCannot, Remedy: "this kind of line has no break"}
	}
	s.hub.Emit(event.Mark{Text: "break sent"})
	return breaker.SendBreak(ctx)
}

// Resize tells the far end the size of the screen, where the line can.
func (s *Session) Resize(cols, rows int) {
	var wire line.Line
	s.do(func() { wire = s.line })
	if resizer, can := wire.(line.Resizer); can {
		_ = resizer.Resize(cols, rows)
	}
}

// SetSpeed sets our end of the line.
func (s *Session) SetSpeed(ctx context.Context, baud int, why string) error {
	return console{s}.SetSpeed(ctx, baud, why)
}

// Speed is our end's speed in baud; ok is false for a line without one.
func (s *Session) Speed() (baud int, ok bool) { return console{s}.Speed() }

// Hunt looks for the speed the device speaks.
func (s *Session) Hunt(ctx context.Context, hunt sense.Hunt) (sense.Found, error) {
	return console{s}.Hunt(ctx, hunt)
}

// Transfer hands the line to a carrier outside of a runbook.
func (s *Session) Transfer(ctx context.Context, carry func(context.Context, carrier.Port) error) error {
	s.do(func() { s.running = true; s.giveToRunbook("a transfer") })
	defer s.do(func() { s.running = false; s.takeHelm("the transfer ended") })
	held, release := console{s}.WithHelm(ctx)
	defer release()
	err := console{s}.Carry(held, carry)
	if err != nil && errors.Is(context.Cause(held), runbook.ErrHelm) {
		return runbook.ErrHelm
	}
	return err
}

// LineState is the line's name as the header shows it, such as pts/7.
func LineState(target line.Target) string {
	address := strings.TrimPrefix(target.Address, "/dev/")
	switch target.Kind {
	case line.Serial:
		return address
	case line.Bench:
		return "bench"
	}
	return target.Kind + " " + address
}

// write sends what the loop put out, in order.
func (s *Session) write(ctx context.Context) {
	for {
		item, err := s.out.next(ctx)
		if err != nil {
			return
		}
		var wire line.Line
		if !s.do(func() { wire = s.line }) {
			return
		}
		err = io.ErrClosedPipe
		if wire != nil {
			err = wire.Write(item.context(ctx), item.data)
		}
		if item.done != nil {
			item.done <- err
		} else if err != nil && ctx.Err() == nil {
			s.hub.Emit(event.Note{Level: event.Warn, Text: "not sent: " + err.Error()})
		}
	}
}
