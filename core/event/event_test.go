package event

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pilotrix/core/clock"
)

func TestEveryKindComesBackFromJSON(t *testing.T) {
	for name, d := range declared {
		body := d.sample
		assert.Same(t, d, body.kind(), "%s is declared as itself", name)
		before := Event{Seq: 7, At: time.Date(2026, 3, 2, 14, 0, 0, 123456789, time.UTC), Body: body}
		text, err := json.Marshal(before)
		require.NoError(t, err)
		assert.NotContains(t, string(text), "\n", "an event is one line")
		assert.False(t, strings.ContainsFunc(string(text), func(r rune) bool { return r < 0x20 || isC1(r) }), "and safe on a terminal")
		var after Event
		require.NoError(t, json.Unmarshal(text, &after), "%s", text)
		assert.Equal(t, before, after)
	}
	assert.Greater(t, len(Kinds()), 30)
	var unknown Event
	assert.ErrorContains(t, json.Unmarshal([]byte(`{"seq":1,"at":"2026-01-01T00:00:00Z","kind":"telepathy"}`), &unknown), "telepathy")
}

func TestEveryFeedSeesTheSameOrder(t *testing.T) {
	hub := NewHub(clock.Real())
	feeds := []*Feed{hub.Subscribe(), hub.Subscribe()}
	var writers sync.WaitGroup
	const each = 500
	for range 4 {
		writers.Go(func() {
			for range each {
				hub.Emit(Note{Text: "x"})
			}
		})
	}
	writers.Wait()
	hub.Close()
	for _, feed := range feeds {
		var last int64
		for {
			batch, err := feed.Next(t.Context())
			if err != nil {
				require.ErrorIs(t, err, io.EOF)
				break
			}
			for _, e := range batch {
				require.Equal(t, last+1, e.Seq)
				last = e.Seq
			}
		}
		assert.EqualValues(t, 4*each, last)
	}
	_, err := hub.Subscribe().Next(t.Context())
	assert.ErrorIs(t, err, io.EOF, "a feed of a closed hub ends at once")
}

func TestAFeedGivesUpWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := NewHub(clock.Real()).Subscribe().Next(ctx)
	assert.ErrorIs(t, err, context.Canceled)
}

// TestNoSplitLeaksASecret cuts a stream that holds secrets anywhere; whatever the pieces, no secret
// comes through and nothing else is lost.
func TestNoSplitLeaksASecret(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const secret = "aba-abab"
		words := rapid.SliceOf(rapid.SampledFrom([]string{secret, "ab", "a", "-", "aba-", "text ", "aba-aba"})).Draw(t, "words")
		stream := strings.Join(words, "")
		var r Redactor
		r.Protect([]byte(secret))
		var kept bytes.Buffer
		for rest := []byte(stream); len(rest) > 0; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "n")
			kept.Write(r.Apply(Event{Body: In{Bytes: Text(rest[:n])}}).Body.(In).Bytes)
			rest = rest[n:]
		}
		kept.Write(r.held)
		assert.NotContains(t, kept.String(), secret)
		assert.Equal(t, strings.ReplaceAll(stream, secret, "[secret]"), kept.String())
	})
}

// TestASecretMadeInTheSessionIsLearned tells it twice, and lets a device print it in two pieces.
func TestASecretMadeInTheSessionIsLearned(t *testing.T) {
	var r Redactor
	for range 2 {
		told := r.Apply(Event{Body: Secret{What: "password", Value: "once-only"}})
		assert.Equal(t, Secret{What: "password"}, told.Body)
	}
	assert.Len(t, r.secrets, 1)
	first := r.Apply(Event{Body: In{Bytes: Text("word: once")}}).Body.(In)
	second := r.Apply(Event{Body: In{Bytes: Text("-only\r\nok")}}).Body.(In)
	assert.Equal(t, "word: [secret]\r\nok", string(first.Bytes)+string(second.Bytes))
	written, err := json.Marshal(Secret{What: "password", Value: "once-only"})
	require.NoError(t, err)
	assert.NotContains(t, string(written), "once-only", "not even by who forgets to redact")
}

// TestAFullFeedSaysSoUntilItIsRead is what slows a flooding line down to its slowest reader.
func TestAFullFeedSaysSoUntilItIsRead(t *testing.T) {
	hub := NewHub(clock.Real())
	slow, quick := hub.Subscribe(), hub.Subscribe()
	piece := In{Bytes: make(Text, 64<<10)}
	for n := 0; !hub.Full(); n++ {
		require.LessOrEqual(t, n, 1<<10, "a feed has a bound")
		hub.Emit(piece)
	}
	_, err := quick.Next(t.Context())
	require.NoError(t, err)
	assert.True(t, hub.Full(), "the slowest reader counts")

	batch, err := slow.Some(t.Context(), 100<<10)
	require.NoError(t, err)
	assert.Len(t, batch, 2, "no more than was asked for, besides the piece that passes it")
	select {
	case <-hub.Room():
	case <-t.Context().Done():
	}
	assert.False(t, hub.Full())
}
