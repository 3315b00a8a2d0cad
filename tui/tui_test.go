package tui

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/session"
	"pilotrix/tui/console"
	"pilotrix/tui/paint"
	"pilotrix/tui/strip"
)

func TestKeysAsBytes(t *testing.T) {
	for _, c := range []struct {
		key     tea.Key
		appKeys bool
		want    string
	}{
		{tea.Key{Code: 'a', Text: "a"}, false, "a"},
		{tea.Key{Code: 'ø', Text: "ø"}, false, "ø"},
		{tea.Key{Code: tea.KeyEnter}, false, "\r"},
		{tea.Key{Code: tea.KeyTab}, false, "\t"},
		{tea.Key{Code: tea.KeyEscape}, false, "\x1b"},
		{tea.Key{Code: tea.KeyBackspace}, false, "\x7f"},
		{tea.Key{Code: tea.KeyUp}, false, "\x1b[A"},
		{tea.Key{Code: tea.KeyUp}, true, "\x1bOA"},
		{tea.Key{Code: 'c', Mod: tea.ModCtrl}, false, "\x03"},
		{tea.Key{Code: '[', Mod: tea.ModCtrl}, false, "\x1b"},
		{tea.Key{Code: '@', Mod: tea.ModCtrl}, false, "\x00"},
		{tea.Key{Code: 'x', Mod: tea.ModAlt}, false, "\x1bx"},
		{tea.Key{Code: tea.KeyTab, Mod: tea.ModShift}, false, "\x1b[Z"},
		{tea.Key{Code: tea.KeyDelete}, false, "\x1b[3~"},
		{tea.Key{Code: tea.KeyCapsLock}, false, ""},
	} {
		assert.Equal(t, c.want, string(console.Bytes(c.key, c.appKeys)), "%+v", c.key)
	}
}

// feed gives a replay's app events, a millisecond apart.
func feed(a *app, bodies ...event.Body) {
	at := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	for i, body := range bodies {
		a.apply([]event.Event{{Seq: int64(i + 1), At: at.Add(time.Duration(i) * time.Millisecond), Body: body}})
	}
}

func shown(a *app, width, height int) []string {
	a.Update(tea.WindowSizeMsg{Width: width, Height: height})
	return strings.Split(ansi.Strip(a.View().Content), "\n")
}

// press presses keys: a letter types itself.
func press(a *app, keys ...rune) {
	for _, k := range keys {
		key := tea.Key{Code: k}
		if k < unicode.MaxASCII && unicode.IsPrint(k) {
			key.Text = string(k)
		}
		a.Update(tea.KeyPressMsg(key))
	}
}

func rescue() []event.Body {
	return []event.Body{
		event.SessionBegin{Target: "bench:hollow-rtr1?speed=9600&framing=8N1", Device: "hollow-rtr1", Scale: 8},
		event.Line{State: event.LineOpen, Speed: 9600},
		event.Helm{Who: event.Runbook},
		event.RunBegin{
			Runbook:  "rescue",
			Title:    "Rescue over the serial console",
			Rollback: "none",
			Steps: []event.StepPlan{
				{
					ID:       "1.1",
					Phase:    "find it",
					Title:    "Find it",
					Verb:     "catch",
					Expected: 10 * time.Second,
					Timeout:  time.Minute,
				},
				{
					ID:           "2.1",
					Phase:        "ready",
					Title:        "Remove the broken image",
					Verb:         "act",
					Cards:        []string{"banks"},
					Hold:         true,
					Irreversible: true,
					Timeout:      time.Minute,
				},
				{
					ID:       "3.1",
					Phase:    "send",
					Title:    "Send the image",
					Verb:     "send",
					Cards:    []string{"transfer", "banks", "reach"},
					Expected: time.Minute,
					Timeout:  time.Hour,
				},
			},
		},
		event.StepBegin{ID: "1.1", Try: 1},
		event.In{Bytes: event.Text("sill: ")},
		event.Prompt{Mode: "monitor", Text: "sill: "},
		event.Fact{Name: "device.model", Value: "R40-2", Source: "about"},
		event.StepEnd{ID: "1.1", Outcome: event.Done, Took: time.Second},
	}
}

