// Package session ties one engineer to one device. Bytes enter once, are stamped once and fan out;
// commands leave through the helm, which one writer has at a time; everything that happens becomes
// one ordered stream of events.
//
// One goroutine, the loop, owns all state. Everything else asks it.
package session

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/line"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/runbook/verbs"
	_ "pilotrix/core/runbook/verbs" // what a step can do
	"pilotrix/core/screen"
	"pilotrix/core/sense"
	"pilotrix/core/shown"
	"pilotrix/core/transfer"
)

// Options is what a session needs.
type Options struct {
	Target line.Target
	Device string // its name, as the operator knows it
	// Identity is what the device of that name was known by before, empty where that was never read.
	Identity string
	Dialect  *dialect.Dialect
	Clock    clock.Clock
	Opener   *line.Opener
	// Reach is the network that addresses are watched on; nil watches nothing.
	Reach reach.Network
	// Secrets are in no event, whatever the device prints or the operator types.
	Secrets []string
	// Approve answers questions where no operator is; nil leaves them to Answer.
	Approve func(event.Ask) string
	// Slept is how long this machine was suspended by now; clock.Slept unless said.
	Slept func() time.Duration
}

// Session is one open console.
type Session struct {
	opt   Options
	hub   *event.Hub
	calls chan func()
	done  chan struct{}
	end   context.CancelFunc
	life  context.Context // of the session
	facts device.Facts

	dialect atomic.Pointer[dialect.Dialect] // how the device talks, nil while that is not known
	watch   *reach.Watch

	// owned by the loop
	wire       *wire
	helm       *helm
	questions  *questions
	guard      *guard
	doubts     doubts
	heardAt    time.Time // when something came last, what a transfer took included
	under      under
	hand       handLine
	secretOut  onItsWay
	later      later
	sense      *sense.Sense
	waiters    map[*waiter]struct{}
	taps       map[*tap]struct{}
	lent       *lent
	held       []byte        // the operator's keys while a transfer is being cancelled
	kept       []byte        // those that wait while one goes on
	presses    int           // how often a key was pressed for them: one may be several bytes
	beat       time.Time     // when the loop was last at work, of the wall
	slept      time.Duration // how long the machine was suspended, as far as that was noticed
	sleptAt    time.Time     // when that was asked last
	greeted    int           // bytes of what the connection said first
	stopped    time.Duration // how long this program did not run
	begun      bool
	cols, rows int // of the device's own terminal, 0 when it is the window's
	charset    screen.Charset
	chunk      line.Chunk // what has arrived and was not taken in yet
	woken      int64      // bytes that had come when Enter was pressed for a prompt that was pushed away
	exchanges  *exchange.Maker
	learner    exchange.Learner
	learnt     bool            // the prompt of a device that no dialect is known for
	echoes     map[string]bool // at which kinds of it the device shows what is typed
	sent       int             // lines whose Enter has gone out
	asked      map[int]*asked  // by their number, those that were not answered yet
	recording  onRecord
	restarts   restarts
	parsings   []parsing // answers that are read for facts, in their order
	pasting    bool      // a text is typed line by line
	step       string    // of the runbook that is under way
	reported   sense.State
	deeds      deeds
	shares     shares
	turns      turns
	others     map[string]*Session // lines to the same device beside this one
	heard      []string            // the lines that were drawn, while nobody knows how the device talks
	timer      *time.Timer
}

type waiter struct {
	ready func(sense.State) bool
	got   chan met
}

type met struct {
	view sense.State
	err  error
}

