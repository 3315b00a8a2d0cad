package dialect

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/dialect/spelltest"
)

// shipped is a dialect that ships, from its file.
func shipped(t testing.TB, name string) *Dialect {
	t.Helper()
	read := func(name string) (string, error) {
		text, err := os.ReadFile(filepath.Join("..", "..", "core", "shipped", "dialects", name+".yaml"))
		return string(text), err
	}
	text, err := read(name)
	require.NoError(t, err)
	d, err := Library(func(name string) ([]byte, error) {
		text, err := read(name)
		return []byte(text), err
	}).Parse(name+".yaml", []byte(text))
	require.NoError(t, err)
	return d
}

// TestNoSpellingOfADangerPasses draws three thousand: each is held, as what it is or as what cannot be read from here.
func TestNoSpellingOfADangerPasses(t *testing.T) {
	d := shipped(t, "linux-shell")
	seen := map[string]bool{}
	for seed := range uint64(3000) {
		random := rand.New(rand.NewPCG(seed, 24))
		line := spelltest.Danger(random)
		seen[line] = true
		assert.NotEmpty(t, d.NewInterlocks().Stops(line), "%q", line)
	}
	assert.Greater(t, len(seen), 300)
	for _, line := range []string{
		"sync && reboot", "false || reboot", "(reboot)", "{ reboot; }", "if true; then reboot; fi", "eval reboot",
		"true | dd of=/dev/sda", "!!", "!reb", "^a^b", "cd /tmp && rm -rf *", "echo b > /proc/sysrq-trigger",
		"cat x > /dev/mtd0", "tee /dev/mtd1", "find . -delete", "rm -r secret.cfg", "$(echo reboot)", "R=reboot; $R",
		"re${x}boot", "/sbin/re?oot", "reb{oot,}", "sh script", ". ./script", "source x", "sh < script",
		"cat script | sh", "echo reboot | sudo sh", "if true; then", "reboot '", "sudo -u root reboot", "$'reb\\157ot'",
		"echo $((reboot -f))", "((reboot))", "$((reboot) )", "echo $(( (reboot) ))",
	} {
		assert.NotEmpty(t, d.NewInterlocks().Stops(line), "%q", line)
	}
}

// TestOrdinaryLinesOfAShellPass holds none of what is typed to look.
func TestOrdinaryLinesOfAShellPass(t *testing.T) {
	d := shipped(t, "linux-shell")
	for _, line := range []string{
		"ls -la", "cat /etc/release", "ps | grep -v x", "dmesg | tail -n 20", "cd /tmp && ls", "uptime; free",
		"echo $HOME", "for i in 1 2 3; do echo $i; done", "test -f /etc/x && echo yes", "[ ! -f /tmp/x ] && echo none",
		"if [ $? != 0 ]; then echo failed; fi", "wget -O /tmp/next http://192.0.2.10:80/y/skua-2.6.pws",
		"sha256sum /tmp/next", "echo 'reboot later'", `echo "rm is a command"`, "grep -r 'reboot' /etc", "man reboot",
		"which reboot", "ls > /tmp/list 2>&1", "cat < /etc/release", "date -u +%H:%M", "echo a!", "top", "df -h /",
		"mount", "ip addr", "ip route show", "echo $((1+2))", "((i++))", "let i=1",
	} {
		assert.Empty(t, d.NewInterlocks().Stops(line), "%q", line)
	}
}

// TestTheLoadersDangersAreHeld has those that the bootloader's public documentation lists as writing, erasing or
// restarting.
func TestTheLoadersDangersAreHeld(t *testing.T) {
	for _, name := range []string{"u-boot", "linux-board", "pellow-w3"} {
		d := shipped(t, name)
		for _, line := range []string{
			"erase all", "erase 1:0-3", "protect off all", "cp.b 80000000 bf000000 100", "mw.b bf000000 0 100",
			"nand erase.part fs", "nand scrub.chip", "nand write 80000000 0 100", "sf erase 0 100000",
			"sf update 80000000 0 100", "mtd erase nor0", "ubi remove x", "mmc write 0 0 1", "mmc erase 0 1",
			"mmc partconf 0 1 1 1", "usb write 0 0 1", "gpt write mmc 0 x", "env default -a", "env erase", "saveenv",
			"env save", "fatwrite virtio 0:1 0 x 1", "ext4write mmc 0 0 /x 1", "eeprom write 0 0 1", "fuse prog 0 0 1",
			"run wipeall", "go 80000000", "reset", "poweroff", "if true; then erase 1:0; fi", "true && erase all",
			"usb reset; sf update 80000000 0 100", "setenv x 1 || reset", "source 80000000",
		} {
			assert.NotEmpty(t, d.NewInterlocks().Stops(line), "%s: %q", name, line)
		}
		for _, line := range []string{"version", "printenv", "flinfo", "mtdparts", "setenv ipaddr 192.0.2.45; setenv serverip 192.0.2.10; echo set", "tftpboot 81000000 skua-2.6.pws", "crc32 81000000 1800b9", "ping 192.0.2.10", "md 80000000", "bootm 81000000:kernel 81000000:root $fdtcontroladdr"} {
			assert.Empty(t, d.NewInterlocks().Stops(line), "%s: %q", name, line)
		}
	}
}

// TestSeveralCommandsOnOneLineAreTakenInTheirOrder has one leave something pending that another deals with, or a
// restart loses.
func TestSeveralCommandsOnOneLineAreTakenInTheirOrder(t *testing.T) {
	d, err := Parse("d.yaml", []byte(`
dialect: d
commands: {separators: [";"]}
modes: [{mode: ready, prompt: '^> $'}]
pending: [{pending: choice, after: '^setenv\b', until: '^saveenv$', says: the choice is lost}]
restarts: ['^reset\b']
`))
	require.NoError(t, err)
	for line, c := range map[string]struct {
		held    bool
		pending int
	}{
		"setenv a b":                 {false, 1},
		"setenv a b; saveenv":        {false, 0},
		"saveenv; setenv a b":        {false, 1},
		"saveenv; setenv a b; reset": {true, 1},
		"setenv a b; reset":          {true, 1},
		"setenv a b; saveenv; reset": {false, 0},
	} {
		k := d.NewInterlocks()
		assert.Equal(t, c.held, k.Stops(line) != "", line)
		k.Typed(line, time.Now())
		assert.Len(t, k.Pending(), c.pending, "%s", fmt.Sprint(line))
	}
}

func FuzzReadShell(f *testing.F) {
	for _, line := range []string{"sync && reboot", "if true; then", "a $(b `c` \"$(d)\") 'x", "f() { g; }", "cat <<E\nx\nE", "!!", "${x:-$(y)}", "((1+2))", "[[ a == b ]]", "a=(1 2)", "case x in", "\xff\x00"} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		r := readShell(line)
		for _, command := range r.commands {
			assert.NotEmpty(t, command)
		}
	})
}
