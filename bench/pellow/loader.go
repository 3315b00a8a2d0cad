package pellow

import (
	"bytes"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"pilotrix/bench"
	"pilotrix/core/transfer/xmodem"
)

// loader is the bootloader, U-Boot as far as the job needs it: environment, memory, flash, tftpboot, loadx and loady, bootm.
type loader struct {
	*Bridge
	*bench.Shell
	started *booted
}

const (
	ramBase     = 0x80000000
	ramSize     = 32 << 20
	bootDelay   = 3
	netRetries  = 10
	netPatience = 5 * time.Second
	factoryBoot = "bootm bf040000; reset"
)

// run returns the system that it started, or nil to restart.
func (l *loader) run() *booted {
	l.lock(func() { l.ram = nil })
	l.Wire.Forget() // its serial port begins empty
	l.Wait(300 * time.Millisecond)
	l.Sayf("\r\n\r\nU-Boot 2023.01 (Pellow %s)\r\n\r\nDRAM:  %d MiB\r\nFlash: %d MiB\r\nLoading Environment from Flash... ", l.Model, ramSize>>20, flashSize>>20)
	if l.loadEnv() {
		l.Say("OK\r\n")
	} else {
		l.Say("*** Warning - bad CRC, using default environment\r\n\r\n")
	}
	l.Say("In:    serial\r\nOut:   serial\r\nErr:   serial\r\nNet:   eth0\r\n")
	l.Prompt, l.Words, l.Short = func() string { return "=> " }, l.words(), true
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

// split takes a line apart into commands: by semicolons outside of quotes, with the environment's values filled in.
func (l *loader) split(line string) (commands [][]string) {
	var words []string
	word, quoted, begun := "", false, false
	end := func() {
		if begun {
			words = append(words, word)
		}
		word, begun = "", false
	}
	for rest := line; rest != ""; {
		c := rest[0]
		rest = rest[1:]
		switch {
		case c == '\'' || c == '"':
			quoted, begun = !quoted, true
		case c == '$' && !quoted:
			name, after := variable(rest)
			word, begun, rest = word+l.value(name), true, after
		case c == ';' && !quoted:
			end()
			commands, words = append(commands, words), nil
		case c == ' ' && !quoted:
			end()
		default:
			word, begun = word+string(c), true
		}
	}
	end()
	return append(commands, words)
}

// variable takes the name of one, with or without braces.
func variable(text string) (name, after string) {
	if inner, is := strings.CutPrefix(text, "{"); is {
		name, after, _ = strings.Cut(inner, "}")
		return name, after
	}
	n := 0
	for n < len(text) && (text[n] == '_' || text[n] >= '0' && text[n] <= '9' || text[n] >= 'a' && text[n] <= 'z' || text[n] >= 'A' && text[n] <= 'Z') {
		n++
	}
	return text[:n], text[n:]
}

func (l *loader) words() []bench.Word {
	return []bench.Word{
		l.Help("help"),
		{Form: "version", About: "what this is", Run: func([]string) error { l.Sayf("U-Boot 2023.01 (Pellow %s)\r\n", l.Model); return nil }},
		{Form: "printenv [NAME] [ANOTHER] [THIRD]", About: "show the environment, or some of it", Run: l.printEnv},
		{Form: "echo WORD…", About: "say it", Run: func(args []string) error { l.Say(strings.Join(args, " ") + "\r\n"); return nil }},
		{Form: "setenv NAME…", About: "set one of the environment, or remove it", Run: l.setEnv},
		{Form: "saveenv", About: "keep the environment", Run: l.saveEnv},
		{Form: "flinfo", About: "what the flash is, and its sectors", Run: l.flashInfo},
		{Form: "mtdparts", About: "the parts of the flash", Run: l.parts},
		{Form: "protect on FROM LAST", About: "protect sectors", Run: func(args []string) error { return l.protect(args, true) }},
		{Form: "protect off FROM LAST", About: "let sectors be written", Run: func(args []string) error { return l.protect(args, false) }},
		{Form: "erase FROM LAST", About: "erase sectors", Run: l.erase},
		{Form: "cp.b FROM TO COUNT", About: "copy bytes", Run: l.copyBytes},
		{Form: "crc32 ADDRESS COUNT", About: "the checksum of a range", Run: l.crc},
		{Form: "tftpboot ADDRESS NAME", About: "get a file into memory", Run: l.tftp},
		{Form: "loadx ADDRESS", About: "receive a file by XMODEM", Run: func(args []string) error { return l.receive(args, xmodem.XMODEM) }},
		{Form: "loady ADDRESS", About: "receive a file by YMODEM", Run: func(args []string) error { return l.receive(args, xmodem.YMODEM) }},
		{Form: "ping ADDRESS", About: "see whether a host answers", Run: l.ping},
		{Form: "bootm ADDRESS", About: "start a system", Run: l.boot},
		{Form: "reset", About: "restart", Run: func([]string) error { l.Say("resetting ...\r\n"); return bench.ErrRestart }},
	}
}

// The environment is lines of NAME=VALUE in its part, behind a line with their checksum.

func (l *loader) loadEnv() (whole bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	sum, text, _ := bytes.Cut(l.flash.part(envArea), []byte("\n"))
	text, _, _ = bytes.Cut(text, []byte{0})
	if whole = string(sum) == checksum(text); !whole {
		l.env = map[string]string{"bootcmd": factoryBoot, "bootdelay": strconv.Itoa(bootDelay), "loadaddr": "81000000"}
		return false
	}
	l.env = map[string]string{}
	for line := range strings.Lines(string(text)) {
		name, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "=")
		l.env[name] = value
	}
	return true
}

