package screen

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// terminal is a real terminal to compare with: tmux, which shares no code with this package.
type terminal struct {
	t      *testing.T
	socket string
	folder string
	cases  int
}

func newTerminal(t *testing.T) *terminal {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil && os.Getenv("CI") == "" {
		t.Skip("tmux is not here; dev/test installs it")
	}
	folder := t.TempDir()
	r := &terminal{t: t, socket: filepath.Join(folder, "s"), folder: folder}
	config := filepath.Join(folder, "conf")
	require.NoError(t,
		os.WriteFile(config,
			[]byte("set -g status off\nset -g default-terminal tmux-256color\nset -g remain-on-exit on\nset -g history-limit 0\nset -as terminal-features ',*:RGB:strikethrough'\n"),
			0o600))
	out, err := exec.Command("tmux", "-S", r.socket, "-f", config, "new-session", "-d", "-s", "x", "-x", "80", "-y",
		"24", "sleep 600").
		CombinedOutput()
	require.NoError(t, err, string(out))
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", r.socket, "kill-server").Run() })
	return r
}

func (r *terminal) tmux(args ...string) string {
	out, err := exec.Command("tmux", append([]string{"-S", r.socket}, args...)...).CombinedOutput()
	require.NoError(r.t, err, "%v: %s", args, out)
	return string(out)
}

// draw has the terminal draw bytes and returns how to read what it shows: what it paints on a terminal of
// its own that cannot erase in colour, so that every cell is painted.
func (r *terminal) draw(cols, rows int, in string) (read func() picture, end func()) {
	r.cases++
	file := filepath.Join(r.folder, fmt.Sprint("case", r.cases))
	require.NoError(r.t, os.WriteFile(file, []byte(in), 0o600))
	session := fmt.Sprint("c", r.cases)
	signal := session + "-drawn"
	r.tmux("new-session", "-d", "-s", session, "-x", fmt.Sprint(cols), "-y", fmt.Sprint(rows),
		fmt.Sprintf("stty raw -echo; cat '%s'; tmux -S '%s' wait-for -S %s; sleep 600", file, r.socket, signal))
	r.tmux("wait-for", signal)
	client := exec.Command("tmux", "-S", r.socket, "attach", "-r", "-t", session)
	client.Env = append(os.Environ(), "TERM=screen-256color", "LC_ALL=C.UTF-8")
	window, err := pty.StartWithSize(client, &pty.Winsize{Cols: uint16(cols), Rows: uint16(rows)})
	require.NoError(r.t, err)
	var mu sync.Mutex
	shown := New(cols, rows)
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, err := window.Read(buffer)
			if err != nil {
				return
			}
			mu.Lock()
			shown.Write(buffer[:n])
			mu.Unlock()
		}
	}()
	read = func() picture {
		mu.Lock()
		defer mu.Unlock()
		return pictureOf(shown, cols, rows)
	}
	return read, func() { // at once: a client that is left would size the next window
		_ = exec.Command("tmux", "-S", r.socket, "kill-session", "-t", session).Run()
		_ = client.Wait()
		_ = window.Close()
	}
}

// picture is what a screen shows: for each cell its character and its style, and where the cursor is.
type picture struct {
	rows   []string
	cursor string
}

func (p picture) String() string { return p.cursor + "\n" + strings.Join(p.rows, "\n") }

func pictureOf(s *Screen, cols, rows int) picture {
	p := picture{cursor: fmt.Sprintf("%d,%d", s.x, s.y)}
	for y := range rows {
		var row strings.Builder
		last := ""
		for x := range cols {
			c := s.grid[y].cells[x]
			style := s.styles.all[c.style]
			style.Role = Output
			style.Attr &^= Hidden // what the terminal paints on has no such attribute
			if c.width == 0 && c.r != 0 {
				continue
			}
			text := s.textOf(c)
			if c.r == 0 {
				text = " "
			}
			if text == " " { // what has no ink shows only its ground
				style.FG = 0
				style.Attr &= Reverse | Underline | Struck
			}
			if mark := fmt.Sprintf("{%x %x %x}", style.FG, style.BG, style.Attr); mark != last {
				row.WriteString(mark)
				last = mark
			}
			row.WriteString(text)
		}
		p.rows = append(p.rows, row.String())
	}
	return p
}

