package test

import (
	"context"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/dialect/spelltest"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/sense"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
)

// standIn is a shell at the other end of a pseudo-terminal that edits its line as shells do and runs nothing: it
// records each line that it is given to carry out.
type standIn struct {
	master  *os.File
	line    []byte
	history []string
	at      int    // in its history, counted from its end
	search  []byte // what is looked for in it, nil for nothing

	mu    sync.Mutex
	taken []string
}

const standInPrompt = "harbour@hut:~# "

// newStandIn makes one, with that history, and returns the path to it. It serves once that is open.
func newStandIn(t *testing.T, history ...string) (shell *standIn, path string) {
	t.Helper()
	master, slave, err := pty.Open()
	require.NoError(t, err)
	require.NoError(t, slave.Close())
	t.Cleanup(func() { _ = master.Close() })
	return &standIn{master: master, history: history}, slave.Name()
}

func (s *standIn) serve() {
	s.say("\r\n" + standInPrompt)
	keys := make([]byte, 1024)
	for {
		n, err := s.master.Read(keys)
		if err != nil {
			return
		}
		for pending := keys[:n]; len(pending) > 0; {
			pending = s.key(pending)
		}
	}
}

func (s *standIn) say(text string) { _, _ = s.master.WriteString(text) }

// show draws the line again.
func (s *standIn) show(line string) {
	s.line = []byte(line)
	s.say("\r" + standInPrompt + line + "\x1b[K")
}

// key takes a key, and returns what follows.
func (s *standIn) key(keys []byte) (rest []byte) {
	key, rest := keys[0], keys[1:]
	switch {
	case strings.HasPrefix(string(keys), "\x1b[A"):
		rest = keys[3:]
		s.recall(1)
	case key == 0x10: // Ctrl-P
		s.recall(1)
	case key == '\r' || key == '\n' || key == 0x0f:
		s.take(key == 0x0f)
	case key == 0x03:
		s.line, s.search, s.at = nil, nil, 0
		s.say("^C\r\n" + standInPrompt)
	case key == 0x15:
		s.show("")
	case key == '\t':
		if strings.HasSuffix(string(s.line), "reb") {
			s.show(string(s.line) + "oot ")
		}
	case key == 0x12: // Ctrl-R
		s.search = []byte{}
	case s.search != nil:
		s.search = append(s.search, key)
		for _, line := range s.history {
			if strings.Contains(line, string(s.search)) {
				s.line = []byte(line)
			}
		}
		s.say("\r(found by `" + string(s.search) + "'): " + string(s.line) + "\x1b[K")
	case key >= ' ' && key != 0x7f:
		s.line = append(s.line, key)
		s.say(string(rune(key)))
	}
	return rest
}

func (s *standIn) recall(back int) {
	s.at = min(s.at+back, len(s.history))
	s.show(s.history[len(s.history)-s.at])
}

// take records the line. Its history stays as it is, so that what is recalled is known.
func (s *standIn) take(next bool) {
	s.mu.Lock()
	s.taken = append(s.taken, string(s.line))
	s.mu.Unlock()
	s.line, s.search, s.at = nil, nil, 0
	s.say("\r\n" + standInPrompt)
	if next {
		s.recall(1)
	}
}

func (s *standIn) given() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string(nil), s.taken...)
}

// TestNoSpellingReachesAShellUnheld types each of 300 lines in a way of its own to a shell that runs nothing, or has it
// recalled, searched for, or completed: each is held, and none is ever taken.
func TestNoSpellingReachesAShellUnheld(t *testing.T) {
	t.Parallel()
	shell, path := newStandIn(t, "reboot", "sync; reboot -f", "reboot", "rm -rf /boot")
	d, err := shipped.Dialect("linux-shell")
	require.NoError(t, err)
	opener := line.NewOpener(clock.Real())
	s, err := session.Open(t.Context(),
		session.Options{Target: line.Target{Kind: line.Serial, Address: path}, Dialect: d, Opener: opener})
	require.NoError(t, err)
	defer s.Close("the test ends")
	feed := s.Subscribe()
	s.Begin()
	go shell.serve()
	ready := func() sense.State {
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		defer cancel()
		v, err := s.Await(ctx, func(v sense.State) bool { return v.AtPrompt })
		require.NoError(t, err)
		return v
	}
	for seed := range uint64(300) {
		random := rand.New(rand.NewPCG(seed, 241))
		line := spelltest.Danger(random)
		end := string("\r\r\n\x0f"[random.IntN(4)])
		way := random.IntN(9)
		before := ready()
		recalled := []string{"\x1b[A", "\x10", "\x1b[A\x1b[A", "\x12reb", "\x12boot", "reb\t", "reb\t -f"}
		switch way {
		case 0: // as it was recalled, once it is shown
			line = recalled[random.IntN(len(recalled))]
			s.Press([]byte(line))
			ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
			_, err := s.Await(ctx,
				func(v sense.State) bool { return v.Bytes > before.Bytes && strings.Contains(v.Partial, "boot") })
			cancel()
			require.NoError(t, err, "%q", line)
			s.Press([]byte(end))
		case 1: // and before
			line = recalled[random.IntN(len(recalled))]
			s.Press([]byte(line + end))
		case 2, 3, 4: // as fast as it can be
			s.Press([]byte(line + end))
		case 5: // behind another line in one piece
			s.Press([]byte("uptime\r" + line + end))
		case 6: // over one that was given up
			s.Press([]byte("uptime\x15" + line + end))
		default:
			for _, key := range line + end {
				s.Press([]byte(string(key)))
			}
		}
		held := awaitInterlock(t, feed, seed, way, line+end, shell)
		assert.Equal(t, event.InterlockHeld, held.State, "%q", line)
		s.Press([]byte{0x03})
		if forgotten := awaitInterlock(t, feed, seed, way, line+end,
			shell); forgotten.State != event.InterlockForgotten {
			t.Fatalf("%q: %s", line, forgotten.State)
		}
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		_, err := s.Await(ctx, func(v sense.State) bool { return v.AtPrompt && v.Bytes > before.Bytes })
		cancel()
		require.NoError(t, err, "%q", line)
		for _, taken := range shell.given() {
			require.Contains(t, []string{"", "uptime"}, taken, "behind %q", line)
		}
	}
	assert.NotEmpty(t, shell.given(), "what is harmless reached it")
}

// awaitInterlock is the next that an interlock does.
func awaitInterlock(
	t *testing.T, feed *event.Feed, seed uint64, way int, typed string, shell *standIn,
) event.Interlock {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	for {
		batch, err := feed.Next(ctx)
		require.NoError(t, err, "%q (%d, in way %d) is not held; the shell was given %q", typed, seed, way,
			shell.given())
		for _, e := range batch {
			if i, ok := e.Body.(event.Interlock); ok {
				return i
			}
		}
	}
}
