//go:build !race

package test

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/logbook"
)

var killed = flag.Int("killed.runs", 20, "how often a demo is killed at a random moment")

// killedDemos are those that are killed, with how long each takes at the time scale of the test at most.
var killedDemos = map[string]time.Duration{
	"bank-upgrade":   36 * time.Second,
	"trial":          8 * time.Second,
	"burn":           5 * time.Second,
	"stack":          15 * time.Second,
	"one-store":      4 * time.Second,
	"over-the-shell": 4 * time.Second,
	"first-boot":     3 * time.Second,
	"rescue":         20 * time.Second,
}

// onlyLooks are the lines that change nothing, and the answers to what a command asks. Whatever else a demo types
// changes something.
var onlyLooks = regexp.MustCompile(`^(|harbour|lamp-and-tide|look .*|lift|view .*|work|sum .*|foresee .*|report .*|arm|tell .*|rise|weigh .*|(ship|lend) setup .*|` + `version|printenv.*|flinfo|mtdparts|setenv (ipaddr|netmask) .*; echo set|tftpboot .*|crc32 .*|bootm .*|cat .*|wget .*|sha256sum .*|` + `y|k|n|no|yes|192\.0\.2\.\d+|tern-\S+\.brm|help|store|show .*|speed \d+|start .*|about|rate \d+)$`)

// TestKilledAtAnyMoment kills demos without warning at random moments, and has the kernel's own tracer see what they
// wrote to the device: every line that changes anything was on record before it was typed, and the next start says what
// may have been changed.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	require.NoError(t, exec.Command("strace", "-V").Run(), "needs the Debian package strace; ./dev/test installs it")
	names := make([]string, 0, len(killedDemos))
	for name := range killedDemos {
		names = append(names, name)
	}
	slices.Sort(names)
	cut, typed := 0, 0
	for run := range *killed {
		random := rand.New(rand.NewPCG(uint64(run), uint64(time.Now().UnixNano())))
		name := names[run%len(names)]
		after := time.Duration(random.Float64() * float64(killedDemos[name]))
		wasCut, changes := killOne(t, name, after)
		if wasCut {
			cut++
		}
		typed += changes
	}
	t.Logf("%d of %d runs were cut off, after %d lines that change something", cut, *killed, typed)
	assert.Positive(t, cut)
}

// killOne kills a demo, and holds its record to what was written to the device.
func killOne(t *testing.T, name string, after time.Duration) (cut bool, changes int) {
	folder := tempDir(t)
	book, trace := filepath.Join(folder, "logbook.db"), filepath.Join(folder, "trace")
	run := exec.Command("strace", "-f", "--seccomp-bpf", "-y", "-xx", "-s", "4096", "-e", "trace=write", "-o", trace,
		program, "demo", name, "--headless", "--time-scale", "16", "--logbook", book)
	require.NoError(t, run.Start())
	ended := make(chan error, 1)
	go func() { ended <- run.Wait() }()
	select {
	case <-ended:
	case <-time.After(after):
		for _, child := range childrenOf(run.Process.Pid) {
			_ = syscall.Kill(child, syscall.SIGKILL)
		}
		<-ended
	}
	lines := writtenLines(t, trace)
	if _, err := os.Stat(book); err != nil {
		assert.Empty(t, changing(lines), "%s after %s: there is no record", name, after)
		return true, 0
	}
	opened, err := logbook.Open(book)
	require.NoError(t, err)
	defer opened.Close()
	var known []string
	last, done := "", false
	require.NoError(t, opened.Events(1, func(e event.Event) error {
		switch b := e.Body.(type) {
		case event.Change:
			known, last = append(known, b.Command), b.Command
		case event.RunEnd:
			done = true
		}
		return nil
	}))
	for _, line := range changing(lines) {
		changes++
		assert.Contains(t, known, line, "%s, killed after %s: it was typed and is not on record", name, after)
	}
	unsettled, err := opened.Unsettled()
	require.NoError(t, err)
	if done {
		return false, changes
	}
	if len(unsettled) > 0 {
		assert.Equal(t, last, unsettled[0].Change, "%s, killed after %s: what may have been changed last is reported",
			name, after)
		if last != "" {
			assert.Contains(t, unsettled[0].String(), "after “"+last+"” was sent or about to be")
		}
	} else {
		assert.Empty(t, changing(lines), "%s, killed after %s: it is reported that it was cut off", name, after)
	}
	return true, changes
}

func changing(lines []string) []string {
	return slices.DeleteFunc(slices.Clone(lines), func(line string) bool { return onlyLooks.MatchString(line) })
}

// childrenOf are a process's children, as the kernel lists them.
func childrenOf(pid int) (children []int) {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	for _, one := range strings.Fields(string(text)) {
		if n, err := strconv.Atoi(one); err == nil {
			children = append(children, n)
		}
	}
	return children
}

