package pellow

import (
	"bytes"
	"errors"
	"strings"
	"time"

	"pilotrix/bench"
	"pilotrix/core/transfer/xmodem"
)

// loader is the bootloader, U-Boot as far as the job needs it: environment, memory, flash, tftpboot, loadx and loady,
// bootm.
type loader struct {
	*Bridge
	*bench.Shell
	started *booted
}

const (
	ramBase      = 0x80000000
	ramSize      = 32 << 20
	bootDelay    = 3
	netRetries   = 10
	netTimeLimit = 5 * time.Second
	factoryBoot  = "bootm bf040000; reset"
)

// run returns the system that it started, or nil to restart.
func (l *loader) run() *booted {
	l.lock(func() { l.ram = nil })
	l.Wire.Forget() // its serial port begins empty
	l.Wait(300 * time.Millisecond)
	l.Sayf("\r\n\r\nU-Boot 2023.01 (Pellow %s)\r\n\r\nDRAM:  %d MiB\r\nFlash: %d MiB\r\nLoading Environment from Flash... ",
		l.Model, ramSize>>20, flashSize>>20)
	if l.loadEnv() {
		l.Say("OK\r\n")
	} else {
		l.Say("*** Warning - bad CRC, using default environment\r\n\r\n")
	}
	l.Say("In:    serial\r\nOut:   serial\r\nErr:   serial\r\nNet:   eth0\r\n")
	l.Prompt, l.Text, l.Short = func() string { return "=> " }, l.words(), true
	l.Unknown, l.Usage, l.Refusal = "Unknown command '%s' - try 'help'\r\n", "Usage:\r\n%s", "%s\r\n"
	l.Split = l.split
	if !l.stopped() && l.OK() {
		err := l.Obey(l.value("bootcmd"))
		if errors.Is(err, bench.ErrLeave) || errors.Is(err, bench.ErrRestart) {
			return l.started
		}
	}
	_ = l.Run()
	return l.started
}

// stopped gives a few seconds in which a key keeps it here.
func (l *loader) stopped() bool {
	l.Sayf("Hit any key to stop autoboot: %2d ", bootDelay)
	for left := bootDelay - 1; left >= 0; left-- {
		if _, pressed := l.Key(time.Second); pressed {
			return l.Say("\b\b\b 0 \r\n")
		}
		l.Sayf("\b\b\b%2d ", left)
	}
	l.Say("\r\n")
	return false
}

func (l *loader) words() []bench.Word {
	return []bench.Word{
		l.Help("help"),
		{
			Form:  "version",
			About: "what this is",
			Run:   func([]string) error { l.Sayf("U-Boot 2023.01 (Pellow %s)\r\n", l.Model); return nil },
		},
		{Form: "printenv [NAME] [ANOTHER] [THIRD]", About: "show the environment, or some of it", Run: l.printEnv},
		{
			Form:  "echo WORD…",
			About: "say it",
			Run:   func(args []string) error { l.Say(strings.Join(args, " ") + "\r\n"); return nil },
		},
		{Form: "setenv NAME…", About: "set one of the environment, or remove it", Run: l.setEnv},
		{Form: "saveenv", About: "keep the environment", Run: l.saveEnv},
		{Form: "flinfo", About: "what the flash is, and its sectors", Run: l.flashInfo},
		{Form: "mtdparts", About: "the parts of the flash", Run: l.parts},
		{
			Form:  "protect on FROM LAST",
			About: "protect sectors",
			Run:   func(args []string) error { return l.protect(args, true) },
		},
		{
			Form:  "protect off FROM LAST",
			About: "let sectors be written",
			Run:   func(args []string) error { return l.protect(args, false) },
		},
		{Form: "erase FROM LAST", About: "erase sectors", Run: l.erase},
		{Form: "cp.b FROM TO COUNT", About: "copy bytes", Run: l.copyBytes},
		{Form: "crc32 ADDRESS COUNT", About: "the checksum of a range", Run: l.crc},
		{Form: "tftpboot ADDRESS NAME", About: "get a file into memory", Run: l.tftp},
		{
			Form:  "loadx ADDRESS",
			About: "receive a file by XMODEM",
			Run:   func(args []string) error { return l.receive(args, xmodem.XMODEM) },
		},
		{
			Form:  "loady ADDRESS",
			About: "receive a file by YMODEM",
			Run:   func(args []string) error { return l.receive(args, xmodem.YMODEM) },
		},
		{Form: "ping ADDRESS", About: "see whether a host answers", Run: l.ping},
		{Form: "bootm ADDRESS", About: "start a system", Run: l.boot},
		{
			Form:  "reset",
			About: "restart",
			Run:   func([]string) error { l.Say("resetting ...\r\n"); return bench.ErrRestart },
		},
	}
}

// boot starts what is at an address, when it is whole. What it is built for it finds out by itself.
func (l *loader) boot(args []string) error {
	n, err := parseHex(args[0])
	if err != nil {
		return err
	}
	most := uint64(ramBase + ramSize)
	inFlash := n[0] >= flashBase
	if inFlash {
		most = flashBase + uint64(systemArea.at+systemArea.size)
	}
	if n[0] >= most {
		return says("Wrong Image Format for bootm command\r\nERROR: can't get kernel image!")
	}
	data, err := l.bytesAt(n[0], most-n[0])
	if err != nil || !bytes.HasPrefix(data, []byte(magic)) {
		return says("Wrong Image Format for bootm command\r\nERROR: can't get kernel image!")
	}
	l.Sayf("## Booting kernel from Legacy Image at %08x ...\r\n   Verifying Checksum ... ", n[0])
	l.Wait(400 * time.Millisecond)
	system, err := readSystem(data)
	if err != nil {
		return says("Bad Data CRC\r\nERROR: can't get kernel image!")
	}
	l.Say("OK\r\n   Loading Kernel Image\r\n\r\nStarting kernel ...\r\n\r\n")
	l.started = &booted{system: system, memory: !inFlash, loud: true}
	return bench.ErrLeave
}