func environmentText(env map[string]string) []byte {
	var text strings.Builder
	for _, name := range slices.Sorted(maps.Keys(env)) {
		fmt.Fprintf(&text, "%s=%s\n", name, env[name])
	}
	return []byte(checksum([]byte(text.String())) + "\n" + text.String() + "\x00")
}

func checksum(data []byte) string { return fmt.Sprintf("%08x", crc32.ChecksumIEEE(data)) }

func (l *loader) value(name string) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.env[name]
}

func (l *loader) names() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Sorted(maps.Keys(l.env))
}

func (l *loader) printEnv(args []string) error {
	for _, name := range args {
		if l.value(name) == "" {
			return fmt.Errorf("## Error: %q not defined", name)
		}
		l.Sayf("%s=%s\r\n", name, l.value(name))
	}
	if len(args) > 0 {
		return nil
	}
	size := 0
	for _, name := range l.names() {
		size += len(name) + len(l.value(name)) + 2
		l.Sayf("%s=%s\r\n", name, l.value(name))
	}
	l.Sayf("\r\nEnvironment size: %d/%d bytes\r\n", size, envArea.size-4)
	return nil
}

func (l *loader) setEnv(args []string) error {
	l.lock(func() {
		if l.env[args[0]] = strings.Join(args[1:], " "); l.env[args[0]] == "" {
			delete(l.env, args[0])
		}
	})
	return nil
}

func (l *loader) saveEnv([]string) error {
	l.Say("Saving Environment to Flash... Un-Protected 2 sectors\r\nErasing Flash...\r\n")
	l.mu.Lock()
	data := environmentText(l.env)
	l.mu.Unlock()
	fault := l.fault()
	first := sectorAt(envArea.at)
	for s := first; s < first+2; s++ {
		if !fault.EnvForgotten {
			l.lock(func() { l.flash.eraseSector(s) })
		}
		l.Dots("", 1, eraseTakes/4, "")
	}
	l.Say(" done\r\nErased 2 sectors\r\nWriting to Flash... ")
	if fault.EnvFails {
		l.Wait(time.Second)
		return says("Flash buffer write timeout\r\nTimeout writing to Flash\r\nProtected 2 sectors\r\nFailed (1)")
	}
	if fault.EnvForgotten || l.burn(l.Shell, envArea.at, data, func(int) {}) {
		l.Say("9....8....7....6....5....4....3....2....1....done\r\nProtected 2 sectors\r\nOK\r\n")
	}
	return nil
}

func (l *loader) flashInfo([]string) error {
	var out strings.Builder
	fmt.Fprintf(&out, "\r\nBank # 1: CFI conformant flash (16 x 16)  Size: %d MB in %d Sectors\r\n  Erase timeout: 4096 ms, write timeout: 3 ms\r\n\r\n  Sector Start Addresses:", flashSize>>20, largeCount+smallCount)
	l.lock(func() {
		for s := range largeCount + smallCount {
			if s%5 == 0 {
				out.WriteString("\r\n  ")
			}
			at, _ := sectorSpan(s)
			fmt.Fprintf(&out, "%08X   %s   ", flashBase+at, map[bool]string{true: "RO", false: "  "}[l.flash.protected[s]])
		}
	})
	l.Say(out.String() + "\r\n")
	return nil
}

// parts are the flash's, as its maker laid them out; 1 says read-only.
func (l *loader) parts([]string) error {
	l.Sayf("\r\ndevice nor0 <flash>, # parts = %d\r\n #: name\t\tsize\t\toffset\t\tmask_flags\r\n", len(areas))
	for i, a := range areas {
		l.Sayf(" %d: %-20s0x%08x\t0x%08x\t%d\r\n", i, a.name, a.size, a.at, map[bool]int{true: 1}[a.forGood])
	}
	l.Say("\r\nactive partition: nor0,0 - (loader) 0x00040000 @ 0x00000000\r\n")
	return nil
}

