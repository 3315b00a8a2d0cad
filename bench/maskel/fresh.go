package maskel

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"pilotrix/bench"
)

// fresh is a new switch from one start to the next.
type fresh struct {
	*NewSwitch
	*bench.Shell
	client bench.Client
	host   bench.LANHost
	offer  bench.Offer
	group  sync.WaitGroup
	began  time.Time
}

const (
	offerTries = 40
	setupWait  = 20 * time.Second // until it asks for its setup once more
)

func (x *fresh) run() {
	x.Mu.Lock()
	x.starts++
	release, setup := x.runs, x.setup
	x.Mu.Unlock()
	x.Dots("\r\n\r\ncleat 2.1   Maskel "+x.Model+" ", 4, 4*time.Second, "\r\n")
	x.Sayf("strand %s comes up\r\n", release)
	x.Phases(6, bench.Phase{Text: "  ports    ", Takes: 8 * time.Second, End: " up"})
	x.began = x.Wire.Clock().Now()
	switch err := x.join(); {
	case !x.OK():
	case err != nil && setup == "":
		x.Sayf("net: %v; starting over\r\n", err)
	case err == nil && setup == "":
		x.provision()
	default:
		x.serve()
	}
}

// join gets an address.
func (x *fresh) join() error {
	x.Mu.Lock()
	setup, faults := x.setup, x.Faults
	x.Mu.Unlock()
	n := bench.NewDevice{
		LAN: x.lan, Clock: x.Wire.Clock(), MAC: x.MAC, Vendor: "Maskel S8", HostName: nameIn(setup),
		Takes: func(o bench.Offer) bool {
			x.Mu.Lock()
			defer x.Mu.Unlock()
			return !x.Faults.TakesNoOffer && (!x.Faults.TakesOther || o.By.String() != "192.0.2.10")
		},
		Say: func(text string) { x.Say(text + "\r\n") },
	}
	if faults.WasElsewhere {
		n.Had = netip.MustParseAddr("198.51.100.9")
	}
	offer, err := n.Ask(x.Context(), offerTries)
	if err != nil {
		return err
	}
	if faults.Elsewhere {
		offer.Server = netip.MustParseAddr("192.0.2.99")
	}
	x.offer = offer
	x.host = x.lan.Host("net", offer.Address)
	x.client.Host = x.host
	x.Mu.Lock()
	x.at = offer.Address
	x.Mu.Unlock()
	x.Sayf("net: has %s\r\n", offer.Address)
	return nil
}

// provision fetches the image that it was told of, unless it has that one, then its setup.
func (x *fresh) provision() {
	x.Mu.Lock()
	has, faults := x.image, x.Faults
	x.Mu.Unlock()
	if name := x.offer.BootFile; name != "" && name != has {
		if err := x.takeImage(name, faults); err != nil && x.OK() {
			x.Sayf("load: %v; starting over\r\n", err)
			x.Wait(5 * time.Second)
		}
		return // it starts over in any case: into what it took
	}
	for x.OK() {
		if x.takeSetup(faults) {
			x.serve()
			return
		}
		x.Wait(setupWait)
	}
}

// get fetches a file from where it was told to.
func (x *fresh) get(name string) ([]byte, error) {
	from, err := x.fetcher(name)
	if err != nil {
		return nil, err
	}
	memory := &bench.FlashMemory{
		Room:     room,
		Rate:     fetchRate,
		Clock:    x.Wire.Clock(),
		Stall:    x.StallOnce(),
		Progress: func(int) {},
	}
	if err := memory.Fill(x.Context(), from, func(int) {}); err != nil {
		return nil, err
	}
	return bytes.Clone(memory.Data.Bytes()), nil
}

// fetcher is how a file is fetched: by TFTP from the server that it was told of, or by HTTP where its name is a whole
// URL.
func (x *fresh) fetcher(name string) (bench.Fetch, error) {
	at, err := url.Parse(name)
	if err != nil || at.Scheme != "http" {
		return x.client.By("tftp", x.offer.Server.String(), name, bench.ServerLogin{}, nil)
	}
	return x.client.By("http", at.Host, at.Path, bench.ServerLogin{}, nil)
}

