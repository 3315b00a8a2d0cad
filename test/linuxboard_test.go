package test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/demo"
)

// The emulated board with the real bootloader, a real kernel and a real shell: nothing of it shares code with the bench.

const bootloader64 = "/usr/lib/u-boot/qemu_arm64/u-boot.bin"

// port69 is had by one server at a time: real bootloaders ask at no other.
var port69 sync.Mutex

// boardScript is what the board's maker has put on its disk: it reads what starts by itself, and boots it.
const boardScript = `load virtio 0:1 0x41000000 board.env && env import -t 0x41000000 ${filesize}
load virtio 0:1 0x40400000 ${system} && bootm 0x40400000:kernel 0x40400000:root ${fdtcontroladdr}
`

// boardInit is the first program of the board's system; renew is the board's own command.
const boardInit = `#!/bin/busybox sh
/bin/busybox --install -s /bin
mount -t proc proc /proc; mount -t sysfs sysfs /sys; mount -t devtmpfs dev /dev
for m in virtio_mmio failover net_failover virtio_net virtio_blk fat vfat nls_cp437 nls_ascii; do insmod /lib/$m.ko; done
hostname ramp-br2
ifconfig lo 127.0.0.1; ifconfig eth0 192.0.2.15 netmask 255.255.255.0; route add default gw 192.0.2.2
mount -t vfat /dev/vda1 /boot
httpd -h /www
exec setsid cttyhack sh
`

const boardRenew = `#!/bin/sh
[ -s "$1" ] || { echo "renew: no file $1"; exit 1; }
cp "$1" /boot/part.itb && sync && mv /boot/part.itb /boot/system.itb && echo system=system.itb > /boot/board.env && sync && umount /boot || { echo "renew: failed"; exit 1; }
reboot -f
`

// boardImage is how mkimage puts kernel and root file system into one file.
const boardImage = `/dts-v1/;
/ { description = "release %[1]s"; #address-cells = <1>;
 images {
  kernel { description = "kernel"; data = /incbin/("%[2]s/vmlinuz"); type = "kernel"; arch = "arm64"; os = "linux"; compression = "none"; load = <0x44000000>; entry = <0x44000000>; hash { algo = "sha256"; }; };
  root { description = "root"; data = /incbin/("%[3]s"); type = "ramdisk"; arch = "arm64"; os = "linux"; compression = "none"; hash { algo = "sha256"; }; };
 };
 configurations { default = "all"; all { kernel = "kernel"; ramdisk = "root"; }; };
};
`

// makes runs a tool of the system.
func makes(t *testing.T, folder, name string, args ...string) {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = folder, append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s %s: %s (./dev/test installs what is needed)", name, strings.Join(args, " "), out)
}

// boardFiles is the folder with kernel, modules and busybox for the board.
func boardFiles(t *testing.T) string {
	t.Helper()
	cmd := exec.Command("../dev/board")
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	require.NoError(t, err, "the board's kernel is fetched from Debian's packages by dev/board")
	return strings.TrimSpace(string(out))
}

// boardSystem puts a release for the board, and its build description, on a shelf.
func boardSystem(t *testing.T, files, shelf, release string) {
	t.Helper()
	root := filepath.Join(tempDir(t), "root")
	for _, folder := range []string{"bin", "proc", "sys", "dev", "etc", "tmp", "www", "boot", "lib"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, folder), 0o755))
	}
	put := func(name, text string, mode os.FileMode) {
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), mode))
	}
	put("init", boardInit, 0o755)
	put("bin/renew", boardRenew, 0o755)
	put("etc/release", "SYSTEM=harbour\nRELEASE="+release+"\nBUILT=2026-10-14\nBOARD=virt\nSERIAL=52:54:00:12:34:56\n", 0o644)
	put("www/index.html", "<p>ramp-br2, release "+release+"</p>\n", 0o644)
	makes(t, root, "sh", "-c", "cp "+files+"/busybox bin/busybox && chmod 755 bin/busybox && cp "+files+"/*.ko lib/ && find . > ../list && busybox cpio -o -H newc < ../list > ../initrd 2> ../said && gzip -1 ../initrd")
	its := filepath.Join(root, "..", "system.its")
	require.NoError(t, os.WriteFile(its, []byte(fmt.Sprintf(boardImage, release, files, filepath.Join(root, "..", "initrd.gz"))), 0o600))
	image := filepath.Join(shelf, "system-"+release+".itb")
	makes(t, root, "mkimage", "-q", "-f", its, image)
	require.NoError(t, os.WriteFile(image+".build", []byte("System: harbour\nRelease: "+release+"\nBuilt: 2026-10-14\n"), 0o600))
}