// sameAs draws in both and waits until the terminal shows the same.
func (r *terminal) sameAs(name string, cols, rows int, in string) (same bool) {
	s := New(cols, rows)
	s.Write([]byte(in))
	mine := pictureOf(s, cols, rows)
	read, end := r.draw(cols, rows, in)
	defer end()
	var theirs picture
	for range 40 { // it draws in its own time
		if theirs = read(); theirs.String() == mine.String() {
			return true
		}
		time.Sleep(25 * time.Millisecond)
	}
	r.t.Errorf("%s (%dx%d)\nin:   %.300q\nmine: %s\ntmux: %s", name, cols, rows, in, mine, theirs)
	return false
}

// sequencesToCompare are drawn by both. What differs on purpose is in differences below.
var sequencesToCompare = map[string]string{
	"repeat":                        "a\x1b[5bX\r\nz\x1b[3b",
	"tab stops":                     "\x1b[3g\x1b[1;4H\x1bH\r\tX\x1b[2ZY",
	"charset is reset":              "\x1b(0\x1bcqqq",
	"charset saved":                 "\x1b7\x1b(0q\x1b8q",
	"colon underline":               "\x1b[4:3mA\x1b[4:0mB\x1b[4mC",
	"colon colours":                 "\x1b[38:2::10:20:30mA\x1b[48:5:99mB\x1b[0mC\x1b[38:2:1:2:3mD",
	"underline colour":              "\x1b[4;58:5:3mA\x1b[59mB\x1b[58;2;1;2;3;1mC",
	"origin mode clamps":            "\x1b[2;3r\x1b[?6h\x1b[9;1HX\x1b[1;1HY",
	"row in origin mode":            "\x1b[2;3r\x1b[?6h\x1b[9dX",
	"up stops at the margin":        "\x1b[2;4r\x1b[5;1H\x1b[9AX\x1b[1;1H\x1b[9BY",
	"47 keeps the cursor":           "ab\x1b[?47hcd\x1b[?47lX",
	"1049 restores it":              "ab\x1b[?1049hcd\x1b[3;3H\x1b[?1049lX",
	"erase in colour":               "\x1b[44mab\x1b[K\r\nc\x1b[41m\x1b[2;3H\x1b[1K\x1b[0mX",
	"a bar":                         "\x1b[7m status \x1b[K\x1b[0m\r\nx",
	"erase below in colour":         "x\r\ny\x1b[42m\x1b[J\x1b[0mz",
	"scroll in colour":              "1\r\n2\r\n3\r\n4\r\n5\x1b[45m\r\n6",
	"insert in colour":              "abc\x1b[1;2H\x1b[43m\x1b[2@\x1b[0mX",
	"delete in colour":              "abcdef\x1b[1;2H\x1b[43m\x1b[2P\x1b[0mX",
	"erase characters in colour":    "abcdef\x1b[1;2H\x1b[43m\x1b[3X\x1b[0mX",
	"alternate in colour":           "\x1b[44m\x1b[?1049hx",
	"title of a screen manager":     "\x1bktitle\x1b\\ok",
	"question marks are passed":     "\x1b[>1u\x1b[?uX\x1b[?2026$pok",
	"keypad":                        "\x1b=\x1b>ok",
	"designations":                  "\x1b%G\x1b Fok\x1b(Bx",
	"insert mode":                   "bc\r\x1b[4ha\x1b[4lX",
	"wrap as shells do":             strings.Repeat("a", 20) + " \rb",
	"box":                           "\x1b)0\x0elqqk\x0f\r\n\x0ex\x0f  \x0ex\x0f",
	"wide at the edge":              strings.Repeat("a", 19) + "港b",
	"combining":                     "e\u0301x\r\no\u0308\u0301",
	"index and reverse":             "a\x1bDb\x1bMc\x1bEd\x1b[1;1H\x1bMe",
	"lines inserted in a region":    "1\r\n2\r\n3\r\n4\x1b[2;4r\x1b[2;1H\x1b[Lx",
	"lines deleted in a region":     "1\r\n2\r\n3\r\n4\x1b[2;4r\x1b[2;1H\x1b[Mx",
	"scroll up and down":            "1\r\n2\r\n3\r\n4\x1b[2S\x1b[1T",
	"sixteen colours":               "\x1b[31;42mA\x1b[91;102mB\x1b[39mC\x1b[49mD",
	"attributes on and off":         "\x1b[1;2;3;4;5;7;8;9mA\x1b[22;23mB\x1b[24;25mC\x1b[27;28;29mD",
	"save and restore colour":       "\x1b[31m\x1b7\x1b[32mA\x1b8B",
	"alignment pattern":             "\x1b[2;3r\x1b#8",
	"no wrap":                       "\x1b[?7l" + strings.Repeat("ab", 15) + "X",
	"next and previous line":        "a\x1b[2Eb\x1b[Fc",
	"column and row":                "\x1b[5GA\x1b[3dB\x1b[2`C",
	"cancelled sequence":            "a\x1b[31\x18b\x1b[4\x1am",
	"controls inside a sequence":    "abc\x1b[1\r;5Hd",
	"very large parameters":         "\x1b[99999;99999HX\x1b[99999DY",
	"region set homes":              "abc\x1b[2;4rX",
	"region that is none":           "abc\x1b[4;2rX",
	"scroll region with line feeds": "top\x1b[2;3r\x1b[3;1Ha\nb\nc",
	"bell in a title":               "\x1b]0;title\x07ok",
	"string ended by ST":            "\x1bPq#0\x1b\\ok\x1b_x\x1b\\y",
}

