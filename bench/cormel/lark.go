package cormel

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"pilotrix/bench"
	"pilotrix/core/transfer/tftp"
)

// lark is the operating system, from peg's first line to the restart.
type lark struct {
	*Gateway
	bench.Shell
	up    context.Context // ends with this start
	group sync.WaitGroup  // what runs in the background of it
	admin bool
	begun time.Time
}

// run starts the chosen bank and lets users in until a restart.
func (l *lark) run(ctx context.Context) error {
	warm := l.warm
	cargo, err := l.boot(ctx)
	if err != nil {
		return err
	}
	l.begun = l.Wire.Clock().Now()
	if warm {
		l.begun = l.begun.Add(-71 * time.Hour)
	}
	l.mu.Lock()
	l.release, l.since = cargo.Release, l.begun
	l.mu.Unlock()
	l.lan.SetUp(l.Address.Addr(), true)
	l.Wire.Answer()
	l.page(ctx)
	for {
		err := l.login(ctx)
		if err == nil {
			err = l.Shell.Run(ctx)
		}
		if errors.Is(err, bench.ErrRestart) || ctx.Err() != nil {
			return err
		}
	}
}

// boot is peg: it takes the stowed bank, or the other one when that cannot be started.
func (l *lark) boot(ctx context.Context) (Cargo, error) {
	if l.warm {
		l.warm = false
		return l.bootWarm()
	}
	if err := l.Dots(ctx, fmt.Sprintf("\r\n\r\npeg %s   Cormel %s ", l.Boot, l.Model), 3, 3*time.Second, "\r\n"); err != nil {
		return Cargo{}, err
	}
	for _, name := range []string{l.Starts(), other(l.Starts())} {
		l.mu.Lock()
		cargo, why := l.startable(name)
		l.mu.Unlock()
		if why != nil {
			if err := l.Sayf(ctx, "bank %s: %v; not started\r\n", name, why); err != nil {
				return cargo, err
			}
			continue
		}
		if err := l.Dots(ctx, fmt.Sprintf("bank %s: lark %s ", name, cargo.Release), 12, 12*time.Second, " sound\r\n"); err != nil {
			return cargo, err
		}
		return cargo, l.phases(ctx, name, cargo)
	}
	_ = l.Say(ctx, "peg: nothing to start\r\n")
	<-ctx.Done()
	return Cargo{}, ctx.Err()
}

func (l *lark) bootWarm() (Cargo, error) {
	l.mu.Lock()
	cargo, err := l.startable(l.keptNext)
	l.mu.Unlock()
	if err == nil {
		l.takeOver(l.keptNext, cargo)
	}
	return cargo, err
}

// phases are the minutes that a start takes; the network is up before the prompt is.
func (l *lark) phases(ctx context.Context, name string, cargo Cargo) error {
	converted := l.takeOver(name, cargo)
	if err := l.Sayf(ctx, "lark %s starting from bank %s\r\n", cargo.Release, name); err != nil {
		return err
	}
	if converted {
		if err := l.Dots(ctx, "  converting the data to form 2 ", 15, 25*time.Second, " done\r\n"); err != nil {
			return err
		}
	}
	for _, part := range []string{"memory", "cards", "network", "dial plan", "services"} {
		if err := l.Dots(ctx, fmt.Sprintf("  %-12s", part), 10, 24*time.Second, " up\r\n"); err != nil {
			return err
		}
		if part == "network" {
			l.lan.SetUp(l.Address.Addr(), true)
		}
	}
	return l.Say(ctx, "\r\n")
}

// page is the gateway's web page.
func (l *lark) page(ctx context.Context) {
	listener, err := l.host.Listen(netip.AddrPortFrom(l.Address.Addr(), 80))
	if err != nil {
		return
	}
	release, _ := l.Runs()
	server := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, "%s, lark %s\n", l.HostName, release)
	})}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	l.group.Go(func() {
		defer stop()
		_ = server.Serve(listener)
	})
}

func (l *lark) login(ctx context.Context) error {
	l.admin = false
	for {
		name, err := l.Ask(ctx, l.HostName+" name: ")
		if err != nil {
			return err
		}
		if l.Wire.User() == l.Login {
			break // the session has let them in
		}
		if name == "" {
			continue
		}
		if err := l.Say(ctx, "word: "); err != nil {
			return err
		}
		word, err := l.ReadLine(ctx, false)
		if err != nil {
			return err
		}
		if name == l.Login && word == l.Word {
			break
		}
		if err := l.Wire.Clock().Wait(ctx, time.Second); err != nil {
			return err
		}
		if err := l.Say(ctx, "not let in\r\n"); err != nil {
			return err
		}
	}
	l.Words, l.Short, l.AnyCase = l.words(), true, true
	l.Prompt = func() string {
		if l.admin {
			return l.HostName + " // "
		}
		return l.HostName + " / "
	}
	return l.Say(ctx, "\r\n")
}

