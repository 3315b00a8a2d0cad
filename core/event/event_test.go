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

// samples has one body of every kind, with values that are easy to lose.
var samples = []Body{
	SessionBegin{Target: "bench:x?speed=9600&framing=8N1", Dialect: "d", Device: "hollow-rtr1", Scale: 8},
	SessionEnd{Why: "“left”"},
	In{Bytes: Text("plain ø 港\r\n\x1b[1m\u009b2J\x7f")},
	Out{By: Hand, Bytes: Text{0xff, 0x00, 0x80}},
	Line{State: LineLost, Note: "pulled", Speed: 9600},
	Speed{From: 9600, To: 115200, Why: "both ends"},
	Mode{Name: "monitor", Proof: "sill: ", Score: 0.5},
	Prompt{Mode: "monitor", Text: "sill: "},
	Noise{Text: "log: link up"},
	Terminal{Charset: "cp437", Cols: 80, Rows: 24, Plain: true},
	Helm{Who: Runbook, Why: "given back"},
	RunBegin{Runbook: "r", Inputs: map[string]string{"image": "x"}, Steps: []StepPlan{{ID: "1.1", Expected: time.Second, NoReturn: true}}},
	RunEnd{Outcome: Done, Exit: 0, Proved: []string{"it runs"}},
	StepBegin{ID: "1.1", Try: 2},
	StepNow{ID: "1.1", Doing: "a", Awaiting: "b", Limit: time.Minute},
	StepEnd{ID: "1.1", Outcome: Skipped, Took: 3},
	Ask{ID: "1", Form: "hold", Types: []string{"store drop x"}, NoReturn: true, Answers: []string{"approve"}},
	Answer{ID: "1", Answer: "approve", By: "operator"},
	Fact{Name: "store.free", Value: "8", Source: "store", Was: "7"},
	Check{Step: "1.3", Text: "fits", Held: true, Got: "x"},
	TransferBegin{File: "x", Size: 1 << 40, By: "XMODEM", Allowed: 11452.9, Receive: true},
	Transfer{Bytes: 5, Left: time.Hour, Rate: 1.5},
	TransferEnd{Outcome: Failed, Padding: 127},
	Mark{Text: "speed"},
	Note{Level: Warn, Text: "!"},
	Secret{What: "password of the FTP server"},
	Course{Steps: []StepPlan{{ID: "2a.1", Leg: "hop to 7.6.1"}}},
	Carrier{Name: "TFTP", State: Listening, Address: "192.0.2.10:69"},
	Staged{Name: "lark.cgo", State: Offered, By: "TFTP", Size: 5, Slot: true},
	Message{Transfer: "tftp x", Row: 3, By: "TFTP", FromDevice: true, What: "DATA", First: 1, Last: 65536, Count: 65536, Again: 2},
	Estimates{File: "lark.cgo", Size: 5, All: []Estimate{{Carrier: "tftp", Time: time.Minute, Why: "blocks", Chosen: true}}},
	Preflight{What: "port", Text: "held", Remedy: "end it"},
	Probe{Target: "icmp:192.0.2.40", Held: true, Trip: time.Millisecond},
	Reach{Target: "icmp:192.0.2.40", State: Back, Begin: time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC), Length: time.Minute},
	Restart{Step: "4.1", Begun: time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC), Expected: time.Minute, Console: "silent", Over: true},
	Shelf{Folders: []string{"x"}, Images: []ShelfImage{{Name: "lark.cgo", Fit: "no", Against: []string{"made for another"}}}},
	Hops{From: "7.4.2", To: "8.1.0", Hops: []HopPlan{{From: "7.4.2", Release: "7.6.1", Before: []string{"licence"}}}},
	Interlock{State: InterlockHeld, Command: "recommence", Says: "restarts"},
}

func TestEveryKindComesBackFromJSON(t *testing.T) {
	seen := map[string]bool{}
	for _, body := range samples {
		seen[body.Kind()] = true
		before := Event{Seq: 7, At: time.Date(2026, 3, 2, 14, 0, 0, 123456789, time.UTC), Body: body}
		text, err := json.Marshal(before)
		require.NoError(t, err)
		assert.NotContains(t, string(text), "\n", "an event is one line")
		assert.False(t, strings.ContainsFunc(string(text), func(r rune) bool { return r < 0x20 || isC1(r) }), "and safe on a terminal")
		var after Event
		require.NoError(t, json.Unmarshal(text, &after), "%s", text)
		assert.Equal(t, before, after)
	}
	for _, kind := range Kinds() {
		assert.True(t, seen[kind], "no sample of %s", kind)
	}
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