// serving is a device that fetches its second upgrade, with everything that may be shown of it.
func serving() []event.Body {
	rows := func(b, next string) []map[string]string {
		return []map[string]string{
			{"bank": "A", "state": "running", "release": "7.4.2", "next": "no", "saved": "yes"},
			{"bank": "B", "state": "standby", "release": b, "next": next, "saved": "no"},
		}
	}
	const id = "tftp 192.0.2.41:2049"
	return []event.Body{
		event.Course{Steps: []event.StepPlan{
			{ID: "1.1", Phase: "find it", Title: "Find it", Verb: "catch"},
			{
				ID:    "2a.1",
				Phase: "upgrade to 7.6.1",
				Title: "Stage it",
				Verb:  "serve",
				Cards: []string{"preflight", "banks"},
			},
			{
				ID:       "2a.2",
				Phase:    "upgrade to 7.6.1",
				Title:    "Wait for the download",
				Verb:     "poll",
				Cards:    []string{"transfer", "banks", "reach"},
				Expected: time.Minute,
			},
			{
				ID:       "2a.3",
				Phase:    "upgrade to 7.6.1",
				Title:    "Restart",
				Verb:     "restart",
				Cards:    []string{"restart", "reach", "banks"},
				Hold:     true,
				Expected: 2 * time.Minute,
			},
		}},
		event.Fact{Name: "banks", Value: "2 rows", Source: "look banks", Rows: rows("7.2.0", "no")},
		event.Fact{Name: "running.release", Value: "7.4.2", Source: "look self"},
		event.Fact{Name: "standby.bank", Value: "B", Source: "look banks"},
		event.UpgradePath{From: "7.4.2", To: "8.1.0", Steps: []event.UpgradeStep{
			{
				From:    "7.4.2",
				Release: "7.6.1",
				Image:   "lark-7.6.1.cgo",
			},
			{
				From:    "7.6.1",
				Release: "8.1.0",
				Image:   "lark-8.1.0.cgo",
				Before:  []string{"licence"},
				After:   []string{"rebuild"},
			},
		}},
		event.Shelf{Folders: []string{"/images"}, Images: []event.ShelfImage{
			{
				Name:      "lark-7.6.1.cgo",
				Inside:    "lark-7.6.1.zip",
				Release:   "7.6.1",
				Size:      5 << 20,
				SHA256:    strings.Repeat("ab", 32),
				Published: "SHA256SUMS",
				Fit:       "yes",
			},
			{
				Name:    "lark-9.0.0.cgo",
				Release: "9.0.0",
				Size:    5 << 20,
				Fit:     "no",
				Against: []string{strings.Repeat("made for another ", 12)},
			},
			{Name: "card.cgo", Companion: "card", Size: 1000, Fit: "no", Broken: true},
		}},
		event.Server{Name: "TFTP", State: event.Listening, Address: "192.0.2.10:69"},
		event.Staged{Name: "lark-7.6.1.cgo", State: event.Offered, Size: 5 << 20, SHA256: strings.Repeat("ab", 32)},
		event.Staged{Name: "setup.txt", State: event.Offered, Slot: true, Size: 1000},
		event.Estimates{
			File: "lark-7.6.1.cgo",
			Size: 5 << 20,
			All: []event.Estimate{
				{
					Protocol: "tftp",
					Terms:    "blocks of 512 B",
					Time:     time.Minute,
					Why:      strings.Repeat("why ", 40),
					Chosen:   true,
				},
				{Protocol: "http", Time: time.Second},
			},
		},
		event.StepBegin{ID: "2a.1", Try: 1},
		event.Preflight{
			What:   "port",
			Text:   strings.Repeat("held by another program ", 6),
			Remedy: strings.Repeat("end it ", 20),
		},
		event.StepBegin{ID: "2a.2", Try: 1},
		event.TransferBegin{
			ID:       id,
			File:     "lark-7.6.1.cgo",
			Size:     5 << 20,
			Protocol: "TFTP",
			Peer:     "192.0.2.41:2049",
			Terms:    "blocks of 1428 B, windows of 4",
		},
		event.Rung{
			Transfer:   id,
			Row:        0,
			Protocol:   "TFTP",
			FromDevice: true,
			What:       "RRQ",
			Count:      1,
			Text:       "lark-7.6.1.cgo octet " + strings.Repeat("blksize=1428 ", 9),
		},
		event.Rung{Transfer: id, Row: 1, Protocol: "TFTP", What: "DATA", First: 1, Last: 1800, Count: 1800, Resent: 7},
		event.Rung{
			Row:        0,
			Protocol:   "TFTP",
			Peer:       "192.0.2.41:2050",
			FromDevice: true,
			What:       "refused",
			Text:       strings.Repeat("no such file ", 12),
		},
		event.Transfer{ID: id, Bytes: 2 << 20, Size: 5 << 20, Rate: 80_000, Left: 40 * time.Second, Resent: 7},
		event.Probe{Watched: "icmp:192.0.2.41", Held: true, Trip: time.Millisecond},
		event.Fact{Name: "banks", Value: "2 rows", Source: "look banks", Rows: rows("7.6.1", "yes")},
	}
}

// away is the restart after it.
func away() []event.Body {
	at := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	return []event.Body{
		event.TransferEnd{ID: "tftp 192.0.2.41:2049", Outcome: event.Done, Bytes: 5 << 20, Took: time.Minute},
		event.StepBegin{ID: "2a.3", Try: 1},
		event.Restart{
			Step:     "2a.3",
			Begun:    at,
			Expected: 2 * time.Minute,
			Longest:  10 * time.Minute,
			Console:  "booting",
			Reach:    "does not answer",
		},
		event.Probe{Watched: "icmp:192.0.2.41"},
		event.Probe{Watched: "icmp:192.0.2.41"},
		event.Reach{Watched: "icmp:192.0.2.41", State: event.Gone, Begin: at},
	}
}