// grave are the words that an awkward gateway asks about, beside those that always ask.
var grave = map[string]bool{"haul tftp": true, "haul http": true, "haul ftp": true, "haul stick": true, "haul sftp": true, "haul pass": true, "favour": true, "fit card": true, "ship setup": true, "rebuild": true}

func (l *lark) words() []bench.Word {
	w := func(name, usage, about string, run func(context.Context, []string) error) bench.Word {
		return bench.Word{Name: name, Usage: usage, About: about, Run: run}
	}
	a := func(name, usage, about string, run func(context.Context, []string) error) bench.Word {
		word := w(name, usage, about, func(ctx context.Context, rest []string) error {
			if !l.admin {
				return errors.New("not from here; lift first")
			}
			return run(ctx, rest)
		})
		word.Grave = grave[name]
		return word
	}
	return []bench.Word{
		w("words", "", "list these", func(ctx context.Context, _ []string) error { return l.Help(ctx) }),
		w("look self", "", "what this is and runs", l.lookSelf),
		w("look banks", "", "the two banks", l.lookBanks),
		w("look haul", "", "how far the download is", func(ctx context.Context, _ []string) error { return l.Say(ctx, l.tellHaul()) }),
		w("look stick", "", "the files on the stick in the port", l.lookStick),
		w("look cards", "", "the cards and their firmware", l.lookCards),
		w("look lines", "", "the registration with the call server", l.lookLines),
		w("lift", "", "be allowed to change things", func(context.Context, []string) error { l.admin = true; return nil }),
		w("lower", "", "give that up", func(context.Context, []string) error { l.admin = false; return nil }),
		a("haul tftp", "ADDRESS NAME", "download into the bank that does not run", l.haulTFTP),
		a("haul http", "ADDRESS PATH", "the same by HTTP", l.haulHTTP),
		a("haul ftp", "ADDRESS NAME", "the same by FTP", l.haulFTP),
		a("haul sftp", "ADDRESS NAME", "the same by SFTP", l.haulSFTP),
		a("haul stick", "NAME", "the same from the stick in the port", l.haulStick),
		a("haul pass", "ADDRESS NAME", "take a licence by TFTP", l.haulPass),
		a("haul off", "", "end the download", l.haulOff),
		a("favour", "BANK", "start from this bank next time; stow keeps that", l.favour),
		a("stow", "", "keep the choice of the bank and the setup", l.stow),
		a("recommence", "", "restart", l.recommence),
		a("ship setup", "ADDRESS NAME", "leave the setup on a server by TFTP", l.shipSetup),
		a("fit card", "SLOT ADDRESS NAME", "new firmware for a card by TFTP", l.fitCard),
		a("wipe bank", "BANK", "empty a bank", l.wipeBank),
		a("rebuild", "", "make the index of the dial plan anew", l.rebuild),
		w("leave", "", "log out", func(context.Context, []string) error { return bench.ErrLeave }),
	}
}

func (l *lark) lookSelf(ctx context.Context, _ []string) error {
	release, running := l.Runs()
	l.mu.Lock()
	passes, indexed := strings.Join(l.passes, ", "), l.indexed
	l.mu.Unlock()
	return l.Sayf(ctx, "  name           %s\r\n  model          %s\r\n  serial         %s\r\n  architecture   %s\r\n  boot firmware  %s\r\n  release        %s\r\n  bank           %s\r\n  licensed for   %s\r\n  index made by  %s\r\n  address        %s\r\n  up             %s\r\n",
		l.HostName, l.Model, l.Serial, Architecture, l.Boot, release, running, passes, indexed, l.Address, l.Wire.Clock().Since(l.begun).Round(time.Second))
}

