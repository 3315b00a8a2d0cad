//go:build !race

package test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// byKeys is a whole job that is done by keys alone: how many there were, and how long it took of the device's time.
type byKeys struct {
	*terminal
	begun time.Time
}

const jobScale = 16

func startJob(t *testing.T, home string, size [2]int, demo string, args ...string) (job *byKeys, types func(text, then string) string) {
	t.Helper()
	images := filepath.Join(home, "images")
	pilotrixAt(t, home, "demo", demo, "--images", images)
	pilotrixAt(t, home, "shelf", "add", filepath.Join(images, "shelf"))
	job = &byKeys{begun: time.Now()}
	job.terminal, types = handAt(t, home, size, fmt.Sprintf("%d.db", size[0]), args...)
	job.until("F1 help")
	return job, types
}

// ends leaves, and says how many keys it took.
func (job *byKeys) ends(what string, book string) string {
	job.t.Helper()
	job.keys("C-g", "q")
	job.t.Logf("%s: %d keys, %s of the device's time", what, job.pressed, (time.Since(job.begun) * jobScale).Round(time.Second))
	record := pilotrixAt(job.t, filepath.Dir(book), "logbook", "show", "1", "--logbook", book, "--json")
	assert.NotContains(job.t, record, `"kind":"run.begin"`)
	return record
}

// logsInto logs in at the gateway, and gets the right to change it.
func logsInto(types func(text, then string) string) {
	types("", "name:")
	types("harbour", "word:")
	types("lamp-and-tide", "mare-gw1 /")
	types("lift", "mare-gw1 //")
}

// TestABankIsChangedByHandFromBeginningToEnd: the file is offered where the command that fetches it is typed, its state
// is repeated until it is whole, the bank is chosen and kept, and the restart watched, by keys alone.
func TestABankIsChangedByHandFromBeginningToEnd(t *testing.T) {
	t.Parallel()
	for _, size := range sizes {
		home := tempDir(t)
		job, types := startJob(t, home, size, "bank-upgrade", "bench:mare-gw1")
		job.until("What you type goes to the device")
		logsInto(types)
		types("look self", "address")
		types("haul tftp 192.0.2.10 lark-7.6.1.cgo", "haul 1 begun")
		accepts(job.terminal, "offers lark-7.6.1.cgo", "Yours: ")
		types("haul off", "mare-gw1 //")
		types("haul tftp 192.0.2.10 lark-7.6.1.cgo", "haul 2 begun")
		types("look haul", "haul 2")
		types("look haul", "haul 2")
		job.keys("C-g", "v", "r")
		job.until("Repeat a command")
		job.keys("-l", "look haul")
		job.keys("Enter", "Enter")
		job.until("the pattern that ends it")
		job.keys("-l", "state +ready")
		job.keys("F9")
		job.until("“look haul”: state ready")
		types("look banks", "7.6.1")
		types("favour B", "“favour B” was done: bank B is next")
		types("stow", "write over what was stowed")
		types("y", "“stow” was done")
		types("look banks", "7.6.1")
		types("recommence", "Held at its Enter")
		job.answers("F9", "recommence now? (y/n)")
		types("y", "back after") // it is watched by itself
		record := job.ends("a bank changed by hand", filepath.Join(home, fmt.Sprintf("%d.db", size[0])))
		for _, want := range []string{"lark-7.6.1.cgo was fetched whole by 192.0.2.41", `"watched":"icmp:192.0.2.41"`} {
			assert.Contains(t, record, want)
		}
	}
}

// TestARecoveryPutByHand: what is to be done by hand stands in the strip, takes no key from the device, and the file is
// taken in the loader's window.
func TestARecoveryPutByHand(t *testing.T) {
	t.Parallel()
	for _, size := range sizes {
		home := tempDir(t)
		job, types := startJob(t, home, size, "recovery-put", "bench:ramp-br1?speed=115200", "--dialect", "none")
		job.until("autoboot")
		job.keys("C-g", "t", "l")
		job.until("Put a file to a recovery loader")
		job.keys("-l", "skua-2.6.pws")
		job.keys("Enter")
		job.keys("-l", "192.0.2.45")
		job.keys("F9")
		job.until("^G Enter done")
		job.until("skua-2.6.pws was taken")
		job.until("skua 2.6 for W3")
		job.until("login:")
		types("", "login:")
		record := job.ends("a recovery put by hand", filepath.Join(home, fmt.Sprintf("%d.db", size[0])))
		assert.Contains(t, record, `"window"`)
	}
}

