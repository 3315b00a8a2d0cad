package tamsin

import (
	"context"
	"crypto/sha512"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"pilotrix/bench"
)

// marl is the operating system, from its first line to the restart.
type marl struct {
	*Router
	*bench.Shell
	restart context.CancelCauseFunc
	group   sync.WaitGroup // what runs beside the shell
	begun   time.Time
}

// run starts the system of this start and lets users in until it restarts, or the trial is over.
func (m *marl) run() {
	warm := m.IsWarm()
	release, trial := m.starts()
	m.boot(release, trial)
	if !m.OK() {
		return
	}
	m.begun = m.Wire.Clock().Now()
	if warm {
		m.begun = m.begun.Add(-212 * time.Hour)
	}
	m.lan.SetUp(m.Address.Addr(), true)
	m.Wire.Answer()
	m.group.Go(
		bench.Page(m.Context(), m.host, m.Address.Addr(), func() string { return m.HostName + ", marl " + release }))
	m.Text, m.LogsOut, m.TooLow = m.words(), true, "only for whoever works; work begins that"
	m.Prompt = func() string { return m.HostName + []string{" [look] ", " [work] "}[m.Level] }
	_ = m.Serve(func() bench.Login {
		return bench.Login{
			Name: m.HostName + " account: ", Word: "code: ", Refusal: "unknown here", Login: m.Login,
			Knows: func(name, code string) bool { return name == m.Login && code == m.Code },
		}
	})
}

// boot takes its time, more of it where a system does not come up.
func (m *marl) boot(release string, trial time.Duration) {
	m.Mu.Lock()
	stuck := m.Faults.DoesNotComeUp && trial > 0
	m.running = release
	m.Mu.Unlock()
	if m.TakeWarm() {
		m.onTrial(trial)
		return
	}
	m.Dots("\r\n\r\nkeel 3.0   Tamsin "+m.Model+" ", 4, 4*time.Second, "\r\n")
	m.Sayf("starting marl %s\r\n", release)
	phase := func(name string, takes time.Duration) bench.Phase {
		return bench.Phase{Text: fmt.Sprintf("  %-14s", name), Takes: takes, End: " up"}
	}
	m.Phases(8, phase("memory", 10*time.Second), phase("lan", 18*time.Second))
	if stuck {
		if m.Dots("  uplink        ", 20, fallsBack, " does not come up\r\n") &&
			m.Sayf("marl %s is given up\r\n", release) {
			m.restart(bench.ErrRestart)
			m.Wait(time.Second)
		}
		return
	}
	m.Phases(8, phase("uplink", 22*time.Second), phase("tide gauges", 12*time.Second))
	if trial > 0 && m.Sayf("marl %s is on trial for %d minutes\r\n", release, int(trial.Minutes())) {
		m.onTrial(trial)
	}
	m.Say("\r\n")
}

// onTrial begins the time after which it goes back by itself.
func (m *marl) onTrial(trial time.Duration) {
	if trial == 0 {
		return
	}
	c := m.Wire.Clock()
	m.Mu.Lock()
	m.until = c.Now().Add(trial)
	m.Mu.Unlock()
	m.group.Go(func() {
		if c.Wait(m.Context(), trial) != nil {
			return
		}
		m.Mu.Lock()
		over := !m.until.IsZero() && !m.Faults.OverstaysTime
		m.Mu.Unlock()
		if over {
			m.restart(errTrialOver)
		}
	})
}

