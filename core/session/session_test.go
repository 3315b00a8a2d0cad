package session

import (
	"context"
	"errors"
	"io"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
	"pilotrix/core/transfer"
	"pilotrix/core/transfer/xmodem"
)

// fakeLine is a line whose far end is the test.
type fakeLine struct {
	chunks chan line.Chunk
	mu     sync.Mutex
	sent   []byte
	closed bool
}

func newFakeLine() *fakeLine { return &fakeLine{chunks: make(chan line.Chunk, 16)} }

func (l *fakeLine) Chunks() <-chan line.Chunk { return l.chunks }
func (l *fakeLine) Target() line.Target       { return line.Target{Kind: line.TCP, Address: "x:1"} }
func (l *fakeLine) Err() error                { return &line.Error{Reason: line.ErrUnplugged} }

func (l *fakeLine) Write(_ context.Context, p []byte) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.sent = append(l.sent, p...)
	return nil
}

func (l *fakeLine) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed = true
	return nil
}

func (l *fakeLine) says(text string) { l.chunks <- line.Chunk{At: time.Now(), Bytes: []byte(text)} }

func (l *fakeLine) got() string {
	synctest.Wait()
	l.mu.Lock()
	defer l.mu.Unlock()
	return string(l.sent)
}

const twoModes = `
dialect: two
modes: [{mode: ready, prompt: '^> $'}, {mode: busy, text: '^working'}]
actions: [{action: work, command: work, to: busy}]
`

const bookText = `
runbook: wait
phases: [{phase: one, steps: [{step: Wait for work, wait: {mode: [busy]}}]}]
`

// with opens a session on a fake line in virtual time.
func with(
	t *testing.T, approve func(event.Ask) string, use func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed),
) {
	synctest.Test(t, func(t *testing.T) {
		l := newFakeLine()
		opened := 0
		opener := line.NewOpener(clock.Real())
		opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) {
			if opened++; opened > 1 {
				return nil, errors.New("not there yet")
			}
			return l, nil
		})
		d, err := dialect.Parse("two.yaml", []byte(twoModes))
		require.NoError(t, err)
		s, err := Open(t.Context(), Options{Target: l.Target(), Dialect: d, Opener: opener, Approve: approve})
		require.NoError(t, err)
		feed := s.Subscribe()
		s.Begin()
		use(t, s, l, feed)
		s.Close("the test ends")
		assert.True(t, l.closed || opened > 1)
	})
}

func prepared(t *testing.T) *runbook.Prepared {
	t.Helper()
	d, err := dialect.Parse("two.yaml", []byte(twoModes))
	require.NoError(t, err)
	book, err := runbook.Parse("wait.yaml", []byte(bookText))
	require.NoError(t, err)
	p, err := book.Prepare(d, nil, runbook.Kit{})
	require.NoError(t, err)
	return p
}

func collect[T event.Body](t *testing.T, feed *event.Feed) (all []T) {
	t.Helper()
	synctest.Wait()
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	batch, err := feed.Next(ctx)
	require.True(t, err == nil || errors.Is(err, context.Canceled) || errors.Is(err, io.EOF))
	for _, e := range batch {
		if body, ok := e.Body.(T); ok {
			all = append(all, body)
		}
	}
	return all
}

func TestNothingIsHeardBeforeTheViewsListen(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := newFakeLine()
		opener := line.NewOpener(clock.Real())
		opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return l, nil })
		s, err := Open(t.Context(), Options{Target: l.Target(), Opener: opener})
		require.NoError(t, err)
		go l.says("router login: ")
		time.Sleep(time.Second) // the logbook is slow to open
		feed := s.Subscribe()
		s.Begin()
		heard := collect[event.In](t, feed)
		require.Len(t, heard, 1)
		assert.Equal(t, "router login: ", string(heard[0].Bytes))
		s.Close("the test ends")
	})
}

