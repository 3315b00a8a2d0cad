package test

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// terminal is a tmux server of the test's own with the program in it.
type terminal struct {
	t       *testing.T
	socket  string
	pressed int // keys, each letter one
}

// startTerminal runs the program in a window of that size.
func startTerminal(t *testing.T, cols, rows int, args ...string) *terminal {
	t.Helper()
	return startTerminalAt(t, tempDir(t), cols, rows, args...)
}

// homeAt are the variables of a user whose files are all in one folder.
func homeAt(home string) []string {
	return []string{
		"HOME=" + home,
		"XDG_DATA_HOME=" + home + "/data",
		"XDG_CONFIG_HOME=" + home + "/config",
		"XDG_CACHE_HOME=" + home + "/cache",
	}
}

// startTerminalAt does the same for a user whose files are in a folder.
func startTerminalAt(t *testing.T, home string, cols, rows int, args ...string) *terminal {
	t.Helper()
	_, err := exec.LookPath("tmux")
	require.NoError(t, err, "needs the Debian package tmux; ./dev/test installs it")
	term := &terminal{t: t, socket: fmt.Sprintf("pilotrix-%d-%d", os.Getpid(), time.Now().UnixNano())}
	t.Cleanup(func() { _ = exec.Command("tmux", "-L", term.socket, "kill-server").Run() })
	quoted := make([]string, len(args))
	for i, arg := range args {
		quoted[i] = "'" + arg + "'"
	}
	start := append(
		[]string{
			"-f",
			"/dev/null",
			"new-session",
			"-d",
			"-s",
			"s",
			"-x",
			fmt.Sprint(cols),
			"-y",
			fmt.Sprint(rows),
			"env",
		},
		homeAt(home)...)
	term.tmux(append(start, "sh", "-c", "'"+program+"' "+strings.Join(quoted, " ")+"; echo exit code $?; sleep 600")...)
	return term
}

func (term *terminal) tmux(args ...string) string {
	term.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-L", term.socket}, args...)...).CombinedOutput()
	require.NoError(term.t, err, "tmux %v: %s", args, out)
	return string(out)
}

func (term *terminal) keys(keys ...string) {
	term.t.Helper()
	for _, key := range keys {
		switch {
		case key == "-l":
		case keys[0] == "-l":
			term.pressed += len([]rune(key))
		default:
			term.pressed++
		}
	}
	term.tmux(append([]string{"send-keys", "-t", "s"}, keys...)...)
}

func (term *terminal) screen() string {
	term.t.Helper()
	return term.tmux("capture-pane", "-p", "-t", "s")
}

// untilWithin is how long something may take until it stands on the screen, on a machine that has other things to do.
const untilWithin = 3 * time.Minute

// until waits for a text on the screen and returns the screen, once it is painted to its end: a capture may fall into
// the middle of a frame.
func (term *terminal) until(text string) string {
	term.t.Helper()
	deadline := time.Now().Add(untilWithin)
	for {
		screen := term.screen()
		if strings.Contains(screen, text) {
			time.Sleep(frameTime)
			if whole := term.screen(); strings.Contains(whole, text) {
				return whole
			}
			return screen
		}
		if time.Now().After(deadline) {
			require.Fail(term.t, "not on the screen: "+text, "%s", screen)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// frameTime is longer than a frame takes to be painted.
const frameTime = 100 * time.Millisecond

// enters presses Enter, and waits for a text.
func (term *terminal) enters(text string) string {
	term.t.Helper()
	return term.answers("Enter", text)
}

// answers presses a key, once more where that came too soon behind what it answers, and waits for a text.
func (term *terminal) answers(key, text string) string {
	term.t.Helper()
	term.keys(key)
	deadline := time.Now().Add(time.Minute)
	for time.Now().Before(deadline) {
		screen := term.screen()
		if strings.Contains(screen, text) {
			break
		}
		if strings.Contains(screen, "once more") {
			term.onceMore(key)
		}
		time.Sleep(frameTime)
	}
	return term.until(text)
}

// guarded is longer than a key counts as one that came too soon.
const guarded = 800 * time.Millisecond

// onceMore presses a key that is asked for once more, when it is no longer too soon for it, and waits until that is
// taken in: pressed twice it would answer what comes behind.
func (term *terminal) onceMore(key string) {
	time.Sleep(guarded)
	term.keys(key)
	for until := time.Now().Add(10 * time.Second); time.Now().Before(until) && strings.Contains(term.screen(),
		"once more"); {
		time.Sleep(frameTime)
	}
}

// approve answers the hold that is open: a key that comes right after it is asked for once more.
func (term *terminal) approve() {
	term.t.Helper()
	asked := func(screen string) bool {
		return strings.Contains(screen, "◇  Hold") || strings.Contains(screen, "Hold, no rollback")
	}
	again := func(screen string) bool { return asked(screen) && strings.Contains(screen, "once more") }
	deadline := time.Now().Add(time.Minute)
	term.keys("Enter")
	for screen := term.screen(); asked(screen); screen = term.screen() {
		time.Sleep(frameTime)
		if again(screen) && again(term.screen()) { // and not the last frame of a hold that was answered
			term.onceMore("Enter")
		}
		if time.Now().After(deadline) {
			require.Fail(term.t, "the hold is open still", "%s", screen)
		}
	}
}
