package event

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
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
		assert.False(t, strings.ContainsFunc(string(text), func(r rune) bool { return r < 0x20 || isC1(r) }),
			"and safe on a terminal")
		var after Event
		require.NoError(t, json.Unmarshal(text, &after), "%s", text)
		assert.Equal(t, before, after)
	}
	assert.Greater(t, len(Kinds()), 30)
	var unknown Event
	assert.ErrorContains(t,
		json.Unmarshal([]byte(`{"seq":1,"at":"2026-01-01T00:00:00Z","kind":"telepathy"}`), &unknown), "telepathy")
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

// redacted feeds a stream that is cut anywhere through a hub and returns what its feed has in the end.
func redacted(t *rapid.T, strict bool, stream string, secrets ...string) string {
	hub := NewHub(clock.Real())
	hub.Protect(secrets...)
	hub.Strict(strict)
	feed := hub.Subscribe()
	for rest := []byte(stream); len(rest) > 0; {
		n := rapid.IntRange(1, len(rest)).Draw(t, "n")
		hub.Emit(In{Bytes: Text(rest[:n])})
		if rapid.IntRange(0, 3).Draw(t, "flush") == 0 && !strict {
			hub.Flush()
		}
		rest = rest[n:]
	}
	hub.Close()
	var kept strings.Builder
	for _, e := range all(feed) {
		kept.Write(e.Body.(In).Bytes)
	}
	return kept.String()
}

func all(feed *Feed) (events []Event) {
	for {
		batch, err := feed.Next(context.Background())
		if err != nil {
			return events
		}
		events = append(events, batch...)
	}
}

// TestNoSplitLeaksASecret cuts a stream that holds secrets anywhere; whatever the pieces, no secret comes through and
// nothing else is lost.
func TestNoSplitLeaksASecret(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const secret = "aba-abab"
		words := rapid.SliceOf(rapid.SampledFrom([]string{secret, "ab", "a", "-", "aba-", "text ", "aba-aba"})).
			Draw(t, "words")
		stream := strings.Join(words, "")
		assert.NotContains(t, redacted(t, true, stream, secret), secret[:minLetters])
		easy := redacted(t, false, stream, secret)
		assert.NotContains(t, easy, secret)
		if !strings.Contains(stream, secret) {
			assert.Equal(t, stream, easy, "nothing is lost by holding back")
		}
	})
}

// TestOneSecretThatBeginsAnother leaves no end of the longer one.
func TestOneSecretThatBeginsAnother(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		easy := redacted(t, false, "x lamp-and-tide y lamp-and", "lamp", "lamp-and-tide")
		assert.NotContains(t, easy, "lamp")
		assert.NotContains(t, easy, "tide")
		assert.Equal(t, "x "+Redacted+" y "+Redacted,
			redacted(t, true, "x lamp-and-tide y lamp-and", "lamp", "lamp-and-tide"))
	})
}

// TestASecretIsInNoFieldOfAnyEvent puts it into every text of every kind of event.
func TestASecretIsInNoFieldOfAnyEvent(t *testing.T) {
	const secret = "lamp-and-tide"
	hub := NewHub(clock.Real())
	hub.Protect(secret)
	feed := hub.Subscribe()
	for _, kind := range Kinds() {
		filled := reflect.New(reflect.TypeOf(declared[kind].sample)).Elem()
		fill(filled, "a "+secret+" b")
		hub.Emit(filled.Interface().(Body))
	}
	hub.Close()
	events := all(feed)
	require.Len(t, events, len(Kinds()))
	for _, e := range events {
		written, err := json.Marshal(e)
		require.NoError(t, err)
		assert.NotContains(t, string(written), secret)
		assert.NotContains(t, fmt.Sprintf("%+v", e.Body), secret)
	}
}

// fill writes a text into everything that can hold one.
func fill(v reflect.Value, text string) {
	switch v.Kind() {
	case reflect.String:
		v.SetString(text)
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			v.SetBytes([]byte(text))
			return
		}
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(v.Index(0), text)
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		value := reflect.New(v.Type().Elem()).Elem()
		fill(value, text)
		key := reflect.New(v.Type().Key()).Elem()
		fill(key, text)
		v.SetMapIndex(key, value)
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				fill(v.Field(i), text)
			}
		}
	}
}