func TestTypingTakesTheHelmAndStopsTheRunbook(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		ended := make(chan engine.Result, 1)
		go func() {
			result, _ := s.Run(t.Context(), prepared(t))
			ended <- result
		}()
		synctest.Wait()
		_, err := s.Run(t.Context(), prepared(t))
		assert.ErrorContains(t, err, "running already")
		s.Press([]byte("x"))
		assert.Equal(t, "x", l.got())
		assert.ErrorIs(t, s.run().Type(t.Context(), "work\r", false), engine.ErrHelm, "the runbook may not type now")
		s.GiveHelm(engine.Stop)
		result := <-ended
		assert.Equal(t, event.Stopped, result.Outcome)
		who := []string{}
		for _, helm := range collect[event.Helm](t, feed) {
			who = append(who, helm.Who)
		}
		assert.Equal(t, []string{event.Hand, event.Runbook, event.Hand, event.Runbook, event.Hand}, who)
	})
}

func TestTheHandMayDoTheStepItself(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, _ *fakeLine, _ *event.Feed) {
		ended := make(chan engine.Result, 1)
		go func() {
			result, _ := s.Run(t.Context(), prepared(t))
			ended <- result
		}()
		synctest.Wait()
		s.TakeHelm()
		s.GiveHelm(engine.GoOn)
		assert.Equal(t, event.Done, (<-ended).Outcome)
	})
}

func TestASecretTypedByHandIsKeptByItsLength(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		l.says("router login: ")
		synctest.Wait()
		s.Press([]byte("harbour\r"))
		l.says("harbour\r\nPassword: ")
		synctest.Wait()
		for _, key := range "lamp" {
			s.Press([]byte(string(key)))
			l.says("*")
			synctest.Wait()
		}
		s.Press([]byte("\r"))
		l.says("\r\n> ")
		synctest.Wait()
		s.Press([]byte("work\r"))
		assert.Equal(t, "harbour\rlamp\rwork\r", l.got())
		l.says("work\r\n> ")
		synctest.Wait()
		var shown string
		secrets := 0
		for _, out := range collect[event.Out](t, feed) {
			shown += string(out.Bytes)
			secrets += out.Secret
		}
		assert.Equal(t, "harbour\rwork\r", shown)
		assert.Equal(t, 5, secrets, "four keys and Enter")
	})
}

// carried has a transfer under way that reads what comes, and says how it ended.
func carried(t *testing.T, s *Session) <-chan error {
	err := make(chan error, 1)
	go func() {
		err <- s.Transfer(t.Context(), func(ctx context.Context, port transfer.Duplex) error {
			buffer := make([]byte, 8)
			_, err := port.Read(ctx, buffer, time.Hour)
			_ = port.Write(context.WithoutCancel(ctx), []byte("CANCEL"))
			return err
		})
	}()
	synctest.Wait()
	return err
}

// TestAStrayKeyEndsNoTransfer keeps what is pressed while a transfer has the line, until the operator says what becomes
// of it.
func TestAStrayKeyEndsNoTransfer(t *testing.T) {
	for name, c := range map[string]struct {
		keys   []string
		then   func(s *Session)
		got    string
		cancel bool
		states []string
	}{
		"typed once it was cancelled":    {[]string{"a", "b"}, (*Session).CancelForKept, "CANCELab", true, []string{"waiting", "waiting", "typed"}},
		"by the key that takes the helm": {[]string{"\x1b[5~"}, (*Session).TakeHelm, "CANCEL\x1b[5~", true, []string{"waiting", "typed"}},
		"forgotten":                      {[]string{"a"}, (*Session).ForgetKept, "", false, []string{"waiting", "forgotten"}},
		"nothing is said":                {[]string{"a", "\r"}, func(*Session) {}, "", false, []string{"waiting", "waiting"}},
		"Ctrl-C once":                    {[]string{"\x03"}, func(*Session) {}, "", false, []string{"waiting"}},
		"Ctrl-C twice":                   {[]string{"\x03", "\x03"}, func(*Session) {}, "CANCEL", true, []string{"waiting", "forgotten"}},
		"Ctrl-C with a key between":      {[]string{"\x03", "a", "\x03"}, func(*Session) {}, "", false, []string{"waiting", "waiting", "waiting"}},
		"nothing waits":                  {nil, (*Session).CancelForKept, "", false, nil},
	} {
		t.Run(name, func(t *testing.T) {
			with(t, nil, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
				ended := carried(t, s)
				for _, key := range c.keys {
					s.Press([]byte(key))
				}
				c.then(s)
				time.Sleep(time.Minute)
				synctest.Wait()
				if c.cancel {
					assert.ErrorIs(t, <-ended, engine.ErrHelm)
				} else {
					assert.Empty(t, ended, "it goes on")
				}
				assert.Equal(t, c.got, l.got(), "what was typed comes after the cancel")
				var states []string
				for _, one := range collect[event.KeysKept](t, feed) {
					states = append(states, one.State)
				}
				assert.Equal(t, c.states, states)
				s.TakeHelm()
				synctest.Wait()
			})
		})
	}
}