func (m *marl) words() []bench.Word {
	return slices.Concat([]bench.Word{
		m.Help("words"),
		{Form: "view self", About: "what this is and runs", Run: m.viewSelf},
		{Form: "view systems", About: "what is packed, unfolded, running and lasting", Run: m.viewSystems},
		{Form: "view hold", About: "the parcels in the hold", Run: m.viewHold},
		{Form: "view stick", About: "the files on the stick in the port", Run: m.viewStick},
		{Form: "view setup", About: "the setup", Run: m.viewSetup},
		{Form: "sum NAME", About: "the digest of a parcel", Run: m.sum},
		{Form: "foresee NAME", About: "what swinging to a parcel would do; nothing is done", Run: m.foresee},
		m.Raise("work"), m.Lower("rest"),
	}, bench.Fetches("bring", "put a parcel into the hold", m.bring), []bench.Word{
		{
			Form:  "bring stick NAME",
			About: "the same from the stick in the port",
			Run:   m.bringStick,
			Level: 1,
			Grave: true,
		},
		{
			Form:  "unfold NAME",
			About: "unpack a parcel beside the systems that are there",
			Run:   m.unfold,
			Level: 1,
			Grave: true,
		},
		{Form: "swing RELEASE MINUTES", About: "restart into a system, on trial for that long", Run: m.swing, Level: 1},
		{Form: "sweep ADDRESS NAME MINUTES", About: "bring, unfold and swing in one", Run: m.sweep, Level: 1},
		{Form: "settle", About: "end the trial: what runs goes on", Run: m.settle, Level: 1, Grave: true},
		{Form: "anchor", About: "have what runs start after a power cut, too", Run: m.anchor, Level: 1, Grave: true},
		{Form: "toss NAME", About: "remove a parcel or a system", Run: m.toss, Level: 1},
		{
			Form:  "ship setup ADDRESS NAME",
			About: "leave the setup on a server by TFTP",
			Run:   m.shipSetup,
			Level: 1,
			Grave: true,
		},
		{Form: "turn over", About: "restart", Run: m.turnOver, Level: 1},
		m.Leave("leave"),
	})
}

func (m *marl) viewSelf([]string) error {
	release, _, _ := m.Runs()
	m.Fields("name", m.HostName, "model", m.Model, "serial", m.Serial, "architecture", Architecture, "release", release,
		"address", m.Address, "up", m.Wire.Clock().Since(m.begun).Round(time.Second))
	return nil
}

// viewSystems lists every release that is in the hold or unfolded, and the trial's clock.
func (m *marl) viewSystems([]string) error {
	m.Mu.Lock()
	packed := map[string]bool{}
	for _, file := range m.hold.Files() {
		if p, err := readParcel(file.Data); err == nil {
			packed[p.Release] = true
		}
	}
	releases := maps.Clone(packed)
	for release := range m.systems {
		releases[release] = true
	}
	var out strings.Builder
	out.WriteString("  system    packed  unfolded  runs  lasting\r\n")
	for _, release := range newestFirst(maps.Keys(releases)) {
		_, there := m.systems[release]
		fmt.Fprintf(&out, "  %-8s  %-6s  %-8s  %-4s  %s\r\n", release, bench.YesNo(packed[release]), bench.YesNo(there),
			bench.YesNo(release == m.running), bench.YesNo(release == m.lasting))
	}
	trial := "none open"
	switch {
	case !m.until.IsZero():
		trial = fmt.Sprintf("open, %d s left", int(m.until.Sub(m.Wire.Clock().Now()).Seconds()))
	case m.running != m.lasting && m.settled:
		trial = "settled, not anchored"
	}
	fmt.Fprintf(&out, "  trial: %s\r\n", trial)
	m.Mu.Unlock()
	m.Say(out.String())
	return nil
}

func (m *marl) viewHold([]string) error {
	files := m.hold.Files()
	for _, file := range files {
		state := "whole"
		if file.Broken {
			state = "broken"
		}
		m.Sayf("  %-20s  %11s B  %s\r\n", file.Name, bench.Commas(len(file.Data)), state)
	}
	m.Mu.Lock()
	free := m.free()
	m.Mu.Unlock()
	m.Sayf("  room  %s B\r\n", bench.Commas(free))
	return nil
}

func (m *marl) viewStick([]string) error {
	m.Mu.Lock()
	stick := m.stick
	m.Mu.Unlock()
	if stick == nil {
		m.Say("  no stick in the port\r\n")
		return nil
	}
	for _, file := range stick.Files() {
		m.Sayf("  %-20s  %11s B  sha512 %x\r\n", file.Name, bench.Commas(len(file.Data)), sha512.Sum512(file.Data))
	}
	return nil
}

func (m *marl) viewSetup([]string) error {
	for _, line := range m.Setup {
		m.Say("  " + line + "\r\n")
	}
	return nil
}

// parcel finds a whole one in the hold.
func (m *marl) parcel(name string) (bench.File, error) {
	file, there := m.hold.Get(name)
	switch {
	case !there:
		return file, fmt.Errorf("no parcel %s", name)
	case file.Broken:
		return file, fmt.Errorf("%s is broken", name)
	}
	return file, nil
}