// TestASecretTypedKeyByKeyIsTakenOut has the operator type one that is known, and something that begins like it.
func TestASecretTypedKeyByKeyIsTakenOut(t *testing.T) {
	hub := NewHub(clock.Real())
	hub.Protect("#tide")
	feed := hub.Subscribe()
	for _, key := range "set #tide #ti\r" {
		hub.Emit(Out{Who: Hand, Bytes: Text(string(key))})
	}
	hub.Close()
	var typed strings.Builder
	for _, e := range all(feed) {
		typed.Write(e.Body.(Out).Bytes)
	}
	assert.Equal(t, "set "+Redacted+" #ti\r", typed.String())
}

// TestASecretMadeInTheSessionIsLearned tells it twice, and lets a device print it in two pieces.
func TestASecretMadeInTheSessionIsLearned(t *testing.T) {
	hub := NewHub(clock.Real())
	feed := hub.Subscribe()
	for range 2 {
		hub.Emit(Secret{What: "password", Value: "once-only"})
	}
	assert.Len(t, hub.secrets.secrets, 1)
	hub.Emit(In{Bytes: Text("word: once")})
	hub.Emit(In{Bytes: Text("-only\r\nok")})
	hub.Close()
	events := all(feed)
	assert.Equal(t, Secret{What: "password"}, events[0].Body)
	assert.Equal(t, "word: "+Redacted+"\r\nok", string(events[2].Body.(In).Bytes)+string(events[3].Body.(In).Bytes))
	written, err := json.Marshal(Secret{What: "password", Value: "once-only"})
	require.NoError(t, err)
	assert.NotContains(t, string(written), "once-only", "not even by who forgets to redact")
}

// TestSettleWaitsForWhoKeeps is what a change of the device waits for before it is sent.
func TestSettleWaitsForWhoKeeps(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hub := NewHub(clock.Real())
		hub.Subscribe() // one that keeps nothing is not waited for
		keeper := hub.Subscribe()
		keeper.Keeps()
		hub.Emit(Note{Text: "one"})
		settled := make(chan error, 1)
		go func() { settled <- hub.Settle(t.Context()) }()
		synctest.Wait()
		assert.Empty(t, settled)
		<-keeper.Hurry()
		keeper.Kept(1)
		assert.NoError(t, <-settled)

		hub.Emit(Note{Text: "two"})
		go func() { settled <- hub.Settle(t.Context()) }()
		synctest.Wait()
		assert.Empty(t, settled)
		keeper.Abandon()
		assert.NoError(t, <-settled, "who has ended keeps nothing any more")

		keeper.Keeps()
		short, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		hub.Emit(Note{Text: "three"})
		err := hub.Settle(short)
		assert.ErrorIs(t, err, ErrNotRecorded)
		assert.ErrorIs(t, err, context.DeadlineExceeded)

		full := errors.New("the disk is full")
		short, cancel = context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		go keeper.Fails(full)
		assert.ErrorIs(t, hub.Settle(short), full, "with what keeps the reader from it")
		go func() { settled <- hub.Settle(t.Context()) }()
		synctest.Wait()
		assert.True(t, keeper.Awaited())
		keeper.Kept(3)
		assert.NoError(t, <-settled, "there is room again")
		assert.False(t, keeper.Awaited())
	})
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

// TestSectorsAreCountedWithoutGoingThroughThem: a layout of a dialect, or of a hostile logbook, may have a billion of
// them.
func TestSectorsAreCountedWithoutGoingThroughThem(t *testing.T) {
	huge := Flash{Sectors: []FlashSectors{{Count: 1 << 31, Size: 512}}, EraseTo: 1 << 40}
	assert.EqualValues(t, 1<<31, huge.Erased())
	assert.Zero(t, Flash{Sectors: []FlashSectors{{Count: 3}}, EraseFrom: 9, EraseTo: 5}.Erased())
	rapid.Check(t, func(t *rapid.T) {
		small := rapid.Int64Range(1, 9)
		f := Flash{EraseFrom: rapid.Int64Range(0, 99).Draw(t, "from"), EraseTo: rapid.Int64Range(0, 99).Draw(t, "to")}
		var want, at int64
		for range rapid.IntRange(1, 3).Draw(t, "runs") {
			run := FlashSectors{small.Draw(t, "count"), small.Draw(t, "size")}
			f.Sectors = append(f.Sectors, run)
			for range run.Count {
				if at >= f.EraseFrom && at < f.EraseTo {
					want++
				}
				at += run.Size
			}
		}
		assert.Equal(t, want, f.Erased())
	})
}
