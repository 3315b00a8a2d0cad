package suggest_test

import (
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/sense"
	"pilotrix/core/state"
	"pilotrix/core/suggest"
)

var begun = time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)

// known is all that can be known, for rows that need it.
var known = suggest.Kit{
	Speed: 115200, LineRate: 11520, HasShelf: true, Known: true,
	Laptop: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/8"), netip.MustParsePrefix("192.0.2.10/24")},
}

// after is a session after some events, each a second after the one before.
func sessionAfter(events ...event.Body) *state.State {
	s := state.New()
	s.Apply(event.Event{At: begun, Body: event.Helm{Who: event.Hand}})
	for i, body := range events {
		s.Apply(event.Event{At: begun.Add(time.Duration(i+1) * time.Second), Body: body})
	}
	return s
}

func typed(number int, text string) event.Asked {
	return event.Asked{Number: number, Who: event.Hand, Text: text, Seen: event.SeenDrawn}
}

func TestEachRowOfTheTable(t *testing.T) {
	receives := event.Mode{Name: sense.Receiving, Asks: "C"}
	tern := &suggest.File{Name: "tern-4.2.1.brm", Size: 1310720}
	for name, c := range map[string]struct {
		after  []event.Body
		change func(*suggest.Kit)
		want   suggest.Suggestion
	}{
		"a receiver waits": {
			after: []event.Body{receives},
			want: suggest.Suggestion{
				Kind: suggest.Deed, Named: "carry", Values: map[string]string{"protocol": "xmodem-1k"},
				Text: "A receiver waits by XMODEM", Does: "picks the file for it",
			},
		},
		"a receiver waits for a file that was named": {
			after:  []event.Body{typed(1, "bring tern-4.2.1.brm"), receives},
			change: func(k *suggest.Kit) { k.Named = tern },
			want: suggest.Suggestion{
				Kind: suggest.Deed, Named: "carry", Whole: true,
				Values: map[string]string{"protocol": "xmodem-1k", "file": "tern-4.2.1.brm"},
				Text:   "A receiver waits by XMODEM. Your command named tern-4.2.1.brm, 1.25 MiB, ~01:54", Does: "sends it",
			},
		},
		"one that wants sums": {
			after: []event.Body{event.Mode{Name: sense.Receiving, Asks: "NAK"}},
			want: suggest.Suggestion{
				Kind: suggest.Deed, Named: "carry", Values: map[string]string{"protocol": "xmodem"},
				Text: "A receiver waits by XMODEM", Does: "picks the file for it",
			},
		},
		"one whose device said what it speaks": {
			after: []event.Body{event.Mode{Name: sense.Receiving, Asks: "C", Says: "## Ready for binary (ymodem) download"}},
			want: suggest.Suggestion{
				Kind: suggest.Deed, Named: "carry", Values: map[string]string{"protocol": "ymodem"},
				Text: "A receiver waits by YMODEM", Does: "picks the file for it",
			},
		},
		"a speed that was named": {
			after:  []event.Body{typed(1, "pace 38400"), event.Mode{Name: sense.Garbled}},
			change: func(*suggest.Kit) {},
			want: suggest.Suggestion{
				Kind: suggest.Speed, Values: map[string]string{"speed": "38400"}, Whole: true,
				Text: "“pace 38400” named 38400, and our end is at 115200", Does: "sets ours to it",
			},
		},
		"garble": {
			after: []event.Body{typed(1, "pace up"), event.Mode{Name: sense.Garbled}},
			want: suggest.Suggestion{
				Kind: suggest.Hunt, Whole: true,
				Text: "What comes makes no sense at 115200 baud", Does: "finds the device's speed",
			},
		},
		"a login, and an account": {
			change: func(k *suggest.Kit) { k.LogsIn, k.Account = true, true },
			want: suggest.Suggestion{
				Kind: suggest.LogIn, Whole: true, Text: "The device asks for a login", Does: "logs in as before",
			},
		},
		"a fetch that nothing serves": {
			after:  []event.Body{typed(1, "parcel get http://192.0.2.10/lark-7.6.1.cgo")},
			change: func(k *suggest.Kit) { k.Named = &suggest.File{Name: "lark-7.6.1.cgo", Size: 5} },
			want: suggest.Suggestion{
				Kind: suggest.Deed, Named: "offer", Whole: true,
				Values: map[string]string{"address": "192.0.2.10", "protocol": "http", "file": "lark-7.6.1.cgo"},
				Text:   "“parcel get http://192.0.2.10/lark-7.6.1.cgo” fetches from this laptop by HTTP, and nothing serves there",
				Does:   "offers lark-7.6.1.cgo",
			},
		},
		"a state listed twice": {
			after: []event.Body{
				typed(1, "look fetch"),
				event.Answered{Number: 1},
				typed(2, "look fetch"),
				event.Answered{Number: 2},
				event.Prompt{Text: "gw // "},
			},
			want: suggest.Suggestion{
				Kind: suggest.Deed, Named: "repeat", Values: map[string]string{"command": "look fetch"},
				Text: "“look fetch” was typed twice", Does: "repeats it until something comes",
			},
		},
		"a fetch that nothing came of": {
			after: []event.Body{
				event.Server{Name: "HTTP", State: event.Listening, Address: "192.0.2.10:80"},
				typed(1, "get http://192.0.2.10/x"),
				event.Answered{Number: 1, Refused: "no such file there"},
			},
			want: suggest.Suggestion{
				Kind: suggest.View, Values: map[string]string{"view": "transfers"}, Whole: true,
				Text: "“get http://192.0.2.10/x” has not fetched anything here", Does: "shows who asked for what",
			},
		},
		"something that runs out": {
			after: []event.Body{event.Pending{
				Name: "trial", State: event.PendingOpen, Says: "it goes back to 5.2 by itself", Until: begun.Add(time.Hour),
			}},
			want: suggest.Suggestion{
				Kind: suggest.View, Values: map[string]string{"view": "device"}, Whole: true,
				Text: "Still open: it goes back to 5.2 by itself", Does: "shows the device",
			},
		},
		"a device that is recognised": {
			change: func(k *suggest.Kit) { k.LooksLike = "Cirrus gateway: its prompt" },
			want: suggest.Suggestion{
				Kind: suggest.Dialect, Whole: true, Text: "This looks like a Cirrus gateway: its prompt", Does: "chooses the dialect",
			},
		},
		"a device of which nothing is known": {
			change: func(k *suggest.Kit) { k.Readable = true },
			want: suggest.Suggestion{
				Kind: suggest.Read, Whole: true, Text: "Nothing was read of this device yet", Does: "reads it",
			},
		},
	} {
		kit := known
		if c.change != nil {
			c.change(&kit)
		}
		got := suggest.For(sessionAfter(c.after...), kit)
		require.NotNil(t, got, name)
		assert.Equal(t, c.want, *got, name)
	}
}