// TestKeysThatWaitAreForgottenWithTheTransfer has it end by itself: the prompt that follows is something else.
func TestKeysThatWaitAreForgottenWithTheTransfer(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		ended := carried(t, s)
		s.Press([]byte("wipe\r"))
		l.says("enough")
		require.NoError(t, <-ended)
		synctest.Wait()
		assert.Equal(t, "CANCEL", l.got())
		assert.Equal(t, event.KeysForgotten, last(collect[event.KeysKept](t, feed)).State)
	})
}

func TestATransferReadsWhatArrivesAndGivesTheRestBack(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
		go func() {
			time.Sleep(time.Second)
			l.says("blockrest> ")
		}()
		err := s.Transfer(t.Context(), func(ctx context.Context, port transfer.Duplex) error {
			buffer := make([]byte, 5)
			n, err := port.Read(ctx, buffer, time.Minute)
			assert.Equal(t, "block", string(buffer[:n]))
			return err
		})
		require.NoError(t, err)
		v, err := s.run().Await(t.Context(), func(v sense.State) bool { return v.Partial != "" })
		require.NoError(t, err)
		assert.Equal(t, "rest> ", v.Partial)
	})
}

func TestALostLineWakesWhoWaits(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		go func() {
			time.Sleep(time.Second)
			close(l.chunks)
		}()
		_, err := s.run().Await(t.Context(), func(sense.State) bool { return false })
		assert.ErrorIs(t, err, engine.ErrLineLost)
		s.Press([]byte("hello?"))
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		assert.ErrorIs(t, s.run().AwaitLine(ctx), context.DeadlineExceeded)
		notes := collect[event.Note](t, feed)
		require.Len(t, notes, 2)
		assert.Contains(t, notes[0].Text, "goes nowhere")
		assert.Equal(t, "not there yet", notes[1].Text,
			"why it does not come back is told once, however often it is tried")
	})
}

func TestAnApproverWithoutAnAnswerStops(t *testing.T) {
	with(t, func(event.Ask) string { return "perhaps" }, func(t *testing.T, s *Session, _ *fakeLine, _ *event.Feed) {
		answer, err := s.run().Ask(t.Context(), event.Ask{Form: "hold", Answers: []string{engine.Approve, engine.StopHere}})
		require.NoError(t, err)
		assert.Equal(t, engine.StopHere, answer)
		assert.False(t, s.Answer("99", engine.Approve, "operator"), "no such question")
	})
}

func TestPromptIsReportedOnceAndInTime(t *testing.T) {
	with(t, nil, func(t *testing.T, _ *Session, l *fakeLine, feed *event.Feed) {
		l.says("hello\r\n> ")
		time.Sleep(sense.Settle)
		prompts := collect[event.Prompt](t, feed)
		require.Len(t, prompts, 1)
		assert.Equal(t, "ready", prompts[0].Mode)
		time.Sleep(time.Minute)
		assert.Empty(t, collect[event.Prompt](t, feed))
	})
}

// jammed is a line that flow control holds: it takes a key, and nothing longer.
type jammed struct{ *fakeLine }

func (j jammed) Write(ctx context.Context, p []byte) error {
	if len(p) > 64 {
		<-ctx.Done()
		return ctx.Err()
	}
	return j.fakeLine.Write(ctx, p)
}