// TestTheViewsSayWhatMatters looks for what each view is there for.
func TestTheViewsSayWhatMatters(t *testing.T) {
	for v, wants := range map[string][]string{
		"images":    {"◉ 7.4.2", "○ 8.1.0", "before: licence", "in lark-7.6.1.zip", "as published ✓", "does not fit", "not as published ✗"},
		"device":    {"7.2.0 ⇢ 7.6.1", "▷ chosen for the next start, not kept yet", "● runs", "A restart now starts the old choice again", "40 % lark-7.6.1.cgo"},
		"transfers": {"● TFTP 192.0.2.10:69", "may be left here once", "DATA 1 … 1,800", "7 resent", "refused", "what each would take", "▸ tftp"},
		"reach":     {"icmp:192.0.2.41", "a column is"},
		"console":   {"40 %", "00:40 left", "blocks of 1428 B, windows of 4"},
	} {
		a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
		feed(a, append(rescue(), serving()...)...)
		a.show(v)
		text := strings.Join(shown(a, 160, 60), "\n")
		for _, want := range wants {
			assert.Contains(t, text, want)
		}
	}
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(a, append(append(rescue(), serving()...), away()...)...)
	text := strings.Join(shown(a, 160, 40), "\n")
	for _, want := range []string{"restart", "of ~02:00", "booting", "no answer", "longest 10:00", "away 00:00", "◉"} {
		assert.Contains(t, text, want)
	}
	a.show("reach")
	assert.Contains(t, strings.Join(shown(a, 160, 40), "\n"), "in “Restart”")
}

// TestADigestPastedIntoTheImagesIsCompared pastes one as people copy it.
func TestADigestPastedIntoTheImagesIsCompared(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(a, append(rescue(), serving()...)...)
	a.show("images")
	for text, says := range map[string]string{
		"SHA256: " + strings.ToUpper(strings.Repeat("ab", 32)): "✓ lark-7.6.1.cgo has that sha256",
		strings.Repeat("cd",
			32): "✗ no image on the shelf has that sha256 (cdcdcdcdcdcd…)",
		"not a digest": "is no digest",
	} {
		a.Update(tea.PasteMsg{Content: text})
		assert.Contains(t, a.message, says)
	}
}

// TestAnImageIsShownWholeAndStaysInSight moves over the images in a window that does not hold them all.
func TestAnImageIsShownWholeAndStaysInSight(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(a, append(rescue(), serving()...)...)
	a.show("images")
	whole := strings.Repeat("ab", 32)
	assert.NotContains(t, strings.Join(shown(a, 80, 24), "\n"), whole)
	press(a, tea.KeyDown)
	text := strings.Join(shown(a, 160, 50), "\n")
	for _, want := range []string{whole, "5,242,880 B", "as in SHA256SUMS", "by tftp"} {
		assert.Contains(t, text, want)
	}
	press(a, tea.KeyDown, tea.KeyDown, tea.KeyDown)
	text = strings.Join(shown(a, 80, 20), "\n")
	assert.Contains(t, text, "another digest than it has", "the last one, once more than there are")
	press(a, tea.KeyUp, tea.KeyUp, tea.KeyUp)
	assert.Contains(t, strings.Join(shown(a, 80, 20), "\n"), "upgrade path", "none is chosen, and the top is back")
}

// TestAFolderIsPutOnTheShelf types one wrong first, and pastes the better one.
func TestAFolderIsPutOnTheShelf(t *testing.T) {
	var added []string
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark", AddFolder: func(folder string) error {
		if folder != "/images" {
			return errors.New(folder + " is not there")
		}
		added = append(added, folder)
		return nil
	}})
	feed(a, append(rescue(), serving()...)...)
	a.show("images")
	press(a, 'a', 'x', tea.KeyEnter)
	assert.Contains(t, strings.Join(shown(a, 120, 40), "\n"), "x is not there")
	press(a, tea.KeyBackspace)
	a.message = ""
	a.Update(tea.PasteMsg{Content: "/" + strings.Repeat("deep/", 30) + "er"})
	narrow := strings.Join(shown(a, 80, 24), "\n")
	assert.Contains(t, narrow, "deep/er", "one sees what one types")
	assert.Contains(t, narrow, "Enter puts it there   Esc leaves it")
	press(a, tea.KeyEnter)
	assert.Contains(t, strings.Join(strings.Fields(strings.Join(shown(a, 80, 24), "")), " "), "is not there")
	a.press(tea.KeyPressMsg{Code: 'u', Mod: tea.ModCtrl})
	a.Update(tea.PasteMsg{Content: "/images\n"})
	press(a, tea.KeyEnter)
	assert.Equal(t, []string{"/images"}, added)
	assert.Contains(t, strings.Join(shown(a, 120, 40), "\n"), "/images is on the shelf")
	assert.Nil(t, a.state.Held)
}