func TestWhatIsNotSuggested(t *testing.T) {
	for name, after := range map[string][]event.Body{
		"nothing at all":                  nil,
		"a fetch from somewhere else":     {typed(1, "parcel get http://192.0.2.100/lark-7.6.1.cgo")},
		"an address within a longer one":  {typed(1, "look route 192.0.2.104")},
		"a fetch that is served":          {event.Server{Name: "HTTP", State: event.Listening, Address: "192.0.2.10:80"}, typed(1, "get http://192.0.2.10/x")},
		"a fetch that was served":         {typed(1, "get http://192.0.2.10/x"), event.TransferBegin{ID: "http 1", File: "x"}, event.TransferEnd{ID: "http 1"}},
		"a number that is no speed":       {typed(1, "look 99999"), event.Mode{Name: sense.Silent}},
		"a speed that ours is already at": {typed(1, "pace 115200"), event.Mode{Name: sense.Silent}},
		"two commands that are not alike": {typed(1, "look a"), event.Answered{Number: 1}, typed(2, "look b"), event.Answered{Number: 2}, event.Prompt{Text: "> "}},
		"one that was refused twice":      {typed(1, "x"), event.Answered{Number: 1, Refused: "no"}, typed(2, "x"), event.Answered{Number: 2, Refused: "no"}, event.Prompt{Text: "> "}},
		"a change made twice":             {event.Change{Command: "put x", Hand: true}, typed(1, "put x"), event.Answered{Number: 1}, event.Change{Command: "put x", Hand: true}, typed(2, "put x"), event.Answered{Number: 2}, event.Prompt{Text: "> "}},
		"what a runbook typed twice":      {event.Asked{Number: 1, Who: event.Runbook, Text: "look"}, event.Answered{Number: 1}, event.Asked{Number: 2, Who: event.Runbook, Text: "look"}, event.Answered{Number: 2}, event.Prompt{Text: "> "}},
	} {
		assert.Nil(t, suggest.For(sessionAfter(after...), known), name)
	}
}

