package logbook

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
)

// played keeps what a player has shown, as a screen would.
type played struct {
	t    *testing.T
	p    *Player
	seen []string
	last Played
	came chan Played
}

// startPlaying plays an entry of five steps, a minute apart, paused behind the first event.
func startPlaying(t *testing.T) *played {
	t.Helper()
	b := book(t)
	k := &Keeper{book: b, id: session(t, b, "mare-gw1", "", "", "")}
	_, err := b.db.Exec(`DELETE FROM event`)
	require.NoError(t, err)
	at := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	var all []event.Event
	for i := range 5 {
		begins := at.Add(time.Duration(i) * time.Minute)
		all = append(
			all,
			event.Event{Seq: int64(2*i + 1), At: begins, Body: event.StepBegin{ID: string(rune('a' + i))}},
			event.Event{
				Seq:  int64(2*i + 2),
				At:   begins.Add(30 * time.Second),
				Body: event.StepEnd{ID: strings.ToUpper(string(rune('a' + i)))},
			},
		)
	}
	require.NoError(t, k.write(all))
	p, err := b.Player(k.id, 1)
	require.NoError(t, err)
	s := &played{t: t, p: p, came: make(chan Played)}
	p.Do(PauseOrGoOn)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- p.Play(ctx, func(now Played) { s.came <- now }) }()
	t.Cleanup(func() {
		cancel()
		for {
			select {
			case err := <-ended:
				assert.ErrorIs(t, err, context.Canceled)
				return
			case <-s.came:
			}
		}
	})
	for !s.last.Paused {
		s.shows()
	}
	return s
}

// shows is the next that is shown.
func (s *played) shows() {
	now := <-s.came
	if now.Again {
		s.seen = nil
	}
	for _, e := range now.Events {
		switch b := e.Body.(type) {
		case event.StepBegin:
			s.seen = append(s.seen, b.ID)
		case event.StepEnd:
			s.seen = append(s.seen, b.ID)
		}
	}
	s.last = now
}

// after makes a move and returns what is on the screen then.
func (s *played) after(m Move) string {
	s.p.Do(m)
	s.shows()
	return strings.Join(s.seen, "")
}

// TestAReplayIsTurnedToStepsAndTimes goes back and forward while it is paused.
func TestAReplayIsTurnedToStepsAndTimes(t *testing.T) {
	s := startPlaying(t)
	begin := strings.Join(s.seen, "")
	assert.LessOrEqual(t, len(begin), 1)
	if begin == "" {
		assert.Equal(t, "a", s.after(NextStep))
	}
	assert.Equal(t, "aAb", s.after(NextStep))
	assert.Equal(t, "aAbBc", s.after(NextStep))
	assert.Equal(t, "aAb", s.after(StepBefore))
	assert.Equal(t, "aAbBc", s.after(MinuteOn))
	assert.Equal(t, "aAbBcCd", s.after(MinuteOn))
	assert.Equal(t, "aAbBc", s.after(MinuteBack))
	s.after(StepBefore)
	s.after(StepBefore)
	assert.Equal(t, "a", s.after(StepBefore), "there is none before the first")
	assert.True(t, s.last.Paused)
	assert.InDelta(t, 2, func() float64 { s.after(Faster); return s.last.Speed }(), 0.01)
	assert.InDelta(t, 0.5, func() float64 { s.after(Slower); s.after(Slower); return s.last.Speed }(), 0.01)
}

// TestAReplayAsFastAsTheScreen comes to its end in few pieces, and can be turned back from there.
func TestAReplayAsFastAsTheScreen(t *testing.T) {
	s := startPlaying(t)
	for s.last.Speed < maxSpeed {
		s.after(Faster)
	}
	s.p.Do(PauseOrGoOn)
	pieces := 0
	for !s.last.Over {
		s.shows()
		pieces++
	}
	assert.Equal(t, "aAbBcCdDeE", strings.Join(s.seen, ""))
	assert.Less(t, pieces, 12)
	assert.Equal(t, "aAbBcCd", s.after(StepBefore))
}
