package plain

import (
	"bytes"
	"encoding/json"
	"strings"
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

// TestAWriterLetsNothingThatActsThrough writes any bytes in any pieces: what comes out is the same however they were
// cut, and acts on nothing.
func TestAWriterLetsNothingThatActsThrough(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		all := []byte(rapid.OneOf(rapid.String(),
			rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) })).
			Draw(t, "bytes") +
			"\n")
		var whole, cut strings.Builder
		_, err := (&Writer{To: &whole}).Write(all)
		assert.NoError(t, err)
		w := &Writer{To: &cut}
		for rest := all; len(rest) > 0; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "piece")
			written, err := w.Write(rest[:n])
			assert.NoError(t, err)
			assert.Equal(t, n, written)
			rest = rest[n:]
		}
		assert.Equal(t, whole.String(), cut.String())
		assert.True(t, utf8.ValidString(whole.String()))
		for _, r := range whole.String() {
			assert.True(t, r == '\n' || r == '\t' || !Acts(r), "%q", r)
		}
	})
}

// TestJSONSaysTheSameBehindAWriter has strings that act in it.
func TestJSONSaysTheSameBehindAWriter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := rapid.String().Draw(t, "text") + "\u009b2J\u202e\x1b]52;c;x\x07"
		var out bytes.Buffer
		assert.NoError(t, json.NewEncoder(&Writer{To: &out}).Encode(want))
		var got string
		assert.NoError(t, json.Unmarshal(out.Bytes(), &got))
		assert.Equal(t, want, got)
	})
}