// Open opens the line and starts the session. The session lasts until Close.
func Open(ctx context.Context, opt Options) (*Session, error) {
	if opt.Slept == nil {
		opt.Slept = clock.Slept
	}
	if opt.Target.IsSerial() {
		if d := opt.Dialect; d != nil {
			opt.Target = opt.Target.Or(
				line.Target{Speed: d.Line.Speed, Framing: string(d.Line.Framing), Flow: d.Line.Flow})
		}
		opt.Target = opt.Target.WithDefaults(0)
	}
	size := opt.Target.Size
	if size == "" && opt.Dialect != nil {
		size = string(opt.Dialect.Line.Size)
	}
	fixedCols, fixedRows, err := line.ParseSize(size)
	if err != nil {
		return nil, err
	}
	wire, err := opt.Opener.Open(ctx, opt.Target)
	if err != nil {
		return nil, err
	}
	own, end := context.WithCancel(context.Background())
	s := &Session{
		opt:     opt,
		hub:     event.NewHub(opt.Clock),
		calls:   make(chan func()),
		done:    make(chan struct{}),
		end:     end,
		life:    own,
		wire:    newWire(wire),
		guard:   &guard{commands: opt.Dialect.NewInterlocks(), answers: answersNear},
		asked:   map[int]*asked{},
		echoes:  map[string]bool{},
		waiters: map[*waiter]struct{}{},
		taps:    map[*tap]struct{}{},
		timer:   time.NewTimer(time.Hour),
		cols:    fixedCols,
		rows:    fixedRows,
	}
	if s.overNetwork() {
		s.guard.answers = answersFar
	}
	s.dialect.Store(opt.Dialect)
	s.hub.Protect(opt.Secrets...)
	if shells := opt.Opener.Shells; shells != nil {
		s.hub.Protect(shells.Secrets()...)
		shells.SetAsk(s.askForLine)
	}
	s.helm, s.questions = newHelm(s.Emit, s.takeOver, func() { s.settleWaiting(true) }), newQuestions(s.Emit)
	if opt.Reach != nil {
		s.watch = reach.New(own, opt.Reach, opt.Clock, s.reportReach())
	}
	s.sense = sense.New(s.senseConfig(), opt.Clock.Now())
	s.exchanges = exchange.NewMaker(s.sense, opt.Dialect, opt.Clock.Now)
	s.guard.line = &s.exchanges.Typed
	if s.cols > 0 {
		s.sense.Model().Resize(s.cols, s.rows)
	}
	go s.loop(own)
	go s.write(own)
	return s, nil
}

func (s *Session) senseConfig() (c sense.Config) {
	if s.Dialect() != nil {
		c = s.Dialect().Sense()
	}
	c.AsksSecret, c.Reply = s.Dialect().AsksSecret, s.answerDevice
	c.Ended = func(line shown.Ended) {
		s.exchanges.Ended(line)
		if s.Dialect() == nil || len(s.hand.waiting) > 0 {
			text := string(line.Text)
			s.hear(text)
			s.hand.draws(text)
		}
	}
	s.charset = c.Charset
	return c
}

// maxAnswers is how many answers of the terminal may wait to be sent: a device that asks faster than it
// listens is not answered.
const maxAnswers = 8

// answerDevice types what a terminal answers to a question of the device, such as where the cursor is. It is
// called in the loop. Noise on the line asks for nothing.
func (s *Session) answerDevice(answer string) {
	if s.wire.line == nil || s.sense.State().Mode == sense.Garbled || s.wire.out.waiting() >= maxAnswers {
		return
	}
	s.hub.Emit(event.Out{Who: event.Answerer, Bytes: event.Text(answer)})
	s.wire.out.put(outgoing{data: []byte(answer)})
}

// Begin emits the opening events and begins to listen. It is called once, after the views have subscribed: what the
// device says before waits on the line, so that none misses it.
func (s *Session) Begin() {
	s.do(func() {
		s.begun = true
		name := ""
		if s.Dialect() != nil {
			name = s.Dialect().Dialect
		}
		s.hub.Emit(event.SessionBegin{
			Target:    s.opt.Target.String(),
			Dialect:   name,
			Device:    s.opt.Device,
			Scale:     s.opt.Clock.Scale(),
			Exchanges: true,
		})
		s.hub.Emit(event.Line{State: event.LineOpen, Note: s.opt.Target.String(), Speed: s.wire.baud})
		if shell, ok := s.wire.line.(interface{ Old() string }); ok && shell.Old() != "" {
			s.hub.Emit(event.Note{
				Level: event.Warning,
				Text:  "old algorithms, which are not safe any more, are allowed for this session: " + shell.Old(),
			})
		}
		if _, can := s.wire.line.(line.Signaller); can {
			go s.watchSignals(s.life)
		}
		s.hub.Emit(event.Helm{Who: s.helm.who})
		if s.cols > 0 || s.charset != screen.UTF8 {
			s.hub.Emit(event.Terminal{Charset: s.charset.String(), Cols: s.cols, Rows: s.rows})
		}
	})
}

// NextCharset takes the next of the character sets for what the device encodes.
func (s *Session) NextCharset() {
	s.do(func() {
		s.charset = (s.charset + 1) % (screen.CP437 + 1)
		s.sense.SetCharset(s.charset)
		s.hub.Emit(event.Terminal{Charset: s.charset.String(), Cols: s.cols, Rows: s.rows})
	})
}

