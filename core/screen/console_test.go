package screen

import (
	"fmt"
	"strings"
	"testing"

	"pilotrix/core/plain"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// all is the text of every row, the history's too.
func all(s *Screen) (rows []string) {
	for n := range s.History() + s.rows {
		rows = append(rows, s.Text(n))
	}
	for len(rows) > 0 && rows[len(rows)-1] == "" {
		rows = rows[:len(rows)-1]
	}
	return rows
}

func TestTextFitsAgainWhenTheWindowIsWiderAgain(t *testing.T) {
	s := New(40, 4)
	var want []string
	for n := range 30 {
		line := fmt.Sprintf("%02d a line of é港 text, thirty columns", n)
		want = append(want, line)
		s.Write([]byte(line + "\r\n"))
	}
	s.Write([]byte("sill: "))
	want = append(want, "sill: ")
	for _, size := range [][2]int{{11, 4}, {7, 9}, {23, 2}, {40, 4}, {120, 50}, {13, 3}, {80, 24}} {
		s.Resize(size[0], size[1])
		for _, row := range all(s) {
			require.LessOrEqual(t, len([]rune(row)), size[0])
		}
	}
	assert.Equal(t, want, all(s), "history and screen are as they were")
	x, y, _ := s.Cursor()
	assert.Equal(t, "sill: ", s.Text(s.History()+y))
	assert.Equal(t, 6, x)
}

func TestATallerWindowShowsMoreOfTheHistory(t *testing.T) {
	s := New(20, 3)
	for n := range 10 {
		s.Write([]byte(fmt.Sprintf("row %d\r\n", n)))
	}
	s.Write([]byte("sill: "))
	s.Resize(20, 6)
	assert.Equal(t, "row 5\nrow 6\nrow 7\nrow 8\nrow 9\nsill: ", live(s))
	assert.Equal(t, 5, s.History())
	s.Write([]byte("store"))
	assert.Equal(t, "sill: store", s.Text(s.History()+5))
	s.Resize(20, 40)
	assert.Equal(t, 0, s.History())
	assert.Equal(t, "row 0", s.Text(0))
}

func TestClearingAgainAndAgainDoesNotFillTheHistory(t *testing.T) {
	s := New(20, 5)
	s.Write([]byte("boot 1\r\nboot 2"))
	for n := range 100 {
		s.Write([]byte(fmt.Sprintf("\x1b[H\x1b[2Jload %d\r\nb\r\nc\r\nd", n)))
	}
	assert.Equal(t, []string{"boot 1", "boot 2", "load 99", "b", "c", "d"}, all(s))
	s.Write([]byte("\r\nsill: "))
	s.MarkPrompt(6)
	s.Write([]byte("clear\r\n\x1b[H\x1b[2J"))
	assert.Contains(t, strings.Join(all(s), "\n"), "sill: clear", "what was on a console with prompts is kept")
}

func TestOtherCharacterSets(t *testing.T) {
	for name, c := range map[string]struct{ in, want string }{
		"latin-1": {"Ger\xe4t \xfcberpr\xfcft \x85", "Gerät überprüft \ufffd"},
		"cp437":   {"\xc9\xcd\xbb \x84", "╔═╗ ä"},
		"utf-8":   {"Gerät", "Gerät"},
	} {
		s := New(40, 2)
		set, err := ParseCharset(name)
		require.NoError(t, err)
		s.SetCharset(set)
		s.Write([]byte(c.in))
		assert.Equal(t, c.want, live(s), name)
		assert.Equal(t, name, s.Charset().String())
	}
	_, err := ParseCharset("ebcdic")
	assert.ErrorContains(t, err, "latin-1")
}

// TestNothingTurnsTheDirectionOfWriting lets no character through that makes a terminal show text in
// another order than it has.
func TestNothingTurnsTheDirectionOfWriting(t *testing.T) {
	for _, r := range "\u061c\u200b\u200e\u200f\u2028\u2029\u202a\u202b\u202c\u202d\u202e\u2060\u2066\u2067\u2068\u2069\ufeff" {
		s := New(20, 2)
		s.Write([]byte("a" + string(r) + "b"))
		assert.Equal(t, "a\ufffdb", live(s), "%U", r)
		assert.Equal(t, "a·b", plain.Text("a"+string(r)+"b"), "%U", r)
	}
}

// TestARestartInsideAFullScreenProgram has boot messages come after a program that had the screen.
func TestARestartInsideAFullScreenProgram(t *testing.T) {
	s := New(20, 5)
	s.Write([]byte("sill: edit\r\n\x1b[?1049h\x1b[?25l\x1b[2;4r\x1b[44m\x1b(0\x1b[?1hvi"))
	s.Leave()
	s.Write([]byte("boot qqq\r\nboot 2\r\n"))
	assert.Nil(t, s.saved, "the program's screen is gone")
	assert.False(t, s.AppKeys())
	_, _, shown := s.Cursor()
	assert.True(t, shown)
	assert.Equal(t, Style{}, s.pen)
	got := strings.Join(all(s), "\n")
	assert.Contains(t, got, "sill: edit\n")
	assert.True(t, strings.HasSuffix(got, "boot qqq\nboot 2"), got)
	before := live(s)
	s.Leave()
	assert.Equal(t, before, live(s), "a plain screen stays as it is")
}

func TestOnlyPlaceAndAttributesAreAnswered(t *testing.T) {
	s := New(20, 5)
	var answers []string
	s.OnReply(func(a string) { answers = append(answers, a) })
	s.Write(
		[]byte("ab\x1b[6n\x1b[5n\x1b[c\x1b[>c\x1b[?6n\x1b[7n\x1b[21t\x1bP$qm\x1b\\\x1b[?2026$p\x05\x1b[x\x1b]10;?\x07"))
	assert.Equal(t, []string{"\x1b[1;3R", "\x1b[0n", "\x1b[?62;22c", "\x1b[>1;10;0c"}, answers)
	assert.Equal(t, "ab", live(s))
}

func TestInverseScreen(t *testing.T) {
	s := New(20, 5)
	s.Write([]byte("\x1b[?5h"))
	assert.True(t, s.Inverse())
	s.Write([]byte("\x1b[?5l"))
	assert.False(t, s.Inverse())
}

func TestNoiseIsMarkedAlsoWhereItWraps(t *testing.T) {
	s := New(10, 5)
	s.Write([]byte("sill: \r\nnoise of the device\r\n"))
	s.MarkNoise()
	assert.Equal(t, Noise, s.Line(1, nil)[0].Style.Role)
	assert.Equal(t, Noise, s.Line(2, nil)[0].Style.Role)
	assert.Equal(t, Output, s.Line(0, nil)[0].Style.Role)
}

// BenchmarkReflow lays a million rows out for another width.
func BenchmarkReflow(b *testing.B) {
	s := New(80, 24)
	line := []byte(strings.Repeat("console text ", 6) + "\r\n")
	for range HistoryLimit {
		s.Write(line)
	}
	for i := 0; b.Loop(); i++ {
		s.Resize(90+i%2*20, 24)
	}
}