// TestServersAloneHaveTheirOwnViewsOnly serves a folder that is longer than the window.
func TestServersAloneHaveTheirOwnViewsOnly(t *testing.T) {
	a := newApp(t.Context(),
		Options{Leader: "ctrl+g", Theme: "dark", Places: []string{"FTP: 192.0.2.10:21, user once"}})
	a.onlyServing()
	for n := range 60 {
		feed(a, event.Staged{Name: fmt.Sprintf("tide-gauge-%02d.conf", n), State: event.Offered, Size: 5})
	}
	feed(a, event.Staged{Name: "setup.txt", State: event.Offered, Slot: true, Size: 1000},
		event.Note{Level: event.Warning, Text: "lark.cgo is not offered"})
	for _, width := range []int{80, 160} {
		text := strings.Join(shown(a, width, 24), "\n")
		for _, want := range []string{"user once", "lark.cgo is not offered", "◁ setup.txt", "tide-gauge-00.conf", "F6 transfers"} {
			assert.Contains(t, text, want)
		}
		for _, other := range []string{"F2", "F5", "^G"} {
			assert.NotContains(t, text, other)
		}
	}
	press(a, tea.KeyEnd)
	assert.Contains(t, strings.Join(shown(a, 80, 24), "\n"), "tide-gauge-59.conf")
	press(a, tea.KeyDown, tea.KeyHome)
	assert.Contains(t, strings.Join(shown(a, 80, 24), "\n"), "user once")
	for _, key := range []rune{tea.KeyF2, tea.KeyF5, tea.KeyEscape} {
		press(a, key)
		assert.Equal(t, "transfers", a.places[a.shown].name)
	}
	press(a, tea.KeyF1)
	assert.Contains(t, strings.Join(shown(a, 80, 24), "\n"), "a device may leave this here")
}

// TestUnrolledStepsKeepWhatWasDone replaces the course in the middle of it.
func TestUnrolledStepsKeepWhatWasDone(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(a, append(rescue(), serving()...)...)
	require.Len(t, a.state.Steps, 4)
	assert.Equal(t, event.Done, a.state.Steps[0].Outcome)
	assert.Equal(t, "2a.2", a.state.Present().ID)
}

// TestEveryViewFitsEveryWindow paints all views and states in windows from tiny to wide: no row is
// wider than the window, and never more rows than it has.
func TestEveryViewFitsEveryWindow(t *testing.T) {
	hold := event.Ask{
		ID:           "1",
		Form:         "hold",
		Step:         "2.1",
		Text:         strings.Repeat("Removes the broken image. ", 12),
		Types:        []string{"store drop x"},
		Rollback:     "none",
		Irreversible: true,
		Answers:      []string{"approve", "stop"},
	}
	states := map[string][]event.Body{
		"hold": {event.StepBegin{ID: "2.1", Try: 1}, hold},
		"failure": {
			event.StepBegin{ID: "2.1", Try: 2},
			event.Ask{
				ID:      "2",
				Form:    "failure",
				Text:    "it failed",
				Answers: []string{"repeat", "go on", "stop", "roll back"},
			},
		},
		"transfer": {
			event.StepBegin{ID: "3.1", Try: 1},
			event.TransferBegin{
				File:     "tern.brm",
				Size:     1000,
				Protocol: "XMODEM-1K",
				SHA256:   strings.Repeat("ab", 32),
				Allowed:  100,
			},
			event.Transfer{Bytes: 500, Size: 1000, Rate: 90, Resent: 3},
		},
		"hand": {event.Helm{Who: event.Hand}},
		"ended": {
			event.RunEnd{
				Outcome: event.Done,
				Message: "done",
				Proved:  []string{"it runs", strings.Repeat("long ", 40)},
			},
		},
		"serving": serving(),
		"restart": append(serving(), away()...),
		"held": {
			event.Helm{Who: event.Hand},
			event.Interlock{
				State:   event.InterlockHeld,
				Command: "recommence",
				Says:    strings.Repeat("restarts the device ", 9),
			},
		},
		"off":  {event.Interlock{State: event.InterlockOff}},
		"lost": {event.Line{State: event.LineLost, Note: "pulled"}},
	}
	for name, more := range states {
		for _, size := range [][2]int{{20, 8}, {80, 24}, {109, 30}, {110, 30}, {160, 40}, {300, 80}} {
			for _, v := range []string{"console", "help", "course", "images", "device", "transfers", "reach", "events"} {
				a := newApp(t.Context(), Options{
					Leader: "ctrl+g",
					Theme:  "dark",
					Device: "hollow-rtr1",
					About:  "Brindle R40 · Hollow Skerry",
					Line:   "bench",
				})
				feed(a, append(rescue(), more...)...)
				a.show(v)
				rows := shown(a, size[0], size[1])
				require.LessOrEqual(t, len(rows), size[1], "%s %v", name, size)
				for _, row := range rows {
					require.LessOrEqual(t, paint.Width(row), size[0], "%s %v: %q", name, size, row)
				}
			}
		}
	}
}

