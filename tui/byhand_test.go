package tui

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/sense"
	"pilotrix/tui/console"
)

// allKeys are the keys of a keyboard that a device may be sent.
func allKeys() (all []tea.Key) {
	for letter := rune(' '); letter <= '~'; letter++ {
		all = append(all, tea.Key{Code: letter, Text: string(letter)})
	}
	for letter := 'a'; letter <= 'z'; letter++ {
		if letter != 'g' { // the leader key
			all = append(all, tea.Key{Code: letter, Mod: tea.ModCtrl})
		}
		all = append(all, tea.Key{Code: letter, Mod: tea.ModAlt})
	}
	for _, code := range []rune{
		tea.KeyUp, tea.KeyDown, tea.KeyLeft, tea.KeyRight, tea.KeyHome, tea.KeyEnd, tea.KeyInsert, tea.KeyDelete,
		tea.KeyPgUp, tea.KeyPgDown, tea.KeyTab, tea.KeyBackspace, tea.KeyEscape, tea.KeyEnter,
	} {
		all = append(all, tea.Key{Code: code})
	}
	return append(all, tea.Key{Code: tea.KeyTab, Mod: tea.ModShift}, tea.Key{Code: 'é', Text: "é"})
}

// TestEveryKeyGoesToTheDevice presses all keys while something is offered, open, watched, or asked by what the operator
// has begun: none of them is taken away from the device. The leader key and the function keys are the only others.
func TestEveryKeyGoesToTheDevice(t *testing.T) {
	situations := map[string][]event.Body{
		"idle":                        nil,
		"a receiver waits":            {event.Mode{Name: sense.Receiving, Asks: "C"}},
		"garble":                      {event.Speed{To: 9600}, event.Mode{Name: sense.Garbled}},
		"something is open":           {event.Deed{ID: "1", State: event.DeedBegun, Title: "Offer lamp.img"}},
		"something was open":          {event.Deed{ID: "1", State: event.DeedBegun}, event.Deed{ID: "1", State: event.DeedEnded}},
		"what is open asks":           {event.Ask{ID: "1", Deed: "1", Form: event.FormOperator, Text: "Hold the button.", Answers: []string{"done", "stop"}}},
		"what is watched is away":     {event.Reach{Watched: "icmp:192.0.2.41", State: event.Gone}},
		"a restart":                   {event.Restart{}},
		"a file that is being served": {event.TransferBegin{ID: "tftp 1", File: "lamp.img", Size: 10, Deed: "1"}},
	}
	for name, bodies := range situations {
		t.Run(name, func(t *testing.T) {
			device := newWired(t)
			a := device.app
			a.opt.Library = newLampLibrary(t)
			feed(a, append([]event.Body{event.Helm{Who: event.Hand}}, bodies...)...)
			var want strings.Builder
			for _, key := range allKeys() {
				a.press(tea.KeyPressMsg(key))
				bytes := console.Bytes(key, false)
				require.NotEmpty(t, bytes, "%+v", key)
				want.Write(bytes)
			}
			device.gets(want.String(), name)
			assert.Nil(t, a.over)
			assert.Equal(t, "console", a.places[a.shown].name)
		})
	}
}

// TestWhatIsAskedBesideIsAnsweredBehindTheLeader has something ask that goes on beside the line.
func TestWhatIsAskedBesideIsAnsweredBehindTheLeader(t *testing.T) {
	device := newWired(t)
	a := device.app
	a.opt.Library = newLampLibrary(t)
	feed(a, event.Helm{Who: event.Hand},
		event.Ask{ID: "1", Deed: "1", Form: event.FormOperator, Text: "Hold the button.", Answers: []string{"done", "stop"}})
	for _, size := range [][2]int{{160, 40}, {80, 24}} {
		screen := drawn(a, size)
		assert.Contains(t, screen, "Hold the button.")
		assert.Contains(t, screen, "^G Enter done")
	}
	press(a, tea.KeyEnter)
	device.gets("\r", "it is the device's")
	assert.NotNil(t, a.state.Ask)
	a.press(tea.KeyPressMsg{Code: 'g', Mod: tea.ModCtrl})
	assert.Contains(t, drawn(a, [2]int{160, 40}), "Enter done")
}