func TestSequencesAreDrawnAsARealTerminalDoes(t *testing.T) {
	r := newTerminal(t)
	for name, in := range sequencesToCompare {
		r.sameAs(name, 20, 5, in)
	}
}

// pieces are what random streams are made of.
var piecesToCompare = []string{
	"text", "word and more words", "\r\n", "\r\n", "\n", "\r", "\b", "\t", "é", "\x1b[A", "\x1b[3B", "\x1b[2C",
	"\x1b[4D", "\x1b[H", "\x1b[3;7H", "\x1b[10G", "\x1b[2d", "\x1b[K", "\x1b[1K", "\x1b[2K", "\x1b[J", "\x1b[1J",
	"\x1b[2X", "\x1b[2@", "\x1b[2P", "\x1b[S", "\x1b[T", "\x1b[31m", "\x1b[1;44m", "\x1b[0m", "\x1b[7m",
	"\x1b[38;5;200m", "\x1b[m", "\x1b[2;4r", "\x1b[r", "\x1bM", "\x1bD", "\x1b7", "\x1b8", "\x1b[3b", "\x1b[?6h",
	"\x1b[?6l", "\x1b[4h", "\x1b[4l", "\x1b(0", "\x1b(B", "\x1b[Z",
}

func TestRandomStreamsAreDrawnAsARealTerminalDoes(t *testing.T) {
	r := newTerminal(t)
	random := rand.New(rand.NewPCG(7, 11))
	for n := range 60 {
		size := [][2]int{{20, 5}, {33, 9}, {80, 24}}[n%3]
		var in strings.Builder
		mine := New(size[0], size[1])
		for range 5 + random.IntN(60) {
			piece := piecesToCompare[random.IntN(len(piecesToCompare))]
			if pending := mine.wrapNext ||
				mine.keep.wrapNext; pending &&
				(piece[0] == 0x1b || piece[0] == '\b' || piece[0] == '\t') {
				continue // see TestWhatDiffersFromThatTerminal
			}
			if piece == "\x1b[2;4r" && mine.mode.origin {
				continue // that terminal goes to the screen's corner then, not to the region's
			}
			mine.Write([]byte(piece))
			in.WriteString(piece)
		}
		r.sameAs(fmt.Sprint("stream ", n), size[0], size[1], in.String())
	}
}