// PlainScreen goes back to a plain screen where a full-screen program left its own behind.
func (s *Session) PlainScreen() { s.do(s.plainScreen) }

func (s *Session) plainScreen() {
	s.sense.Model().Leave()
	s.hub.Emit(event.Terminal{Charset: s.charset.String(), Cols: s.cols, Rows: s.rows, Plain: true})
}

// Dialect is how the device talks, nil while that is not known.
func (s *Session) Dialect() *dialect.Dialect { return s.dialect.Load() }

// Protect keeps more secrets out of every event.
func (s *Session) Protect(secrets ...string) { s.hub.Protect(secrets...) }

// Subscribe starts a feed of the session's events.
func (s *Session) Subscribe() *event.Feed { return s.hub.Subscribe() }

// Emit adds an event of a view's own.
func (s *Session) Emit(body event.Body) { s.hub.Emit(body) }

// Clock is the session's time.
func (s *Session) Clock() clock.Clock { return s.opt.Clock }

// Close ends the session and its line.
func (s *Session) Close(why string) {
	s.endDeeds()
	s.do(func() {
		s.closeExchange(event.EndLeft)
		s.hub.Emit(event.SessionEnd{Why: why})
	})
	s.end()
	<-s.done
	if s.watch != nil {
		s.watch.Wait()
	}
	s.hub.Close()
}

// reportReach turns what the watch sees into events.
func (s *Session) reportReach() reach.Report {
	return reach.Report{
		Sample: func(one reach.Sample) {
			s.hub.Emit(event.Probe{Watched: one.Watched.String(), Held: one.Held, Trip: one.Trip, Text: one.Text})
		},
		Gone: func(a reach.Absence) {
			s.hub.Emit(event.Reach{Watched: a.Watched.String(), State: event.Gone, Begin: a.Begin})
		},
		Back: func(a reach.Absence) {
			s.hub.Emit(
				event.Reach{Watched: a.Watched.String(), State: event.Back, Begin: a.Begin, Length: a.Length(a.End)})
		},
		Note: func(text string) { s.hub.Emit(event.Note{Level: event.Warning, Text: text}) },
	}
}

// Watch watches an address until the session ends.
func (s *Session) Watch(t reach.Watched) {
	if s.watch != nil {
		s.watch.Add(t)
	}
}

// Unwatch watches an address no longer. It reports whether it was watched.
func (s *Session) Unwatch(t reach.Watched) bool {
	if s.watch == nil || !s.watch.Remove(t) {
		return false
	}
	s.hub.Emit(event.Reach{Watched: t.String(), State: event.Unwatched, Begin: s.opt.Clock.Now()})
	return true
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
	beat := time.NewTicker(beatEvery)
	defer beat.Stop()
	s.beat, s.slept = time.Now(), s.opt.Slept()
	for {
		if len(s.chunk.Bytes) > 0 && !s.hub.Full() {
			s.takeIn()
		}
		var chunks <-chan line.Chunk
		if s.begun && s.wire.line != nil && len(s.chunk.Bytes) == 0 && !s.backlog() {
			chunks = s.wire.line.Chunks()
		}
		s.noticeStop()
		var more chan struct{} // closed, so that what is left of a chunk is gone on with after the calls that wait
		if len(s.chunk.Bytes) > 0 && !s.hub.Full() {
			more = always
		}
		select {
		case <-ctx.Done():
			s.shut()
			return
		case call := <-s.calls:
			s.noticeStop()
			call()
		case chunk, open := <-chunks:
			if !open {
				s.lost(ctx)
				continue
			}
			s.chunk = chunk
		case <-more:
		case <-beat.C:
		case <-s.hub.Room():
		case wire := <-s.wire.reopened:
			s.back(wire)
		case <-s.timer.C:
			s.noticeStop()
			s.sense.Tick(s.opt.Clock.Now())
			s.ranOut()
			s.giveOutHeld()
			s.report()
			s.schedule()
		}
	}
}

var always = func() chan struct{} { c := make(chan struct{}); close(c); return c }()

// maxAtOnce is how much of what arrived is taken in before calls are looked at again: a key does not wait
// for a flood.
const maxAtOnce = 8 << 10

// maxUnread is how much a transfer may leave unread before the line waits for it.
const maxUnread = 1 << 20

func (s *Session) backlog() bool {
	return s.hub.Full() || s.lent != nil && s.lent.size() > maxUnread
}