// TestALineThatTakesNothingDoesNotKeepTheKeyboard has a block that the line does not take, and a hand that
// takes the helm meanwhile.
func TestALineThatTakesNothingDoesNotKeepTheKeyboard(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := jammed{newFakeLine()}
		opener := line.NewOpener(clock.Real())
		opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return l, nil })
		s, err := Open(t.Context(), Options{Target: l.Target(), Opener: opener})
		require.NoError(t, err)
		feed := s.Subscribe()
		s.Begin()
		l.says("C")
		time.Sleep(time.Second)
		done := make(chan error, 1)
		go func() {
			done <- s.Transfer(t.Context(), func(ctx context.Context, p transfer.Duplex) error {
				_, err := xmodem.Send(ctx, p,
					[]xmodem.File{{Header: xmodem.Header{Name: "x", Size: 5}, Data: strings.NewReader("hello")}},
					xmodem.Options{Clock: clock.Real()})
				return err
			})
		}()
		time.Sleep(2 * time.Second)
		s.Press([]byte("x"))
		s.CancelForKept()
		time.Sleep(5 * time.Second)
		assert.ErrorIs(t, <-done, engine.ErrHelm)
		assert.True(t, strings.HasSuffix(l.got(), "x"), "%q: the key came through", l.got())
		s.Press([]byte(strings.Repeat("y", 100)))
		time.Sleep(5 * time.Second)
		s.Press([]byte("z"))
		assert.True(t, strings.HasSuffix(l.got(), "z"), "what was given up keeps nothing waiting")
		notes := collect[event.Note](t, feed)
		require.NotEmpty(t, notes)
		assert.Contains(t, notes[len(notes)-1].Text, "the line took nothing")
		s.Close("the test ends")
	})
}

// TestWhatADeviceAsksOfItsTerminalIsAnswered answers where the cursor is, and not while a transfer has the
// line.
func TestWhatADeviceAsksOfItsTerminalIsAnswered(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		l.says("# \x1b[6n")
		assert.Equal(t, "\x1b[1;3R", l.got())
		outs := collect[event.Out](t, feed)
		require.Len(t, outs, 1)
		assert.Equal(t, event.Answerer, outs[0].Who)
		ready := make(chan struct{})
		go func() {
			_ = s.Transfer(t.Context(), func(ctx context.Context, p transfer.Duplex) error {
				close(ready)
				buffer := make([]byte, 16)
				_, err := p.Read(ctx, buffer, time.Second)
				return err
			})
		}()
		<-ready
		l.says("\x1b[6n")
		time.Sleep(100 * time.Millisecond)
		assert.Equal(t, "\x1b[1;3R", l.got())
		s.Press([]byte("x"))
		time.Sleep(time.Second)
		l.says(strings.Repeat("\x1b[6n", 1000))
		assert.Less(t, strings.Count(l.got(), "R"), 200,
			"a device that asks without an end is not answered without an end")
	})
}

// echo answers keys as devices do: each comes back, after a while.
func echo(l *fakeLine, after time.Duration, change func(n int, b byte) string) (stop func()) {
	done := make(chan struct{})
	seen, n := 0, 0
	go func() {
		for {
			select {
			case <-done:
				return
			case <-time.After(time.Millisecond):
			}
			l.mu.Lock()
			fresh := string(l.sent[seen:])
			seen = len(l.sent)
			l.mu.Unlock()
			for _, b := range []byte(fresh) {
				time.Sleep(after)
				n++
				if answer := change(n, b); answer != "" {
					l.says(answer)
				}
			}
		}
	}()
	return func() { close(done) }
}

const echoing = `
dialect: echoing
line: {clear: "\x15"}
modes: [{mode: ready, prompt: '^[\w-]+ > $'}]
noise: ['^\*log: ']
readings: [{reading: it, command: 'look it up', facts: [{fact: it, pattern: '(\d+)'}]}]
`

// command has a runbook's command typed to a device, and returns what was answered.
func command(
	t *testing.T, dialectText string, after time.Duration, device func(n int, b byte) string,
) (output string, sent string, notes []event.Note, err error) {
	t.Helper()
	return commandBehind(t, "\r\nhollow > ", dialectText, after, device)
}

