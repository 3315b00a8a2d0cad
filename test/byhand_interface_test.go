//go:build !race

package test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// worksByHand opens a device of the bench with nothing but its dialect.
func worksByHand(
	t *testing.T, device, dialectName string,
) (term *terminal, types func(text, then string) string, home string) {
	t.Helper()
	home = tempDir(t)
	term, types = handAt(t, home, [2]int{160, 40}, "book.db", "bench:"+device, "--dialect", dialectName)
	term.until("What you type goes to the device")
	return term, types, home
}

// handAt opens a device in a terminal of that size, for a user whose files are in a folder. What is typed by types is
// ended with Enter, and followed until something stands on the screen.
func handAt(
	t *testing.T, home string, size [2]int, book string, args ...string,
) (term *terminal, types func(text, then string) string) {
	t.Helper()
	args = append([]string{"open", "--time-scale", "16", "--logbook", filepath.Join(home, book)}, args...)
	term = startTerminalAt(t, home, size[0], size[1], args...)
	return term, func(text, then string) string {
		t.Helper()
		term.keys("-l", text)
		term.keys("Enter")
		return term.until(then)
	}
}

// sizes are those of the terminals in which what is done by hand is tried.
var sizes = [][2]int{{160, 40}, {80, 24}}

// record is what the logbook shows of the only session.
func record(t *testing.T, home string, more ...string) string {
	t.Helper()
	return pilotrixAt(
		t,
		home,
		append([]string{"logbook", "show", "1", "--logbook", filepath.Join(home, "book.db")}, more...)...)
}

// TestAGatewaysBankIsChangedByHandInTheInterface: the board follows what is typed, the restart is watched, and the
// record is read.
func TestAGatewaysBankIsChangedByHandInTheInterface(t *testing.T) {
	t.Parallel()
	term, types, home := worksByHand(t, "mare-gw1", "cormel-g2")
	logsInto(types)
	types("look banks", "standby release")
	types("favour B", "changed by hand since")
	term.until("“favour B” was done: bank B is next")
	types("stow", "write over what was stowed")
	types("y", "“stow” was done")
	types("lo ban", "choice stowed                                  A ⇢ B")
	screen := term.screen()
	assert.NotContains(t, screen, "changed by hand since")
	types("recommence", "Held at its Enter")
	assert.Contains(t, term.screen(), "starts next: bank B, which holds 7.2.0, as read")
	term.answers("F9", "recommence now? (y/n)")
	types("y", "restart ───")
	term.until("back after 2 min")
	term.until("^G a logs in")
	term.keys("F8")
	screen = term.until("stow")
	assert.Contains(t, screen, "mare-gw1 // lo ban")
	term.keys("C-g")
	term.until("quit")
	term.keys("q")
	term.until("exit code 0")
	shown := record(t, home)
	for _, want := range []string{"⟩ mare-gw1 // favour B   (hand,", "│   bank B is next", "recommence now? (y/n) y)", "back after 2 min", "[secret]"} {
		assert.Contains(t, shown, want)
	}
	assert.NotContains(t, shown, "lamp-and-tide")
	found := record(t, home, "--text", "ROOM IN THE STANDBY")
	assert.Contains(t, found, "⟩ mare-gw1 // look banks   (hand,")
	assert.Contains(t, found, "│   bank  state", "the whole exchange")
	assert.NotContains(t, found, "favour B   (hand")
	assert.NotContains(t, found, "no end of it is recorded")
}

// TestAFileThatIsGoneIsMissedBeforeARestart: the router's entry is a file that was just removed.
func TestAFileThatIsGoneIsMissedBeforeARestart(t *testing.T) {
	t.Parallel()
	term, types, _ := worksByHand(t, "mare-rtr1", "brindle-r40")
	types("", "login:")
	types("harbour", "password:")
	types("lamp-and-tide", "mare-rtr1 ~")
	types("rise", "mare-rtr1 !")
	types("tell entry", "entry kept")
	types("begin with tern-3.9.4.brm", "“begin with tern-3.9.4.brm” was done")
	types("keep", "“keep” was done")
	types("drop tern-3.9.4.brm", "Held at its Enter")
	term.answers("F9", "is gone")
	types("tell entry", "entry kept")
	types("tell store", "free")
	types("restart", "Held at its Enter")
	assert.Contains(t, strings.Join(strings.Fields(term.screen()), " "),
		"starts next: tern-3.9.4.brm — not in its store as a whole image, as read")
}

// TestAnEdgeRoutersTrialIsSettledByHandInTheInterface: the systems' board and the deadline follow.
func TestAnEdgeRoutersTrialIsSettledByHandInTheInterface(t *testing.T) {
	t.Parallel()
	term, types, _ := worksByHand(t, "quay-er1", "tamsin-e8")
	types("", "account:")
	types("harbour", "code:")
	types("lamp-and-tide", "[look]")
	types("view systems", "lasting release")
	types("view self", "running release")
	types("work", "[work]")
	types("settle", "no trial")
	screen := term.until("“settle” was not done")
	require.NotContains(t, screen, "“settle” was done")
	types("view systems", "lasting release")
	term.keys("F5")
	screen = term.until("view systems  typed by hand")
	assert.Contains(t, screen, "systems of quay-er1")
}