// takeIn takes a piece of what arrived in.
func (s *Session) takeIn() {
	piece := s.chunk
	n := min(len(piece.Bytes), maxAtOnce)
	piece.Bytes, s.chunk.Bytes = piece.Bytes[:n], s.chunk.Bytes[n:]
	s.arrived(piece)
}

func (s *Session) shut() {
	if s.wire.line != nil {
		_ = s.wire.line.Close()
		s.hub.Emit(event.Line{State: event.LineClosed})
	}
	s.settleWaiting(true)
	s.wire.err = &line.Error{Target: s.opt.Target, Reason: line.ErrClosed}
	s.failWaiters()
}

// arrived takes bytes in: to the transfer that owns the line, or to everything else.
func (s *Session) arrived(chunk line.Chunk) {
	s.doubts.heard(s.heardAt, chunk.At)
	s.heardAt = chunk.At
	if s.lent != nil {
		s.lent.put(chunk.Bytes)
		return
	}
	for t := range s.taps {
		t.put(chunk.Bytes)
	}
	s.noticeTelnet(chunk.Bytes)
	fed := s.sense.Feed(chunk.At, chunk.Bytes)
	s.emitIn(chunk.Bytes, fed.Noise)
	if fed.Changed || len(s.hand.waiting) > 0 || len(s.waiters) > 0 && len(chunk.Bytes) < fewBytes {
		s.report()
	}
	s.schedule()
}

// emitIn emits what came, and right behind the line that shows it whatever that line is, so that every view knows.
func (s *Session) emitIn(p []byte, noise []sense.Noise) {
	found := s.exchanges.Take()
	begin := 0
	upTo := func(end int) {
		if end > begin {
			s.hub.Emit(event.In{Bytes: event.Text(p[begin:end])})
			begin = end
		}
	}
	for len(noise) > 0 || len(found) > 0 {
		if len(found) == 0 || len(noise) > 0 && noise[0].After <= found[0].After {
			upTo(noise[0].After)
			s.hub.Emit(event.Noise{Text: noise[0].Text})
			noise = noise[1:]
			continue
		}
		upTo(found[0].After)
		s.emitExchange(found[0])
		found = found[1:]
	}
	upTo(len(p))
}

// fewBytes is a piece that whoever waits is reported of at once, such as an echo; of a flood they are reported when
// there is time.
const fewBytes = 512

// report emits what the sensing found new, and wakes who waited for it.
func (s *Session) report() {
	s.learnPrompt(s.sense.State())
	v := s.sense.State()
	s.doubtMode(v)
	if v.Count != s.reported.Count && (v.Mode != s.reported.Mode || v.Proof != s.reported.Proof) {
		s.hub.Emit(modeEvent(v))
		if s.Dialect().Starts(v.Mode) && s.sense.Model().Leave() {
			s.plainScreen() // a device that starts asks nothing of a terminal yet
		}
	}
	if v.AtPrompt && !v.Pushed && (!s.reported.AtPrompt || s.reported.Pushed) {
		s.hub.Emit(event.Prompt{Mode: v.Mode, Text: v.Prompt})
	}
	s.reported = v
	s.exchanges.See(v)
	s.emitExchanges()
	s.settleKeys(v)
	s.secretOver(v)
	s.answerPager(v)
	s.askPrompt(v)
	s.typeLater(v)
	s.noticeRestart()
	s.followRestart()
	for w := range s.waiters {
		if w.ready(v) {
			delete(s.waiters, w)
			w.got <- met{view: v}
		}
	}
}

// answerPager makes a long output go on while a runbook, or a deed, has the helm.
func (s *Session) answerPager(v sense.State) {
	who := s.helm.who
	if open := s.exchanges.Open(); open != nil && open.Who == event.ByDeed {
		who = event.ByDeed // it is its command's answer, whoever types what comes next
	}
	if !v.Pager || who == event.Hand || s.lent != nil || s.wire.line == nil {
		return
	}
	key := s.Dialect().PagerKey()
	s.hub.Emit(event.Out{Who: who, Bytes: event.Text(key)})
	s.sense.Typed(s.opt.Clock.Now(), []byte(key), nil)
	s.reported = s.sense.State()
	s.wire.out.put(outgoing{data: []byte(key)})
}

