package pellow

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"pilotrix/bench"
)

// skua is the small Linux-like system, from its first line to the restart. Its files are gone with the power.
type skua struct {
	*Bridge
	*bench.Shell
	booted
	files bench.Store
	group sync.WaitGroup // what runs beside the shell
	begun time.Time
}

const memoryFiles = 16 << 20

// run starts the system and lets users in until it restarts.
func (k *skua) run() {
	if !k.boot() {
		return
	}
	k.files.Capacity = memoryFiles
	k.begun = k.Wire.Clock().Now()
	k.lan.SetUp(k.Address.Addr(), true)
	k.Wire.Answer()
	k.group.Go(bench.Page(k.Context(), k.host, k.Address.Addr(), k.page))
	k.Text, k.LogsOut = k.words(), true
	k.Unknown, k.Usage, k.Refusal = "sh: %s: not found\r\n", "usage: %s", "%s\r\n"
	k.Prompt = func() string { return k.Login + "@" + k.HostName + ":~# " }
	_ = k.Serve(func() bench.Login {
		return bench.Login{
			Name: k.HostName + " login: ", Word: "Password: ", Refusal: "Login incorrect", Login: k.Login,
			Knows: func(name, word string) bool { return name == k.Login && word == k.Word },
		}
	})
}

// boot takes its time. A system for another model finds that out, and waits for its watchdog.
func (k *skua) boot() bool {
	if k.loud {
		k.Sayf("[    0.000000] skua %s for %s\r\n", k.system.Release, strings.Join(k.system.Models, ", "))
		if !k.system.fits(k.Model) {
			k.Wait(2 * time.Second)
			k.Sayf("[    2.104410] built for %s, and this is %s: stopped\r\n", strings.Join(k.system.Models, ", "),
				k.Model)
			k.Wait(20 * time.Second)
			return false
		}
		for i, part := range []string{"flash: 5 parts", "radio: up", "eth0: up", "web: listening at port 80"} {
			k.Wait(2 * time.Second)
			k.Sayf("[ %11.6f] %s\r\n", float64(i+1)*2.113, part)
		}
		k.Say("\r\n")
	}
	k.lock(func() {
		if k.Lying.IsAnother {
			k.Serial = "PW3-009999"
		}
		if k.Lying.StaysOld {
			k.system.Release, k.system.Built = "2.4", "2026-02-11"
		}
		k.running, k.Bridge.memory = k.system.Release, k.booted.memory
		k.Lying = bench.Fibs{}
	})
	return k.OK()
}

func (k *skua) page() string {
	return fmt.Sprintf("%s: skua %s, %d bridges in reach", k.HostName, k.system.Release, 3)
}

func (k *skua) words() []bench.Word {
	return []bench.Word{
		k.Help("help"),
		{Form: "cat NAME", About: "show a file", Run: k.cat},
		{Form: "ls NAME", About: "list a folder", Run: k.list},
		{Form: "rm NAME", About: "remove a file", Run: k.remove},
		{Form: "wget -O NAME URL", About: "get a file by HTTP", Run: k.get},
		{Form: "sha256sum NAME", About: "the digest of a file", Run: k.sum},
		{
			Form:  "renew NAME",
			About: "write a system from a file, or from a URL, and restart into it",
			Run:   k.renew,
			Grave: true,
		},
		{Form: "reboot", About: "restart", Run: func([]string) error {
			k.Say("the system is going down\r\n")
			k.Wait(2 * time.Second)
			return bench.ErrRestart
		}},
		k.Leave("exit"),
	}
}

// cat shows what Linux-like systems say of themselves, and files.
func (k *skua) cat(args []string) error {
	switch args[0] {
	case "/etc/release":
		from := map[bool]string{true: "memory", false: "flash"}[k.booted.memory]
		k.Sayf("SYSTEM=skua\r\nRELEASE=%s\r\nBUILT=%s\r\nBOARD=%s\r\nSERIAL=%s\r\nRUNS_FROM=%s\r\n", k.system.Release,
			k.system.Built, k.Model, k.Serial, from)
		return nil
	case "/etc/hostname":
		k.Say(k.HostName + "\r\n")
		return nil
	}
	return fmt.Errorf("cat: can't open '%s': No such file or directory", args[0])
}

