package test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/network/apart"
	"pilotrix/demo"
)

// inOwnNetwork runs a test once more, in a network namespace of its own, and what is inside of it there. It needs root.
func inOwnNetwork(t *testing.T, inside func(*testing.T, elsewhere)) {
	apart.Run(t, func(t *testing.T, there apart.Elsewhere) {
		e := elsewhere{there}
		e.must("ip", "link", "set", "wire1", "address", "02:00:5e:10:00:01")
		e.must("ip", "link", "set", "wire1", "up")
		inside(t, e)
	}, apart.With{Tools: []string{"busybox"}, Env: []string{programBuilt + "=" + program}, Parallel: true})
}

// TestNewDevicesAreProvisioned has busybox's clients go through it, in network namespaces that the test makes.
func TestNewDevicesAreProvisioned(t *testing.T) { inOwnNetwork(t, provisionInside) }

// TestNewDevicesAreProvisionedInTheInterface says in the strip that one is answered, and sees what it fetches; at
// 80×24.
func TestNewDevicesAreProvisionedInTheInterface(t *testing.T) {
	inOwnNetwork(t, func(t *testing.T, e elsewhere) {
		folder, there := tempDir(t), tempDir(t)
		require.NoError(t,
			os.WriteFile(filepath.Join(folder, "strand-3.2.msl"), bytes.Repeat([]byte("strand"), 50_000), 0o600))
		script := filepath.Join(there, "script")
		require.NoError(t,
			os.WriteFile(script,
				[]byte("#!/bin/sh\n[ \"$1\" = bound ] && ip addr replace $ip/24 dev $interface\nexit 0\n"), 0o755))
		term := startTerminal(t, 80, 24, "provision", folder, "--at", "192.0.2.10", "--ask", "--range",
			"192.0.2.100-192.0.2.109")
		term.until("Serving until you leave")
		asks := e.command("busybox", "udhcpc", "-i", "wire1", "-n", "-q", "-f", "-t", "60", "-T", "1", "-V",
			"Maskel S8", "-s", script)
		require.NoError(t, asks.Start())
		screen := term.until("another one, leave it")
		assert.Contains(t, screen, "02:00:5e:10:00:01, a Maskel S8 is new")
		term.enters("DHCP ACK")
		require.NoError(t, asks.Wait())
		require.Error(t,
			e.command("busybox", "tftp", "-g", "-r", "strand-3.2", "-l", filepath.Join(there, "x"), "192.0.2.10").Run())
		e.must("busybox", "tftp", "-g", "-r", "strand-3.2.msl", "-l", filepath.Join(there, "x"), "192.0.2.10")
		screen = term.until("awaiting that it restarts and asks again")
		assert.Contains(t, screen, "192.0.2.100")
		term.keys("q")
		term.until("exit code 0")
	})
}

// spoken is what a program says, while it runs.
type spoken struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *spoken) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *spoken) until(t *testing.T, want string) {
	t.Helper()
	require.Eventually(t, func() bool { return strings.Contains(s.String(), want) }, 30*time.Second,
		20*time.Millisecond, "never %s in\n%s", want, s)
}

func (s *spoken) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

// elsewhere is a second network namespace with a wire to this one, on which a new device is.
type elsewhere struct{ apart.Elsewhere }

func (e elsewhere) command(args ...string) *exec.Cmd { return e.Command(args...) }

func (e elsewhere) must(args ...string) { e.Says(args...) }