func (l *lark) lookBanks(ctx context.Context, _ []string) error {
	l.mu.Lock()
	var out strings.Builder
	out.WriteString("  bank  state    release   bytes        next  stowed\r\n")
	for _, name := range []string{"A", "B"} {
		state := "standby"
		if name == l.running {
			state = "running"
		}
		release := "-"
		if c, err := readCargo(l.banks[name].data, cargoMagic); err == nil {
			release = c.Release
		}
		fmt.Fprintf(&out, "  %-4s  %-7s  %-8s  %-11s  %-4s  %s\r\n", name, state, release, commas(len(l.banks[name].data)), yesNo(name == l.next), yesNo(name == l.keptNext))
	}
	fmt.Fprintf(&out, "  room in the standby bank  %s B\r\n", commas(l.Room))
	l.mu.Unlock()
	return l.Say(ctx, out.String())
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (l *lark) lookCards(ctx context.Context, _ []string) error {
	l.mu.Lock()
	var out strings.Builder
	out.WriteString("  slot  card   firmware\r\n")
	for slot := range 8 {
		if c, there := l.cards[slot]; there {
			fmt.Fprintf(&out, "  %-4d  %-5s  %s\r\n", slot, c.Kind, c.Firmware)
		}
	}
	l.mu.Unlock()
	return l.Say(ctx, out.String())
}

func (l *lark) lookLines(ctx context.Context, _ []string) error {
	state, count := "waiting", 0
	if up := l.Wire.Clock().Since(l.begun); up >= registerTime {
		state, count = "up", 24
	}
	return l.Sayf(ctx, "  call server   192.0.2.5\r\n  registration  %s\r\n  lines         %d of 24\r\n", state, count)
}

func (l *lark) haulTFTP(ctx context.Context, rest []string) error {
	if len(rest) != 2 {
		return errors.New("haul tftp ADDRESS NAME")
	}
	from, err := l.byTFTP(l.Wire.Clock(), rest[0], rest[1])
	return l.began(ctx, rest[1], from, err)
}

func (l *lark) haulHTTP(ctx context.Context, rest []string) error {
	if len(rest) != 2 {
		return errors.New("haul http ADDRESS PATH")
	}
	from, err := l.byHTTP(rest[0], rest[1])
	return l.began(ctx, rest[1][strings.LastIndexByte(rest[1], '/')+1:], from, err)
}

func (l *lark) haulFTP(ctx context.Context, rest []string) error {
	if len(rest) != 2 {
		return errors.New("haul ftp ADDRESS NAME")
	}
	user, word, err := l.accountThere(ctx)
	if err != nil {
		return err
	}
	from, err := l.byFTP(rest[0], rest[1], user, word)
	return l.began(ctx, rest[1], from, err)
}

// accountThere asks for the account on the other side.
func (l *lark) accountThere(ctx context.Context) (user, word string, err error) {
	if user, err = l.Ask(ctx, "  user there: "); err != nil {
		return "", "", err
	}
	if err = l.Say(ctx, "  word there: "); err != nil {
		return "", "", err
	}
	word, err = l.ReadLine(ctx, false)
	return user, word, err
}

func (l *lark) began(ctx context.Context, file string, from fetch, err error) error {
	if err == nil {
		err = l.startHaul(file, from)
	}
	if err != nil {
		return err
	}
	l.mu.Lock()
	number, target := l.haul.number, l.standby()
	l.mu.Unlock()
	return l.Sayf(ctx, "  haul %d begun, into bank %s; look haul tells how far it is\r\n", number, target)
}

func (l *lark) haulOff(ctx context.Context, _ []string) error {
	l.mu.Lock()
	h := l.haul
	if h.busy() {
		h.cancel()
		l.haul.state, l.haul.reason = "failed", "ended by hand"
	}
	l.mu.Unlock()
	if !h.busy() {
		return errors.New("no haul is under way")
	}
	return l.Sayf(ctx, "  haul %d ended\r\n", h.number)
}

// fetchNow gets a small file in the foreground.
func (l *lark) fetchNow(ctx context.Context, address, name string) ([]byte, error) {
	from, err := l.byTFTP(l.Wire.Clock(), address, name)
	if err != nil {
		return nil, err
	}
	var data bytes.Buffer
	err = from(ctx, &data, func(int) {})
	return data.Bytes(), err
}

func (l *lark) haulPass(ctx context.Context, rest []string) error {
	if len(rest) != 2 {
		return errors.New("haul pass ADDRESS NAME")
	}
	data, err := l.fetchNow(ctx, rest[0], rest[1])
	if err != nil {
		return fmt.Errorf("no pass taken: %w", err)
	}
	release, err := readLicence(data, l.Serial)
	if err != nil {
		return fmt.Errorf("no pass taken: %w", err)
	}
	l.mu.Lock()
	if !slices.Contains(l.passes, release) {
		l.passes = append(l.passes, release)
	}
	l.mu.Unlock()
	return l.Sayf(ctx, "  pass for release %s taken\r\n", release)
}

func (l *lark) favour(ctx context.Context, rest []string) error {
	if len(rest) != 1 || (rest[0] != "A" && rest[0] != "B") {
		return errors.New("favour which bank, A or B?")
	}
	l.mu.Lock()
	_, err := readCargo(l.banks[rest[0]].data, cargoMagic)
	if err == nil {
		l.next = rest[0]
	}
	l.mu.Unlock()
	if err != nil {
		return fmt.Errorf("bank %s holds nothing to start", rest[0])
	}
	return l.Sayf(ctx, "  bank %s is next; not stowed yet\r\n", rest[0])
}

func (l *lark) stow(ctx context.Context, _ []string) error {
	answer, err := l.Ask(ctx, "  write over what was stowed before? (y/n) ")
	if err != nil {
		return err
	}
	if answer != "y" {
		return errors.New("nothing stowed")
	}
	if err := l.Dots(ctx, "  stowing ", 8, 3*time.Second, ""); err != nil {
		return err
	}
	l.mu.Lock()
	if !l.faults.ForgetsStow {
		l.keptNext = l.next
	}
	next := l.next
	l.mu.Unlock()
	return l.Sayf(ctx, " stowed, bank %s is next\r\n", next)
}

func (l *lark) recommence(ctx context.Context, _ []string) error {
	answer, err := l.Ask(ctx, "  recommence now? (y/n) ")
	if err != nil {
		return err
	}
	if answer != "y" {
		return errors.New("nothing done")
	}
	if err := l.Dots(ctx, "  closing ", 6, 4*time.Second, " down\r\n"); err != nil {
		return err
	}
	return bench.ErrRestart
}

// setup is the configuration as text.
func (l *lark) setup() []byte {
	release, _ := l.Runs()
	var out strings.Builder
	fmt.Fprintf(&out, "# setup of %s, lark %s\nname %s\naddress %s\ncall-server 192.0.2.5\n", l.HostName, release, l.HostName, l.Address)
	for n := range 24 {
		fmt.Fprintf(&out, "line %d number 55%02d\n", n+1, n)
	}
	return []byte(out.String())
}

func (l *lark) shipSetup(ctx context.Context, rest []string) error {
	if len(rest) != 2 {
		return errors.New("ship setup ADDRESS NAME")
	}
	at, err := serverAt(rest[0], tftp.Port)
	if err != nil {
		return err
	}
	data := l.setup()
	if err := l.Say(ctx, "  shipping\r\n"); err != nil {
		return err
	}
	_, err = tftp.Client{Network: l.host, Clock: l.Wire.Clock(), Retries: 5}.Put(ctx, at, rest[1], bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return fmt.Errorf("not shipped: %w", err)
	}
	return l.Sayf(ctx, "  shipped %s B\r\n", commas(len(data)))
}

func (l *lark) fitCard(ctx context.Context, rest []string) error {
	if len(rest) != 3 {
		return errors.New("fit card SLOT ADDRESS NAME")
	}
	slot, _ := strconv.Atoi(rest[0])
	l.mu.Lock()
	was, there := l.cards[slot]
	l.mu.Unlock()
	if !there {
		return fmt.Errorf("no card in slot %s", rest[0])
	}
	data, err := l.fetchNow(ctx, rest[1], rest[2])
	if err != nil {
		return fmt.Errorf("card %d stays as it is: %w", slot, err)
	}
	cargo, err := readCargo(data, cardMagic)
	if err == nil && cargo.Card != was.Kind {
		err = fmt.Errorf("made for a %s card, this is a %s card", cargo.Card, was.Kind)
	}
	if err != nil {
		return fmt.Errorf("card %d stays as it is: %w", slot, err)
	}
	if err := l.Dots(ctx, fmt.Sprintf("  writing card %d ", slot), 12, 12*time.Second, ""); err != nil {
		return err
	}
	if err := l.Dots(ctx, " restarting it ", 8, 8*time.Second, ""); err != nil {
		return err
	}
	l.mu.Lock()
	l.cards[slot] = card{was.Kind, cargo.Release}
	l.mu.Unlock()
	return l.Sayf(ctx, " card %d has %s\r\n", slot, cargo.Release)
}

func (l *lark) wipeBank(ctx context.Context, rest []string) error {
	if len(rest) != 1 || (rest[0] != "A" && rest[0] != "B") {
		return errors.New("wipe which bank, A or B?")
	}
	l.mu.Lock()
	runs := rest[0] == l.running
	if !runs {
		delete(l.banks, rest[0])
	}
	l.mu.Unlock()
	if runs {
		return fmt.Errorf("bank %s runs", rest[0])
	}
	return l.Dots(ctx, "  wiping ", 8, 4*time.Second, " wiped\r\n")
}

func (l *lark) rebuild(ctx context.Context, _ []string) error {
	if err := l.Dots(ctx, "  rebuilding the index ", 10, 6*time.Second, ""); err != nil {
		return err
	}
	l.mu.Lock()
	l.indexed = l.release
	l.mu.Unlock()
	return l.Say(ctx, " rebuilt\r\n")
}