func (k *skua) list([]string) error {
	for _, file := range k.files.Files() {
		k.Sayf("%12d %s\r\n", len(file.Data), file.Name)
	}
	return nil
}

func (k *skua) remove(args []string) error {
	if !k.files.Drop(args[0]) {
		return fmt.Errorf("rm: can't remove '%s': No such file or directory", args[0])
	}
	return nil
}

// fetch gets what a URL says.
func (k *skua) fetch(address string, report func(written, size int)) ([]byte, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" {
		return nil, fmt.Errorf("wget: not an http url: %s", address)
	}
	host := u.Hostname()
	k.Sayf("Connecting to %s (%s:%s)\r\n", host, host, cmp.Or(u.Port(), "80"))
	addr, err := netip.ParseAddr(host)
	if err != nil {
		return nil, fmt.Errorf("wget: bad address '%s'", host)
	}
	from := k.net.HTTP(netip.AddrPortFrom(addr, port(u)), u.Path)
	size := 0
	to := &bench.FlashMemory{
		Room:     memoryFiles,
		Rate:     1_000_000,
		Clock:    k.Wire.Clock(),
		Progress: func(n int) { report(n, size) },
	}
	limited, cancel := context.WithCancel(k.Context())
	defer cancel()
	if err := to.Fill(limited, from, func(n int) { size = n }); err != nil {
		return nil, fmt.Errorf("wget: %w", err)
	}
	return to.Data.Bytes(), nil
}

func port(u *url.URL) uint16 {
	n, err := strconv.ParseUint(u.Port(), 10, 16)
	if err != nil {
		return 80
	}
	return uint16(n)
}

func (k *skua) get(args []string) error {
	report := -1
	data, err := k.fetch(args[1], func(written, size int) {
		if percent := written * 100 / max(size, 1); size > 0 && percent >= report+10 {
			report = percent
			k.Sayf("\r%-20.20s %3d%% |%-32s|", args[0], percent, strings.Repeat("*", percent*32/100))
		}
	})
	if err != nil {
		return err
	}
	k.Say("\r\n")
	if err := k.files.Put(bench.File{Name: args[0], Data: data}); err != nil {
		return errors.New("wget: short write: No space left on device")
	}
	k.Sayf("'%s' saved\r\n", args[0])
	return nil
}

func (k *skua) sum(args []string) error {
	file, there := k.files.Get(args[0])
	if !there {
		return fmt.Errorf("sha256sum: can't open '%s': No such file or directory", args[0])
	}
	k.Wait(800 * time.Millisecond)
	k.Sayf("%x  %s\r\n", sha256.Sum256(file.Data), args[0])
	return nil
}

// renew writes a system and restarts into it. It says little, asks what is hard to understand, and is silent while it
// writes.
func (k *skua) renew(args []string) error {
	data, err := k.source(args[0])
	if err != nil {
		return err
	}
	k.Say("renew: 1\r\n")
	k.Wait(2 * time.Second)
	if _, err := readSystem(data); err != nil {
		return errors.New("renew: not done (3)")
	}
	keep := ""
	for k.OK() && keep != "k" && keep != "f" && keep != "q" {
		keep = k.Ask("renew: proceed with k or f (q to quit)? ")
	}
	if keep == "q" {
		return errors.New("renew: not done (1)")
	}
	if keep == "f" {
		k.lock(func() { _ = k.flash.put(settingsArea, nil) })
	}
	if !k.Say("renew: 2\r\n") {
		return nil
	}
	if !k.fault().RenewStaysOld {
		if len(data) > systemArea.size {
			return errors.New("renew: not done (5)")
		}
		for sector := sectorAt(systemArea.at); sector <= sectorAt(systemArea.at+len(data)-1); sector++ {
			k.lock(func() { k.flash.eraseSector(sector) })
			k.Wait(eraseTakes)
		}
		if !k.burn(k.Shell, systemArea.at, data, func(int) {}) {
			return nil
		}
	}
	k.Say("renew: 3\r\nthe system is going down\r\n")
	return bench.ErrRestart
}

func (k *skua) source(name string) ([]byte, error) {
	if strings.HasPrefix(name, "http:") {
		return k.fetch(name, func(int, int) {})
	}
	file, there := k.files.Get(name)
	if !there {
		return nil, errors.New("renew: not done (2)")
	}
	return bytes.Clone(file.Data), nil
}
