package paint

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func anyLine(t *rapid.T, name string) (line Line) {
	for range rapid.IntRange(0, 6).Draw(t, name) {
		line = append(line, Piece{Text: rapid.StringOfN(rapid.RuneFrom([]rune("ab ø港é…✓")), 0, 12, -1).Draw(t, "text")})
	}
	return line
}

func TestWidthsAreExact(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		left, right := anyLine(t, "left"), anyLine(t, "right")
		width := rapid.IntRange(0, 60).Draw(t, "width")
		assert.LessOrEqual(t, left.Cut(width).Width(), width)
		assert.Equal(t, width, left.Fit(width).Width())
		assert.Equal(t, width, Between(left, right, width).Width())
	})
}

func TestWrapLosesNoWord(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		words := rapid.SliceOfN(rapid.StringMatching(`[a-z]{1,9}`), 0, 30).Draw(t, "words")
		rows := Wrap(strings.Join(words, " "), 12)
		assert.Equal(t, words, strings.Fields(strings.Join(rows, " ")))
		for _, row := range rows {
			assert.LessOrEqual(t, Width(row), 12)
		}
	})
}

func TestNothingOfADeviceControlsTheTerminal(t *testing.T) {
	assert.Equal(t, 3, Line{In(nil, "a\nb")}.Width(), "it is as wide as it is drawn")
	assert.Equal(t, "a·[2Jb·c", Piece{Text: "a\x1b[2Jb\u009bc"}.String())
}