func TestTheHoldSaysWhatItTypesAndTheCourseStaysInSight(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(a, append(rescue(), event.StepBegin{ID: "2.1", Try: 1}, event.Ask{
		ID:           "1",
		Form:         "hold",
		Step:         "2.1",
		Text:         "Removes it.",
		Types:        []string{"store drop x"},
		Rollback:     "none",
		Irreversible: true,
	})...)
	text := strings.Join(shown(a, 80, 24), "\n")
	for _, want := range []string{"Hold, no rollback", "Removes it.", "store drop x", "Enter go on", "nothing changed", "●", "◇", "□", "sill:", "helm  RUNBOOK"} {
		assert.Contains(t, text, want)
	}
}

// TestNoEscapeSequenceOfTheDeviceGetsThrough feeds what a hostile device might send.
func TestNoEscapeSequenceOfTheDeviceGetsThrough(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(
		a,
		append(
			rescue(),
			event.In{Bytes: event.Text("\x1b]52;c;aGFjaw==\x07\x1b[?1000h\x1bP+q544e\x1b\\\x9b31m\x1b[6nharmless\r\n")},
			event.Fact{
				Name:   "device.name",
				Value:  "x\u009b2J\x1b[2Jy",
				Source: "about",
			},
			event.Note{Level: event.Warning, Text: "\x1b]0;t\x07"},
			event.Mode{Name: "monitor", Proof: "\u0090"},
		)...)
	a.say("\x1b[2J")
	content := func() string { a.Update(tea.WindowSizeMsg{Width: 120, Height: 30}); return a.View().Content }()
	assert.Contains(t, content, "harmless")
	assert.False(t, strings.ContainsFunc(content,
		func(r rune) bool { return r >= 0x7f && r < 0xa0 || r < 0x20 && r != '\n' && r != 0x1b }))
	for rest := content; ; {
		_, after, found := strings.Cut(rest, "\x1b")
		if !found {
			break
		}
		end := strings.IndexFunc(after,
			func(r rune) bool { return r != '[' && r != ';' && r != ':' && (r < '0' || r > '9') })
		require.GreaterOrEqual(t, end, 0)
		assert.Equal(t, byte('m'), after[end], "only colours of our own: %q", after[:min(20, len(after))])
		rest = after
	}
}

// TestEveryChoiceOfTheLeaderKeyIsInSight looks for each one whole, in windows wide and narrow.
func TestEveryChoiceOfTheLeaderKeyIsInSight(t *testing.T) {
	a := newWired(t).app
	feed(a, rescue()...)
	a.openLeader(true)
	for _, size := range [][2]int{{200, 50}, {160, 40}, {80, 24}, {60, 20}} {
		text := strings.Join(shown(a, size[0], size[1]), "\n")
		for _, want := range []string{"h hunt the speed", "s set our speed", "b send a break", "/ search", "x stop the runbook", "i interlocks off", "u charset", "p plain screen", "q quit", "l lock all keys to the device", "^G, F1–F12 to the device"} {
			assert.Contains(t, text, want, "%v", size)
		}
	}
}

func TestNoiseIsDimmedWhereItStands(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(a, event.SessionBegin{Target: "bench:hollow-rtr1"}, event.In{Bytes: event.Text("an answer\r\n")}, event.In{
		Bytes: event.Text("*00:01 port 3: link down\r\n"),
	}, event.Noise{Text: "*00:01 port 3: link down"}, event.In{Bytes: event.Text("more of it\r\n")})
	looks := map[string]any{}
	for _, line := range a.console.Lines(a.theme) {
		for _, piece := range line {
			looks[strings.TrimSpace(piece.Text)] = piece.Look.FG
		}
	}
	assert.Equal(t, a.theme.Quiet, looks["*00:01 port 3: link down"])
	assert.Equal(t, looks["an answer"], looks["more of it"])
	assert.NotEqual(t, a.theme.Quiet, looks["an answer"])
}

func TestATerminalOfFixedSizeStaysThatSize(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(a, event.SessionBegin{Target: "bench:hollow-rtr1"}, event.Terminal{Cols: 80, Rows: 24, Charset: "cp437"},
		event.In{Bytes: event.Text("\x1b[1;1Ha\x1b[1;200Hz\x1b[24;1H\xcd\xcd")})
	rows := shown(a, 160, 40)
	text := strings.Join(rows, "\n")
	assert.Contains(t, text, "══", "the device's own letters")
	corners := ""
	for _, row := range rows {
		if strings.Contains(row, "a"+strings.Repeat(" ", 78)+"z") {
			corners = row
		}
	}
	assert.NotEmpty(t, corners, "the device draws on 80 columns of a window that is wider")
	feed(a, event.Terminal{Cols: 80, Rows: 24, Plain: true}, event.In{Bytes: event.Text("\r\nback\r\n")})
	assert.Contains(t, strings.Join(shown(a, 160, 40), "\n"), "back")
}