func provisionInside(t *testing.T, e elsewhere) {
	folder, home := tempDir(t), tempDir(t)
	image := bytes.Repeat([]byte("strand"), 50_000)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "strand-3.2.msl"), image, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "tangle-sw2.txt"), []byte("name tangle-sw2\n"), 0o600))
	typed, keyboard, err := os.Pipe()
	require.NoError(t, err)
	start := func(in func(...string) *exec.Cmd, args ...string) (*exec.Cmd, *spoken) {
		cmd, said := in(append([]string{program, "provision", folder}, args...)...), &spoken{}
		cmd.Env = append(os.Environ(), append(homeAt(home), "XDG_STATE_HOME="+home+"/state")...)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = typed, said, said
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		return cmd, said
	}
	here := func(args ...string) *exec.Cmd { return exec.Command(args[0], args[1:]...) }
	only := []string{
		"--at", "192.0.2.10", "--only", "02:00:5e:10:00:01", "--boot-file", "strand-3.2.msl", "--range",
		"192.0.2.100-192.0.2.109",
	}
	cmd, said := start(here, only...)
	said.until(t, "answering on wire0, 192.0.2.10/24; addresses 192.0.2.100 to 192.0.2.109")

	got := filepath.Join(home, "got")
	script := filepath.Join(home, "script")
	require.NoError(t,
		os.WriteFile(script,
			[]byte("#!/bin/sh\n[ \"$1\" = bound ] && env > \""+got+"\" && ip addr replace $ip/24 dev $interface\nexit 0\n"),
			0o755))
	asks := []string{
		"busybox", "udhcpc", "-i", "wire1", "-n", "-q", "-f", "-t", "5", "-T", "1", "-s", script, "-O", "tftp", "-O",
		"bootfile",
	}
	inVain := append(slices.Clone(asks), "-t", "2")
	e.must(asks...)
	text, err := os.ReadFile(got)
	require.NoError(t, err)
	assert.Contains(t, string(text), "ip=192.0.2.100\n")
	assert.Contains(t, string(text), "boot_file=strand-3.2.msl\n")
	for _, rung := range []string{"DHCP ⇢ DISCOVER", "DHCP ⇠ OFFER", "DHCP ⇢ REQUEST", "DHCP ⇠ ACK"} {
		said.until(t, rung)
	}
	fetched := filepath.Join(home, "fetched")
	require.Error(t, e.command("busybox", "tftp", "-g", "-r", "strand-3.2", "-l", fetched, "192.0.2.10").Run())
	said.until(t, "no strand-3.2 here; strand-3.2.msl is staged (asked for without .msl)")
	e.must("busybox", "tftp", "-g", "-r", "strand-3.2.msl", "-l", fetched, "192.0.2.10")
	data, err := os.ReadFile(fetched)
	require.NoError(t, err)
	assert.Equal(t, image, data)
	e.must(asks...)
	e.must("busybox", "tftp", "-g", "-r", "tangle-sw2.txt", "-l", fetched, "192.0.2.10")
	said.until(t, "tangle-sw2.txt")

	e.must("ip", "link", "set", "wire1", "address", "02:00:5e:10:00:02")
	require.Error(t, e.command(inVain...).Run(), "who is not meant gets nothing")
	said.until(t, "02:00:5e:10:00:02 is not meant")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait()

	// one that is new is asked about, and not answered before
	cmd, said = start(here, append([]string{"--ask"}, only...)...)
	said.until(t, "answering on wire0")
	fmt.Fprintln(keyboard, "y")
	said.until(t, "nothing is asked: no new device waits")
	e.must("ip", "link", "set", "wire1", "address", "02:00:5e:10:00:03")
	require.Error(t, e.command(inVain...).Run(), "nothing was said of it yet")
	said.until(t, "02:00:5e:10:00:03, a udhcp")
	assert.NotContains(t, said.String(), "OFFER")
	fmt.Fprintln(keyboard, "perhaps")
	require.Eventually(t, func() bool { return strings.Count(said.String(), "is new here: is it answered?") == 2 },
		30*time.Second, 20*time.Millisecond)
	fmt.Fprintln(keyboard, "y")
	said.until(t, "02:00:5e:10:00:03 is answered from now on")
	e.must(asks...)
	assert.Contains(t, said.String(), "DHCP ⇠ ACK")
	e.must("ip", "link", "set", "wire1", "address", "02:00:5e:10:00:04")
	require.Error(t, e.command(inVain...).Run())
	fmt.Fprintln(keyboard, "n")
	said.until(t, "02:00:5e:10:00:04 is not answered")
	require.Error(t, e.command(inVain...).Run())
	require.NoError(t, keyboard.Close())
	said.until(t, "nothing more can be typed here: no other new device is answered")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait()

	// a second server on the network: nothing is begun
	other, otherSaid := start(e.command, "--at", "192.0.2.100", "--vendor", ".*", "--boot-file", "strand-3.2.msl",
		"--range", "192.0.2.200-192.0.2.209")
	otherSaid.until(t, "answering on wire1")
	refused, refusal := start(here, only...)
	err = refused.Wait()
	require.Error(t, err)
	assert.Contains(t, refusal.String(),
		"another DHCP server is on the network: 192.0.2.100 answers; nothing was begun")
	_ = other.Process.Kill()
}

// TestARealClientIsAnsweredAtItsFirstStart carries first-boot out without a line, on a device made of busybox alone:
// its DHCP client, its TFTP and HTTP clients and its web server, in a network namespace.
func TestARealClientIsAnsweredAtItsFirstStart(t *testing.T) { inOwnNetwork(t, firstStartInside) }

// firstStart is the device: what it fetches is where it is reported, and its page says what is in that.
const firstStart = `set -e
cd "$1"
asks() { busybox udhcpc -i wire1 -n -q -f -t 20 -T 1 -V "Maskel S8" -s "$1/script" -O tftp -O bootfile -O hostname >/dev/null 2>&1; . "$1/got"; }
asks "$1"
case "$boot_file" in
http*) busybox wget -q -O image "$boot_file" ;;
*) busybox tftp -g -r "$boot_file" -l image "$siaddr" ;;
esac
asks "$1"
busybox tftp -g -r "$hostname-100001.setup" -l setup "$siaddr"
mkdir -p www
echo "$(sed -n 's/^name //p' setup), strand $(sed -n 's/^release: //p' image | head -1)" > www/index.html
exec busybox httpd -f -p "$ip:80" -h www
`

