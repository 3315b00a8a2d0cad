package state

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/event"
)

// TestWhatWasReadIsOldBehindAChange by whomever, and a fact read by hand counts from its Enter on.
func TestWhatWasReadIsOldBehindAChange(t *testing.T) {
	at := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	rows := []map[string]string{{"bank": "A", "state": "running", "release": "7.4.2", "next": "yes", "saved": "yes"}}
	s := New()
	apply := func(second int, body event.Body) {
		s.Apply(event.Event{At: at.Add(time.Duration(second) * time.Second), Body: body})
	}
	apply(1, event.Fact{Name: "banks", Rows: rows, Read: at, Hand: true})
	assert.Equal(t, at, s.BoardRead)
	assert.Equal(t, at, s.ReadAt)
	assert.Empty(t, s.NextStartText())
	apply(2, event.Change{Command: "favour B", Hand: true})
	assert.True(t, s.BoardOld())
	assert.Equal(t, "What the next start takes is not known: as of 14:00:00, changed by hand since.", s.NextStartText())
	apply(3, event.Change{Command: "hum", Hand: true, Maybe: true})
	assert.Equal(t, "may have been changed by hand since", s.ChangedText())
	apply(5, event.Fact{Name: "banks", Rows: rows, Read: at.Add(4 * time.Second), Hand: true})
	assert.False(t, s.BoardOld())
	apply(6, event.Fact{Name: "late", Read: at.Add(time.Second), Hand: true})
	assert.Equal(t, at.Add(4*time.Second), s.ReadAt, "its answer took long to be read")
	apply(7, event.Restart{Begun: at})
	assert.Equal(t, "changed since", s.ChangedText())
}
