package cormel

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"pilotrix/bench"
)

// lark is the operating system, from peg's first line to the restart.
type lark struct {
	*Gateway
	*bench.Shell
	begun time.Time
}

// run starts the chosen bank and lets users in until a restart.
func (l *lark) run() {
	warm := l.IsWarm()
	cargo := l.boot()
	if !l.OK() {
		return
	}
	l.begun = l.Wire.Clock().Now()
	if warm {
		l.begun = l.begun.Add(-71 * time.Hour)
	}
	l.Mu.Lock()
	l.release, l.since = cargo.Release, l.begun
	l.Mu.Unlock()
	l.lan.SetUp(l.Address.Addr(), true)
	l.Wire.Answer()
	l.haul.Group().Go(bench.Page(l.Context(), l.host, l.Address.Addr(),
		func() string { return l.HostName + ", lark " + cargo.Release }))
	l.Text, l.Short, l.AnyCase, l.LogsOut, l.TooLow = l.words(), true, true, true, "not from here; lift first"
	l.Prompt = func() string { return l.HostName + []string{" / ", " // "}[l.Level] }
	_ = l.Serve(func() bench.Login {
		return bench.Login{
			Name: l.HostName + " name: ", Word: "word: ", Refusal: "not let in", Login: l.Login,
			Knows: func(name, word string) bool { return name == l.Login && word == l.Word },
		}
	})
}

// boot is peg: it takes the stowed bank, or the other one when that cannot be started.
func (l *lark) boot() Cargo {
	if l.TakeWarm() {
		return l.bootWarm()
	}
	l.Dots(fmt.Sprintf("\r\n\r\npeg %s   Cormel %s ", l.Boot, l.Model), 3, 3*time.Second, "\r\n")
	for _, name := range []string{l.Starts(), other(l.Starts())} {
		l.Mu.Lock()
		cargo, why := l.startable(name)
		l.Mu.Unlock()
		if why != nil {
			l.Sayf("bank %s: %v; not started\r\n", name, why)
			continue
		}
		if l.Dots(fmt.Sprintf("bank %s: lark %s ", name, cargo.Release), 12, 12*time.Second, " sound\r\n") {
			l.phases(name, cargo)
		}
		return cargo
	}
	l.Say("peg: nothing to start\r\n")
	l.Hang()
	return Cargo{}
}

func (l *lark) bootWarm() Cargo {
	l.Mu.Lock()
	cargo, err := l.startable(l.keptNext)
	l.Mu.Unlock()
	if err == nil {
		l.takeOver(l.keptNext, cargo)
	}
	return cargo
}

// phases are the minutes that a start takes; the network is up before the prompt is.
func (l *lark) phases(name string, cargo Cargo) {
	converted := l.takeOver(name, cargo)
	l.Sayf("lark %s starting from bank %s\r\n", cargo.Release, name)
	if converted {
		l.Dots("  converting the data to form 2 ", 15, 25*time.Second, " done\r\n")
	}
	const each = 24 * time.Second
	part := func(name string) bench.Phase {
		return bench.Phase{Text: fmt.Sprintf("  %-12s", name), Takes: each, End: " up"}
	}
	if l.Phases(10, part("memory"), part("cards"), part("network")) {
		l.lan.SetUp(l.Address.Addr(), true)
	}
	l.Phases(10, part("dial plan"), part("services"))
	l.Say("\r\n")
}

// words of the command language. Those of level 1 are for whoever has lifted; an awkward gateway asks about the grave
// ones, beside those that always ask.
func (l *lark) words() []bench.Word {
	return slices.Concat([]bench.Word{
		l.Help("words"),
		{Form: "look self", About: "what this is and runs", Run: l.lookSelf},
		{Form: "look banks", About: "the two banks", Run: l.lookBanks},
		{Form: "look haul", About: "how far the download is", Run: l.lookHaul},
		{Form: "look stick", About: "the files on the stick in the port", Run: l.lookStick},
		{Form: "look cards", About: "the cards and their firmware", Run: l.lookCards},
		{Form: "look lines", About: "the registration with the call server", Run: l.lookLines},
		l.Raise("lift"), l.Lower("lower"),
	}, bench.Fetches("haul", "download into the bank that does not run", l.haulBy), []bench.Word{
		{
			Form:  "haul stick NAME",
			About: "the same from the stick in the port",
			Run:   l.haulStick,
			Level: 1,
			Grave: true,
		},
		{Form: "haul pass ADDRESS NAME", About: "take a licence by TFTP", Run: l.haulPass, Level: 1, Grave: true},
		{Form: "haul off", About: "end the download", Run: l.haulOff, Level: 1},
		{
			Form:  "favour BANK",
			About: "start from this bank next time; stow keeps that",
			Run:   l.favour,
			Level: 1,
			Grave: true,
		},
		{Form: "stow", About: "keep the choice of the bank and the setup", Run: l.stow, Level: 1},
		{Form: "recommence", About: "restart", Run: l.recommence, Level: 1},
		{
			Form:  "ship setup ADDRESS NAME",
			About: "leave the setup on a server by TFTP",
			Run:   l.shipSetup,
			Level: 1,
			Grave: true,
		},
		{
			Form:  "fit card SLOT ADDRESS NAME",
			About: "new firmware for a card by TFTP",
			Run:   l.fitCard,
			Level: 1,
			Grave: true,
		},
		{Form: "wipe bank BANK", About: "empty a bank", Run: l.wipeBank, Level: 1},
		{Form: "rebuild", About: "make the index of the dial plan anew", Run: l.rebuild, Level: 1, Grave: true},
		l.Leave("leave"),
	})
}