func TestAnAnswerRightAfterTheQuestionIsAskedForOnceMore(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	lines := strip.Lines(a.theme, a.state, strip.View{}, 80)
	require.Len(t, lines, 1)
	feed(a, append(rescue(), event.Ask{ID: "1", Form: "hold", Step: "2.1", Text: "Removes it."})...)
	a.tooSoon = true
	assert.Contains(t, strings.Join(shown(a, 120, 30), "\n"), "press it once more")
}

// TestNoKeyOfAnotherViewGoesToTheDevice presses letters at a hold on the course, and Esc, which answers the hold there
// as everywhere.
func TestNoKeyOfAnotherViewGoesToTheDevice(t *testing.T) {
	device := newWired(t)
	a := device.app
	ask := func() {
		feed(
			a,
			append(rescue(), event.Ask{
				ID:      "1",
				Form:    "hold",
				Step:    "2.1",
				Text:    "Removes it.",
				Answers: []string{"approve", "stop"},
			})...)
	}
	ask()
	a.show("course")
	a.press(tea.KeyPressMsg{Code: 'x', Text: "x"})
	assert.Equal(t, "course", a.places[a.shown].name)
	a.tooSoon = true // it was asked for long ago
	a.press(tea.KeyPressMsg{Code: tea.KeyEscape})
	assert.Equal(t, "course", a.places[a.shown].name, "Esc is the answer that the strip says")

	a.show("console")
	feed(a, event.Answer{ID: "1", Answer: "stop"})
	a.press(tea.KeyPressMsg{Code: 'g', Mod: tea.ModCtrl})
	a.press(tea.KeyPressMsg{Code: tea.KeyF3})
	assert.Equal(t, "console", a.places[a.shown].name)
	device.gets("\x1bOR", "behind the leader a function key is the device's, and nothing else was")
}

// TestOneKeyTooManyIsSwallowed closes a view and answers a hold, and presses the same key once more.
func TestOneKeyTooManyIsSwallowed(t *testing.T) {
	device := newWired(t)
	a := device.app
	esc, enter := tea.KeyPressMsg{Code: tea.KeyEscape}, tea.KeyPressMsg{Code: tea.KeyEnter}
	for _, view := range []string{"course", "images", "help"} {
		a.show(view)
		a.press(esc)
		assert.Equal(t, "console", a.places[a.shown].name)
		a.press(esc)
		a.press(tea.KeyPressMsg{Code: 'l', Text: "l"})
	}
	a.press(tea.KeyPressMsg{Code: 'g', Mod: tea.ModCtrl}) // a menu, closed
	a.press(esc)
	a.press(esc)
	device.gets("lll", "no Esc ate a letter")
	a.escAt = time.Now().Add(-2 * time.Second)
	a.press(esc)
	device.gets("lll\x1b", "a while later it is the device's")

	feed(
		a,
		append(rescue(), event.Helm{Who: event.Runbook},
			event.Ask{ID: "1", Form: "hold", Step: "2.1", Text: "Removes it.", Answers: []string{"approve", "stop"}})...)
	a.tooSoon = true // it was asked for long ago
	a.press(enter)
	feed(a, event.Answer{ID: "1", Answer: "approve"})
	a.press(enter)
	a.press(enter)
	a.enterAt = time.Now().Add(-2 * time.Second)
	a.press(tea.KeyPressMsg{Code: 'x', Text: "x"})
	a.press(enter)
	device.gets("lll\x1bx\r", "neither of the two that were too many")
}

// TestKeysThatWaitForATransferAreInTheStrip says what would be lost, at both sizes.
func TestKeysThatWaitForATransferAreInTheStrip(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(
		a,
		append(rescue(), event.TransferBegin{File: "tern.brm", Size: 1000, Protocol: "XMODEM"},
			event.Transfer{Bytes: 710, Size: 1000, Left: time.Minute},
			event.KeysKept{State: event.KeysWaiting, Count: 1})...)
	for _, size := range [][2]int{{160, 40}, {80, 24}} {
		screen := strings.Join(shown(a, size[0], size[1]), "\n")
		assert.Contains(t, screen, "A key waits: the transfer is 71 % done after 00:00, 01:00 left.")
	}
	feed(a, event.KeysKept{State: event.KeysForgotten}, event.Helm{Who: event.Runbook})
	screen := strings.Join(shown(a, 160, 40), "\n")
	assert.NotContains(t, screen, "A key waits")
	assert.Contains(t, screen, "Type to take it; you are asked before the transfer is cancelled.")
}

// TestAReplayTakesNoKeysForIt answers a hold of a replay, and pastes into it.
func TestAReplayTakesNoKeysForIt(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(
		a,
		append(rescue(),
			event.Ask{ID: "1", Form: "hold", Step: "2.1", Text: "Removes it.", Answers: []string{"approve", "stop"}})...)
	a.press(tea.KeyPressMsg{Code: tea.KeyEnter})
	a.Update(tea.PasteMsg{Content: "text"})
	assert.NotContains(t, strings.Join(shown(a, 120, 30), "\n"), "text")
	assert.NotNil(t, a.state.Ask)
}

