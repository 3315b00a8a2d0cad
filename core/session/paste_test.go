package session

import (
	"context"
	"regexp"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook/engine"
)

const pasteDialect = `
dialect: pasted
modes: [{mode: ready, prompt: '^[\w-]+ > $'}]
noise: ['^\*log: ']
dangers: [{pattern: '^wipe\b', says: empties a bank}]
line: {clear: "\x15", tab: text}
refused: ['what is \w+\?']
`

// pasteTo types a text to a device that answers each line.
func pasteTo(
	t *testing.T, withDialect bool, text string, opt PasteOptions, answer func(line string) string,
	echo func(key byte, column int) string,
) (result Pasted, sent string, feedOf []event.Event, err error) {
	synctest.Test(t, func(t *testing.T) {
		l := newFakeLine()
		opener := line.NewOpener(clock.Real())
		opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return l, nil })
		var d *dialect.Dialect
		if withDialect {
			var err error
			d, err = dialect.Parse("paste.yaml", []byte(pasteDialect))
			require.NoError(t, err)
		}
		s, err2 := Open(t.Context(), Options{Target: l.Target(), Dialect: d, Opener: opener})
		require.NoError(t, err2)
		feed := s.Subscribe()
		s.Begin()
		l.says("\r\n\x1b[32mhollow > \x1b[0m")
		time.Sleep(time.Second)
		typed := ""
		stop := echoTo(l, func(b byte) string {
			if b == '\r' {
				line := typed
				typed = ""
				return "\r\n" + answer(line)
			}
			if b == 0x15 {
				erase := strings.Repeat("\b \b", len(typed))
				typed = ""
				return erase
			}
			typed += string(b)
			return echo(b, len("hollow > ")+len(typed))
		})
		result, err = s.Paste(t.Context(), text, opt)
		stop()
		sent = l.got()
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		feedOf, _ = feed.Next(ctx)
		s.Close("the test ends")
	})
	return result, sent, feedOf, err
}

func echoTo(l *fakeLine, device func(b byte) string) (stop func()) {
	return echo(l, time.Millisecond, func(_ int, b byte) string { return device(b) })
}

func plainEcho(b byte, _ int) string { return string(b) }

func promptOnly(string) string { return "\x1b[32mhollow > \x1b[0m" }

func TestATextIsTypedLineByLine(t *testing.T) {
	long := "interface description " + strings.Repeat("this is a rather long line ", 4)
	for name, echo := range map[string]func(byte, int) string{
		"plain": plainEcho,
		"wrapped by the device": func(b byte, column int) string {
			if column%46 == 0 {
				return string(b) + "\r\n"
			}
			return string(b)
		},
		"tabs as blanks": func(b byte, column int) string {
			if b == '\t' {
				return strings.Repeat(" ", 8-column%8)
			}
			return string(b)
		},
		"log lines in the middle": func(b byte, column int) string {
			if column == 14 {
				return string(b) + "\r\n*log: link up\r\n"
			}
			return string(b)
		},
	} {
		text := "first\r\n\tsecond\n" + long + "\n\nlast\n"
		result, sent, events, err := pasteTo(t, true, text, PasteOptions{Name: "setup.txt"}, promptOnly, echo)
		require.NoError(t, err, name)
		assert.Equal(t, 5, result.Lines, name)
		assert.Equal(t, "first\r\tsecond\r"+long+"\r\rlast\r", sent, name)
		var states []string
		for _, e := range events {
			if moved, ok := e.Body.(event.Transfer); ok {
				states = append(states, moved.State)
			}
		}
		assert.Equal(t, []string{"line 1 of 5", "line 2 of 5", "line 3 of 5", "line 4 of 5", "line 5 of 5"}, states,
			"the count is shown")
	}
}

// TestTheLineThatIsRefusedIsNamed has the answer come with the prompt, and without one.
func TestTheLineThatIsRefusedIsNamed(t *testing.T) {
	refuses := func(line string) string {
		if line == "bad" {
			return "no such word\r\nhollow > "
		}
		return "hollow > "
	}
	fail := regexp.MustCompile(`no such`)
	for name, withDialect := range map[string]bool{"prompt known": true, "no dialect": false} {
		for _, text := range []string{"good\nbad\ngood\n", "good\nbad\n"} {
			result, sent, _, err := pasteTo(t, withDialect, text, PasteOptions{Fail: fail}, refuses, plainEcho)
			var failed *PasteFailed
			require.ErrorAs(t, err, &failed, name)
			assert.Equal(t, 2, failed.Number, name)
			assert.Equal(t, "bad", failed.Line)
			assert.Equal(t, 1, result.Lines)
			assert.Equal(t, "good\rbad\r", sent, "it stops there")
		}
	}
}

