package session

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
)

// lostOnce opens a session whose line is lost at once, and counts what is tried then.
func lostOnce(
	t *testing.T, again func() (line.Line, error),
	use func(t *testing.T, s *Session, feed *event.Feed, tries *[]time.Duration),
) {
	synctest.Test(t, func(t *testing.T) {
		first := newFakeLine()
		var lost time.Time
		tries := []time.Duration{}
		opener := line.NewOpener(clock.Real())
		opener.Register(line.SSH, func(context.Context, line.Target) (line.Line, error) {
			if lost.IsZero() {
				return first, nil
			}
			tries = append(tries, time.Since(lost))
			return again()
		})
		s, err := Open(t.Context(), Options{Target: line.Target{Kind: line.SSH, Address: "gw"}, Opener: opener})
		require.NoError(t, err)
		feed := s.Subscribe()
		s.Begin()
		synctest.Wait()
		lost = time.Now()
		close(first.chunks)
		use(t, s, feed, &tries)
		s.Close("the test ends")
		synctest.Wait()
	})
}

func seconds(all []time.Duration) (s []float64) {
	for _, d := range all {
		s = append(s, d.Seconds())
	}
	return s
}

func TestALineOverANetworkIsTriedLessAndLessOften(t *testing.T) {
	lostOnce(
		t,
		func() (line.Line, error) { return nil, errors.New("not there yet") },
		func(t *testing.T, s *Session, _ *event.Feed, tries *[]time.Duration) {
			time.Sleep(time.Minute)
			synctest.Wait()
			assert.Equal(t, []float64{0.5, 1.5, 3.5, 7.5, 15.5, 30.5, 45.5}, seconds(*tries))
			s.Press([]byte("x"))
			synctest.Wait()
			assert.Len(t, *tries, 8, "a key has it tried at once")
		},
	)
}

func TestWhoDoesNotWantUsIsNotAskedAgain(t *testing.T) {
	for _, reason := range []error{line.ErrDenied, line.ErrOtherKey} {
		refused := &line.Error{
			Target: line.Target{Kind: line.SSH, Address: "gw"},
			Reason: reason,
			Remedy: "look into it",
		}
		lostOnce(
			t,
			func() (line.Line, error) { return nil, refused },
			func(t *testing.T, s *Session, feed *event.Feed, tries *[]time.Duration) {
				waited := make(chan error, 1)
				go func() { waited <- s.run().AwaitLine(t.Context()) }()
				time.Sleep(time.Hour)
				synctest.Wait()
				assert.Len(t, *tries, 1)
				assert.ErrorIs(t, <-waited, reason)
				lines := collect[event.Line](t, feed)
				assert.Equal(t, event.LineClosed, lines[len(lines)-1].State)
				assert.Contains(t, lines[len(lines)-1].Note, "look into it")
				s.Press([]byte("x"))
				time.Sleep(time.Minute)
				synctest.Wait()
				assert.Len(t, *tries, 2, "a key tries it once more")
			},
		)
	}
}

// TestWhatALineAsksIsAskedInTheSession gives a password when the line is opened again, and shows it nowhere.
func TestWhatALineAsksIsAskedInTheSession(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := newFakeLine()
		opener := line.NewOpener(clock.Real())
		opener.Register(line.SSH, func(context.Context, line.Target) (line.Line, error) { return l, nil })
		s, err := Open(t.Context(), Options{Target: line.Target{Kind: line.SSH, Address: "gw"}, Opener: opener})
		require.NoError(t, err)
		feed := s.Subscribe()
		s.Begin()
		given := make(chan string, 1)
		go func() {
			answer, _ := s.askForLine(t.Context(), line.Question{Text: "password of harbour at gw", Secret: true})
			given <- answer
		}()
		synctest.Wait()
		asks := collect[event.Ask](t, feed)
		require.Len(t, asks, 1)
		assert.True(t, asks[0].Typed && asks[0].Secret)
		require.True(t, s.Answer(asks[0].ID, "lamp-and-tide", "operator"))
		assert.Equal(t, "lamp-and-tide", <-given)
		l.says("your password is lamp-and-tide\r\n")
		l.says("ok\r\n")
		time.Sleep(time.Second)
		var kept string
		batch, err := feed.Next(t.Context())
		require.NoError(t, err)
		for _, e := range batch {
			text, err := e.MarshalJSON()
			require.NoError(t, err)
			kept += string(text)
		}
		assert.Contains(t, kept, "your password is [secret]")
		assert.NotContains(t, kept, "lamp-and-tide")
		s.Close("the test ends")
	})
}

// TestALineThatIsDroppedAtOnceIsNotBack has a device that takes connections while it starts, and drops them.
func TestALineThatIsDroppedAtOnceIsNotBack(t *testing.T) {
	n := 0
	again := func() (line.Line, error) {
		l := newFakeLine()
		if n++; n < 4 {
			close(l.chunks)
		} else {
			l.chunks <- line.Chunk{At: time.Now(), Bytes: []byte("login: ")}
		}
		return l, nil
	}
	lostOnce(t, again, func(t *testing.T, _ *Session, feed *event.Feed, tries *[]time.Duration) {
		time.Sleep(time.Minute)
		synctest.Wait()
		assert.Equal(t, []float64{0.5, 1.5, 3.5, 7.5}, seconds(*tries), "its drops are no success")
		var states, said []string
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		batch, _ := feed.Next(ctx)
		for _, e := range batch {
			switch b := e.Body.(type) {
			case event.Line:
				states = append(states, b.State)
			case event.In:
				said = append(said, string(b.Bytes))
			}
		}
		assert.Equal(t, []string{event.LineOpen, event.LineLost, event.LineBack}, states)
		assert.Equal(t, []string{"login: "}, said, "its first words are not lost")
	})
}

// TestAHundredDrops loses the line again and again: each time it comes back, and nothing is left behind, which the end
// of the bubble would show.
func TestAHundredDrops(t *testing.T) {
	var latest atomic.Pointer[fakeLine]
	again := func() (line.Line, error) {
		l := newFakeLine()
		l.chunks <- line.Chunk{At: time.Now(), Bytes: []byte("login: ")}
		latest.Store(l)
		return l, nil
	}
	lostOnce(t, again, func(t *testing.T, s *Session, feed *event.Feed, _ *[]time.Duration) {
		for range 100 {
			require.NoError(t, s.run().AwaitLine(t.Context()))
			synctest.Wait()
			close(latest.Load().chunks)
			synctest.Wait()
		}
		require.NoError(t, s.run().AwaitLine(t.Context()))
		back := 0
		for _, l := range collect[event.Line](t, feed) {
			if l.State == event.LineBack {
				back++
			}
		}
		assert.Equal(t, 101, back)
	})
}