// TestALoaderIsStoppedByHand: a key of which nothing is known is pressed from the power-up on, until the loader waits.
func TestALoaderIsStoppedByHand(t *testing.T) {
	t.Parallel()
	home := tempDir(t)
	job, _ := startJob(t, home, sizes[1], "recovery-put", "bench:ramp-br1?speed=115200", "--dialect", "none")
	job.until("autoboot")
	job.keys("C-g", "e", "k")
	job.until("Stop a device that starts")
	job.keys("Enter")
	job.until("it waits at “=>”")
	job.ends("a loader stopped by hand", filepath.Join(home, "80.db"))
}

// TestAFlashIsBurnedByHand: a loader is stopped, fetches what is offered into its memory, and is compared on both sides
// of the burn, with no dialect.
func TestAFlashIsBurnedByHand(t *testing.T) {
	t.Parallel()
	for _, size := range sizes {
		home := tempDir(t)
		job, types := startJob(t, home, size, "burn", "bench:ramp-br1?speed=115200", "--dialect", "none")
		job.keys("C-g", "e", "k")
		job.until("Stop a device that starts")
		job.keys("Enter")
		job.until("it waits at “=>”")
		job.keys("C-g", "o", "o")
		job.until("what the device is to fetch")
		job.keys("-l", "skua-2.6.pws")
		job.keys("F9")
		job.until("Yours: ")
		types("setenv ipaddr 192.0.2.45; setenv serverip 192.0.2.10", "=>")
		types("tftpboot 81000000 skua-2.6.pws", "Bytes transferred = 1573049")
		screen := types("crc32 81000000 1800b9", "==>")
		_, crc, _ := strings.Cut(screen, "==> ")
		crc, _, _ = strings.Cut(strings.TrimSpace(crc), "\n")
		types("protect off bf040000 bf1cffff", "=>")
		types("erase bf040000 bf1cffff", "Erased 25 sectors")
		types("cp.b 81000000 bf040000 1800b9", "done")
		screen = types("crc32 bf040000 1800b9", "bf1c00b8 ==>")
		assert.Equal(t, 2, strings.Count(screen, strings.TrimSpace(crc[:8])), "the flash holds what memory holds: %s", crc)
		types("reset", "skua 2.6 for W3")
		job.until("login:")
		record := job.ends("a burn by hand", filepath.Join(home, fmt.Sprintf("%d.db", size[0])))
		assert.Contains(t, record, "skua-2.6.pws was fetched whole by 192.0.2.45")
	}
}

// TestANewDeviceIsServedByHand: it is given its address, its image and its configuration by one key and a form, and is
// accepted behind the leader key.
func TestANewDeviceIsServedByHand(t *testing.T) {
	t.Parallel()
	home := tempDir(t)
	job, _ := startJob(t, home, sizes[0], "first-boot", "bench:tangle-sw2")
	job.until("no OFFER")
	job.keys("C-g", "o", "n")
	job.until("Serve one new device")
	job.keys("-l", "strand-s8-3.2.msl")
	job.keys("Enter")
	job.keys("-l", "tangle-sw2.setup")
	job.keys("Enter")
	job.keys("-l", "tangle-sw2")
	job.keys("F9")
	accepts(job.terminal, "it is the one", "Yours: ")
	job.until("who:")
	job.ends("a new device by hand", filepath.Join(home, "160.db"))
}

// TestACardsFirmwareIsBroughtByHand: a file that is not what its publisher says is not offered, and one that is fits.
func TestACardsFirmwareIsBroughtByHand(t *testing.T) {
	t.Parallel()
	for _, size := range sizes {
		home := tempDir(t)
		job, types := startJob(t, home, size, "bank-upgrade", "bench:mare-gw1")
		job.until("What you type goes to the device")
		logsInto(types)
		types("look cards", "mare-gw1 //")
		job.keys("-l", "fit card 1 192.0.2.10 card-line-3.4.cgo")
		job.keys("Enter")
		accepts(job.terminal, "offers card-line-3.4.cgo", "Offer a file")
		job.keys("F9")
		job.until("its sha256 is")
		record := job.ends("a card's firmware by hand, refused", filepath.Join(home, fmt.Sprintf("%d.db", size[0])))
		assert.NotContains(t, record, `"kind":"staged"`, "nothing of it was handed out")
	}
}
