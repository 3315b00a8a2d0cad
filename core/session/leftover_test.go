package session

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
)

const clearing = "line: {clear: \"\\x15\"}\n" + dangerous

// steered is a session of a dialect, with the helm at a runbook that waits for what the test does.
func steered(t *testing.T, text string, use func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed)) {
	lockedBy(t, text, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		s.do(func() { s.helm.begin("a test") })
		use(t, s, l, feed)
	})
}

// half types without an Enter, as far as the device shows it.
func half(s *Session, l *fakeLine, keys, echoed string) {
	typeKeys(s, keys)
	l.says(echoed)
	time.Sleep(50 * time.Millisecond)
}

func TestTheHelmIsNotGivenBackWhileAnEnterIsHeld(t *testing.T) {
	steered(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		who := func() (who string) { s.do(func() { who = s.helm.who }); return who }
		half(s, l, "wipe bank B\r", "wipe bank B")
		for _, as := range []runbook.Resumption{runbook.Repeat, runbook.GoOn} {
			s.GiveHelm(as)
			assert.Equal(t, event.Hand, who())
		}
		notes := collect[event.Note](t, feed)
		require.Len(t, notes, 2)
		assert.Contains(t, notes[0].Text, "not given back while the Enter behind “wipe bank B” is held")
		assert.Equal(t, "wipe bank B", l.got())
		s.GiveHelm(runbook.Stop)
		assert.Equal(t, event.Runbook, who(), "a stop is always taken")
		s.TakeHelm()
		require.True(t, s.SendHeld())
		s.GiveHelm(runbook.Repeat)
		assert.Equal(t, event.Runbook, who())
	})
}

func TestWhatTheHandLeftIsNeverEndedByTheRunbook(t *testing.T) {
	types := map[string]func(context.Context, console) error{
		"wake":   func(ctx context.Context, c console) error { return c.Type(ctx, "\r", false) },
		"key":    func(ctx context.Context, c console) error { return c.Type(ctx, "s", false) },
		"secret": func(ctx context.Context, c console) error { return c.Command(ctx, "x", runbook.Typing{Secret: true}) },
		"empty":  func(ctx context.Context, c console) error { return c.Command(ctx, "", runbook.Typing{}) },
	}
	for name, do := range types {
		for _, echoed := range []string{"wipe bank B", ""} {
			steered(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
				half(s, l, "wipe bank B", echoed)
				s.GiveHelm(runbook.Repeat)
				done := make(chan error, 1)
				go func() { done <- do(t.Context(), console{s}) }()
				assert.Equal(t, "wipe bank B\x15", l.got(), "%s: the line is emptied first", name)
				l.says("\r\x1b[K> ")
				require.NoError(t, <-done)
				after := strings.TrimPrefix(l.got(), "wipe bank B\x15")
				assert.Contains(t, []string{"\r", "s", "x\r"}, after)
				assert.Contains(t, collect[event.Note](t, feed)[0].Text, "“wipe bank B” stands on the line and was not sent")
			})
		}
		steered(t, dangerous, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
			half(s, l, "wipe bank B", "wipe bank B")
			s.GiveHelm(runbook.Repeat)
			err := do(t.Context(), console{s})
			assert.ErrorContains(t, err, "“wipe bank B” stands on the line and was not sent; the dialect knows no key that empties the line")
			assert.Equal(t, "wipe bank B", l.got(), "%s: nothing is typed behind it", name)
		})
	}
}

func TestALineThatIsOverIsNoLeftover(t *testing.T) {
	for name, says := range map[string]string{"the device asked anew": "\r\n> ", "it starts": "\r\nbooting\r\n"} {
		steered(t, clearing, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
			half(s, l, "q", says)
			time.Sleep(time.Second)
			s.GiveHelm(runbook.Repeat)
			require.NoError(t, console{s}.Type(t.Context(), "\r", false), name)
			assert.Equal(t, "q\r", l.got(), name)
		})
	}
}

func TestWhatTheRunbookLeftBeginsTheHandsLine(t *testing.T) {
	steered(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		go func() { _ = console{s}.Command(ctx, "wipe bank", runbook.Typing{Fresh: true}) }()
		synctest.Wait()
		require.Equal(t, "wipe bank", l.got(), "it waits for its echo")
		typeKeys(s, " B\r")
		assert.Equal(t, "wipe bank B", l.got())
		assert.Equal(t, []string{"held wipe bank B"}, states(t, feed), "although nothing is echoed yet")
	})
}

func TestAHalfTypedCommandIsEmptiedWhenTheStepIsRepeated(t *testing.T) {
	steered(t, clearing, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
		ctx, cancel := context.WithCancel(t.Context())
		go func() { _ = console{s}.Command(ctx, "wipe bank B", runbook.Typing{Fresh: true}) }()
		synctest.Wait()
		s.TakeHelm()
		cancel()
		l.says("wipe bank B")
		s.GiveHelm(runbook.Repeat)
		go func() { _ = console{s}.Type(t.Context(), "\r", false) }()
		assert.Equal(t, "wipe bank B\x15", l.got())
	})
}
