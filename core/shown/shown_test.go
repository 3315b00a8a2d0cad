package shown

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// model is a device's line after its prompt, a command and its Enter.
func model(cols int, command string) *Model {
	m := New(cols, UsualRows, Options{
		Noise: []*regexp.Regexp{regexp.MustCompile(`^\*\d\d:\d\d .*`)},
		Pager: regexp.MustCompile(`-- more --`),
	})
	m.Write([]byte("sill: "+command), nil)
	m.Mark(true, nil)
	return m
}

// TestAnAnswerIsWhatWasDrawnInTheEnd lists what devices do to their own lines.
func TestAnAnswerIsWhatWasDrawnInTheEnd(t *testing.T) {
	for name, c := range map[string]struct{ sent, answer, line string }{
		"plain":      {"\r\none\r\ntwo\r\nsill: ", "one\ntwo\n", "sill: "},
		"progress":   {"\r\n 1 %\r50 %\r\x1b[Kdone\r\nsill: ", "done\n", "sill: "},
		"backspaces": {"\r\nerror\b\b\b\b\bfine \r\nsill: ", "fine\n", "sill: "},
		"cursor up":  {"\r\nA wait\r\nB wait\r\n\x1b[2A\x1b[2Cdone\x1b[2B\rsill: ", "A done\nB wait\n", "sill: "},
		"inserted":   {"\r\nb\r\x1b[@a\r\nsill: ", "ab\n", "sill: "},
		"deleted":    {"\r\nxxab\r\x1b[2P\x1b[2C\r\nsill: ", "ab\n", "sill: "},
		"erased":     {"\r\nkeep\r\ngone\x1b[2K\r\nsill: ", "keep\n\n", "sill: "},
		"coloured":   {"\r\n\x1b[1;32mok\x1b[0m\r\n\x1b[1msill:\x1b[m ", "ok\n", "sill: "},
		"noise":      {"\r\none\r\n*00:01 link down\r\ntwo\r\nsill: ", "one\ntwo\n", "sill: "},
		"pager":      {"\r\none\r\n-- more --\r          \rtwo\r\nsill: ", "one\ntwo\n", "sill: "},
		"pager left": {"\r\none\r\n-- more --\r\ntwo\r\nsill: ", "one\ntwo\n", "sill: "},
		"wrapped": {"\r\n" + strings.Repeat("0123456789",
			4) + "\r\nsill: ", strings.Repeat("0123456789", 4) + "\n", "sill: "},
		"exactly full": {"\r\n" + strings.Repeat("x",
			30) + "\r\ntwo\r\nsill: ", strings.Repeat("x", 30) + "\ntwo\n", "sill: "},
		"nothing":            {"\r\nsill: ", "", "sill: "},
		"typed ahead erased": {"\r\none\r\nsill: abc\b\b\b\x1b[K", "one\n", "sill: "},
	} {
		m := model(30, "list")
		m.Write([]byte(c.sent), nil)
		assert.Equal(t, c.answer, m.Answer().String(), name)
		line, free := m.Line()
		assert.Equal(t, c.line, line, name)
		assert.True(t, free, name)
		assert.True(t, m.Below(), name)
	}
}

// TestAnAnswerLongerThanTheScreenIsWhole has most of it leave the screen, wraps and all.
func TestAnAnswerLongerThanTheScreenIsWhole(t *testing.T) {
	m := model(30, "list")
	want := strings.Repeat(strings.Repeat("ab ", 15)+"end\nshort\n", 200)
	for _, b := range []byte("\r\n" + strings.ReplaceAll(want, "\n", "\r\n") + "sill: ") {
		m.Write([]byte{b}, nil)
	}
	assert.Equal(t, want, m.Answer().String())
	assert.Zero(t, m.Answer().Lost())
}

func TestALineIsGivenWholeWhereSomethingFollowsTheCursor(t *testing.T) {
	m := New(30, UsualRows, Options{})
	m.Write([]byte("sill: reload now\x1b[4D"), nil)
	line, free := m.Line()
	assert.Equal(t, "sill: reload now", line)
	assert.False(t, free)
}

func TestALineMayWrapAtTheDevicesOwnWidth(t *testing.T) {
	m := New(20, UsualRows, Options{})
	m.Write([]byte("sill: keep image tern-4.2.1.brm as second"), nil)
	line, free := m.Line()
	assert.Equal(t, "sill: keep image tern-4.2.1.brm as second", line)
	assert.True(t, free)
}

// TestLinesAreToldAsTheyEnd says which are noise and which are new.
func TestLinesAreToldAsTheyEnd(t *testing.T) {
	m := model(30, "list")
	var report []string
	m.Write([]byte(" x\r\none\r\n*00:01 link down\r\n"), func(e Ended) {
		text := string(e.Text)
		if e.Noise {
			text += " (noise)"
		}
		if !e.New {
			text += " (old)"
		}
		report = append(report, text)
	})
	assert.Equal(t, []string{"sill: list x (old)", "one", "*00:01 link down (noise)"}, report)
}
