package state

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
)

func points(rows ...[3]string) event.Fact {
	fact := event.Fact{Name: "attached", Value: "rows", Source: "points", Rows: []map[string]string{}}
	for _, r := range rows {
		fact.Rows = append(fact.Rows, map[string]string{"name": r[0], "release": r[1], "state": r[2]})
	}
	return fact
}

// TestAttachedDevicesKeepWhatTheyHaveBeen has one go away and come back renewed, and one that is not listed any more.
func TestAttachedDevicesKeepWhatTheyHaveBeen(t *testing.T) {
	s := after(fresh(), points([3]string{"a", "3.4", "here"}, [3]string{"b", "3.4", "here"}),
		points([3]string{"a", "3.4", "here"}, [3]string{"b", "3.4", "here"}), points([3]string{"a", "3.4", "away"}),
		points([3]string{"a", "3.6", "here"}))
	require.Len(t, s.Attached, 2)
	a, b := s.Attached[0], s.Attached[1]
	require.Len(t, a.Spans, 3)
	assert.Equal(t, []string{"here", "away", "here"}, []string{a.Spans[0].State, a.Spans[1].State, a.Spans[2].State})
	assert.True(t, a.NewRelease())
	assert.Equal(t, AttachedMissing, b.State)
	assert.Equal(t, "3.4", b.Release, "what it had last")
	since, until := s.AttachedSince()
	assert.True(t, until.After(since))
	assert.Equal(t, since, a.Spans[0].From)
}

// TestAttachedSpansAreBounded has one flap without an end.
func TestAttachedSpansAreBounded(t *testing.T) {
	s := fresh()
	at := time.Now()
	for i := range 5 * maxSpans {
		s.attachedRows(at.Add(time.Duration(i)*time.Second),
			[]map[string]string{{"name": "a", "release": "1", "state": fmt.Sprint(i % 2)}})
	}
	assert.Len(t, s.Attached[0].Spans, maxSpans)
}

func TestLayersAgreeWhereAllRunOneRelease(t *testing.T) {
	layers := func(release, state string) event.Fact {
		return event.Fact{
			Name: "layers",
			Rows: []map[string]string{
				{"layer": "core", "release": "6.2", "state": "runs"},
				{"layer": "board", "release": release, "state": state},
			},
		}
	}
	s := after(fresh(), layers("6.4", "runs"))
	assert.False(t, s.LayersAgree())
	after(s, layers("6.2", "rests"))
	assert.False(t, s.LayersAgree())
	after(s, layers("6.2", "runs"))
	assert.True(t, s.LayersAgree())
	assert.Equal(t, "6.4", s.Layers[1].ReleaseThen)
}
