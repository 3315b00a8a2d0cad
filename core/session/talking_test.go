package session

import (
	"context"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

// talker is a far end that echoes what is typed and answers each line, until its prompt or not, as the test says.
type talker struct {
	*fakeLine

	mu     sync.Mutex
	answer func(command string) string
	typed  string
	lines  []string
	mute   atomic.Bool  // it does not echo the next line, as for a password
	spoil  atomic.Bool  // the echo of what is typed next, in its middle
	late   atomic.Int64 // how long it takes until it takes what was written, in nanoseconds
	next   time.Time    // when what was written last is taken
	turn   sync.Mutex   // one piece is taken after the other
}

func (l *talker) Write(ctx context.Context, p []byte) error {
	_ = l.fakeLine.Write(ctx, p)
	if late := time.Duration(l.late.Load()); late > 0 { // it is slow to take what comes
		p = append([]byte(nil), p...)
		at := time.Now().Add(late)
		if !at.After(l.next) { // in the order in which it was written
			at = l.next.Add(time.Microsecond)
		}
		l.next = at
		time.AfterFunc(time.Until(at), func() { l.takes(p) })
		return nil
	}
	l.takes(p)
	return nil
}

func (l *talker) takes(p []byte) {
	l.turn.Lock()
	defer l.turn.Unlock()
	for _, b := range p {
		switch {
		case b == '\r':
			l.mu.Lock()
			command := l.typed
			l.typed = ""
			l.mute.Store(false)
			l.lines = append(l.lines, command)
			answer := l.answer
			l.mu.Unlock()
			l.says("\r\n" + answer(command))
		case b == 0x15:
			l.says(strings.Repeat("\b \b", len(l.typed)))
			l.typed = ""
		default:
			l.typed += string(b)
			switch {
			case l.mute.Load():
			case len(l.typed) == 12 && l.spoil.CompareAndSwap(true, false):
				l.says("~")
			default:
				l.says(string(b))
			}
		}
	}
}

// answers has it answer otherwise from here on.
func (l *talker) answers(answer func(command string) string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.answer = answer
}

// commands are the lines that were ended with something on them.
func (l *talker) commands() []string {
	synctest.Wait()
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(l.lines), func(line string) bool { return line == "" })
}

// talk is a session with a talker, and a runbook that can be started.
type talk struct {
	*testing.T
	*Session
	far   *talker
	feed  *event.Feed
	ended chan engine.Result
	all   []event.Event
}

const talked = `
dialect: talked
line: {clear: "\x15"}
modes: [{mode: ready, prompt: '^> $'}, {mode: away, text: '^going down'}, {mode: login, prompt: '^login: $'}]
moves: [{from: login, to: ready, action: log-in}]
dialogs: [{dialog: which, ask: 'which one\? $', operator: true}]
identity: {read: self, fact: device.serial}
readings:
  - {reading: self, in: [ready], command: self, facts: [{fact: device.serial, pattern: 'serial (\S+)'}]}
  - {reading: state, in: [ready], command: state, facts: [{fact: state.value, pattern: 'value (\w+)'}]}
actions:
  - {action: work, in: [ready], command: work, done: worked}
  - {action: recommence, in: [ready], command: recommence, to: away}
  - {action: log-in, in: [login], command: me, to: ready, changes: false}
  - {action: give, in: [ready], with: [word], secret: [word], command: 'user word ${word}', done: set}
  - {action: change, in: [ready], command: change, done: changed, dialogs: [{dialog: old, ask: '^old word> $', answer: x, secret: true}]}
dangers: [{pattern: '^wipe\b', says: empties it}]
secrets: ['^word: $']
`

// talkedFor is the dialect without an identity where a book is about something else: it is not read before each change
// then.
func talkedFor(book string) string {
	if book == "" || strings.Contains(book, "self") {
		return talked
	}
	return nameless
}

// talking opens a session on a talker and prepares a runbook for it.
func talking(t *testing.T, book string, answer func(command string) string, use func(k *talk)) {
	t.Helper()
	talkingIn(t, talkedFor(book), book, answer, use)
}

// nameless is the dialect without an identity.
var nameless = strings.Replace(talked, "identity: {read: self, fact: device.serial}\n", "", 1)

func talkingIn(t *testing.T, tongue, book string, answer func(command string) string, use func(k *talk)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		far := &talker{fakeLine: newFakeLine(), answer: answer}
		opener := line.NewOpener(clock.Real())
		opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return far, nil })
		d, err := dialect.Parse("talked.yaml", []byte(tongue))
		require.NoError(t, err)
		s, err := Open(t.Context(), Options{Target: far.Target(), Dialect: d, Opener: opener})
		require.NoError(t, err)
		k := &talk{T: t, Session: s, far: far, feed: s.Subscribe(), ended: make(chan engine.Result, 1)}
		s.Begin()
		far.says("\r\n> ")
		time.Sleep(time.Second)
		if book != "" {
			k.begin(book)
		}
		use(k)
		s.Close("the test ends")
	})
}

// happened are the events so far.
func (k *talk) happened() []event.Event {
	synctest.Wait()
	ctx, cancel := context.WithCancel(k.Context())
	cancel()
	batch, _ := k.feed.Next(ctx)
	k.all = append(k.all, batch...)
	return k.all
}

// of are the events of a kind.
func of[T event.Body](k *talk) (all []T) {
	for _, e := range k.happened() {
		if body, ok := e.Body.(T); ok {
			all = append(all, body)
		}
	}
	return all
}

// asked is the question that is open.
func (k *talk) asked() (open event.Ask) {
	k.Helper()
	answered := map[string]bool{}
	for _, one := range of[event.Answer](k) {
		answered[one.ID] = true
	}
	for _, ask := range of[event.Ask](k) {
		if !answered[ask.ID] {
			open = ask
		}
	}
	return open
}

// says answers the question that is open.
func (k *talk) says(form event.Form, answer string) {
	k.Helper()
	ask := k.asked()
	require.Equal(k.T, form, ask.Form, "%+v", ask)
	require.True(k.T, k.Answer(ask.ID, answer, "operator"))
	time.Sleep(5 * time.Second)
}

// over is how the run ended.
func (k *talk) over() engine.Result {
	k.Helper()
	synctest.Wait()
	select {
	case result := <-k.ended:
		return result
	default:
		require.FailNow(k.T, "the run goes on", "%+v", k.asked())
		return engine.Result{}
	}
}

// still holds that the run has not ended.
func (k *talk) still() {
	k.Helper()
	synctest.Wait()
	select {
	case result := <-k.ended:
		require.FailNow(k.T, "the run has ended", "%+v", result)
	default:
	}
}

// begin starts another runbook.
func (k *talk) begin(book string) { k.beginWith(book, map[string]string{}) }

func (k *talk) beginWith(book string, inputs map[string]string) {
	parsed, err := runbook.Parse("book.yaml", []byte(book))
	require.NoError(k.T, err)
	p, err := parsed.Prepare(k.opt.Dialect, inputs, runbook.Kit{})
	require.NoError(k.T, err)
	go func() {
		result, _ := k.Session.Run(context.WithoutCancel(k.Context()), p)
		k.ended <- result
	}()
	time.Sleep(5 * time.Second)
}