// commandBehind is the same where the device has written that before.
func commandBehind(
	t *testing.T, before, dialectText string, after time.Duration, device func(n int, b byte) string,
) (output string, sent string, notes []event.Note, err error) {
	synctest.Test(t, func(t *testing.T) {
		l := newFakeLine()
		opener := line.NewOpener(clock.Real())
		opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return l, nil })
		d, err2 := dialect.Parse("echoing.yaml", []byte(dialectText))
		require.NoError(t, err2)
		s, err2 := Open(t.Context(), Options{Target: l.Target(), Dialect: d, Opener: opener})
		require.NoError(t, err2)
		feed := s.Subscribe()
		s.Begin()
		l.says(before)
		time.Sleep(time.Second)
		stop := echo(l, after, device)
		s.do(func() { s.helm.give(event.Runbook, "test") })
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		if err = s.run().Command(ctx, "look it up", engine.Typing{Fresh: true}); err == nil {
			var v sense.State
			v, err = s.Await(ctx, func(v sense.State) bool { return v.AtPrompt })
			output = v.Output()
		}
		stop()
		sent = l.got()
		notes = collect[event.Note](t, feed)
		s.Close("the test ends")
	})
	return output, sent, notes, err
}

func TestACommandIsEndedOnceItStandsThere(t *testing.T) {
	plain := func(_ int, b byte) string {
		if b == '\r' {
			return "\r\n 42\r\nhollow > "
		}
		return string(b)
	}
	for name, after := range map[string]time.Duration{"at once": 0, "a busy device": 100 * time.Millisecond, "slow": 700 * time.Millisecond} {
		output, sent, notes, err := command(t, echoing, after, plain)
		require.NoError(t, err, name)
		assert.Equal(t, " 42\n", output, name)
		assert.Equal(t, "look it up\r", sent, name)
		assert.Empty(t, notes)
	}
}

// TestLogLinesComeBetweenACommandAndItsEcho has the prompt drawn again after each, with what was typed and
// without: neither is the answer.
// TestASpoiledPromptIsAskedForAgain has bursts of noise on the line stand before and behind the prompt, and a log
// line push it away.
func TestASpoiledPromptIsAskedForAgain(t *testing.T) {
	const burst = "\xa8\xd2\xdf\xf4\x83\x93"
	for _, before := range []string{"\r\nhollow > " + burst, "\r\n" + burst + "hollow > ", "\r\nhollow > \r\n*log: link up\r\n"} {
		enters := 0
		output, sent, _, err := commandBehind(t, before, echoing, time.Millisecond, func(_ int, b byte) string {
			if b != '\r' {
				return string(b)
			}
			enters++
			switch enters {
			case 1:
				return "\r\n" + burst + "hollow > "
			case 2:
				return "\r\nhollow > "
			}
			return "\r\n 42\r\nhollow > "
		})
		require.NoError(t, err, "%q: %q", before, sent)
		assert.Equal(t, " 42\n", output, "%q", before)
		assert.Equal(t, 3, enters)
		assert.True(t, strings.HasSuffix(sent, "look it up\r"), "%q", sent)
	}
}

func TestLogLinesComeBetweenACommandAndItsEcho(t *testing.T) {
	for name, redraws := range map[string]bool{"redrawn": true, "left": false} {
		typed := ""
		output, sent, _, err := command(t, echoing, 30*time.Millisecond, func(n int, b byte) string {
			if b == '\r' {
				return "\r\n*log: here too\r\n 42\r\nhollow > \r\n*log: and here\r\nhollow > "
			}
			typed += string(b)
			switch {
			case n%4 != 0:
				return string(b)
			case redraws:
				return "\r\n*log: link up\r\nhollow > " + typed
			}
			return "\r\n*log: link up\r\n" + string(b)
		})
		require.NoError(t, err, name)
		assert.Equal(t, " 42\n", output, name)
		assert.Equal(t, "look it up\r", sent, name)
	}
}

func TestAGarbledEchoIsTypedAgainAndSaid(t *testing.T) {
	typed, cleared := "", false
	output, sent, notes, err := command(t, echoing, time.Millisecond, func(n int, b byte) string {
		switch {
		case b == '\r' && typed == "look it up":
			return "\r\n 42\r\nhollow > "
		case b == '\r':
			return "\r\n wrong\r\nhollow > "
		case b == 0x15:
			erase := strings.Repeat("\b \b", len(typed))
			typed, cleared = "", true
			return erase
		case n == 3 && !cleared:
			return "" // lost on its way to the device
		}
		typed += string(b)
		return string(b)
	})
	require.NoError(t, err)
	assert.Equal(t, " 42\n", output)
	assert.Equal(t, "look it up\x15look it up\r", sent)
	require.Len(t, notes, 1)
	assert.Contains(t, notes[0].Text, "“look it up” came back as \"lok it up\"")
}

