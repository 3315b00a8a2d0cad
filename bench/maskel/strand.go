package maskel

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"pilotrix/bench"
)

// strand is the operating system, from its first line to the restart.
type strand struct {
	*Stack
	*bench.Shell
	restart context.CancelCauseFunc
	group   sync.WaitGroup // what runs beside the shell
	begun   time.Time
	aboard  int // the unit whose prompt it is
}

func (s *strand) run() {
	if s.boot(); !s.OK() {
		return
	}
	s.begun = s.Wire.Clock().Now()
	s.lan.SetUp(s.Address.Addr(), true)
	s.Wire.Answer()
	s.Mu.Lock()
	s.aboard = s.leads().number
	s.Mu.Unlock()
	s.group.Go(bench.Page(s.Context(), s.host, s.Address.Addr(),
		func() string { return s.HostName + ", a stack of " + strconv.Itoa(len(s.units)) }))
	s.Text, s.LogsOut, s.TooLow = s.words(), true, "not while disarmed; arm begins that"
	s.Prompt = func() string { return fmt.Sprintf("%s %d%s", s.HostName, s.aboard, []string{": ", "! "}[s.Level]) }
	_ = s.Serve(func() bench.Login {
		return bench.Login{
			Name: s.HostName + " who: ", Word: "pass: ", Refusal: "not known", Login: s.Login,
			Knows: func(name, word string) bool { return name == s.Login && word == s.Word },
		}
	})
}

// boot takes its time, unless only the lead has moved.
func (s *strand) boot() {
	if s.moved {
		s.moved = false
		s.Mu.Lock()
		number := s.leads().number
		s.Mu.Unlock()
		if s.Wait(moveTime) {
			s.Sayf("\r\n\r\nstrand: unit %d leads\r\n", number)
		}
		return
	}
	if s.startAll(); s.TakeWarm() {
		return
	}
	s.Mu.Lock()
	first := s.leads()
	model, boot, release := first.Model, first.Boot, first.release
	s.Mu.Unlock()
	s.Dots("\r\n\r\ncleat "+boot+"   Maskel "+model+" ", 4, 5*time.Second, "\r\n")
	s.Sayf("strand %s comes up\r\n", release)
	phase := func(name string, takes time.Duration) bench.Phase {
		return bench.Phase{Text: fmt.Sprintf("  %-9s", name), Takes: takes, End: " up"}
	}
	s.Phases(8, phase("ports", 25*time.Second), phase("ring", 30*time.Second), phase("units", 45*time.Second))
	s.Say("\r\n")
}

func (s *strand) words() []bench.Word {
	load := func(every string, protocol string) bench.Word {
		about := map[bool]string{true: "have every unit take a load", false: "have this unit take a load"}[every != ""]
		form, run := every+protocol+" ADDRESS NAME", func(args []string) error {
			return s.loadFrom(protocol, args[0],
				args[1], every != "")
		}
		if protocol == "stick" {
			form, run = every+"stick NAME", func(args []string) error { return s.loadStick(args[0], every != "") }
		}
		return bench.Word{Form: "load " + form, About: about, Run: run, Level: 1, Grave: true}
	}
	return []bench.Word{
		s.Help("words"),
		{Form: "report self", About: "what this is", Run: s.reportSelf},
		{Form: "report units", About: "the units and their roles", Run: s.reportUnits},
		{Form: "report banks", About: "what the units' banks hold", Run: s.reportBanks},
		{Form: "report ring", About: "whether the ring is closed", Run: s.reportRing},
		{Form: "report copies", About: "how far the copies to the units are", Run: s.reportCopies},
		{Form: "report clock", About: "the restart that is set for later", Run: s.reportClock},
		{Form: "report stick", About: "the files on the stick in the lead unit", Run: s.reportStick},
		s.Raise("arm"),
		s.Lower("disarm"),
		{Form: "board UNIT", About: "type on another unit", Run: s.board},
		load("everywhere ", "tftp"),
		load("everywhere ", "sftp"),
		load("everywhere ", "stick"),
		load("", "tftp"),
		load("", "sftp"),
		load("", "stick"),
		{Form: "first BANK", About: "the bank that this unit starts next", Run: s.first, Level: 1, Grave: true},
		{Form: "tumble all", About: "restart every unit now", Run: s.tumbleAll, Level: 1},
		{Form: "tumble unit UNIT", About: "restart one unit now", Run: s.tumbleUnit, Level: 1},
		{Form: "tumble in MINUTES", About: "restart every unit later", Run: s.tumbleIn, Level: 1},
		{Form: "tumble at TIME", About: "the same at a time, such as 23:30", Run: s.tumbleAt, Level: 1},
		{Form: "tumble never", About: "take that back", Run: s.tumbleNever, Level: 1, Grave: true},
		{
			Form:  "ship setup ADDRESS NAME",
			About: "leave the setup on a server by TFTP",
			Run:   s.shipSetup,
			Level: 1,
			Grave: true,
		},
		s.Leave("leave"),
	}
}