func (l *lark) lookSelf([]string) error {
	release, running := l.Runs()
	l.Mu.Lock()
	passes, indexed := strings.Join(l.passes, ", "), l.indexed
	l.Mu.Unlock()
	l.Fields("name", l.HostName, "model", l.Model, "serial", l.Serial, "architecture", Architecture, "boot firmware",
		l.Boot, "release", release, "bank", running, "licensed for", passes, "index made by", indexed, "address",
		l.Address, "up", l.Wire.Clock().Since(l.begun).Round(time.Second))
	return nil
}

func (l *lark) lookBanks([]string) error {
	l.Mu.Lock()
	var out strings.Builder
	out.WriteString("  bank  state    release   bytes        next  stowed\r\n")
	for _, name := range []string{"A", "B"} {
		state := "standby"
		if name == l.running {
			state = "running"
		}
		release := "-"
		if c, err := readCargo(l.banks[name], cargoMagic); err == nil {
			release = c.Release
		}
		fmt.Fprintf(&out, "  %-4s  %-7s  %-8s  %-11s  %-4s  %s\r\n", name, state, release,
			bench.Commas(len(l.banks[name])), bench.YesNo(name == l.next), bench.YesNo(name == l.keptNext))
	}
	fmt.Fprintf(&out, "  room in the standby bank  %s B\r\n", bench.Commas(l.Room))
	l.Mu.Unlock()
	l.Say(out.String())
	return nil
}

func (l *lark) lookHaul([]string) error {
	h := l.haul.Now()
	size := "?"
	if h.Size > 0 {
		size = bench.Commas(h.Size)
	}
	l.Fields("haul    ", h.Number, "file", bench.Dash(h.File), "state", h.State, "bytes",
		bench.Commas(h.Got)+" of "+size, "reason", bench.Dash(h.Reason))
	return nil
}

func (l *lark) lookCards([]string) error {
	l.Mu.Lock()
	var out strings.Builder
	out.WriteString("  slot  card   firmware\r\n")
	for slot := range 8 {
		if c, there := l.cards[slot]; there {
			fmt.Fprintf(&out, "  %-4d  %-5s  %s\r\n", slot, c.Kind, bench.Dash(c.Firmware))
		}
	}
	l.Mu.Unlock()
	l.Say(out.String())
	return nil
}

func (l *lark) lookLines([]string) error {
	state, count := "waiting", 0
	if up := l.Wire.Clock().Since(l.begun); up >= registerTime {
		state, count = "up", 24
	}
	l.Fields("call server", "192.0.2.5", "registration", state, "lines", fmt.Sprintf("%d of 24", count))
	return nil
}

// haulBy begins a download by a protocol.
func (l *lark) haulBy(protocol, address, name string) error {
	from, err := l.Getting(l.net, protocol, address, name,
		bench.Asking{User: "  user there: ", Word: "  word there: ", Key: "  key there %s, take it?"})
	if err != nil {
		return err
	}
	return l.began(name[strings.LastIndexByte(name, '/')+1:], from)
}

// began begins a download into the bank that does not run, which is empty from then on.
func (l *lark) began(file string, from bench.Fetch) error {
	if h := l.haul.Now(); h.Busy() {
		return fmt.Errorf("haul %d is under way; haul off ends it", h.Number)
	}
	l.Mu.Lock()
	target, stuck := l.standby(), l.Faults.StuckPreparing
	delete(l.banks, target)
	l.Mu.Unlock()
	number, err := l.haul.Begin(l.Context(), l.Wire.Clock(), bench.Wanted{
		File: file, From: from, To: &bench.FlashMemory{Room: l.Room, Rate: fetchRate, Stall: l.StallOnce()},
		Prepare: prepareTime, Check: checkTime, Stuck: stuck,
		Accept: func(data []byte) error {
			cargo, err := readCargo(data, cargoMagic)
			if err == nil {
				err = l.fits(cargo)
			}
			if err == nil {
				l.Install(target, data)
			}
			return err
		},
	})
	if err == nil {
		l.Sayf("  haul %d begun, into bank %s; look haul tells how far it is\r\n", number, target)
	}
	return err
}

