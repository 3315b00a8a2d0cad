package session

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook/engine"
)

// TestWhatStoodOnALostLineIsHeldYet leaves a danger on the device's line, or a piece of one, loses the line, or changes
// its speed, or learns how the device talks, and presses what would send it: it is held, whoever ends it, until the device shows its
// line again or it was emptied.
func TestWhatStoodOnALostLineIsHeldYet(t *testing.T) {
	for name, c := range map[string]struct {
		before, after string
		quiet         time.Duration // before the line is lost
		shows         string        // what the device shows when it is back
		held          bool
	}{
		"a danger, then Enter":            {before: "wipe bank B", after: "\r", held: true},
		"one that was held already":       {before: "wipe bank B\r", after: "\r", held: true},
		"long ago":                        {before: "wipe bank B\r", after: "\r", quiet: time.Minute, held: true},
		"a piece, and the rest":           {before: "wipe ba", after: "nk B\r", held: true},
		"a danger, and more":              {before: "wipe bank B", after: " now\r", held: true},
		"no danger":                       {before: "look ba", after: "nks\r"},
		"emptied by a key":                {before: "wipe bank B", after: "\x15\r"},
		"broken off":                      {before: "wipe bank B", after: "\x03\r"},
		"the device shows an empty line":  {before: "wipe bank B", after: "\r", shows: "\r\n> "},
		"the device shows it":             {before: "wipe bank B", after: "\r", shows: "\r\n> wipe bank B", held: true},
		"nothing stood there":             {before: "", after: "\r"},
		"a danger that was sent by hand ": {before: "look\r", after: "\r"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				lines, next := []*fakeLine{newFakeLine(), newFakeLine()}, 0
				opener := line.NewOpener(clock.Real())
				opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) {
					next++
					return lines[min(next, len(lines))-1], nil
				})
				d, err := dialect.Parse("dangerous.yaml", []byte(clearing))
				require.NoError(t, err)
				s, err := Open(t.Context(), Options{Target: lines[0].Target(), Dialect: d, Opener: opener})
				require.NoError(t, err)
				feed := s.Subscribe()
				s.Begin()
				defer s.Close("the test ends")
				lines[0].prompt()
				for _, key := range c.before {
					s.Press([]byte(string(key)))
					if key != '\r' {
						lines[0].says(string(key))
					}
				}
				time.Sleep(c.quiet + time.Second)
				close(lines[0].chunks)
				time.Sleep(5 * time.Second)
				if c.shows != "" {
					lines[1].says(c.shows)
					time.Sleep(time.Second)
				}
				collect[event.Interlock](t, feed)
				typeKeys(s, c.after)
				held := 0
				for _, lock := range collect[event.Interlock](t, feed) {
					if lock.State == event.InterlockHeld {
						held++
					}
				}
				assert.Equal(t, c.held, held > 0)
				assert.Equal(t, !c.held, strings.Contains(lines[1].got(), "\r"), "%q", lines[1].got())
				if !c.held {
					return
				}
				s.GiveHelm(engine.Stop)
				require.True(t, s.SendHeld(), "it is the operator's to send")
				assert.True(t, strings.HasSuffix(lines[1].got(), "\r"))
			})
		})
	}
}

// TestARunEmptiesWhatWasStranded: its first key would send it.
func TestARunEmptiesWhatWasStranded(t *testing.T) {
	lockedBy(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		half(s, l, "wipe bank B\r", "wipe bank B")
		s.do(func() { s.closeExchange(event.EndSpeed); s.forget() }) // as when our speed is changed
		s.do(func() { s.guard.held = nil; s.helm.begin("a test") })
		go func() { _ = s.run().Type(t.Context(), "\r", false) }()
		time.Sleep(20 * time.Second)
		sent := l.got()
		assert.Less(t, strings.LastIndex(sent, "\x15"), len(sent))
		assert.Contains(t, sent, "\x15", "%q", sent)
		if at := strings.Index(sent, "\r"); at >= 0 {
			assert.Less(t, strings.Index(sent, "\x15"), at, "the line was emptied first: %q", sent)
		}
		_ = feed
	})
}

// TestAHeldEnterIsNotSentIntoATransfer, nor is one begun behind it.
func TestAHeldEnterIsNotSentIntoATransfer(t *testing.T) {
	lockedBy(t, clearing, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
		half(s, l, "wipe bank B\r", "wipe bank B")
		_, _, err := s.Do(byHand(t, "take", map[string]string{"into": t.TempDir()}), engine.Line)
		assert.ErrorContains(t, err, "the Enter behind “wipe bank B” is held")
		s.do(func() { require.NoError(t, s.helm.borrow("a test")) })
		assert.False(t, s.SendHeld())
		assert.NotContains(t, l.got(), "\r")
		s.do(func() { s.helm.giveBack("the test is over") })
		assert.True(t, s.SendHeld())
	})
}

// TestWhatIsSentOfAStrandedLineIsKnown ends a line that stood there when our speed was changed: what is pending by it is
// known, as by one that was typed whole.
func TestWhatIsSentOfAStrandedLineIsKnown(t *testing.T) {
	lockedBy(t, clearing, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
		half(s, l, "try it", "try it")
		s.do(func() { s.closeExchange(event.EndSpeed); s.forget() })
		typeKeys(s, "\r")
		require.True(t, strings.HasSuffix(l.got(), "\r"), "it is no danger")
		open := s.run().Pending()
		require.Len(t, open, 1)
		assert.Equal(t, "trial", open[0].Name)
		s.do(func() { assert.Empty(t, s.guard.stranded) })
	})
}