func (s *strand) reportSelf([]string) error {
	s.Mu.Lock()
	first := *s.leads()
	s.Mu.Unlock()
	return s.fields("name", s.HostName, "model", first.Model, "serial", s.units[0].Serial, "boot firmware", first.Boot,
		"release", first.release, "address", s.Address, "units", len(s.units), "up",
		s.Wire.Clock().Since(s.begun).Round(time.Second))
}

func (s *strand) fields(namesAndValues ...any) error {
	s.Fields(namesAndValues...)
	return nil
}

// table writes a row for each unit under a heading.
func (s *strand) table(heading string, row func(*unit) string) error {
	out := "  " + heading + "\r\n"
	s.Mu.Lock()
	for _, u := range s.units {
		out += row(u)
	}
	s.Mu.Unlock()
	s.Say(out)
	return nil
}

func (s *strand) reportUnits([]string) error {
	return s.table("unit  model   ports  role    release  boot  state", func(u *unit) string {
		return fmt.Sprintf("  %-4d  %-6s  %-5d  %-6s  %-7s  %-4s  %s\r\n", u.number, u.Model, u.Ports,
			bench.Dash(u.role), bench.Dash(u.release), u.Boot, u.state)
	})
}

func (s *strand) reportBanks([]string) error {
	return s.table("unit  bank  state    release  next", func(u *unit) (rows string) {
		if u.state == away {
			return ""
		}
		for _, bank := range []string{"A", "B"} {
			state := map[bool]string{true: "runs", false: "standby"}[bank == u.runs]
			rows += fmt.Sprintf("  %-4d  %-4s  %-7s  %-7s  %s\r\n", u.number, bank, state,
				bench.Dash(u.banks[bank].Release), bench.YesNo(bank == u.next))
		}
		return rows
	})
}

func (s *strand) reportRing([]string) error {
	s.Mu.Lock()
	broken, gone := s.Faults.RingBreak, 0
	for _, u := range s.units {
		if u.state == away {
			gone = u.number
		}
	}
	count := len(s.units)
	s.Mu.Unlock()
	switch {
	case broken > 0:
		s.Sayf("  ring  broken between unit %d and unit %d\r\n", broken, broken%count+1)
	case gone > 0:
		s.Sayf("  ring  broken at unit %d\r\n", gone)
	default:
		s.Say("  ring  closed\r\n")
	}
	return nil
}

func (s *strand) reportCopies([]string) error {
	now := s.load.Now()
	size := "?"
	if now.Size > 0 {
		size = bench.Commas(now.Size)
	}
	s.Sayf("  load %d  %s  %s of %s B  %s\r\n", now.Number, now.State, bench.Commas(now.Got), size,
		bench.Dash(now.Reason))
	return s.table("unit  copy     percent  reason", func(u *unit) string {
		return fmt.Sprintf("  %-4d  %-7s  %-7d  %s\r\n", u.number, u.copied.state, u.copied.percent,
			bench.Dash(u.copied.reason))
	})
}

func (s *strand) reportClock([]string) error {
	s.Mu.Lock()
	at := s.timed.at
	s.Mu.Unlock()
	if at.IsZero() {
		s.Say("  restart  none is set\r\n")
		return nil
	}
	s.Sayf("  restart  every unit in %d s\r\n", int(at.Sub(s.Wire.Clock().Now()).Seconds()))
	return nil
}