func firstStartInside(t *testing.T, e elsewhere) {
	for _, protocol := range []string{"tftp", "http"} {
		t.Run(protocol, func(t *testing.T) { firstStartBy(t, e, protocol) })
		e.must("ip", "addr", "flush", "dev", "wire1")
	}
}

func firstStartBy(t *testing.T, e elsewhere, protocol string) {
	folder, there := tempDir(t), tempDir(t)
	require.NoError(t, demo.NewSwitchShelf(folder, smallImage))
	require.NoError(t,
		os.WriteFile(filepath.Join(there, "script"),
			[]byte("#!/bin/sh\n[ \"$1\" = bound ] && set | grep -E '^(ip|siaddr|boot_file|hostname)=' > \""+there+"/got\" && ip addr replace $ip/24 dev $interface\nexit 0\n"),
			0o755))
	require.NoError(t, os.WriteFile(filepath.Join(there, "device"), []byte(firstStart), 0o700))
	said := &spoken{}
	run := exec.Command(program, "run", "first-boot", "--on", "none:tangle-sw2", "--dialect", "maskel-s8", "--shelf",
		filepath.Join(folder, "shelf"), "--set", "image=strand-s8-3.2.msl", "--set", "configuration=tangle-sw2.setup",
		"--set", "name=tangle-sw2", "--set", "mac=02:00:5e:10:00:01", "--set", "model=S8", "--set", "gives=192.0.2.61",
		"--set", "protocol="+protocol, "--approve", "all", "--logbook", "none")
	run.Env = append(os.Environ(), homeAt(folder)...)
	run.Stdout, run.Stderr = said, said
	require.NoError(t, run.Start())
	said.until(t, "is staged as tangle-sw2-100001.setup")
	device, report := e.command("sh", filepath.Join(there, "device"), there), &spoken{}
	device.Stdout, device.Stderr = report, report
	require.NoError(t, device.Start())
	t.Cleanup(func() { _ = device.Process.Kill(); _ = device.Wait() })
	require.NoError(t, run.Wait(), "%s\n%s", said, report)
	assert.Contains(t, said.String(), "proved  the web page of 192.0.2.61 tells 3.2")
	assert.Contains(t, said.String(),
		"proved  tangle-sw2 has the configuration that was staged for it (as tangle-sw2-100001.setup)")
	image, err := os.ReadFile(filepath.Join(there, "image"))
	require.NoError(t, err)
	assert.Equal(t, demo.NewSwitchImage("3.2", smallImage), image)
}

// TestProvisionSaysWhatIsMissing before it opens anything.
func TestProvisionSaysWhatIsMissing(t *testing.T) {
	t.Parallel()
	folder := tempDir(t)
	for _, name := range []string{"a.msl", "b.msl"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(name), 0o600))
	}
	for want, args := range map[string][]string{
		"say whom it is meant for: --only MAC, --devices FILE, or --vendor PATTERN, or --ask": {"--at", "127.0.0.1"},
		"this laptop has no such address":                                {"--at", "198.51.100.9", "--vendor", "x"},
		"the folder has 2 files: say which":                              {"--at", "127.0.0.1", "--vendor", "x"},
		"the folder has no such file; it has a.msl, b.msl":               {"--at", "127.0.0.1", "--vendor", "x", "--boot-file", "c.msl"},
		"want two addresses, such as 192.0.2.100-192.0.2.119":            {"--at", "127.0.0.1", "--vendor", "x", "--range", "all"},
		"--only: address here: invalid MAC address":                      {"--at", "127.0.0.1", "--only", "here"},
		"--vendor: error parsing regexp":                                 {"--at", "127.0.0.1", "--vendor", "("},
		"the first address 192.0.2.1 is not on the network 127.0.0.0/8":  {"--at", "127.0.0.1", "--vendor", "x", "--boot-file", "a.msl", "--range", "192.0.2.1-192.0.2.9"},
		"the address reserved for 02:00:5e:10:00:01 192.0.2.1 is not on": {"--at", "127.0.0.1", "--vendor", "x", "--boot-file", "a.msl", "--reserve", "02:00:5e:10:00:01=192.0.2.1"},
	} {
		cmd := exec.Command(program, append([]string{"provision", folder}, args...)...)
		cmd.Env = append(os.Environ(), homeAt(folder+"-home")...)
		out, err := cmd.CombinedOutput()
		require.Error(t, err, want)
		assert.Equal(t, 2, cmd.ProcessState.ExitCode(), "%s", out)
		assert.Contains(t, string(out), want)
	}
}