// TestASecretIsTypedUnseen answers what a line asks for when it is opened again.
func TestASecretIsTypedUnseen(t *testing.T) {
	device := newWired(t)
	a := device.app
	feed(a, event.Ask{ID: "1", Form: event.FormLine, Text: "password of harbour at gw", Typed: true, Secret: true})
	for _, letter := range "lamp" {
		a.press(tea.KeyPressMsg{Code: letter, Text: string(letter)})
	}
	text := strings.Join(shown(a, 120, 30), "\n")
	assert.Contains(t, text, "password of harbour at gw ••••")
	assert.NotContains(t, text, "lamp")
	a.press(tea.KeyPressMsg{Code: tea.KeyEnter})
	a.press(tea.KeyPressMsg{Code: 'z', Text: "z"})
	device.gets("z", "none of it goes to the device")
	assert.NotContains(t, strings.Join(shown(a, 120, 30), "\n"), "password of harbour")
}

// wired is a session on a socket whose other side is the test.
type wired struct {
	*testing.T
	app  *app
	mu   sync.Mutex
	sent []byte
}

// gets waits until the device has got something, and holds that it has got nothing else.
func (d *wired) gets(text, why string) {
	d.Helper()
	got := func() string {
		d.mu.Lock()
		defer d.mu.Unlock()
		return string(d.sent)
	}
	require.Eventually(d, func() bool { return len(got()) >= len(text) }, 20*time.Second, time.Millisecond, why)
	assert.Equal(d, text, got(), why)
}

func newWired(t *testing.T) *wired {
	t.Helper()
	d := &wired{T: t}
	d.app = newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark", Session: d.open()})
	return d
}

// open opens a session whose other side keeps what it gets.
func (d *wired) open() *session.Session {
	near, far := net.Pipe()
	go func() {
		buffer := make([]byte, 256)
		for {
			n, err := far.Read(buffer)
			if err != nil {
				return
			}
			d.mu.Lock()
			d.sent = append(d.sent, buffer[:n]...)
			d.mu.Unlock()
		}
	}()
	target := line.Target{Kind: line.TCP, Address: "x:1"}
	opener := line.NewOpener(clock.Real())
	opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) {
		return line.NewStream(target, near, clock.Real()), nil
	})
	s, err := session.Open(d.Context(), session.Options{Target: target, Opener: opener})
	require.NoError(d, err)
	s.Begin()
	d.Cleanup(func() { s.Close("the test ends"); _ = far.Close() })
	return s
}

// TestAnEndedRunIsToldAtEveryWidth has words that find room on 80 columns, and the proofs beside the steps.
func TestAnEndedRunIsToldAtEveryWidth(t *testing.T) {
	for _, width := range []int{80, 160} {
		a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
		feed(a, append(
			rescue(),
			event.StepEnd{
				ID:      "1.1",
				Outcome: event.Done,
			},
			event.StepEnd{ID: "2.1", Outcome: event.Skipped, Message: "the store holds no broken image"},
			event.RunEnd{
				Outcome: event.RolledBack,
				Exit:    4,
				Message: "“Send the image”: it was refused; rolled back",
				Proved:  []string{"release 4.2.1 runs"},
			},
			event.Helm{Who: event.Hand},
		)...)
		text := strings.Join(shown(a, width, 24), "\n")
		assert.Contains(t, text, "rolled back, 1 thing proved. The helm is yours.", width)
		a.show("course")
		text = strings.Join(shown(a, width, 24), "\n")
		for _, want := range []string{"rolled back", "it was refused", "✓ proved    release 4.2.1 runs", "Find it", "the store holds no broken image"} {
			assert.Contains(t, text, want, width)
		}
	}
}

// TestWhatRunsOutIsInSight counts a trial down in the header at every width.
func TestWhatRunsOutIsInSight(t *testing.T) {
	for _, width := range []int{80, 160} {
		a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
		feed(
			a,
			append(rescue(), event.Pending{
				Name:  "trial",
				State: event.PendingOpen,
				Says:  "the old release comes back",
				Until: time.Date(2026, 3, 2, 14, 3, 10, 0, time.UTC),
			})...)
		text := strings.Join(shown(a, width, 24), "\n")
		assert.Contains(t, text, "due 03:", width)
		if width == 160 {
			assert.Contains(t, text, "the old release comes back")
		}
		feed(a, event.Pending{Name: "trial", State: event.PendingDealt})
		assert.NotContains(t, strings.Join(shown(a, width, 24), "\n"), "due ")
	}
}