// TestSuggestionsKeepTheirPlace holds many states against what is always true: nothing is suggested over anything else,
// and what is suggested can be done by that name with those values.
func TestSuggestionsKeepTheirPlace(t *testing.T) {
	r := rand.New(rand.NewPCG(28, 1))
	words := []string{"look", "tern-4.2.1.brm", "192.0.2.10", "tftp", "http://192.0.2.10/x", "38400", "115200", "\x1b[2J", "ymodem", ""}
	pick := func() (text string) {
		for range 1 + r.IntN(3) {
			text += words[r.IntN(len(words))] + " "
		}
		return text
	}
	bodies := []func() event.Body{
		func() event.Body {
			return event.Mode{Name: sense.Receiving, Asks: []string{"C", "G", "NAK", ""}[r.IntN(4)], Says: pick()}
		},
		func() event.Body {
			return event.Mode{Name: []string{sense.Garbled, sense.Silent, sense.Unknown, "admin"}[r.IntN(4)]}
		},
		func() event.Body {
			return event.Helm{Who: []string{event.Hand, event.Runbook, event.ByDeed}[r.IntN(3)]}
		},
		func() event.Body { return typed(r.IntN(5), pick()) },
		func() event.Body { return event.Answered{Number: r.IntN(5)} },
		func() event.Body { return event.Ask{ID: "1", Answers: []string{"approve"}} },
		func() event.Body { return event.Answer{ID: "1"} },
		func() event.Body {
			return event.Interlock{State: []string{event.InterlockHeld, event.InterlockSent}[r.IntN(2)]}
		},
		func() event.Body {
			return event.KeysKept{State: []string{event.KeysWaiting, event.KeysTyped}[r.IntN(2)], Count: 1}
		},
		func() event.Body {
			return event.Line{State: []string{event.LineLost, event.LineBack, event.LineClosed}[r.IntN(3)]}
		},
		func() event.Body { return event.Prompt{Text: "> "} },
		func() event.Body { return event.Restart{Begun: begun} },
		func() event.Body { return event.Fact{Name: "device.address", Value: "192.0.2.40/24"} },
	}
	count := map[string]int{}
	for range 20_000 {
		s := sessionAfter()
		for range r.IntN(12) {
			s.Apply(event.Event{At: s.Now.Add(time.Duration(r.IntN(90)) * time.Second), Body: bodies[r.IntN(len(bodies))]()})
		}
		kit := known
		kit.LogsIn, kit.Account, kit.Readable = r.IntN(4) == 0, r.IntN(2) == 0, r.IntN(2) == 0
		if r.IntN(2) == 0 {
			kit.Named = &suggest.File{Name: "tern-4.2.1.brm", Size: 5}
		}
		got := suggest.For(s, kit)
		if got == nil {
			continue
		}
		count[string(got.Kind)+got.Named]++
		assert.Equal(t, event.Hand, s.Helm.Who)
		assert.Nil(t, s.Ask)
		assert.Nil(t, s.Held)
		assert.Zero(t, s.Kept)
		assert.NotEqual(t, event.LineLost, s.Line.State)
		require.NotEmpty(t, got.Text)
		require.NotEmpty(t, got.Does)
		if got.Kind != suggest.Deed {
			assert.Empty(t, got.Named)
			continue
		}
		assert.Contains(t, []string{"carry", "offer", "repeat"}, got.Named)
	}
	for _, kind := range []string{"deedcarry", "deedoffer", "speed", "hunt", "log in", "read"} {
		assert.Greater(t, count[kind], 20, "%s is never tried: %v", kind, count)
	}
}

func TestTheNameThatACommandNames(t *testing.T) {
	names := []string{"lark.cgo", "lark.cgo.sig", "a", "tern-4.2.1.brm"}
	for command, want := range map[string]string{
		"get lark.cgo":               "lark.cgo",
		"get http://h/lark.cgo.sig":  "lark.cgo.sig",
		"get xlark.cgo":              "",
		"get lark.cgo2":              "",
		"get \"lark.cgo\"":           "lark.cgo",
		"put /store/tern-4.2.1.brm ": "tern-4.2.1.brm",
		"a":                          "a",
		"":                           "",
	} {
		assert.Equal(t, want, suggest.NamedIn(command, names), command)
	}
}