// TestWhatDiffersFromThatTerminal holds what is left out above. Its cursor stands after the last column
// once that was written, where a VT220's stays on it until the next character; and it does not know HPR,
// VPR, CHT, DECSTR and mode 1048, which ECMA-48 and the VT220 manual describe; half a wide character that
// was overwritten stays there; bytes that are no UTF-8 are dropped there, and shown as such here, since they
// may mean a wrong speed.
func TestWhatDiffersFromThatTerminal(t *testing.T) {
	full := strings.Repeat("a", 20)
	for name, c := range map[string]struct{ in, want string }{
		"backspace at the wrap":    {full + "\bX", full[:18] + "Xa"},
		"delete at the wrap":       {full + "\x1b[PX", full + "\nX"},
		"cursor saved at the wrap": {full + "\x1b7\x1b[H\x1b8b", full + "\nb"},
		"erased at the wrap":       {full + "\b\x1b[KX", full[:18] + "X"},
		"broken UTF-8":             {"a\xffb\xc3(", "a\ufffdb\ufffd("},
		"half a wide character":    {"港湾\x1b[1;2HX", " X湾"},
		"tabs on and back":         {"a\x1b[2IX\x1b[ZY", "a               Y"},
		"position relative":        {"a\x1b[5aX\x1b[2eY", "a     X\n\n       Y"},
		"soft reset":               {"\x1b[2;3r\x1b[4h\x1b[!pabcdef\r\nx\r\ny\r\nz\r\nw", "abcdef\nx\ny\nz\nw"},
		"1048":                     {"ab\x1b[?1048hcd\x1b[?1048lX", "abXd"},
		"region in origin mode":    {"\x1b[?6h\x1b[2;4rX", "\nX"},
		"new line mode":            {"\x1b[20hab\ncd", "ab\ncd"},
		"single shift":             {"\x1b*0\x1bNqq", "─q"},
	} {
		s := New(20, 5)
		s.Write([]byte(c.in))
		assert.Equal(t, c.want, live(s), name)
	}
}

// programs are full-screen programs from Debian's packages, with the keys that each gets.
var programs = map[string]struct {
	command []string
	keys    []string
}{
	"top":  {[]string{"top", "-d", "0.2"}, []string{"", "1", "q"}},
	"less": {[]string{"less", "parser.go"}, []string{" ", "/case\r", "n", "G", "b"}},
	"vi": {
		[]string{"vi", "-n", "-u", "NONE", "parser.go"},
		[]string{"5j", "dd", "oa new line\x1b", "\x06", ":set nu\r", "\x0c"},
	},
	"whiptail": {
		[]string{
			"whiptail", "--title", "Harbour", "--menu", "Choose", "15", "50", "4", "a", "Hollow Skerry", "b",
			"Tangle Ness",
		},
		[]string{"\x1b[B", "\t"},
	},
}

// record runs a program on a terminal of a size and returns all that it wrote.
func record(t *testing.T, cols, rows int, command, keys []string) string {
	run := exec.Command(command[0], command[1:]...)
	run.Env = append(os.Environ(), "TERM=xterm-256color", "LC_ALL=C.UTF-8")
	window, err := pty.StartWithSize(run, &pty.Winsize{Cols: uint16(cols), Rows: uint16(rows)})
	require.NoError(t, err)
	pieces := make(chan string)
	go func() {
		defer close(pieces)
		buffer := make([]byte, 4096)
		for {
			n, err := window.Read(buffer)
			if n > 0 {
				pieces <- string(buffer[:n])
			}
			if err != nil {
				return
			}
		}
	}()
	var all strings.Builder
	for i := -1; i < len(keys); i++ {
		if i >= 0 {
			_, _ = window.WriteString(keys[i])
		}
		enough := time.After(time.Second) // a program that paints all the time is never quiet
		for quiet := false; !quiet; {
			select {
			case piece, open := <-pieces:
				all.WriteString(piece)
				quiet = !open
			case <-time.After(200 * time.Millisecond):
				quiet = true
			case <-enough:
				quiet = true
			}
		}
	}
	_ = run.Process.Kill()
	for range pieces {
	}
	_ = run.Wait()
	_ = window.Close()
	return all.String()
}

// TestFullScreenProgramsAreDrawnAsARealTerminalDoes records them, and compares what each shows at several
// moments of its run.
func TestFullScreenProgramsAreDrawnAsARealTerminalDoes(t *testing.T) {
	r := newTerminal(t)
	for name, program := range programs {
		if _, err := exec.LookPath(program.command[0]); err != nil && os.Getenv("CI") == "" {
			t.Logf("%s is not here; dev/test installs it", name)
			continue
		}
		for _, size := range [][2]int{{80, 24}, {61, 17}} {
			stream := record(t, size[0], size[1], program.command, program.keys)
			require.Greater(t, len(stream), 400, "%s wrote something", name)
			for _, part := range []int{3, 2, 1} {
				piece := stream[:len(stream)/part]
				for part > 1 && strings.LastIndexByte(piece, 0x1b) > len(piece)-12 { // not inside a sequence
					piece = piece[:strings.LastIndexByte(piece, 0x1b)]
				}
				r.sameAs(fmt.Sprintf("%s, 1/%d of it", name, part), size[0], size[1], strings.ToValidUTF8(piece, ""))
			}
		}
	}
}