func parseHex(texts ...string) (numbers []uint64, err error) {
	for _, text := range texts {
		n, err := strconv.ParseUint(strings.TrimPrefix(text, "0x"), 16, 40)
		if err != nil {
			return nil, fmt.Errorf("%s is no number", text)
		}
		numbers = append(numbers, n)
	}
	return numbers, nil
}

func (l *loader) sectorsOf(args []string) (first, behind int, err error) {
	n, err := parseHex(args...)
	if err != nil {
		return 0, 0, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.flash.sectors(n[0], n[1])
}

func (l *loader) protect(args []string, on bool) error {
	first, behind, err := l.sectorsOf(args)
	if err != nil {
		return err
	}
	l.lock(func() {
		for s := first; s < behind; s++ {
			l.flash.protected[s] = on
		}
	})
	l.Sayf("%s %d sectors\r\n", map[bool]string{true: "Protected", false: "Un-Protected"}[on], behind-first)
	return nil
}

// erase goes sector by sector. Protected ones stay, and are counted all the same.
func (l *loader) erase(args []string) error {
	first, behind, err := l.sectorsOf(args)
	if err != nil {
		return err
	}
	kept := 0
	l.lock(func() {
		for s := first; s < behind; s++ {
			if l.flash.protected[s] {
				kept++
			}
		}
	})
	if kept > 0 {
		l.Sayf("- Warning: %d protected sectors will not be erased!", kept)
	}
	l.Say("\r\n")
	for s := first; s < behind; s++ {
		l.lock(func() {
			if !l.flash.protected[s] {
				l.flash.eraseSector(s)
			}
		})
		_, size := sectorSpan(s)
		l.Dots("", 1, eraseTakes*time.Duration(size)/largeSize, "")
		if l.fault().EraseStops && s == first+(behind-first)/2 {
			l.Hang()
		}
	}
	if l.Stall() {
		l.Sayf(" done\r\nErased %d sectors\r\n", behind-first)
	}
	return nil
}

// copyBytes copies within memory, or from there into the flash.
func (l *loader) copyBytes(args []string) error {
	n, err := parseHex(args...)
	if err != nil {
		return err
	}
	data, err := l.bytesAt(n[0], n[2])
	if err != nil {
		return err
	}
	if n[1] < flashBase {
		return l.store(n[1], data)
	}
	l.Say("Copy to Flash... ")
	at := int(n[1] - flashBase)
	if at < 0 || at+len(data) > flashSize {
		return says("Outside available Flash")
	}
	refused := false
	l.lock(func() {
		for s := sectorAt(at); s <= sectorAt(at+len(data)-1); s++ {
			refused = refused || l.flash.protected[s]
		}
	})
	if refused {
		return says("Can't write to protected Flash sectors")
	}
	if l.burn(l.Shell, at, data, func(int) {}) {
		l.Say("done\r\n")
	}
	return nil
}

// bytesAt reads memory or flash.
func (l *loader) bytesAt(from, count uint64) ([]byte, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case from >= flashBase && from+count <= flashBase+flashSize:
		return bytes.Clone(l.flash.data[from-flashBase : from-flashBase+count]), nil
	case from >= ramBase && from+count <= ramBase+ramSize:
		data := make([]byte, count)
		if begin := from - ramBase; begin < uint64(len(l.ram)) {
			copy(data, l.ram[begin:])
		}
		return data, nil
	}
	return nil, says("Data abort: nothing is at that address")
}

// store writes into memory.
func (l *loader) store(at uint64, data []byte) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	end := at - ramBase + uint64(len(data))
	if at < ramBase || end > ramSize {
		return errors.New("nothing is at that address")
	}
	if missing := int(end) - len(l.ram); missing > 0 {
		l.ram = append(l.ram, make([]byte, missing)...)
	}
	copy(l.ram[at-ramBase:], data)
	return nil
}

func (l *loader) crc(args []string) error {
	n, err := parseHex(args...)
	if err != nil {
		return err
	}
	data, err := l.bytesAt(n[0], n[1])
	if err != nil {
		return err
	}
	l.Sayf("crc32 for %08x ... %08x ", n[0], n[0]+n[1]-1)
	l.Wait(time.Duration(len(data)) * time.Second / 20_000_000)
	l.Sayf("==> %s\r\n", checksum(data))
	return nil
}

