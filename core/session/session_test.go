package session

import (
	"context"
	"errors"
	"io"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/sense"
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
legs: [{leg: one, steps: [{step: Wait for work, wait: {mode: [busy]}}]}]
`

// with opens a session on a fake line in virtual time.
func with(t *testing.T, approve func(event.Ask) string, use func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed)) {
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
		if body, is := e.Body.(T); is {
			all = append(all, body)
		}
	}
	return all
}

func TestTypingTakesTheHelmAndStopsTheRunbook(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		ended := make(chan runbook.Result, 1)
		go func() {
			result, _ := s.Run(t.Context(), prepared(t))
			ended <- result
		}()
		synctest.Wait()
		_, err := s.Run(t.Context(), prepared(t))
		assert.ErrorContains(t, err, "running already")
		s.Press([]byte("x"))
		assert.Equal(t, "x", l.got())
		assert.ErrorIs(t, console{s}.Type(t.Context(), "work\r", false), runbook.ErrHelm, "the runbook may not type now")
		s.GiveHelm(runbook.Stop)
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
		ended := make(chan runbook.Result, 1)
		go func() {
			result, _ := s.Run(t.Context(), prepared(t))
			ended <- result
		}()
		synctest.Wait()
		s.TakeHelm()
		s.GiveHelm(runbook.GoOn)
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

func TestKeysWaitUntilTheCarrierIsCancelled(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
		err := make(chan error, 1)
		go func() {
			err <- s.Transfer(t.Context(), func(ctx context.Context, port carrier.Port) error {
				buffer := make([]byte, 8)
				_, err := port.Read(ctx, buffer, time.Hour)
				_ = port.Write(context.WithoutCancel(ctx), []byte("CANCEL"))
				return err
			})
		}()
		synctest.Wait()
		s.Press([]byte("a"))
		assert.ErrorIs(t, <-err, runbook.ErrHelm)
		assert.Equal(t, "CANCELa", l.got(), "what was typed comes after the cancel")
	})
}

func TestACarrierReadsWhatArrivesAndGivesTheRestBack(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
		go func() {
			time.Sleep(time.Second)
			l.says("blockrest> ")
		}()
		err := s.Transfer(t.Context(), func(ctx context.Context, port carrier.Port) error {
			buffer := make([]byte, 5)
			n, err := port.Read(ctx, buffer, time.Minute)
			assert.Equal(t, "block", string(buffer[:n]))
			return err
		})
		require.NoError(t, err)
		v, err := console{s}.Await(t.Context(), func(v sense.View) bool { return v.Partial != "" })
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
		_, err := console{s}.Await(t.Context(), func(sense.View) bool { return false })
		assert.ErrorIs(t, err, runbook.ErrLineLost)
		s.Press([]byte("hello?"))
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		assert.ErrorIs(t, console{s}.AwaitLine(ctx), context.DeadlineExceeded)
		notes := collect[event.Note](t, feed)
		require.Len(t, notes, 1)
		assert.Contains(t, notes[0].Text, "goes nowhere")
	})
}

func TestAnApproverWithoutAnAnswerStops(t *testing.T) {
	with(t, func(event.Ask) string { return "perhaps" }, func(t *testing.T, s *Session, _ *fakeLine, _ *event.Feed) {
		answer, err := console{s}.Ask(t.Context(), event.Ask{Form: "hold", Answers: []string{runbook.Approve, runbook.StopHere}})
		require.NoError(t, err)
		assert.Equal(t, runbook.StopHere, answer)
		assert.False(t, s.Answer("99", runbook.Approve, "operator"), "no such question")
	})
}

func TestPromptIsToldOnceAndInTime(t *testing.T) {
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