// TestWhatIsOfferedIsAcceptedOnceItWasSeen accepts what the strip offers: not what came up only just now.
func TestWhatIsOfferedIsAcceptedOnceItWasSeen(t *testing.T) {
	a := newWired(t).app
	a.opt.Library = newLampLibrary(t)
	feed(a, event.Helm{Who: event.Hand}, event.Mode{Name: sense.Receiving, Asks: "C"})
	for _, size := range [][2]int{{160, 40}, {80, 24}} {
		assert.Contains(t, drawn(a, size), "^G Enter picks the file for it. A receiver waits by XMODEM.")
	}
	accept := func() {
		a.press(tea.KeyPressMsg{Code: 'g', Mod: tea.ModCtrl})
		does(a, tea.Key{Code: tea.KeyEnter})
	}
	accept()
	assert.Equal(t, "console", a.places[a.shown].name)
	assert.Contains(t, drawn(a, [2]int{160, 40}), "offered only just now")
	a.offered.since = time.Now().Add(-time.Minute)
	a.message = ""
	accept()
	assert.Equal(t, "inputs", a.places[a.shown].name)
	assert.Contains(t, drawn(a, [2]int{160, 40}), "Send a file over the line")
	a.show("console")
	feed(a, event.Helm{Who: event.Hand}, event.Mode{Name: sense.Unknown})
	a.message = ""
	accept()
	assert.Contains(t, drawn(a, [2]int{160, 40}), "the leader key has no enter", "there is nothing to accept")
}

// TestTheBellCallsTheOperator rings where something has come that may be waited for elsewhere, and in no run.
func TestTheBellCallsTheOperator(t *testing.T) {
	hand, runbook := event.Helm{Who: event.Hand}, event.Helm{Who: event.Runbook}
	for _, c := range []struct {
		after event.Body
		says  event.Body
		rings bool
	}{
		{hand, event.Reach{State: event.Gone}, true},
		{hand, event.Reach{State: event.Back}, true},
		{hand, event.Reach{State: event.Unwatched}, false},
		{hand, event.Deed{ID: "1", State: event.DeedEnded}, true},
		{hand, event.Deed{ID: "1", State: event.DeedBegun}, false},
		{hand, event.In{Bytes: event.Text("\a")}, false},
		{runbook, event.Reach{State: event.Gone}, false},
	} {
		a := newWired(t).app
		feed(a, c.after)
		assert.Equal(t, c.rings, a.calls(c.says), "%+v", c.says)
	}
	replayed := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	replayed.replay = true
	assert.False(t, replayed.calls(event.Reach{State: event.Gone}))
}

// TestWhatEventsAskForIsDone has an event of the session lead to a command of the interface.
func TestWhatEventsAskForIsDone(t *testing.T) {
	app := newWired(t).app
	app.opt.Library = newLampLibrary(t)
	r := &root{app: app}
	_, cmd := r.Update(fedMsg{app, eventsMsg{{Body: event.Asked{Number: 1, Who: event.Hand, Text: "look", Seen: event.SeenDrawn}}}})
	require.NotNil(t, cmd)
	assert.Equal(t, available{app, "look", app.opt.Library.Available("look")}, cmd())
	_, cmd = r.Update(fedMsg{nil, eventsMsg{{Body: event.Mark{}}}})
	assert.Nil(t, cmd, "of a session that was left")
}

// TestWhatIsSuggestedCanBeDone holds the deeds and the values of suggestions against what is done by hand.
func TestWhatIsSuggestedCanBeDone(t *testing.T) {
	for name, values := range map[string][]string{
		"carry": {"file", "protocol"}, "offer": {"file", "protocol", "address"}, "repeat": {"command"},
	} {
		one := verbs.ByHandNamed(name)
		require.NotNil(t, one, name)
		book, err := one.Make(verbs.Place{})
		require.NoError(t, err)
		for _, value := range values {
			assert.True(t, slices.ContainsFunc(book.Inputs, func(i runbook.Input) bool { return i.Input == value }), "%s %s", name, value)
		}
	}
}

// TestTheAddressInSightIsWatched takes the last one that the device has written, and none of this laptop's.
func TestTheAddressInSightIsWatched(t *testing.T) {
	for text, want := range map[string]string{
		"":                                      "",
		"address 192.0.2.41/24\r\n> ":           "192.0.2.41",
		"from 192.0.2.10 to 192.0.2.41\r\n":     "192.0.2.41",
		"to 192.0.2.41 from 192.0.2.10\r\n":     "192.0.2.41",
		"192.0.2.41\r\nnext 198.51.100.7\r\n> ": "198.51.100.7",
		"release 10.2.300.4 at 127.0.0.1\r\n":   "",
	} {
		a := newWired(t).app
		a.offered.kit.Laptop = []netip.Prefix{netip.MustParsePrefix("192.0.2.10/24")}
		feed(a, event.In{Bytes: event.Text(text)})
		assert.Equal(t, want, a.seenAddress(), "%q", text)
	}
}