func (m *marl) sum(args []string) error {
	file, err := m.parcel(args[0])
	if err != nil {
		return err
	}
	m.Dots("  summing ", 6, 3*time.Second, "\r\n")
	m.Sayf("  sha512  %x\r\n", sha512.Sum512(file.Data))
	return nil
}

func (m *marl) foresee(args []string) error {
	file, err := m.parcel(args[0])
	if err != nil {
		return err
	}
	p, err := readParcel(file.Data)
	if err != nil {
		return fmt.Errorf("%s: %w", args[0], err)
	}
	m.Dots("  looking ahead ", 5, 2*time.Second, "\r\n")
	m.Mu.Lock()
	rows := m.ahead(p)
	m.Mu.Unlock()
	m.Say("  part          effect         seconds  verdict  reason\r\n")
	for _, row := range rows {
		m.Sayf("  %-12s  %-13s  %-7d  %-7s  %s\r\n", row.name, row.effect, row.seconds, row.verdict,
			bench.Dash(row.reason))
	}
	return nil
}

func (m *marl) bring(protocol, address, name string) error {
	from, err := m.Getting(m.net, protocol, address, name,
		bench.Asking{User: "  account there: ", Word: "  code there: ", Key: "  key there %s, trust it?"})
	if err != nil {
		return err
	}
	return m.stow(name[strings.LastIndexByte(name, '/')+1:], from)
}

func (m *marl) bringStick(args []string) error {
	m.Mu.Lock()
	stick := m.stick
	m.Mu.Unlock()
	if stick == nil {
		return errors.New("no stick in the port")
	}
	file, there := stick.Get(args[0])
	if !there {
		return fmt.Errorf("no file %s on the stick", args[0])
	}
	return m.stow(file.Name, bench.Copy(file))
}

// stow writes what is fetched into the hold. The console is dumb meanwhile, but for the progress.
func (m *marl) stow(name string, from bench.Fetch) error {
	m.Mu.Lock()
	to := &bench.FlashMemory{Room: m.free(), Rate: fetchRate, Clock: m.Wire.Clock(), Stall: m.StallOnce()}
	spoils := m.Faults.SpoilsParcels
	m.Mu.Unlock()
	size, report := 0, 0
	to.Progress = func(written int) {
		if size <= 0 {
			return
		}
		if percent := written * 100 / size; percent >= report+5 {
			report = percent
			m.Sayf("\r  brought %3d %%", percent)
		}
	}
	if err := to.Fill(m.Context(), from, func(n int) { size = n }); err != nil {
		m.Say("\r\n")
		return fmt.Errorf("nothing brought: %w", err)
	}
	data := to.Data.Bytes()
	if spoils {
		data[len(data)/2] ^= 1
	}
	if !m.Say("\r\n") {
		return nil
	}
	if err := m.hold.Put(bench.File{Name: name, Data: data}); err != nil {
		return fmt.Errorf("nothing brought: %w", err)
	}
	m.Sayf("  %s is in the hold, %s B\r\n", name, bench.Commas(len(data)))
	return nil
}

// unfold unpacks a parcel: nothing is said for a while, then that it is done.
func (m *marl) unfold(args []string) error {
	file, err := m.parcel(args[0])
	if err != nil {
		return err
	}
	p, err := readParcel(file.Data)
	if err != nil {
		return fmt.Errorf("not unfolded: %w", err)
	}
	m.Mu.Lock()
	_, there := m.systems[p.Release]
	free := m.free()
	m.Mu.Unlock()
	if there {
		return fmt.Errorf("not unfolded: marl %s is there already", p.Release)
	}
	m.Sayf("  unfolding marl %s, nothing is shown meanwhile\r\n", p.Release)
	whole := time.Duration(float64(p.Length) / unfoldRate * float64(time.Second))
	if p.Length*unfolded > free { // it finds that where the room ends
		m.Wait(time.Duration(float64(whole) * float64(free) / float64(p.Length*unfolded)))
		return fmt.Errorf("not unfolded: no room left, %s B are missing; what was unfolded is removed",
			bench.Commas(p.Length*unfolded-free))
	}
	if !m.Wait(whole) || !m.Stall() {
		return nil
	}
	m.Mu.Lock()
	m.systems[p.Release] = p
	m.Mu.Unlock()
	m.Sayf("  unfolded: marl %s\r\n", p.Release)
	return nil
}

// maxMinutes is the longest trial.
const maxMinutes = 240