func (l *lark) haulOff([]string) error {
	number, was := l.haul.End()
	if !was {
		return errors.New("no haul is under way")
	}
	l.Sayf("  haul %d ended\r\n", number)
	return nil
}

func (l *lark) haulPass(args []string) error {
	data, err := l.net.Now(l.Context(), args[0], args[1])
	var release string
	if err == nil {
		release, err = readLicence(data, l.Serial)
	}
	if err != nil {
		return fmt.Errorf("no pass taken: %w", err)
	}
	l.Mu.Lock()
	if !slices.Contains(l.passes, release) {
		l.passes = append(l.passes, release)
	}
	l.Mu.Unlock()
	l.Sayf("  pass for release %s taken\r\n", release)
	return nil
}

func (l *lark) favour(args []string) error {
	bank := args[0]
	if bank != "A" && bank != "B" {
		return errors.New("favour which bank, A or B?")
	}
	l.Mu.Lock()
	_, err := readCargo(l.banks[bank], cargoMagic)
	if err == nil {
		l.next = bank
	}
	l.Mu.Unlock()
	if err != nil {
		return fmt.Errorf("bank %s holds nothing to start", bank)
	}
	l.Sayf("  bank %s is next; not stowed yet\r\n", bank)
	return nil
}

func (l *lark) stow([]string) error {
	if !l.Yes("  write over what was stowed before?") {
		return errors.New("nothing stowed")
	}
	if !l.Dots("  stowing ", 8, 3*time.Second, "") {
		return nil
	}
	l.Mu.Lock()
	if !l.Faults.ForgetsStow {
		l.keptNext = l.next
	}
	next := l.next
	l.Mu.Unlock()
	l.Sayf(" stowed, bank %s is next\r\n", next)
	return nil
}

func (l *lark) recommence([]string) error {
	if !l.Yes("  recommence now?") {
		return errors.New("nothing done")
	}
	l.Dots("  closing ", 6, 4*time.Second, " down\r\n")
	return bench.ErrRestart
}

// setup is the configuration as text.
func (l *lark) setup() []byte {
	release, _ := l.Runs()
	var out strings.Builder
	fmt.Fprintf(&out, "# setup of %s, lark %s\nname %s\naddress %s\ncall-server 192.0.2.5\n", l.HostName, release,
		l.HostName, l.Address)
	for n := range 24 {
		fmt.Fprintf(&out, "line %d number 55%02d\n", n+1, n)
	}
	return []byte(out.String())
}

func (l *lark) shipSetup(args []string) error {
	data := l.setup()
	l.Say("  shipping\r\n")
	if err := l.net.Leave(l.Context(), args[0], args[1], data); err != nil {
		return fmt.Errorf("not shipped: %w", err)
	}
	l.Sayf("  shipped %s B\r\n", bench.Commas(len(data)))
	return nil
}

func (l *lark) fitCard(args []string) error {
	slot, _ := strconv.Atoi(args[0])
	l.Mu.Lock()
	was, there := l.cards[slot]
	l.Mu.Unlock()
	if !there {
		return fmt.Errorf("no card in slot %s", args[0])
	}
	data, err := l.net.Now(l.Context(), args[1], args[2])
	var cargo Cargo
	if err == nil {
		cargo, err = readCargo(data, cardMagic)
	}
	if err == nil && cargo.Card != was.Kind {
		err = fmt.Errorf("made for a %s card, this is a %s card", cargo.Card, was.Kind)
	}
	if err != nil {
		return fmt.Errorf("card %d stays as it is: %w", slot, err)
	}
	if !l.Dots(fmt.Sprintf("  writing card %d ", slot), 12, 12*time.Second, "") ||
		!l.Dots(" restarting it ", 8, 8*time.Second, "") {
		return nil
	}
	l.Mu.Lock()
	switch slot {
	case l.Faults.CardDies:
		delete(l.cards, slot)
	case l.Faults.CardIsDumb:
		l.cards[slot] = card{was.Kind, ""}
	default:
		l.cards[slot] = card{was.Kind, cargo.Release}
	}
	l.Mu.Unlock()
	l.Sayf(" card %d has %s\r\n", slot, cargo.Release)
	return nil
}

func (l *lark) wipeBank(args []string) error {
	bank := args[0]
	if bank != "A" && bank != "B" {
		return errors.New("wipe which bank, A or B?")
	}
	l.Mu.Lock()
	runs := bank == l.running
	if !runs {
		delete(l.banks, bank)
	}
	l.Mu.Unlock()
	if runs {
		return fmt.Errorf("bank %s runs", bank)
	}
	l.Dots("  wiping ", 8, 4*time.Second, " wiped\r\n")
	return nil
}

func (l *lark) rebuild([]string) error {
	if !l.Dots("  rebuilding the index ", 10, 6*time.Second, "") {
		return nil
	}
	l.Mu.Lock()
	l.indexed = l.release
	l.Mu.Unlock()
	l.Say(" rebuilt\r\n")
	return nil
}