// TestOneUnitsBankIsChosenByHandInTheInterface: the stack's board says which unit starts what.
func TestOneUnitsBankIsChosenByHandInTheInterface(t *testing.T) {
	t.Parallel()
	term, types, _ := worksByHand(t, "tangle-sw1", "maskel-s24")
	types("", "who:")
	types("harbour", "pass:")
	types("lamp-and-tide", "tangle-sw1 1:")
	types("arm", "tangle-sw1 1!")
	types("report units", "deputy")
	types("report banks", "standby")
	types("first B", "unit 1 starts bank B next")
	term.until("changed by hand since")
	types("report banks", "standby")
	term.keys("F5")
	screen := term.until("A restart now would part them")
	assert.NotContains(t, screen, "changed by hand since")
	term.keys("F2")
	types("tumble all", "Held at its Enter")
	assert.Contains(t, strings.Join(strings.Fields(term.screen()), " "),
		"starts next: unit 1 bank B (2.8), unit 2 bank A (3.1), unit 3 bank A (3.1)")
}

// TestAFileIsOfferedByHandInTheInterface: a file is offered and an address watched by keys alone, the device fetches
// what it was told of, and both are ended by a key or by themselves. No runbook is begun.
func TestAFileIsOfferedByHandInTheInterface(t *testing.T) {
	t.Parallel()
	home := tempDir(t)
	images := filepath.Join(home, "images")
	pilotrixAt(t, home, "demo", "bank-upgrade", "--images", images)
	pilotrixAt(t, home, "shelf", "add", filepath.Join(images, "shelf"))
	for _, size := range sizes {
		book := fmt.Sprintf("book%d.db", size[0])
		term, types := handAt(t, home, size, book, "bench:mare-gw1")
		term.until("What you type goes to the device")
		logsInto(types)

		term.keys("-l", "haul tftp 192.0.2.10 lark-8.1.0-g2-16.cgo")
		term.keys("Enter")
		accepts(term, "offers lark-8.1.0-g2-16.cgo", "Yours: ")
		term.keys("C-g", "v")
		term.until("end: Offer lark-8.1.0-g2-16.cgo")
		assert.Contains(t, term.screen(), "TFTP, 192.0.2.10, lark-8.1.0-g2-16.cgo")
		term.keys("w")
		term.until("Watch whether an address answers")
		term.keys("-l", "192.0.2.41")
		term.keys("Enter")
		term.until("Yours: ")
		types("haul off", "mare-gw1 //") // the device may be trying yet
		types("haul tftp 192.0.2.10 lark-8.1.0-g2-16.cgo", "was fetched whole by 192.0.2.41")
		term.keys("F7")
		term.until("answers, ")
		term.keys("F2", "C-g", "v")
		screen := term.until("watch icmp:192.0.2.41 no longer")
		assert.NotContains(t, screen, "end: Offer", "it has ended by itself")
		term.keys("1")
		term.until("^G Enter reads it")

		term.keys("C-g", "o", "o")
		term.until("what the device is to fetch")
		term.keys("-l", "lark-8.1.0.cgo")
		term.keys("Enter")
		term.until("by which it fetches")
		term.keys("-l", "ft")
		term.keys("F9")
		term.until("Yours: ")
		term.keys("C-g", "v")
		screen = term.until(", password")
		assert.Contains(t, strings.Join(strings.Fields(screen), " "), ", lark-8.1.0.cgo.", "all that the device needs")
		term.keys("1")
		term.until("stopped, ended by the operator")
		term.keys("C-g", "q")
		record := pilotrixAt(t, home, "logbook", "show", "1", "--logbook", filepath.Join(home, book), "--json")
		assert.Contains(t, record, "lark-8.1.0-g2-16.cgo was fetched whole by 192.0.2.41")
		assert.NotContains(t, record, `"kind":"run.begin"`)
	}
}

// accepts does what the strip offers, once it has stood there for a while, and follows it until something stands on the
// screen.
func accepts(term *terminal, what, then string) string {
	term.t.Helper()
	term.until("^G Enter " + what)
	time.Sleep(time.Second) // what came up only just now is not accepted
	term.keys("C-g", "Enter")
	return term.until(then)
}

// TestTheRescueByHand brings a router with an emptied store back by keys alone, as a device that nobody has described,
// and as one whose dialect is known: speeds, a file to the receiver that waits, and the start of what it has then.
func TestTheRescueByHand(t *testing.T) {
	t.Parallel()
	home := tempDir(t)
	images := filepath.Join(home, "images")
	pilotrixAt(t, home, "demo", "rescue", "--images", images)
	pilotrixAt(t, home, "shelf", "add", filepath.Join(images, "shelf"))
	for _, dialect := range []string{"none", "brindle-r40"} {
		for _, size := range sizes {
			book := fmt.Sprintf("%s%d.db", dialect, size[0])
			term, types := handAt(t, home, size, book, "bench:hollow-rtr1", "--dialect", dialect)
			term.until("staying here")
			types("", "sill:")
			if dialect == "none" {
				types("store drop tern-4.0.7.brm", "is gone")
			} else {
				types("store drop tern-4.0.7.brm", "Held at its Enter")
				term.answers("F9", "is gone")
			}
			types("rate 115200", "moving to 115200")
			accepts(term, "sets ours to it", "115200 8N1")
			types("", "sill:")
			types("take x tern-4.2.1.brm", "CC")
			accepts(term, "sends it", "left, ")
			assert.Contains(t, term.screen(), "take x tern-4.2.1.brm", "the history stays")
			term.until("kept tern-4.2.1.brm")
			types("", "sill:")
			types("start tern-4.2.1.brm", "starting tern")
			term.keys("C-g", "q")
			record := pilotrixAt(t, home, "logbook", "show", "1", "--logbook", filepath.Join(home, book), "--json")
			assert.Contains(t, record, "tern-4.2.1.brm was taken by the receiver")
			assert.NotContains(t, record, `"kind":"run.begin"`)
		}
	}
}
