package session

import (
	"context"
	"errors"
	"strings"
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
)

// twice opens a session whose line is lost and comes back as another one when the test says so, and runs a book.
func twice(t *testing.T, text string, use func(t *testing.T, s *Session, first, second *fakeLine, comesBack func(), ended <-chan runbook.Result, feed *event.Feed)) {
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
		ended := make(chan runbook.Result, 1)
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
	twice(t, waitsThenWorks, func(t *testing.T, s *Session, first, second *fakeLine, comesBack func(), ended <-chan runbook.Result, _ *event.Feed) {
		close(first.chunks)
		time.Sleep(2 * time.Second)
		s.TakeHelm()
		s.GiveHelm(runbook.Stop)
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
	})
}

func TestAnyOtherWishGoesOnWaitingForTheLine(t *testing.T) {
	twice(t, waitsThenWorks, func(t *testing.T, s *Session, first, second *fakeLine, comesBack func(), ended <-chan runbook.Result, feed *event.Feed) {
		close(first.chunks)
		time.Sleep(2 * time.Second)
		s.TakeHelm()
		s.GiveHelm(runbook.GoOn)
		time.Sleep(2 * time.Second)
		comesBack()
		s.TakeHelm() // and decides nothing
		time.Sleep(2 * time.Second)
		for _, end := range collect[event.StepEnd](t, feed) {
			assert.NotEqual(t, event.ByHand, end.Outcome, "a wish that was made while the line was lost skips no step later")
		}
		assert.Empty(t, ended)
	})
}

// TestAWishDoesNotOutliveItsStep makes wishes that no wait hears: between two steps.
func TestAWishDoesNotOutliveItsStep(t *testing.T) {
	for as, cut := range map[runbook.Resumption]bool{runbook.GoOn: false, runbook.Repeat: false, runbook.Stop: true} {
		h := newHelm(func(event.Body) {}, func() {})
		h.begin("a test")
		h.take("typing")
		h.back(as)
		h.take("typing again")
		h.back(runbook.GoOn)
		ctx, cancel := context.WithCancelCause(t.Context())
		h.hold(cancel)
		assert.Equal(t, cut, ctx.Err() != nil)
		assert.Equal(t, map[bool]runbook.Resumption{true: runbook.Stop, false: runbook.Repeat}[cut], h.wish(), "a stop is still there for who asks, and nothing else")
		cancel(nil)
	}
}

func TestNoRetryPressesEnterBehindAnUnknownQuestion(t *testing.T) {
	const book = `
runbook: r
phases: [{phase: one, steps: [{step: x, act: {action: work}, timeout: 20s, retry: 2}]}]
`
	twice(t, book, func(t *testing.T, s *Session, first, _ *fakeLine, _ func(), ended <-chan runbook.Result, feed *event.Feed) {
		first.says("\r\n> ")
		time.Sleep(5 * time.Second)
		require.Equal(t, "work", strings.TrimLeft(first.got(), "\r"))
		first.says("work")
		before := first.got()
		require.True(t, strings.HasSuffix(before, "work\r"), before)
		first.says("\r\nReally drop all of them? [y] ")
		time.Sleep(20 * time.Minute)
		assert.Equal(t, before, first.got(), "nothing is typed behind it")
		asks := collect[event.Ask](t, feed)
		require.Len(t, asks, 1)
		assert.Contains(t, asks[0].Text, `the device asks "Really drop all of them? [y]", which the dialect does not know`)
		assert.Empty(t, ended)
	})
}