// TestTheWiresOfTheLineAreInTheHeader shows those that are on where there is room, and what holds us back anywhere.
func TestTheWiresOfTheLineAreInTheHeader(t *testing.T) {
	begin := event.SessionBegin{Target: "serial:/dev/ttyUSB0?speed=9600&framing=8N1&flow=rtscts", Device: "hollow-rtr1"}
	for _, c := range []struct {
		width int
		on    event.Signals
		shows string
	}{
		{160, event.Signals{Known: true, CTS: true, DSR: true}, "CTS DSR"},
		{80, event.Signals{Known: true, CTS: true, DSR: true}, ""},
		{160, event.Signals{Known: true, DSR: true}, "CTS off: it holds us back"},
		{80, event.Signals{Known: true}, "CTS off: it holds us back"},
		{160, event.Signals{}, ""},
	} {
		a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
		feed(a, begin, event.Line{State: event.LineOpen, Speed: 9600}, c.on)
		head := shown(a, c.width, 24)[0]
		if c.shows == "" {
			assert.NotContains(t, head, "CTS")
			continue
		}
		assert.Contains(t, head, c.shows, c.width)
	}
}

// TestWhatTheDeviceDrawsIsShownAsItsProgress has per cent and the time left beside the present step.
func TestWhatTheDeviceDrawsIsShownAsItsProgress(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(a, append(rescue(), event.StepBegin{ID: "2.1", Try: 1}, event.StepNow{
		ID:       "2.1",
		Doing:    "Writes the flash",
		Awaiting: "the end of draw",
		Timeout:  time.Minute,
		Part:     0.55,
		Left:     40 * time.Second,
	})...)
	text := strings.Join(shown(a, 160, 40), "\n")
	for _, want := range []string{"Writes the flash", "55 %", "00:40 left"} {
		assert.Contains(t, text, want)
	}
}

// TestABoardSaysNothingOfTheNextStartThatIsNotTrueAnyMore: something was changed by hand since it was read, or may have
// been.
func TestABoardSaysNothingOfTheNextStartThatIsNotTrueAnyMore(t *testing.T) {
	for text, change := range map[string]event.Change{"changed by hand since": {Command: "favour B", Hand: true}, "may have been changed by hand since": {Command: "hum", Hand: true, Maybe: true}} {
		a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
		feed(
			a,
			append(append(rescue(), serving()...),
				event.RunEnd{Outcome: event.Done, Proved: []string{"7.6.1 runs"}})...)
		press(a, tea.KeyF5)
		require.Contains(t, strings.Join(shown(a, 160, 40), "\n"), "The next start")
		a.apply([]event.Event{{At: time.Date(2026, 3, 2, 14, 5, 0, 0, time.UTC), Body: change}})
		screen := strings.Join(shown(a, 160, 40), "\n")
		assert.NotContains(t, screen, "The next start")
		assert.Contains(t, screen, "What the next start takes is not known: as of 14:00:00, "+text)
		assert.Contains(t, screen, "held until 14:05:00")
	}
}

// TestWhatWasDoneByHandIsSaidInTheStrip, where there is no side column, too, and while it is news.
func TestWhatWasDoneByHandIsSaidInTheStrip(t *testing.T) {
	at := time.Date(2026, 3, 2, 14, 5, 0, 0, time.UTC)
	row := func(a *app, width int) string {
		rows := shown(a, width, 24)
		return rows[len(rows)-2]
	}
	for _, width := range []int{80, 160} {
		a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
		feed(a, event.SessionBegin{Target: "bench:mare-gw1"}, event.Line{State: event.LineOpen, Speed: 9600},
			event.Note{Text: "said before"}, event.Helm{Who: event.Hand})
		assert.Contains(t, row(a, width), "What you type goes to the device")
		a.apply(
			[]event.Event{{At: at, Body: event.Note{Level: event.Info, Text: "“favour B” was done: bank B is next"}}})
		assert.Contains(t, row(a, width), "●  “favour B” was done: bank B is next")
		a.state.Tick(at.Add(time.Minute))
		assert.Contains(t, row(a, width), "What you type goes to the device")
		a.apply([]event.Event{
			{
				At:   at.Add(2 * time.Minute),
				Body: event.Restart{Begun: at.Add(time.Minute), Expected: 150 * time.Second, Console: "silent"},
			},
		})
		if width == 80 {
			assert.Contains(t, row(a, width), "The device restarts: 01:00 of ~02:30, console silent")
		}
		a.apply([]event.Event{{At: at.Add(3 * time.Minute), Body: event.Restart{Begun: at, Over: true}}})
		assert.NotContains(t, row(a, width), "restarts")
	}
}

// TestNewsHidesNoKeyThatIsNeeded: what was said before the helm was handed over is none.
func TestNewsHidesNoKeyThatIsNeeded(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(a, append(rescue(), event.Note{Text: "back after 8 s"}, event.Helm{Who: event.Hand, Why: "typing"})...)
	assert.Contains(t, strings.Join(shown(a, 160, 40), "\n"),
		"You have the helm; the runbook waits. F10 gives it back.")
	a.apply(
		[]event.Event{{At: a.state.Now, Body: event.Note{Level: event.Warning, Text: "“stow” was not done: no room"}}})
	assert.Contains(t, strings.Join(shown(a, 160, 40), "\n"),
		"!  “stow” was not done: no room  F10 gives the helm back.")
}