func TestAGarbledEchoIsNotSentWhereTheLineCannotBeEmptied(t *testing.T) {
	_, sent, _, err := command(
		t,
		strings.Replace(echoing, `line: {clear: "\x15"}`, "", 1),
		0,
		func(n int, b byte) string {
			if n == 3 {
				return "#"
			}
			return string(b)
		},
	)
	require.ErrorContains(t, err, "was typed and not sent")
	assert.Equal(t, "look it up", sent)
}

func TestADeviceWithoutEcho(t *testing.T) {
	output, sent, _, err := command(
		t,
		strings.Replace(echoing, `line: {clear: "\x15"}`, "line: {echo: none}", 1),
		0,
		func(_ int, b byte) string {
			if b == '\r' {
				return "\r\n 42\r\nhollow > "
			}
			return ""
		},
	)
	require.NoError(t, err)
	assert.Equal(t, " 42\n", output)
	assert.Equal(t, "look it up\r", sent)
}

// TestUnknownLinesPushThePromptAway and nothing brings it back but one Enter.
func TestUnknownLinesPushThePromptAway(t *testing.T) {
	enters := 0
	output, sent, _, err := command(t, echoing, 0, func(_ int, b byte) string {
		if b != '\r' {
			return string(b)
		}
		if enters++; enters == 1 {
			return "\r\n 42\r\nhollow > \r\nsomebody logged in\r\n"
		}
		return "\r\nhollow > "
	})
	require.NoError(t, err)
	assert.Contains(t, output, " 42\n")
	assert.Equal(t, "look it up\r\r", sent)
}

func TestAFloodDoesNotKeepAKeyWaiting(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		flood := strings.Repeat("a line without an end\r\n", 3000)
		stop := make(chan struct{})
		go func() {
			for {
				select {
				case l.chunks <- line.Chunk{At: time.Now(), Bytes: []byte(flood)}:
				case <-stop:
					return
				}
			}
		}()
		synctest.Wait()
		held := 0
		for _, e := range func() []event.Event { b, _ := feed.Next(t.Context()); return b }() {
			if in, ok := e.Body.(event.In); ok {
				held += len(in.Bytes)
			}
		}
		assert.Less(t, held, 8<<20, "what nobody reads is not kept without an end")
		s.Press([]byte("x"))
		assert.Contains(t, l.got(), "x")
		close(stop)
	})
}

// TestADialectSaysHowThePortIsSet fills in what the target leaves open, and nothing else.
func TestADialectSaysHowThePortIsSet(t *testing.T) {
	d, err := dialect.Parse("set.yaml",
		[]byte("dialect: set\nline: {speed: 4800, framing: 7E1, flow: xonxoff}\nmodes: [{mode: ready, prompt: '^> $'}]\n"))
	require.NoError(t, err)
	for given, want := range map[line.Target]line.Target{
		{Kind: line.Serial, Address: "x"}:                              {Kind: line.Serial, Address: "x", Speed: 4800, Framing: "7E1", Flow: "xonxoff"},
		{Kind: line.Serial, Address: "x", Speed: 9600, Framing: "8N1"}: {Kind: line.Serial, Address: "x", Speed: 9600, Framing: "8N1", Flow: "xonxoff"},
	} {
		opener := line.NewOpener(clock.Real())
		var got line.Target
		opener.Register(line.Serial, func(_ context.Context, target line.Target) (line.Line, error) {
			got = target
			return newFakeLine(), nil
		})
		s, err := Open(t.Context(), Options{Target: given, Dialect: d, Opener: opener})
		require.NoError(t, err)
		s.Close("the test ends")
		assert.Equal(t, want, got)
	}
}

