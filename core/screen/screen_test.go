package screen

import (
	"bytes"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// live is the text of the live rows, without empty ones at the end.
func live(s *Screen) string {
	var rows []string
	for n := range s.rows {
		rows = append(rows, s.Text(s.History()+n))
	}
	return strings.TrimRight(strings.Join(rows, "\n"), "\n")
}

func TestDrawing(t *testing.T) {
	for name, c := range map[string]struct{ in, want string }{
		"lines":                     {"sill 1.3\r\nsill: ", "sill 1.3\nsill: "},
		"line feed keeps column":    {"ab\ncd", "ab\n  cd"},
		"carriage return":           {"abc\rX", "Xbc"},
		"backspace and erase":       {"rate 96\b\b  \b\b19", "rate 19"},
		"tab":                       {"a\tb", "a       b"},
		"wraps":                     {"0123456789abc", "0123456789\nabc"},
		"wrap waits for more":       {"0123456789\r\nx", "0123456789\nx"},
		"wide characters":           {"港a", "港a"},
		"wide at the edge":          {"123456789港", "123456789\n港"},
		"combining":                 {"e\u0301x", "e\u0301x"},
		"combining on the edge":     {"123456789e\u0301x", "123456789e\u0301\nx"},
		"half a wide is blanked":    {"港\x1b[1GX", "X "},
		"cursor position":           {"\x1b[2;3Hx", "\n  x"},
		"erase to the end":          {"abcdef\x1b[1;3H\x1b[K", "ab"},
		"erase from the start":      {"abcdef\x1b[1;3H\x1b[1K", "   def"},
		"insert characters":         {"abc\x1b[1;2H\x1b[2@", "a  bc"},
		"delete characters":         {"abcdef\x1b[1;2H\x1b[2P", "adef"},
		"insert lines":              {"a\r\nb\x1b[1;1H\x1b[L", "\na\nb"},
		"delete lines":              {"a\r\nb\r\nc\x1b[1;1H\x1b[2M", "c"},
		"scroll region":             {"a\r\nb\r\nc\x1b[2;3r\x1b[3;1H\n", "a\nc"},
		"line drawing":              {"\x1b(0lqk\x1b(Bq", "┌─┐q"},
		"alternate screen":          {"main\x1b[?1049hother\x1b[?1049l", "main"},
		"save and restore":          {"ab\x1b7cd\x1b8X", "abXd"},
		"broken UTF-8":              {"a\xffb\xe6x", "a\ufffdb\ufffdx"},
		"C1 in UTF-8 is not obeyed": {"a\u009b5Cb", "a\ufffd5Cb"},
		"title is skipped":          {"\x1b]0;title\x07ok", "ok"},
		"title without an end":      {"\x1b]0;title\r\nok", "\nok"},
		"noise then text":           {"\x1bP\x1b[99999;1\x18ok", "ok"},
		"no wrap":                   {"\x1b[?7l0123456789abc", "012345678c"},
		"reset":                     {"abc\x1bcd", "d"},
		"erase all":                 {"abc\x1b[2J\x1b[Hd", "d"},
	} {
		t.Run(name, func(t *testing.T) {
			s := New(10, 4)
			s.Write([]byte(c.in))
			assert.Equal(t, c.want, live(s))
			bytewise := New(10, 4)
			for _, b := range []byte(c.in) {
				bytewise.Write([]byte{b})
			}
			assert.Equal(t, c.want, live(bytewise), "the same in single bytes")
		})
	}
}

func TestColoursBecomeStyles(t *testing.T) {
	s := New(40, 2)
	s.Write([]byte("\x1b[1;31mred\x1b[0m plain \x1b[38;5;200;48;2;1;2;3mmany"))
	runs := s.Line(0, nil)
	require.Len(t, runs, 3)
	assert.Equal(t, Style{FG: Palette(1), Attr: Bold}, runs[0].Style)
	assert.Equal(t, Style{}, runs[1].Style)
	assert.Equal(t, Style{FG: Palette(200), BG: RGB(1, 2, 3)}, runs[2].Style)
}

func TestPromptAndTypedAreToldApart(t *testing.T) {
	s := New(40, 4)
	s.Write([]byte("sill: "))
	s.MarkPrompt(6)
	s.Write([]byte("store\r\n  (empty)\r\n"))
	first, second := s.Line(0, nil), s.Line(1, nil)
	require.Len(t, first, 2)
	assert.Equal(t, Prompt, first[0].Style.Role)
	assert.Equal(t, Typed, first[1].Style.Role)
	assert.Equal(t, "store", first[1].Text)
	assert.Equal(t, Output, second[0].Style.Role)
}

func TestMarkWaitsForTheBeginningOfALine(t *testing.T) {
	s := New(40, 5)
	s.Write([]byte("sill: rate 115200"))
	s.Mark("speed 9600 → 115200")
	assert.Equal(t, "sill: rate 115200", live(s))
	s.Write([]byte("\r\nmoving\r\n"))
	assert.Equal(t, "sill: rate 115200\nmoving\nspeed 9600 → 115200", live(s))
	assert.Equal(t, Mark, s.Line(2, nil)[0].Style.Role)
}

func TestMarkGoesAboveAPromptThatWaits(t *testing.T) {
	for _, rows := range []int{5, 2} { // with room below, and at the bottom
		s := New(40, rows)
		s.Write([]byte("garble\r\nsill: "))
		s.MarkPrompt(6)
		s.Mark("speed found")
		s.Write([]byte("store"))
		s.Resize(40, 10)
		assert.Equal(t, "speed found\nsill: store", strings.TrimPrefix(live(s), "garble\n"))
		last := s.Line(s.History()+s.y, nil)
		require.Len(t, last, 2)
		assert.Equal(t, Typed, last[1].Style.Role)
	}
}

func TestHistoryKeepsWhatScrolledOff(t *testing.T) {
	s := New(20, 3)
	for n := range 1000 {
		fmt.Fprintf(writer{s}, "row \x1b[32m%d\x1b[m é港\r\n", n)
	}
	require.Equal(t, 998, s.History())
	for n := range 998 {
		require.Equal(t, fmt.Sprintf("row %d é港", n), s.Text(n))
		require.Equal(t, Palette(2), s.Line(n, nil)[1].Style.FG)
	}
	assert.Equal(t, 500, s.Find("ROW 500", 0, false))
	assert.Equal(t, 7, s.Find("row 7 ", 500, true))
	assert.Equal(t, -1, s.Find("absent", 0, false))
}

func TestHistoryGivesUpTheOldest(t *testing.T) {
	s := New(80, 2)
	s.history.limit = 10_000
	line := strings.Repeat("x", 70)
	for n := range 30_000 {
		fmt.Fprintf(writer{s}, "%d %s\r\n", n, line)
	}
	require.LessOrEqual(t, s.History(), 10_000)
	require.Equal(t, 29_999, s.Dropped()+s.History())
	assert.Equal(t, fmt.Sprintf("%d %s", s.Dropped(), line), s.Text(0))
}

func TestResizeWrapsAgainAndLosesNothing(t *testing.T) {
	s := New(20, 4)
	s.Write([]byte("a line of text that is long\r\nsill: "))
	s.Resize(10, 4)
	assert.Equal(t, "a line of \ntext that \nis long\nsill: ", live(s))
	x, y, _ := s.Cursor()
	assert.Equal(t, [2]int{6, 3}, [2]int{x, y})
	s.Resize(10, 2)
	assert.Equal(t, "is long\nsill: ", live(s))
	assert.Equal(t, "a line of ", s.Text(0))
	s.Resize(80, 24)
	s.Write([]byte("store"))
	assert.Contains(t, live(s), "sill: store")
}

type writer struct{ *Screen }

func (w writer) Write(p []byte) (int, error) { w.Screen.Write(p); return len(p), nil }

func FuzzScreen(f *testing.F) {
	f.Add([]byte("\x1b[2;3r\x1b[?1049h\x1b[5;5H港\x1b[P\x1b[@e\u0301"), uint8(3), uint8(2))
	f.Add([]byte("\x1b[L\x1b[M\x1b[S\x1b[T\x1b[?6h\x1b[2J\x1bc"), uint8(80), uint8(24))
	f.Add(bytes.Repeat([]byte("港é\t\r\n"), 30), uint8(1), uint8(1))
	f.Fuzz(func(t *testing.T, in []byte, cols, rows uint8) {
		s := New(17, 5)
		for i := 0; i < len(in); i += 37 {
			s.Write(in[i:min(i+37, len(in))])
			if i%2 == 0 {
				s.Resize(int(cols)+i%5, int(rows)+i%3)
			}
		}
		s.Mark("mark")
		s.MarkPrompt(4)
		s.Write([]byte("\r\n"))
		x, y, _ := s.Cursor()
		width, height := s.Size()
		require.True(t, x >= 0 && x < width && y >= 0 && y < height)
		for n := range s.History() + height {
			for _, run := range s.Line(n, nil) {
				require.NotContains(t, run.Text, "\x1b")
				require.False(t,
					strings.ContainsFunc(run.Text, func(r rune) bool { return r < 0x20 || r >= 0x7f && r < 0xa0 }),
					"%q", run.Text)
			}
		}
	})
}

// consoleText is what consoles say: mostly plain lines, some colour, some cursor movement.
func consoleText(size int) []byte {
	var text bytes.Buffer
	for n := 0; text.Len() < size; n++ {
		switch n % 8 {
		case 3:
			fmt.Fprintf(&text, "\x1b[32mport %d\x1b[0m up, \x1b[1m1000 Mbit/s\x1b[0m full duplex\r\n", n)
		case 6:
			fmt.Fprintf(&text, "checking block %d\rchecked  block %d é ok\r\n", n, n)
		default:
			fmt.Fprintf(&text, "%06d  tide gauge at the quay reads %d mm, pump idle, door shut, lamp on\r\n", n,
				n*7%4000)
		}
	}
	return text.Bytes()
}

// BenchmarkWrite prints MB/s, and its ratio to the 20 MB/s wanted.
func BenchmarkWrite(b *testing.B) {
	text := consoleText(1 << 20)
	s := New(105, 33)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		s.Write(text)
	}
	rate := float64(len(text)) * float64(b.N) / b.Elapsed().Seconds() / 1e6
	b.ReportMetric(rate/20, "×wanted")
}

// BenchmarkHistory holds a million rows and prints bytes a row, and the ratio to the 400 allowed.
func BenchmarkHistory(b *testing.B) {
	line := []byte(strings.Repeat("console text ", 6) + "\r\n")
	for b.Loop() {
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		s := New(80, 24)
		for range HistoryLimit {
			s.Write(line)
		}
		runtime.GC()
		runtime.ReadMemStats(&after)
		perRow := float64(after.HeapAlloc-before.HeapAlloc) / float64(s.History())
		b.ReportMetric(perRow, "B/row")
		b.ReportMetric(perRow/400, "×allowed")
		b.ReportMetric(float64(s.History()), "rows")
		runtime.KeepAlive(s)
	}
}