func TestTheDialectKnowsWhatIsRefused(t *testing.T) {
	_, sent, _, err := pasteTo(t, true, "what is this?\nbad\nlast\n", PasteOptions{}, func(line string) string {
		if line == "bad" {
			return "what is bad?\r\n" + promptOnly(line)
		}
		return promptOnly(line)
	}, plainEcho)
	require.ErrorContains(t, err, `line 2 of the text ("bad"): the device answered: what is bad?`)
	assert.Equal(t, "what is this?\rbad\r", sent)
}

func TestWordsOfAFailureInTheTextItselfAreNone(t *testing.T) {
	result, _, _, err := pasteTo(t, true, "banner no such users\nend\n",
		PasteOptions{Fail: regexp.MustCompile(`no such`)}, promptOnly, plainEcho)
	require.NoError(t, err)
	assert.Equal(t, 2, result.Lines)
}

func TestAPromptOfOnesOwn(t *testing.T) {
	result, _, _, err := pasteTo(t, false, "show\nend\n", PasteOptions{Prompt: regexp.MustCompile(`^hollow > $`)},
		promptOnly, plainEcho)
	require.NoError(t, err)
	assert.Equal(t, 2, result.Lines)
	_, _, _, err = pasteTo(t, false, "show\n", PasteOptions{Prompt: regexp.MustCompile(`^other> $`)}, promptOnly,
		plainEcho)
	assert.ErrorContains(t, err, "the prompt did not come within 10s")
}

func TestADangerIsNotTyped(t *testing.T) {
	_, sent, _, err := pasteTo(t, true, "look\nwipe bank B\nlook\n", PasteOptions{}, promptOnly, plainEcho)
	require.ErrorContains(t, err, `line 2 of the text ("wipe bank B"): empties a bank`)
	assert.Equal(t, "look\r", sent)
	_, sent, _, err = pasteTo(t, true, "wipe bank B\n", PasteOptions{Dangers: true}, promptOnly, plainEcho)
	require.NoError(t, err)
	assert.Equal(t, "wipe bank B\r", sent)
}

func TestControlCharactersAreRefusedBeforeAnythingIsTyped(t *testing.T) {
	_, sent, _, err := pasteTo(t, true, "look\nlo\x1bok\n", PasteOptions{}, promptOnly, plainEcho)
	require.ErrorContains(t, err, "line 2")
	assert.Empty(t, sent)
}

func TestBlindAndPaced(t *testing.T) {
	result, sent, _, err := pasteTo(t, true, "a\nb\n", PasteOptions{Blind: true}, func(string) string { return "" },
		func(byte, int) string { return "" })
	require.NoError(t, err)
	assert.Equal(t, "a\rb\r", sent)
	assert.Equal(t, 2, result.Lines)
	result, _, _, err = pasteTo(t, true, "abcd\n", PasteOptions{Character: 100 * time.Millisecond, Line: time.Second},
		promptOnly, plainEcho)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, result.Took, 1400*time.Millisecond)
}

func TestTheHandStopsAPaste(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
		l.says("> ")
		time.Sleep(time.Second)
		ended := make(chan error, 1)
		go func() {
			_, err := s.Paste(t.Context(), "never echoed\nlast\n", PasteOptions{})
			ended <- err
		}()
		time.Sleep(time.Second)
		_, err := s.Paste(t.Context(), "x", PasteOptions{})
		assert.ErrorContains(t, err, "under way")
		s.Press([]byte("q"))
		assert.ErrorIs(t, <-ended, engine.ErrHelm)
		assert.Equal(t, "never echoedq", l.got())
	})
}

// TestAKeyBehindAPasteIsNotTypedBeforeIt presses a key before the first letter of the text went out.
func TestAKeyBehindAPasteIsNotTypedBeforeIt(t *testing.T) {
	with(t, nil, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
		l.says("> ")
		time.Sleep(time.Second)
		typed, err := s.BeginPaste("one\ntwo\n", PasteOptions{})
		require.NoError(t, err)
		s.Press([]byte("q"))
		result, err := typed(t.Context())
		assert.ErrorIs(t, err, engine.ErrHelm)
		assert.Zero(t, result.Lines)
		assert.Equal(t, "q", l.got(), "nothing of the text follows the key that stopped it")
	})
}

// TestATabIsNotPasted has one stand anywhere in a text or a line: nothing of it is typed, and it is said.
func TestATabIsNotPasted(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
		for _, text := range []string{"reb\t\rlook\n", "\tlook\nlook\n", "look\nlook\t\n"} {
			_, err := s.Paste(t.Context(), text, PasteOptions{})
			require.ErrorContains(t, err, "it holds a tab")
		}
		for _, line := range []string{"reb\t", "reb\t\n", "\x1b[Aok", "\x12reb"} {
			require.Error(t, s.PressPasted(line), "%q", line)
		}
		require.Empty(t, l.got())
		require.NoError(t, s.PressPasted("look\r\n"))
		require.Equal(t, "look\r", l.got())
	})
	lockedBy(t, dangerous+"line: {tab: text}\n", func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
		require.NoError(t, s.PressPasted("a\tb"))
		require.Equal(t, "a\tb", l.got())
	})
}