// TestATerminalOfItsOwnSize is told to the device's model and to the views.
func TestATerminalOfItsOwnSize(t *testing.T) {
	d, err := dialect.Parse("set.yaml",
		[]byte("dialect: set\nline: {size: 80x24, charset: cp437}\nmodes: [{mode: ready, prompt: '^> $'}]\n"))
	require.NoError(t, err)
	opener := line.NewOpener(clock.Real())
	opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return newFakeLine(), nil })
	s, err := Open(t.Context(),
		Options{Target: line.Target{Kind: line.TCP, Address: "x:1"}, Dialect: d, Opener: opener})
	require.NoError(t, err)
	feed := s.Subscribe()
	s.Begin()
	s.Resize(120, 40)
	cols, rows := 0, 0
	s.do(func() { cols, rows = s.sense.Model().Size() })
	assert.Equal(t, [2]int{80, 24}, [2]int{cols, rows}, "whatever the window has")
	s.NextCharset()
	s.Close("the test ends")
	var report []event.Terminal
	for {
		batch, err := feed.Next(t.Context())
		for _, e := range batch {
			if b, ok := e.Body.(event.Terminal); ok {
				report = append(report, b)
			}
		}
		if err != nil {
			break
		}
	}
	assert.Equal(t, []event.Terminal{{Charset: "cp437", Cols: 80, Rows: 24}, {Charset: "utf-8", Cols: 80, Rows: 24}},
		report)
}

// twice opens a session whose line is lost and comes back as another one when the test says so, and runs a book.
func twice(
	t *testing.T, text string,
	use func(t *testing.T, s *Session, first, second *fakeLine, comesBack func(), ended <-chan engine.Result, feed *event.Feed),
) {
	synctest.Test(t, func(t *testing.T) {
		first, second := newFakeLine(), newFakeLine()
		opened := 0
		var there atomic.Bool
		opener := line.NewOpener(clock.Real())
		opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) {
			switch opened++; {
			case opened == 1:
				return first, nil
			case there.Load():
				return second, nil
			}
			return nil, errors.New("not there yet")
		})
		d, err := dialect.Parse("two.yaml", []byte(twoModes))
		require.NoError(t, err)
		book, err := runbook.Parse("book.yaml", []byte(text))
		require.NoError(t, err)
		p, err := book.Prepare(d, nil, runbook.Kit{})
		require.NoError(t, err)
		s, err := Open(t.Context(), Options{Target: first.Target(), Dialect: d, Opener: opener})
		require.NoError(t, err)
		feed := s.Subscribe()
		s.Begin()
		first.says("something\r\n")
		ended := make(chan engine.Result, 1)
		go func() {
			result, _ := s.Run(t.Context(), p)
			ended <- result
		}()
		time.Sleep(time.Second)
		use(t, s, first, second, func() { there.Store(true); time.Sleep(2 * time.Second) }, ended, feed)
		s.Close("the test ends")
	})
}

const waitsThenWorks = `
runbook: r
phases: [{phase: one, steps: [
  {step: x, wait: {mode: [busy]}, timeout: 1h}, {step: y, wait: {mode: [ready]}, timeout: 1h}, {step: z, act: {action: work}}]}]
`

func TestAStopIsHeardWhileTheLineIsLost(t *testing.T) {
	twice(
		t,
		waitsThenWorks,
		func(t *testing.T, s *Session, first, second *fakeLine, comesBack func(), ended <-chan engine.Result, _ *event.Feed) {
			close(first.chunks)
			time.Sleep(2 * time.Second)
			s.TakeHelm()
			s.GiveHelm(engine.Stop)
			synctest.Wait()
			select {
			case result := <-ended:
				assert.Equal(t, event.Stopped, result.Outcome)
				assert.Contains(t, result.Message, "while the line was lost")
			default:
				t.Error("the runbook goes on behind a stop")
			}
			comesBack()
			second.says("working\r\n> ")
			time.Sleep(2 * time.Second)
			assert.Empty(t, second.got())
		},
	)
}