// boardDisk makes a disk with one partition, which holds the board's script.
func boardDisk(t *testing.T, folder string) string {
	t.Helper()
	const size, first = 160 << 20, 2048 // bytes; sectors
	disk := filepath.Join(folder, "disk")
	table := make([]byte, 512)
	entry := table[446:]
	entry[4] = 0x0c
	binary.LittleEndian.PutUint32(entry[8:], first)
	binary.LittleEndian.PutUint32(entry[12:], size/512-first)
	table[510], table[511] = 0x55, 0xaa
	require.NoError(t, os.WriteFile(disk, table, 0o600))
	require.NoError(t, os.Truncate(disk, size))
	makes(t, folder, "mkfs.vfat", "--offset", fmt.Sprint(first), disk, fmt.Sprint((size-first*512)/1024))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "boot.cmd"), []byte(boardScript), 0o600))
	makes(t, folder, "mkimage", "-q", "-T", "script", "-d", "boot.cmd", "boot.scr")
	makes(t, folder, "mcopy", "-i", disk+"@@1M", "boot.scr", "::boot.scr")
	return disk
}

// freeTCPPort is a TCP port of loopback that nobody has now.
func freeTCPPort(t *testing.T) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	_, port, err := net.SplitHostPort(listener.Addr().String())
	require.NoError(t, err)
	return port
}

// linuxBoard is the board, with a shelf of systems for it.
type linuxBoard struct {
	t                  *testing.T
	socket, shelf, web string
	events             []event.Event
	prepared           *runbook.Prepared
}

func startLinuxBoard(t *testing.T, releases ...string) *linuxBoard {
	t.Helper()
	require.FileExists(t, bootloader64, "needs the Debian packages qemu-system-arm and u-boot-qemu; ./dev/test installs them")
	files, folder := boardFiles(t), tempDir(t)
	b := &linuxBoard{t: t, socket: filepath.Join(folder, "console"), shelf: filepath.Join(folder, "shelf")}
	require.NoError(t, os.MkdirAll(b.shelf, 0o755))
	for _, release := range releases {
		boardSystem(t, files, b.shelf, release)
	}
	page := freeTCPPort(t)
	b.web = "http://127.0.0.1:" + page + "/"
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	board := exec.CommandContext(ctx, "qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a57", "-m", "512", "-nographic", "-monitor", "none", "-bios", bootloader64,
		"-serial", "unix:"+b.socket+",server,nowait", "-drive", "if=none,file="+boardDisk(t, folder)+",format=raw,id=d0", "-device", "virtio-blk-device,drive=d0",
		"-netdev", "user,id=n0,net=192.0.2.0/24,host=192.0.2.2,hostfwd=tcp:127.0.0.1:"+page+"-192.0.2.15:80", "-device", "virtio-net-device,netdev=n0")
	var said bytes.Buffer
	board.Stdout, board.Stderr = &said, &said
	require.NoError(t, board.Start())
	t.Cleanup(func() {
		cancel()
		_ = board.Wait()
	})
	require.Eventually(t, func() bool { _, err := os.Stat(b.socket); return err == nil }, 20*time.Second, 10*time.Millisecond, "the board did not start: %s", &said)
	return b
}