// fetched is what tftpboot has come to, in memory.
type fetched struct {
	*loader
	at   uint64
	size int
}

func (f *fetched) Write(p []byte) (int, error) {
	const mark = 32 << 10
	if err := f.store(f.at+uint64(f.size), p); err != nil {
		return 0, err
	}
	before := f.size / mark
	f.size += len(p)
	f.Say(strings.Repeat("#", f.size/mark-before))
	return len(p), nil
}

func (l *loader) tftp(args []string) error {
	n, err := parseHex(args[0])
	switch {
	case err != nil:
		return err
	case l.value("ipaddr") == "":
		return says("*** ERROR: `ipaddr' not set")
	case l.value("serverip") == "":
		return says("*** ERROR: `serverip' not set")
	case l.value("ipaddr") != l.Address.Addr().String():
		return l.nobody() // the harbour's switch lets it speak under its own address only
	}
	l.lan.SetUp(l.Address.Addr(), true)
	defer l.lan.SetUp(l.Address.Addr(), false)
	l.Sayf("Using eth0 device\r\nTFTP from server %s; our IP address is %s\r\nFilename '%s'.\r\nLoad address: 0x%x\r\nLoading: *\b", l.value("serverip"), l.value("ipaddr"), args[1], n[0])
	from, err := l.net.By("tftp", l.value("serverip"), args[1], bench.ServerLogin{}, nil)
	if err != nil {
		return err
	}
	to, began := &fetched{l, n[0], 0}, l.Wire.Clock().Now()
	if err := from(l.Context(), to, func(int) {}); err != nil {
		words, refused := strings.CutPrefix(err.Error(), "the server says: ")
		if refused {
			return says("\r\nTFTP error: '" + words + "' (1)\r\nNot retrying...")
		}
		return l.nobody()
	}
	if l.fault().SpoilsMemory {
		l.lock(func() { l.ram[n[0]-ramBase+uint64(to.size/2)] ^= 1 })
	}
	seconds := max(l.Wire.Clock().Since(began).Seconds(), 0.01)
	l.Sayf("\r\n\t %.1f MiB/s\r\ndone\r\nBytes transferred = %d (%x hex)\r\n", float64(to.size)/(1<<20)/seconds, to.size, to.size)
	l.lock(func() { l.env["filesize"] = fmt.Sprintf("%x", to.size) })
	return nil
}

// nobody is what it looks like when no server answers.
func (l *loader) nobody() error {
	for range netRetries {
		if !l.Wait(netPatience) {
			return nil
		}
		l.Say("T ")
	}
	return says("\r\nRetry count exceeded; starting again")
}

func (l *loader) ping(args []string) error {
	addr, err := netip.ParseAddr(args[0])
	if err != nil || l.value("ipaddr") == "" {
		return fmt.Errorf("*** ERROR: `ipaddr' not set\r\nping failed; host %s is not alive", args[0])
	}
	l.lan.SetUp(l.Address.Addr(), true)
	defer l.lan.SetUp(l.Address.Addr(), false)
	limited, cancel := l.Wire.Clock().WithTimeout(l.Context(), netPatience)
	defer cancel()
	if _, err := l.host.Ping(limited, addr); err != nil {
		return fmt.Errorf("ping failed; host %s is not alive", addr)
	}
	l.Sayf("Using eth0 device\r\nhost %s is alive\r\n", addr)
	return nil
}

// inMemory lets a transfer of the program's own kind fill memory.
type inMemory struct{ *fetched }

func (m inMemory) Write(p []byte) (int, error) {
	err := m.store(m.at+uint64(m.size), p)
	m.fetched.size += len(p)
	return len(p), err
}

func (m inMemory) Close() error { return nil }

func (l *loader) receive(args []string, variant xmodem.Variant) error {
	protocol := strings.ToLower(variant.String())
	n, err := parseHex(args[0])
	if err != nil {
		return err
	}
	l.Sayf("## Ready for binary (%s) download to 0x%08X at %d bps...\r\n", protocol, n[0], l.Wire.Baud())
	to := inMemory{&fetched{l, n[0], 0}}
	_, err = xmodem.Receive(l.Context(), bench.Port{Wire: l.Wire}, func(xmodem.Header) (io.WriteCloser, error) { return to, nil },
		xmodem.Options{Clock: l.Wire.Clock(), Retries: 20, Variant: variant})
	if err != nil {
		return fmt.Errorf("\r\n## Binary (%s) download aborted", protocol)
	}
	l.Wait(100 * time.Millisecond)
	l.Sayf("\r\n## Total Size      = 0x%08x = %d Bytes\r\n## Start Addr      = 0x%08X\r\n", to.size, to.size, n[0])
	return nil
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