func TestAnyOtherWishGoesOnWaitingForTheLine(t *testing.T) {
	twice(
		t,
		waitsThenWorks,
		func(t *testing.T, s *Session, first, second *fakeLine, comesBack func(), ended <-chan engine.Result, feed *event.Feed) {
			close(first.chunks)
			time.Sleep(2 * time.Second)
			s.TakeHelm()
			s.GiveHelm(engine.GoOn)
			time.Sleep(2 * time.Second)
			comesBack()
			s.TakeHelm() // and decides nothing
			time.Sleep(2 * time.Second)
			for _, end := range collect[event.StepEnd](t, feed) {
				assert.NotEqual(t, event.ByHand, end.Outcome,
					"a wish that was made while the line was lost skips no step later")
			}
			assert.Empty(t, ended)
		},
	)
}

// TestAWishDoesNotOutliveItsStep makes wishes that no wait hears: between two steps.
func TestAWishDoesNotOutliveItsStep(t *testing.T) {
	for as, cut := range map[engine.Wish]bool{engine.GoOn: false, engine.Repeat: false, engine.Stop: true} {
		h := newHelm(func(event.Body) {}, func() {}, func() {})
		h.begin("a test")
		h.take("typing")
		h.back(as)
		h.take("typing again")
		h.back(engine.GoOn)
		ctx, cancel := context.WithCancelCause(t.Context())
		h.hold(event.Runbook, cancel)
		assert.Equal(t, cut, ctx.Err() != nil)
		heard, some := h.hear()
		assert.Equal(t, cut, some, "a stop is still there for who asks, and nothing else")
		assert.True(t, !some || heard == engine.Stop)
		cancel(nil)
	}
}

func TestNoRetryPressesEnterBehindAnUnknownQuestion(t *testing.T) {
	const book = `
runbook: r
phases: [{phase: one, steps: [{step: x, act: {action: work}, timeout: 20s, retry: 2}]}]
`
	twice(
		t,
		book,
		func(t *testing.T, s *Session, first, _ *fakeLine, _ func(), ended <-chan engine.Result, feed *event.Feed) {
			first.says("\r\n> ")
			time.Sleep(5 * time.Second)
			require.Equal(t, "work", strings.TrimLeft(first.got(), "\r"))
			first.says("work")
			before := first.got()
			require.True(t, strings.HasSuffix(before, "work\r"), before)
			first.says("\r\nReally drop all of them? [y] ")
			time.Sleep(20 * time.Minute)
			asks := collect[event.Ask](t, feed)
			require.Len(t, asks, 1)
			require.Equal(t, event.FormOverrun, asks[0].Form, "it may be under way still: it is not begun twice")
			require.True(t, s.Answer(asks[0].ID, engine.GiveUp, "operator"))
			time.Sleep(time.Minute)
			asks = collect[event.Ask](t, feed)
			require.Len(t, asks, 1)
			require.True(t, s.Answer(asks[0].ID, engine.TryAgain, "operator"))
			time.Sleep(time.Minute)
			assert.Equal(t, before, first.got(), "nothing is typed behind it")
			asks = collect[event.Ask](t, feed)
			require.Len(t, asks, 1)
			assert.Contains(t, asks[0].Text,
				`the device asks "Really drop all of them? [y]", which the dialect does not know`)
			assert.Empty(t, ended)
		},
	)
}

// TestALineThatEndsInTheMiddleOfAWriteIsLost, and nothing else: a runbook waits for such a line, where it would fail
// otherwise.
func TestALineThatEndsInTheMiddleOfAWriteIsLost(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := newFakeLine()
		opener := line.NewOpener(clock.Real())
		opener.Register(line.TCP, func(ctx context.Context, _ line.Target) (line.Line, error) { return l, nil })
		s, err := Open(t.Context(), Options{Target: l.Target(), Opener: opener})
		require.NoError(t, err)
		s.Begin()
		ended := &line.Error{Target: l.Target(), Reason: line.ErrClosed}
		other := errors.New("the line took nothing")
		assert.Equal(t, other, s.run().asLost(t.Context(), other))
		require.NoError(t, s.run().asLost(t.Context(), nil))
		assert.Equal(t, error(ended), s.run().asLost(t.Context(), ended),
			"the line is there still: it is told as it is")
		opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return nil, ended })
		go func() {
			time.Sleep(time.Second)
			close(l.chunks)
		}()
		require.ErrorIs(t, s.run().asLost(t.Context(), ended), engine.ErrLineLost)
		s.Close("the test ends")
	})
}