// run carries a shipped runbook out with the program, and returns how it ended and what was typed.
func (b *linuxBoard) run(book, release string, set ...string) event.RunEnd {
	b.t.Helper()
	image := filepath.Join(b.shelf, "system-"+release+".itb")
	args := []string{"run", book, "--on", "unix:" + b.socket, "--dialect", "linux-board", "--shelf", b.shelf, "--approve", "all", "--json", "--logbook", "none"}
	values := map[string]string{"image": image, "address": "192.0.2.15", "server": "127.0.0.1", "page": b.web}
	for _, one := range set {
		name, value, _ := strings.Cut(one, "=")
		values[name] = value
	}
	for name, value := range values {
		args = append(args, "--set", name+"="+value)
	}
	run := exec.Command(program, append(args, "--secret", "password=env:NO_WORD")...)
	run.Env = append(os.Environ(), "NO_WORD=-")
	var said bytes.Buffer
	run.Stderr = &said
	out, _ := run.Output()
	var end event.RunEnd
	b.events = nil
	lines := bufio.NewScanner(bytes.NewReader(out))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var e event.Event
		require.NoError(b.t, json.Unmarshal(lines.Bytes(), &e), "%s", lines.Text())
		b.events = append(b.events, e)
		if ended, is := e.Body.(event.RunEnd); is {
			end = ended
		}
	}
	d, err := demo.LoadDialect("linux-board")
	require.NoError(b.t, err)
	document, err := demo.LoadRunbook(book)
	require.NoError(b.t, err)
	values["password"] = "-"
	b.prepared, err = document.Prepare(d, values, runbook.Kit{})
	require.NoError(b.t, err)
	require.Equal(b.t, event.Done, end.Outcome, "%s\n%s\n%s", end.Message, &said, lastText(b.events))
	return end
}

// lastText is what the board said last.
func lastText(events []event.Event) string {
	var text []byte
	for _, e := range events {
		if in, is := e.Body.(event.In); is {
			text = append(text, in.Bytes...)
		}
	}
	return string(text[max(0, len(text)-3000):])
}

// took is how long it was from one step's beginning to the run's end.
func (b *linuxBoard) took() time.Duration {
	var begun time.Time
	for _, e := range b.events {
		switch e.Body.(type) {
		case event.StepBegin:
			if begun.IsZero() {
				begun = e.At
			}
		case event.RunEnd:
			return e.At.Sub(begun)
		}
	}
	return 0
}

func (b *linuxBoard) page() string {
	response, err := http.Get(b.web)
	require.NoError(b.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(b.t, err)
	return string(text)
}

// TestARealBoardIsTriedBurnedAndRenewed goes the whole way on it: a system is fetched by TFTP and tried from memory, written
// to its disk, started by itself; then a later one over the shell by HTTP, and back to the first.
func TestARealBoardIsTriedBurnedAndRenewed(t *testing.T) {
	t.Parallel()
	b := startLinuxBoard(t, "2.6", "2.8")
	port69.Lock()
	end := b.run("try-then-burn", "2.6", "into=file", "gateway=192.0.2.2")
	port69.Unlock()
	t.Logf("from the catch to the proof of what starts by itself: %s", b.took().Round(100*time.Millisecond))
	require.Len(t, end.Proved, 4, "%v", end.Proved)
	assert.Contains(t, end.Proved[1], "virtio 0:1 holds the")
	assert.Equal(t, "2.6 started by itself, without a key", end.Proved[3])
	holdToPlan(t, b.prepared.Plan(&device.Facts{}), reallyTyped(b.events))
	assert.Contains(t, b.page(), "release 2.6")

	for _, release := range []string{"2.8", "2.6"} {
		end := b.run("write-over-the-shell", release, "server_seen=192.0.2.2", "port="+freeTCPPort(t))
		t.Logf("over the shell to %s: %s", release, b.took().Round(100*time.Millisecond))
		assert.Contains(t, end.Proved, release+" runs, as published")
		holdToPlan(t, b.prepared.Plan(&device.Facts{}), reallyTyped(b.events))
		assert.Contains(t, b.page(), "release "+release)
	}
}