func (x *fresh) takeImage(name string, faults NewFaults) error {
	x.Sayf("load: %s from %s\r\n", name, x.offer.Server)
	data, err := x.get(name)
	if err != nil {
		return err
	}
	load, err := readLoad(data)
	if err == nil && !slices.Contains(load.Models, x.Model) {
		err = fmt.Errorf("%s is made for %s", name, strings.Join(load.Models, ", "))
	}
	if err == nil && faults.Restarts {
		err = errors.New("not liked")
	}
	if err != nil {
		return err
	}
	if !x.Dots("load: writing ", 8, 8*time.Second, " done, starting anew\r\n") || !x.Stall() {
		return nil
	}
	x.Mu.Lock()
	defer x.Mu.Unlock()
	if x.image = name; !faults.Forgets {
		x.runs = load.Release
	}
	return nil
}

// setupNames are those that it asks for its setup under, one after the other.
func (x *fresh) setupNames(faults NewFaults) (names []string) {
	mac := fmt.Sprintf("%x", x.MAC)
	if name := x.offer.HostName; name != "" {
		names = append(names, name+"-"+mac[6:]+".setup", name+".setup")
	}
	names = append(names, mac+".setup", "any.setup")
	if faults.AsksOther {
		for i, name := range names {
			names[i] = strings.TrimSuffix(name, ".setup") + ".cfg"
		}
	}
	return names
}

func (x *fresh) takeSetup(faults NewFaults) bool {
	for _, name := range x.setupNames(faults) {
		x.Sayf("setup: %s from %s\r\n", name, x.offer.Server)
		data, err := x.get(name)
		if err != nil || !x.OK() {
			x.Sayf("setup: %v\r\n", err)
			continue
		}
		if nameIn(string(data)) == "" {
			x.Sayf("setup: %s says no name\r\n", name)
			continue
		}
		x.Mu.Lock()
		x.setup, x.from = string(data), name
		x.Mu.Unlock()
		x.Sayf("setup: taken from %s\r\n", name)
		return true
	}
	return false
}

// UserLine is how a setup names a user: with a digest of the word, not with the word itself.
func UserLine(user, word string) string {
	return fmt.Sprintf("user %s sha256 %x\n", user, sha256.Sum256([]byte(user+":"+word)))
}

// nameIn is the host name that a setup gives, empty for none.
func nameIn(setup string) string {
	for line := range strings.Lines(setup) {
		if name, ok := strings.CutPrefix(strings.TrimSpace(line), "name "); ok {
			return name
		}
	}
	return ""
}

// serve lets users in, until it restarts.
func (x *fresh) serve() {
	x.Mu.Lock()
	setup, at := x.setup, x.at
	x.Mu.Unlock()
	name := nameIn(setup)
	if at.IsValid() {
		x.group.Go(bench.Page(x.Context(), x.host, at.Addr(), func() string {
			release, _, _ := x.Runs()
			return fmt.Sprintf("%s, strand %s", name, release)
		}))
	}
	x.Text, x.LogsOut, x.TooLow = x.words(name, at), true, "not while disarmed; arm begins that"
	x.Prompt = func() string { return fmt.Sprintf("%s 1%s", name, []string{": ", "! "}[x.Level]) }
	_ = x.Serve(func() bench.Login {
		return bench.Login{
			Name: name + " who: ", Word: "pass: ", Refusal: "not known",
			Knows: func(user, word string) bool { return strings.Contains(setup, UserLine(user, word)) },
		}
	})
}

func (x *fresh) words(name string, at netip.Prefix) []bench.Word {
	return []bench.Word{
		x.Help("words"),
		{Form: "report self", About: "what this is", Run: func([]string) error {
			release, from, _ := x.Runs()
			x.Fields("name", name, "model", x.Model, "serial", x.Serial, "mac", bench.MAC(x.MAC), "release", release,
				"address", at, "setup", from, "up", x.Wire.Clock().Since(x.began).Round(time.Second))
			return nil
		}},
		x.Raise("arm"), x.Lower("disarm"),
		{Form: "tumble all", About: "restart it now", Level: 1, Run: func([]string) error {
			if !x.Yes("  tumble every unit now?") {
				return errors.New("nothing done")
			}
			return bench.ErrRestart
		}},
		x.Leave("leave"),
	}
}