func (s *strand) reportStick([]string) error {
	s.Mu.Lock()
	stick := s.stick
	s.Mu.Unlock()
	if stick == nil {
		s.Say("  no stick in unit 1\r\n")
		return nil
	}
	for _, file := range stick.Files() {
		s.Sayf("  %-20s  %11s B  sha256 %x\r\n", file.Name, bench.Commas(len(file.Data)), sha256.Sum256(file.Data))
	}
	return nil
}

// unitOf finds a unit that can be reached.
func (s *strand) unitOf(text string) (*unit, error) {
	s.Mu.Lock()
	defer s.Mu.Unlock()
	number, err := strconv.Atoi(text)
	if err != nil || number < 1 || number > len(s.units) {
		return nil, fmt.Errorf("no unit %s", text)
	}
	if u := s.units[number-1]; u.state == here || u.state == apart {
		return u, nil
	}
	return nil, fmt.Errorf("unit %s is away", text)
}

func (s *strand) board(args []string) error {
	u, err := s.unitOf(args[0])
	if err != nil {
		return err
	}
	s.aboard = u.number
	return nil
}

func (s *strand) loadFrom(protocol, address, name string, everywhere bool) error {
	from, err := s.Getting(s.net, protocol, address, name,
		bench.Asking{User: "  who there: ", Word: "  pass there: ", Key: "  key there %s, is it right?"})
	if err != nil {
		return err
	}
	return s.begin(name, from, everywhere)
}

func (s *strand) loadStick(name string, everywhere bool) error {
	s.Mu.Lock()
	stick := s.stick
	s.Mu.Unlock()
	if stick == nil {
		return errors.New("no stick in unit 1")
	}
	file, there := stick.Get(name)
	if !there {
		return fmt.Errorf("no file %s on the stick", name)
	}
	return s.begin(name, bench.Copy(file), everywhere)
}

// begin begins a load beside the shell: into the lead unit, then a copy for each unit that is meant.
func (s *strand) begin(name string, from bench.Fetch, everywhere bool) error {
	if now := s.load.Now(); now.Busy() {
		return fmt.Errorf("load %d is under way", now.Number)
	}
	s.Mu.Lock()
	var wanted []*unit
	for _, u := range s.units {
		u.copied = copied{state: "idle"}
		if everywhere || u.number == s.aboard {
			u.copied.state = "waits"
			wanted = append(wanted, u)
		}
	}
	s.Mu.Unlock()
	number, err := s.load.Begin(s.Context(), s.Wire.Clock(), bench.Wanted{
		File: name, From: from, To: &bench.FlashMemory{Room: room, Rate: fetchRate, Stall: s.StallOnce()},
		Prepare: 2 * time.Second, Check: 4 * time.Second,
		Accept: func(data []byte) error {
			l, err := readLoad(data)
			for _, u := range wanted {
				if err == nil {
					s.copy(u, l, len(data))
				}
			}
			return err
		},
	})
	if err != nil {
		return err
	}
	s.Sayf("  load %d begun, for %s; report copies tells how far it is\r\n", number,
		map[bool]string{true: "every unit", false: fmt.Sprintf("unit %d", s.aboard)}[everywhere])
	return nil
}

// copy brings a load into a unit's bank that does not run, which starts next then.
func (s *strand) copy(u *unit, l Load, size int) {
	ends := func(state, reason string) {
		s.Mu.Lock()
		defer s.Mu.Unlock()
		u.copied.state, u.copied.reason = state, reason
	}
	s.Mu.Lock()
	gone, breaks := u.state != here && u.state != apart, u.number == s.Faults.TakesNot
	s.Mu.Unlock()
	if err := l.fits(u); gone {
		ends("away", "not in the ring")
		return
	} else if err != nil {
		ends("refused", err.Error())
		return
	}
	ends("copying", "")
	for percent := 0; percent < 100; percent += 5 {
		s.Mu.Lock()
		u.copied.percent = percent
		s.Mu.Unlock()
		if breaks && percent >= 60 {
			ends("failed", "broken off at 60 percent")
			return
		}
		if s.Wire.Clock().Wait(s.Context(), time.Duration(float64(size)/copyRate/20*float64(time.Second))) != nil {
			return
		}
	}
	s.Mu.Lock()
	defer s.Mu.Unlock()
	u.banks[other(u.runs)], u.next = l, other(u.runs)
	u.copied = copied{state: "written", percent: 100}
}

