package tui

import (
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
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
		assert.Equal(t, c.want, string(bytesOf(c.key, c.appKeys)), "%+v", c.key)
	}
	assert.Equal(t, "a\rb\rc", string(pasted("a\r\nb\nc")))
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

func rescue() []event.Body {
	return []event.Body{
		event.SessionBegin{Target: "bench:hollow-rtr1?speed=9600&framing=8N1", Device: "hollow-rtr1", Scale: 8},
		event.Line{State: event.LineOpen, Speed: 9600},
		event.Helm{Who: event.Runbook},
		event.RunBegin{Runbook: "rescue", Title: "Rescue over the serial console", WayBack: "none", Steps: []event.StepPlan{
			{ID: "1.1", Leg: "find it", Title: "Find it", Verb: "catch", Expected: 10 * time.Second, Limit: time.Minute},
			{ID: "2.1", Leg: "ready", Title: "Remove the broken image", Verb: "act", Hold: true, NoReturn: true, Limit: time.Minute},
			{ID: "3.1", Leg: "send", Title: "Send the image", Verb: "send", Expected: time.Minute, Limit: time.Hour},
		}},
		event.StepBegin{ID: "1.1", Try: 1},
		event.In{Bytes: event.Text("sill: ")},
		event.Prompt{Mode: "monitor", Text: "sill: "},
		event.Fact{Name: "device.model", Value: "R40-2", Source: "about"},
		event.StepEnd{ID: "1.1", Outcome: event.Done, Took: time.Second},
	}
}

// TestEveryViewFitsEveryWindow paints all views and states in windows from tiny to wide: no row is
// wider than the window, and never more rows than it has.
func TestEveryViewFitsEveryWindow(t *testing.T) {
	hold := event.Ask{ID: "1", Form: "hold", Step: "2.1", Text: strings.Repeat("Removes the broken image. ", 12), Types: []string{"store drop x"}, WayBack: "none", NoReturn: true, Answers: []string{"approve", "stop"}}
	states := map[string][]event.Body{
		"hold":     {event.StepBegin{ID: "2.1", Try: 1}, hold},
		"failure":  {event.StepBegin{ID: "2.1", Try: 2}, event.Ask{ID: "2", Form: "failure", Text: "it failed", Answers: []string{"repeat", "go on", "stop", "go back"}}},
		"transfer": {event.StepBegin{ID: "3.1", Try: 1}, event.TransferBegin{File: "tern.brm", Size: 1000, By: "XMODEM-1K", SHA256: strings.Repeat("ab", 32), Allowed: 100}, event.Transfer{Bytes: 500, Size: 1000, Rate: 90, Again: 3}},
		"hand":     {event.Helm{Who: event.Hand}},
		"ended":    {event.RunEnd{Outcome: event.Done, Message: "done", Proved: []string{"it runs", strings.Repeat("long ", 40)}}},
		"lost":     {event.Line{State: event.LineLost, Note: "pulled"}},
	}
	for name, more := range states {
		for _, size := range [][2]int{{20, 8}, {80, 24}, {109, 30}, {110, 30}, {160, 40}, {300, 80}} {
			for _, v := range []view{consoleView, helpView, courseView, logbookView} {
				a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark", Device: "hollow-rtr1", About: "Brindle R40 · Hollow Skerry", Line: "bench"})
				feed(a, append(rescue(), more...)...)
				a.view = v
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
	feed(a, append(rescue(), event.StepBegin{ID: "2.1", Try: 1},
		event.Ask{ID: "1", Form: "hold", Step: "2.1", Text: "Removes it.", Types: []string{"store drop x"}, WayBack: "none", NoReturn: true})...)
	text := strings.Join(shown(a, 80, 24), "\n")
	for _, want := range []string{"Hold, no way back", "Removes it.", "store drop x", "Enter go on", "nothing changed", "●", "◇", "□", "sill:", "helm  RUNBOOK"} {
		assert.Contains(t, text, want)
	}
}

// TestNoEscapeSequenceOfTheDeviceGetsThrough feeds what a hostile device might send.
func TestNoEscapeSequenceOfTheDeviceGetsThrough(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	feed(a, append(rescue(), event.In{Bytes: event.Text("\x1b]52;c;aGFjaw==\x07\x1b[?1000h\x1bP+q544e\x1b\\\x9b31m\x1b[6nharmless\r\n")},
		event.Fact{Name: "device.name", Value: "x\u009b2J\x1b[2Jy", Source: "about"}, event.Note{Level: event.Warn, Text: "\x1b]0;t\x07"},
		event.Mode{Name: "monitor", Proof: "\u0090"})...)
	a.say("\x1b[2J")
	content := func() string { a.Update(tea.WindowSizeMsg{Width: 120, Height: 30}); return a.View().Content }()
	assert.Contains(t, content, "harmless")
	assert.False(t, strings.ContainsFunc(content, func(r rune) bool { return r >= 0x7f && r < 0xa0 || r < 0x20 && r != '\n' && r != 0x1b }))
	for rest := content; ; {
		_, after, found := strings.Cut(rest, "\x1b")
		if !found {
			break
		}
		end := strings.IndexFunc(after, func(r rune) bool { return r != '[' && r != ';' && r != ':' && (r < '0' || r > '9') })
		require.GreaterOrEqual(t, end, 0)
		assert.Equal(t, byte('m'), after[end], "only colours of our own: %q", after[:min(20, len(after))])
		rest = after
	}
}

func TestAnAnswerRightAfterTheQuestionIsAskedForOnceMore(t *testing.T) {
	a := newApp(t.Context(), Options{Leader: "ctrl+g", Theme: "dark"})
	lines := strip.Lines(a.theme, a.state, strip.View{}, 80)
	require.Len(t, lines, 1)
	feed(a, append(rescue(), event.Ask{ID: "1", Form: "hold", Step: "2.1", Text: "Removes it."})...)
	a.tooSoon = true
	assert.Contains(t, strings.Join(shown(a, 120, 30), "\n"), "came too soon")
}
