// Package spelltest draws the ways in which a shell's commands may be spelt, for tests that hold each of them.
package spelltest

import (
	"math/rand/v2"
	"strings"
)

// dangers are commands that every Linux-like system has, and that none of them should run unheld.
var dangers = []string{
	"reboot", "reboot -f", "poweroff", "shutdown -r now", "halt", "dd if=/dev/zero of=/dev/sda", "rm -rf /",
	"mkfs.ext4 /dev/sda", "mtd erase system", "flash_erase /dev/mtd0 0 0", "fw_setenv a b", "init 6", "shred /dev/sda",
}

// Danger draws a danger and a way to spell it.
func Danger(random *rand.Rand) string {
	return spelt(random, spelledWord(random, dangers[random.IntN(len(dangers))]), random.IntN(4))
}

// spelt wraps a command in whatever a shell takes it in. It draws from the grammar, so that wrappings stand within each
// other.
func spelt(random *rand.Rand, command string, depth int) string {
	inner := command
	if depth > 0 {
		inner = spelt(random, command, depth-1)
	}
	word := strings.ReplaceAll(inner, "'", `'\''`)
	forms := []string{
		inner,
		inner + " &",
		"true && " + inner,
		"false || " + inner,
		"sync; " + inner,
		inner + "; true",
		"(" + inner + ")",
		"{ " + inner + "; }",
		"! " + inner,
		"if true; then " + inner + "; fi",
		"if " + inner + "; then true; fi",
		"while " + inner + "; do true; done",
		"until false; do " + inner + "; done",
		"for i in 1 2; do " + inner + "; done",
		"case x in x) " + inner + ";; esac",
		"true | " + inner,
		inner + " | cat",
		"echo $(" + inner + ")",
		"echo " + quoteBack(inner),
		"x=$(" + inner + ")",
		"f() { " + inner + "; }; f",
		"cat <(" + inner + ")",
		"sh -c '" + word + "'",
		"bash -ec '" + word + "'",
		"sudo " + command,
		"busybox " + command,
		"env A=b " + command,
		"nohup " + command,
		"timeout 5 " + command,
		"nice -n 5 " + command,
		"exec " + command,
		"command " + command,
		"time " + inner,
		"setsid " + command,
		"eval '" + word + "'",
		"echo '" + word + "' | sh",
		"sh <<< '" + word + "'",
		"xargs " + command,
		"find / -exec " + command + " \\;",
		"trap '" + word + "' EXIT",
		"alias l='" + word + "'",
		inner + " >/tmp/x 2>&1",
		"A=b " + command,
		inner + " # and more",
		"   " + inner + "   ",
		"[ -f x ] && " + inner,
		"test 1 = 1 && " + inner,
	}
	return forms[random.IntN(len(forms))]
}

// quoteBack has a command substituted by backquotes, or in the other way where it has some itself.
func quoteBack(command string) string {
	if strings.Contains(command, "`") || strings.Contains(command, `\`) {
		return "$(" + command + ")"
	}
	return "`" + command + "`"
}

// spelledWord writes a command's name in another way.
func spelledWord(random *rand.Rand, command string) string {
	name, rest, _ := strings.Cut(command, " ")
	if rest != "" {
		rest = " " + rest
	}
	forms := []string{
		name,
		"/sbin/" + name,
		"/usr/bin/" + name,
		"\\" + name,
		name[:1] + "\\" + name[1:],
		"'" + name + "'",
		`"` + name + `"`,
		name[:2] + "''" + name[2:],
		name[:1] + `"` + name[1:] + `"`,
		"./" + name,
	}
	return forms[random.IntN(len(forms))] + rest
}