var (
	written = regexp.MustCompile(`^(\d+) +write\(\d+<([^>]*)>, "((?:\\x[0-9a-f]{2})*)"`)
	resumed = regexp.MustCompile(`^(\d+) +<\.\.\. write resumed>`)
	// interrupted is a write that a signal came in between: nothing was written, and the kernel begins it again.
	interrupted = regexp.MustCompile(`= (\? ERESTART\w+|-1 E(AGAIN|INTR)\b)`)
	inHex       = regexp.MustCompile(`^(\\x[0-9a-f]{2})+$`)
)

// writtenLines are the lines that were written to the device's pseudo-terminal, as the tracer saw them, each with the
// control characters in it obeyed. What is written to its other end is the device's own.
func writtenLines(t *testing.T, trace string) []string {
	file, err := os.Open(trace)
	require.NoError(t, err)
	defer file.Close()
	scan := bufio.NewScanner(file)
	scan.Buffer(nil, 1<<24)
	var writes [][]byte
	begun := map[string]int{} // by thread
	for scan.Scan() {
		text := scan.Text()
		if again := resumed.FindStringSubmatch(text); again != nil {
			if at, ok := begun[again[1]]; ok && interrupted.MatchString(text) {
				writes[at] = nil
			}
			delete(begun, again[1])
			continue
		}
		found := written.FindStringSubmatch(text)
		if found == nil {
			continue
		}
		delete(begun, found[1])
		path := found[2]
		if inHex.MatchString(path) {
			path = string(unescaped(path))
		}
		if !strings.HasPrefix(path, "/dev/pts/") || strings.Contains(path, "ptmx") || interrupted.MatchString(text) {
			continue
		}
		begun[found[1]] = len(writes)
		writes = append(writes, unescaped(found[3]))
	}
	require.NoError(t, scan.Err())
	return linesOf(writes)
}

// linesOf are the lines in what was written, blocks of a file aside.
func linesOf(writes [][]byte) (lines []string) {
	var line []byte
	for _, bytes := range writes {
		if len(bytes) > 128 && (bytes[0] == 0x01 || bytes[0] == 0x02) {
			continue
		}
		for _, b := range bytes {
			switch {
			case b == '\r':
				lines = append(lines, strings.TrimSpace(string(line)))
				line = line[:0]
			case b == 0x15 || b == 0x03:
				line = line[:0]
			case b >= 0x20 && b < 0x7f:
				line = append(line, b)
			}
		}
	}
	return lines
}

func unescaped(text string) (out []byte) {
	for i := 0; i+3 < len(text) && text[i] == '\\'; i += 4 {
		b, _ := strconv.ParseUint(text[i+2:i+4], 16, 8)
		out = append(out, byte(b))
	}
	return out
}

// TestANoteDuringARunTakesNothingFromItsRecord writes notes into the entry of a run that goes on, from another program.
func TestANoteDuringARunTakesNothingFromItsRecord(t *testing.T) {
	t.Parallel()
	book := filepath.Join(tempDir(t), "logbook.db")
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	run := exec.CommandContext(ctx, program, rescueArgs(t, book, "--time-scale", "16")...)
	run.Env = append(os.Environ(), "DEVICE_PASSWORD="+secretOfTests)
	out, err := run.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, run.Start())
	lines, printed, notes := bufio.NewScanner(out), 0, 0
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if printed++; printed%40 == 0 && notes < 12 {
			said, err := exec.Command(program, "logbook", "note", "1", "the crew is on board", "--logbook", book).
				CombinedOutput()
			require.NoError(t, err, "%s", said)
			notes++
		}
	}
	require.NoError(t, run.Wait())
	entry, events := eventsOf(t, book)
	assert.Equal(t, "done", entry.Outcome)
	assert.Len(t, events, printed+notes, "each event and each note is there once")
	assert.Positive(t, notes)
}

// TestInterruptedWritesAreNoLines reads the tracer's own lines: one that a signal came in between is written only once,
// one that was cut off may have been written.
func TestInterruptedWritesAreNoLines(t *testing.T) {
	trace := filepath.Join(tempDir(t), "trace")
	require.NoError(t, os.WriteFile(
		trace,
		[]byte(`9  write(8</dev/pts/6>, "\x61", 1) = ? ERESTARTSYS (To be restarted if SA_RESTART is set)
9  write(8</dev/pts/6>, "\x61", 1) = 1
7  write(8</dev/pts/6>, "\x62", 1 <unfinished ...>
9  write(9</dev/ptmx>, "\x7a", 1) = 1
7  <... write resumed>) = ? ERESTARTSYS (To be restarted if SA_RESTART is set)
7  write(8</dev/pts/6>, "\x62", 1 <unfinished ...>
7  <... write resumed>) = 1
7  write(8</dev/pts/6>, "\x0d", 1 <unfinished ...>
7  +++ killed by SIGKILL +++
`),
		0o600,
	))
	assert.Equal(t, []string{"ab"}, writtenLines(t, trace))
}