// askPrompt presses Enter once where lines that the dialect does not know have pushed the prompt away while
// the runbook waits for it. The line is empty, and it was a prompt that it came behind.
func (s *Session) askPrompt(v sense.State) {
	if !v.Pushed || v.AtPrompt || s.woken == v.Bytes || s.helm.who == event.Hand || s.lent != nil ||
		s.wire.line == nil ||
		v.Partial != "" ||
		!v.Free {
		return
	}
	s.woken = v.Bytes
	s.wake()
}

// wake ends the empty line that the device waits with, so that it shows its prompt again. What a burst of
// noise left there is emptied first.
func (s *Session) wake() {
	key := s.Dialect().Enter()
	if v := s.sense.State(); v.Partial != "" {
		key = s.Dialect().Clears() + key
	}
	s.hub.Emit(event.Out{Who: s.helm.who, Bytes: event.Text(key)})
	s.sense.Entered(s.opt.Clock.Now(), sense.Enter{})
	s.reported = s.sense.State()
	s.wire.out.put(outgoing{data: []byte(key)})
	s.schedule()
}

// modeEvent says the mode that was proved.
func modeEvent(v sense.State) event.Mode {
	mode := event.Mode{Name: v.Mode, Proof: sense.Sample([]byte(v.Proof), 80), Score: v.Garble}
	if v.Mode == sense.Receiving {
		mode.Asks = string(v.Receiver)
		if v.Receiver < ' ' {
			mode.Asks = "NAK"
		}
		said := v.Output()
		mode.Says = sense.Sample([]byte(said[max(0, len(said)-maxSaid):]), maxSaid)
	}
	return mode
}

// maxSaid is how much is kept of what a device says before it waits for a file.
const maxSaid = 200

// forget starts the sensing afresh: what was known of the device is not known any more.
func (s *Session) forget() {
	s.sense.Forget(s.opt.Clock.Now())
	if s.reported.Mode != "" && s.reported.Mode != sense.Unknown {
		s.hub.Emit(event.Mode{Name: sense.Unknown})
	}
	s.reported = s.sense.State()
	s.schedule()
}

// heldBack is how long a piece of the stream that may begin a secret waits for what follows it.
const heldBack = 500 * time.Millisecond

func (s *Session) giveOutHeld() {
	if s.hub.Holds() && s.opt.Clock.Since(s.sense.State().LastByte) >= heldBack {
		s.hub.Flush()
	}
}

func (s *Session) schedule() {
	next := s.sense.Next()
	sooner := func(at time.Time) {
		if next.IsZero() || !at.IsZero() && at.Before(next) {
			next = at
		}
	}
	sooner(s.nextDeadline())
	if s.hub.Holds() {
		sooner(s.sense.State().LastByte.Add(heldBack))
	}
	sooner(s.secretOut.over)
	sooner(s.nextLater())
	sooner(s.exchanges.Next())
	if soon := s.nextLearnt(); soon.After(s.opt.Clock.Now()) {
		sooner(soon)
	}
	if at := s.sense.State().LastByte.Add(shownWithin + time.Millisecond); s.hand.ahead() &&
		at.After(s.opt.Clock.Now()) {
		sooner(at)
	}
	if next.IsZero() {
		s.timer.Stop()
		return
	}
	s.timer.Reset(s.opt.Clock.Wall(max(0, next.Sub(s.opt.Clock.Now()))))
}

// Press types the operator's keys. It takes the helm when the runbook has it. While a transfer has the line they wait
// for what the operator says; while it is still being stopped they wait for its end.
func (s *Session) Press(keys []byte) {
	s.do(func() {
		if s.turns.pressed(s.opt.Clock.Now()) {
			s.held = append(s.held, keys...)
			return
		}
		if s.lent != nil && s.helm.who != event.Hand {
			s.keepKeys(keys)
			return
		}
		s.helm.take("typing")
		if s.lent != nil {
			s.held = append(s.held, keys...)
			return
		}
		if len(s.recording.keys) > 0 { // in their order
			s.recording.keys = append(s.recording.keys, keys...)
			return
		}
		if len(s.later.keys) > 0 {
			s.later.keys = append(s.later.keys, keys...)
			return
		}
		s.pressLines(keys)
	})
}

// pressNow sends keys that were typed, or the key that ends their line.
func (s *Session) pressNow(keys []byte, ends *sense.Enter) {
	if len(keys) == 0 || s.wire.line == nil {
		return
	}
	v := s.sense.State()
	s.follows(keys, v)
	s.record(keys, v)
	now := s.opt.Clock.Now()
	if ends != nil {
		s.sense.Entered(now, *ends)
	} else {
		s.sense.Typed(now, keys, s.exchanges.Typed.Keys)
	}
	s.emitExchanges()
	s.reported = s.sense.State()
	s.wire.out.put(outgoing{data: keys})
	s.schedule()
}