func (m *marl) swing(args []string) error {
	minutes, err := strconv.Atoi(args[1])
	if err != nil || minutes < 1 || minutes > maxMinutes {
		return fmt.Errorf("a trial has 1 to %d minutes", maxMinutes)
	}
	m.Mu.Lock()
	p, there := m.systems[args[0]]
	running, open, why := m.running, !m.until.IsZero(), ""
	if there {
		why = refused(m.ahead(p))
	}
	m.Mu.Unlock()
	switch {
	case !there:
		return fmt.Errorf("marl %s is not unfolded", args[0])
	case p.Release == running:
		return fmt.Errorf("marl %s runs", running)
	case open:
		return errors.New("a trial is open: settle it, or let it run out")
	case why != "":
		return errors.New("not swung, " + why)
	}
	if !m.Yes(fmt.Sprintf("  swing to marl %s now, on trial for %d minutes?", p.Release, minutes)) {
		return errors.New("nothing done")
	}
	if !m.Dots("  swinging ", 5, 4*time.Second, " down\r\n") {
		return nil
	}
	m.Mu.Lock()
	m.once, m.minutes = p.Release, minutes
	m.Mu.Unlock()
	return bench.ErrRestart
}

// sweep is there in every release, and works from one on: the older ones see that once they have the parcel.
func (m *marl) sweep(args []string) error {
	from, err := m.net.By("tftp", args[0], args[1], bench.ServerLogin{}, nil)
	if err == nil {
		err = m.stow(args[1], from)
	}
	if err != nil {
		return err
	}
	if running, _, _ := m.Runs(); bench.Older(running, sweepSince) {
		return fmt.Errorf("not swept: marl %s cannot; %s stays in the hold", running, args[1])
	}
	if err := m.unfold(args[1:2]); err != nil {
		return err
	}
	file, err := m.parcel(args[1])
	if err != nil {
		return err
	}
	p, err := readParcel(file.Data)
	if err != nil {
		return err
	}
	return m.swing([]string{p.Release, args[2]})
}

func (m *marl) settle([]string) error {
	m.Mu.Lock()
	open := !m.until.IsZero()
	if open {
		m.until, m.settled = time.Time{}, true
	}
	m.Mu.Unlock()
	if !open {
		return errors.New("no trial is open")
	}
	m.Sayf("  settled: marl %s goes on, until the power goes; anchor makes it last\r\n", m.running)
	return nil
}

func (m *marl) anchor([]string) error {
	m.Mu.Lock()
	open, running := !m.until.IsZero(), m.running
	m.Mu.Unlock()
	if open {
		return errors.New("not anchored: it is on trial; settle comes first")
	}
	if !m.Dots("  anchoring ", 6, 3*time.Second, "") {
		return nil
	}
	m.Mu.Lock()
	if !m.Faults.ForgetsAnchor {
		m.lasting = running
	}
	m.Mu.Unlock()
	m.Sayf(" anchored: marl %s starts after a power cut\r\n", running)
	return nil
}

// toss removes a parcel, or a system that neither runs nor lasts.
func (m *marl) toss(args []string) error {
	m.Mu.Lock()
	_, isSystem := m.systems[args[0]]
	kept := isSystem && (args[0] == m.running || args[0] == m.lasting)
	if isSystem && !kept {
		delete(m.systems, args[0])
	}
	m.Mu.Unlock()
	switch {
	case kept:
		return fmt.Errorf("marl %s runs or lasts, it stays", args[0])
	case isSystem, m.hold.Drop(args[0]):
		m.Sayf("  tossed %s\r\n", args[0])
		return nil
	}
	return fmt.Errorf("neither parcel nor system %s", args[0])
}

func (m *marl) shipSetup(args []string) error {
	data := []byte(strings.Join(m.Setup, "\n") + "\n")
	m.Say("  shipping\r\n")
	if err := m.net.Leave(m.Context(), args[0], args[1], data); err != nil {
		return fmt.Errorf("not shipped: %w", err)
	}
	m.Sayf("  shipped %s B\r\n", bench.Commas(len(data)))
	return nil
}

func (m *marl) turnOver([]string) error {
	if !m.Yes("  turn over now?") {
		return errors.New("nothing done")
	}
	m.Dots("  closing ", 4, 3*time.Second, " down\r\n")
	return bench.ErrRestart
}
