package plain

import (
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestWhatActsIsMadeADot(t *testing.T) {
	for text, want := range map[string]string{
		"sill: ø 港":          "sill: ø 港",
		"a\x1b[2Jb\x07":      "a·[2Jb·",
		"\u009b2J":           "·2J",
		"one\u202etwo":       "one·two",
		"zero\u200bwidth":    "zero·width",
		"bad \xff\xfe bytes": "bad · bytes",
		"tab\tand\nline":     "tab·and·line",
	} {
		assert.Equal(t, want, Text(text), "%q", text)
	}
	assert.Equal(t, "abc…", Clip("abcdef", 3))
	assert.Equal(t, "abc", Clip("abc", 3))
}

func TestNothingThatActsComesThrough(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := Text(string(rapid.SliceOf(rapid.Byte()).Draw(t, "bytes")))
		assert.True(t, utf8.ValidString(text))
		for _, r := range text {
			assert.False(t, unicode.IsControl(r), "%q", text)
		}
	})
}