// Run carries a prepared runbook out and returns when it has ended. One runs at a time.
func (s *Session) Run(ctx context.Context, p *runbook.Prepared) (engine.Result, error) {
	others, err := s.othersOf(p)
	if err != nil {
		return engine.Result{}, err
	}
	s.hub.Protect(p.Secrets()...)
	s.do(func() {
		switch {
		case s.helm.running:
			err = errors.New("a runbook is running already")
		case !s.helm.begin("runbook " + p.Book.Runbook):
			err = errLineTaken
		default:
			s.guard.gone = nil
		}
	})
	if err != nil {
		return engine.Result{}, err
	}
	engine := engine.New(p, s.run())
	engine.WithLines(others)
	result := engine.Execute(ctx)
	result.Message = s.hub.Clean(result.Message)
	for i := range result.Proved {
		result.Proved[i] = s.hub.Clean(result.Proved[i])
	}
	return result, nil
}

// ReadAgain takes what can be read of the device in the mode that it is in, without going to another one. It reports
// what could not be read.
func (s *Session) ReadAgain(ctx context.Context) error {
	if s.Dialect() == nil {
		return errors.New("how the device talks is not known: choose a dialect first")
	}
	var mode string
	s.do(func() {
		if v := s.sense.State(); v.AtPrompt {
			mode = v.Mode
		}
	})
	if mode == "" {
		return errors.New("the device shows no prompt that its dialect knows: press Enter for it to show one")
	}
	book, err := verbs.Readings(s.Dialect(), mode)
	if err == nil && book == nil {
		err = fmt.Errorf("nothing can be read in mode %q", s.Dialect().ModeTitle(mode))
	}
	if err != nil {
		return err
	}
	p, err := book.Prepare(s.Dialect(), nil, runbook.Kit{})
	if err != nil {
		return err
	}
	s.do(func() {
		if err = errors.New("a runbook is running already"); !s.helm.running {
			err = s.helm.borrow("reading anew")
		}
	})
	if err != nil {
		return err
	}
	return engine.New(p, s.deed()).Read(ctx)
}

// Await returns the first view for which ready holds.
func (s *Session) Await(ctx context.Context, ready func(sense.State) bool) (sense.State, error) {
	return s.run().Await(ctx, ready)
}

// Resize says the far end the size of the screen, where the line can: in the order in which that and what is typed
// happened.
func (s *Session) Resize(cols, rows int) {
	s.do(func() {
		if s.cols > 0 {
			cols, rows = s.cols, s.rows
		}
		s.sense.Model().Resize(cols, rows)
		s.wire.out.put(outgoing{act: func(_ context.Context, wire line.Line) error {
			if resizer, can := wire.(line.Resizer); can {
				_ = resizer.Resize(cols, rows)
			}
			return nil
		}})
	})
}

// SetSpeed sets our end of the line.
func (s *Session) SetSpeed(ctx context.Context, baud int, why string) error {
	return s.run().SetSpeed(ctx, baud, why)
}

// Speed is our end's speed in baud; ok is false for a line without one.
func (s *Session) Speed() (baud int, ok bool) { return s.run().Speed() }

// LineRate is how many characters the line carries a second, 0 where it has no speed.
func (s *Session) LineRate() float64 { return s.run().LineRate() }

// Hunt looks for the speed the device speaks.
func (s *Session) Hunt(ctx context.Context, hunt sense.Hunt) (sense.Found, error) {
	return s.run().Hunt(ctx, hunt)
}

// Transfer hands the line to a transfer outside of a runbook.
func (s *Session) Transfer(ctx context.Context, carry func(context.Context, transfer.Duplex) error) error {
	var err error
	if s.do(func() { err = s.helm.borrow("a transfer") }); err != nil {
		return err
	}
	defer s.do(func() { s.helm.giveBack("the transfer ended") })
	held, release := s.deed().WithHelm(ctx)
	defer release()
	err = s.deed().Carry(held, carry)
	if err != nil && errors.Is(context.Cause(held), engine.ErrHelm) {
		return engine.ErrHelm
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
	case line.None:
		return "no line"
	}
	return target.Kind + " " + address
}