func (s *strand) first(args []string) error {
	s.Mu.Lock()
	u := s.units[s.aboard-1]
	_, there := u.banks[args[0]]
	if there {
		u.next = args[0]
	}
	s.Mu.Unlock()
	if !there {
		return errors.New("which bank, A or B?")
	}
	s.Sayf("  unit %d starts bank %s next\r\n", s.aboard, args[0])
	return nil
}

func (s *strand) tumbleAll([]string) error {
	if !s.Yes("  tumble every unit now?") {
		return errors.New("nothing done")
	}
	s.Dots("  tumbling ", 4, 3*time.Second, " down\r\n")
	return bench.ErrRestart
}

// tumbleUnit restarts one unit; when it leads, another one does then, and whoever is logged in is not any more.
func (s *strand) tumbleUnit(args []string) error {
	u, err := s.unitOf(args[0])
	if err != nil {
		return err
	}
	if !s.Yes(fmt.Sprintf("  tumble unit %d now?", u.number)) {
		return errors.New("nothing done")
	}
	s.Mu.Lock()
	led := u.role == lead
	u.state, u.role, u.copied = starting, "", copied{state: "idle"}
	s.elect(false)
	if led {
		s.timed = timer{}
	}
	s.Mu.Unlock()
	s.Sayf("  unit %d goes down\r\n", u.number)
	s.comesBack(u)
	if led || s.aboard == u.number {
		s.moved = true
		return bench.ErrRestart
	}
	return nil
}

// comesBack has a unit start beside the others. It outlives the shell, and ends with the power.
func (s *strand) comesBack(u *unit) {
	clock := s.Wire.Clock()
	s.back.Go(func() {
		if clock.Wait(s.powered, unitStart) != nil {
			return
		}
		s.Mu.Lock()
		defer s.Mu.Unlock()
		if u.state == starting {
			s.starts(u)
			s.elect(false)
		}
	})
}

func (s *strand) tumbleIn(args []string) error {
	minutes, err := strconv.Atoi(args[0])
	if err != nil || minutes < 1 || minutes > 24*60 {
		return errors.New("in 1 to 1440 minutes")
	}
	return s.tumbleLater(time.Duration(minutes) * time.Minute)
}

func (s *strand) tumbleAt(args []string) error {
	at, err := time.Parse("15:04", args[0])
	if err != nil {
		return errors.New("at a time such as 23:30")
	}
	now := s.Wire.Clock().Now()
	then := time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, now.Location())
	if !then.After(now) {
		then = then.Add(24 * time.Hour)
	}
	return s.tumbleLater(then.Sub(now))
}

var errTimed = errors.New("the restart that was set")

func (s *strand) tumbleLater(in time.Duration) error {
	clock := s.Wire.Clock()
	ctx, stop := context.WithCancel(s.Context())
	s.Mu.Lock()
	if s.timed.stop != nil {
		s.timed.stop()
	}
	s.timed = timer{clock.Now().Add(in), stop}
	s.Mu.Unlock()
	s.group.Go(func() {
		defer stop()
		if clock.Wait(ctx, in) == nil {
			s.restart(errTimed)
		}
	})
	s.Sayf("  every unit tumbles in %d s\r\n", int(in.Seconds()))
	return nil
}

func (s *strand) tumbleNever([]string) error {
	s.Mu.Lock()
	stop := s.timed.stop
	s.timed = timer{}
	s.Mu.Unlock()
	if stop == nil {
		return errors.New("no restart is set")
	}
	stop()
	s.Say("  taken back: no restart is set\r\n")
	return nil
}

func (s *strand) shipSetup(args []string) error {
	if err := s.net.Leave(s.Context(), args[0], args[1],
		[]byte(strings.Join([]string{"name " + s.HostName, "ring of 3"}, "\n")+"\n")); err != nil {
		return fmt.Errorf("not shipped: %w", err)
	}
	s.Say("  shipped\r\n")
	return nil
}
