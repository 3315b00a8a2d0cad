package verbs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/image"
	"pilotrix/core/network"
	"pilotrix/core/preflight"
	"pilotrix/core/provision"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/serve"
	"pilotrix/core/units"
)

var newDeviceMakes = []string{"newcomer.mac", "newcomer.address", "newcomer.image", "newcomer.configuration"}

var _ = runbook.Register(runbook.Verb{
	Name:    "provision",
	Does:    "gives one new device an address by DHCP, and what it fetches then: its image, and its configuration under the names that the dialect tells; ends when it has both",
	Timeout: 30 * time.Minute,
	Learns:  true,
	Makes:   newDeviceMakes,
	Cards:   []string{runbook.CardNewDevice, runbook.CardTransfer},
	New:     func() runbook.Body { return new(provisionBody) },
})

var _ = done(ByHand{
	Name: "provision", Menu: Offering, Rank: 3, Key: "n",
	Does: "serve a new device", Title: "Serve one new device: its address, its image, its configuration",
	Lacks: func(at Place) string {
		if at.Dialect == nil || at.Dialect.Document.Provision == nil {
			return "the dialect does not say how a new device provisions itself"
		}
		return ""
	},
	Make: func(Place) (*runbook.Runbook, error) {
		return oneStep("provision", "Serve a new device",
			"Answers one new device by DHCP, and serves it until it is complete.", "provision",
			map[string]any{
				"image": "image", "configuration": "configuration", "mac": "${mac}", "name": "${name}", "address": "${address}",
			},
			input("image", runbook.KindImage, "what it is to fetch"),
			input("configuration", runbook.KindImage, "its configuration"),
			input("name", runbook.KindText, "the host name that it is given", "default", ""),
			input("mac", runbook.KindText, "its MAC address; the next new one that you accept unless said", "default", ""),
			input("address", runbook.KindText, "this laptop's address on its network; the only one unless said",
				"from", runbook.FromLaptop, "default", ""))
	},
})

type provisionBody struct {
	MAC           string `yaml:"mac" jsonschema_description:"The MAC address of the device that is meant; the next new one that is approved, unless said; may hold ${…}"`
	Name          string `yaml:"name" jsonschema_description:"The host name that it is given; may hold ${…}"`
	Image         string `yaml:"image" jsonschema_description:"An input of kind image: what it is told to fetch; nothing unless said"`
	Configuration string `yaml:"configuration" jsonschema_description:"An input of kind image: the file of its configuration; none is waited for unless said"`
	Protocol      string `yaml:"protocol" jsonschema_description:"How it is told to fetch the image: tftp or http; may be the ${input} of a choice; tftp unless said"`
	Address       string `yaml:"address" jsonschema_description:"This laptop's address on the network that is served; its only one unless said"`
	Router        string `yaml:"router" jsonschema_description:"The address of the gateway that it is given; none unless said"`
	Gives         string `yaml:"gives" jsonschema_description:"The address that it is given; one of the last twenty of the network unless said"`
}

type provisionWork struct {
	image, setup                                 string
	mac, name, protocol, address, router, giving *expression.Template
}

// Compile implements runbook.Body.
func (b *provisionBody) Compile(c *runbook.Compiler) runbook.Work {
	w := &provisionWork{image: b.Image, setup: b.Configuration}
	c.Image("image", b.Image)
	c.Image("configuration", b.Configuration)
	if b.Image == "" && b.Configuration == "" {
		c.Complain("", "say what it gets: an image, a configuration, or both")
	}
	if b.Configuration != "" && c.Dialect().Document.Provision == nil {
		c.Complain("configuration",
			"dialect %s tells no names that a new device asks for its configuration under (provision: …)",
			c.Dialect().Dialect)
	}
	w.mac, w.name, w.address = c.Template("mac", b.MAC), c.Template("name", b.Name), c.Template("address", b.Address)
	w.router, w.giving = c.Template("router", b.Router), c.Template("gives", b.Gives)
	w.protocol = c.Protocol("protocol", cmp.Or(b.Protocol, carrier.TFTP.Name), func(name string) error {
		if by, err := carrier.Named(name); err != nil || by.Boot == nil {
			return fmt.Errorf("a new device is told to fetch by %s, not by %q", carrier.BootNames(), name)
		}
		return nil
	})
	c.Alters()
	c.Makes(newDeviceMakes...)
	return w
}

// Summary implements runbook.Summarizer.
func (w *provisionWork) Summary(p *runbook.Planner, s *runbook.PreparedStep) runbook.Summary {
	whom := w.mac.Shown(p.Known)
	if whom == "" {
		whom = "the next new device that you approve"
	}
	report := runbook.Summary{Does: []string{"answers " + whom + " by DHCP, and nobody else"}}
	if img := p.ImageOf(s, w.image); img != nil {
		report.Does = append(report.Does,
			fmt.Sprintf("tells it to fetch %s (%d B) by %s", img.Name, img.Size,
				strings.ToUpper(w.protocol.Shown(p.Known))))
	}
	if w.setup != "" {
		mac, name := w.mac.Shown(p.Known), w.name.Shown(p.Known)
		if parsed, err := net.ParseMAC(mac); err == nil {
			mac = parsed.String()
		}
		if names, err := p.Dialect.SetupNames(name, cmp.Or(mac, "00:00:00:00:00:00")); err == nil && mac != "" {
			report.Does = append(report.Does, "stages its configuration as "+strings.Join(names, ", then "))
		}
	}
	return report
}

// provisioned is one device that is provisioned.
type provisioned struct {
	*engine.Run
	s          *runbook.PreparedStep
	w          *provisionWork
	on         network.Interface
	img, setup *image.Image
	name, boot string
	mac        string // empty until it is known who is meant
	setups     []string
	wanted     *provision.Wanted
	chosen     atomic.Pointer[string] // the MAC of who is meant, nil until that is known
	lookout    *provision.Lookout
	desk       *provision.Desk
	dock       *serve.Dock
	staged     []func() // withdraw what is
	changed    chan struct{}
	waits      chan struct{}
}

// Do implements engine.Doer.
func (w *provisionWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	v := &provisioned{Run: run, s: s, w: w, changed: make(chan struct{}, 1), waits: make(chan struct{}, 1)}
	opt, everybody, err := v.prepare(ctx)
	if err != nil {
		return err
	}
	v.lookout = provision.NewLookout(everybody, v.on, run.Console.Clock())
	run.Now(s, "Looks for another DHCP server on "+v.on.Name, "its answer, within "+units.Text(provision.LooksFor),
		s.Timeout)
	if err := run.Console.Waits(ctx, func(ctx context.Context) error {
		return v.lookout.Alone(ctx)
	}); err != nil {
		return err
	}
	conn, err := everybody.ListenBroadcast(v.on, 67)
	if err != nil {
		return fmt.Errorf("DHCP on %s: %w; it wants root, and no other DHCP server on this laptop", v.on.Name, err)
	}
	defer conn.Close()
	return v.serve(ctx, opt, everybody, conn)
}

// prepare reads what the step says.
func (v *provisioned) prepare(ctx context.Context) (opt provision.Options, everybody network.Broadcaster, err error) {
	run := v.Run
	everybody, can := run.Prepared.Kit.Network.(network.Broadcaster)
	if !can {
		return opt, nil, errors.New("no network is at hand on which everybody can be heard")
	}
	if v.img, err = v.file(ctx, v.w.image); err != nil {
		return opt, nil, err
	}
	if v.setup, err = v.file(ctx, v.w.setup); err != nil {
		return opt, nil, err
	}
	var mac, address, router, gives string
	for _, one := range []struct {
		to   *string
		from *expression.Template
	}{{&mac, v.w.mac}, {&v.name, v.w.name}, {&address, v.w.address}, {&router, v.w.router}, {&gives, v.w.giving}} {
		if *one.to, err = fill(run, one.from); err != nil {
			return opt, nil, err
		}
	}
	if v.on, err = networkAt(run.Prepared.Kit.Network, address); err != nil {
		return opt, nil, err
	}
	v.wanted = &provision.Wanted{Ask: true}
	if mac != "" {
		parsed, err := net.ParseMAC(mac)
		if err != nil {
			return opt, nil, fmt.Errorf("%q is no MAC address: want one like 02:00:5e:10:00:01", mac)
		}
		v.choose(parsed.String())
	}
	opt = provision.Options{Own: v.on.Prefix, Lease: time.Hour, Admit: v.admit, Give: v.give}
	opt.First, opt.Last = provision.LastOf(v.on.Prefix, provision.UsualAddresses)
	if gives != "" {
		if opt.First, err = netip.ParseAddr(gives); err != nil {
			return opt, nil, fmt.Errorf("the address that it is given: %w", err)
		}
		opt.Last = opt.First
	}
	if router != "" {
		if opt.Router, err = netip.ParseAddr(router); err != nil {
			return opt, nil, fmt.Errorf("the router: %w", err)
		}
	}
	return opt, everybody, opt.Check()
}

func (v *provisioned) file(ctx context.Context, input string) (*image.Image, error) {
	if input == "" {
		return nil, nil
	}
	img := v.Prepared.ImageOf(v.s, input)
	if img == nil {
		return nil, fmt.Errorf("there is no file %s here", input)
	}
	return v.Ready(ctx, v.s, img)
}

// networkAt is the laptop's network that an address is on, its only one where none is said.
func networkAt(at network.Network, address string) (network.Interface, error) {
	all, err := at.Interfaces()
	if err != nil {
		return network.Interface{}, err
	}
	all = slices.DeleteFunc(all,
		func(i network.Interface) bool { return !i.Prefix.Addr().Is4() || i.Prefix.Addr().IsLoopback() })
	var names []string
	for _, one := range all {
		names = append(names, one.Prefix.Addr().String()+" on "+one.Name)
		if one.Prefix.Addr().String() == address {
			return one, nil
		}
	}
	switch {
	case address != "":
		return network.Interface{}, fmt.Errorf("this laptop has no address %s; it has %s", address,
			cmp.Or(strings.Join(names, ", "), "none"))
	case len(all) != 1:
		return network.Interface{}, fmt.Errorf(
			"say on which network a new device is answered, by this laptop's address there; it has %s",
			cmp.Or(strings.Join(names, ", "), "none"))
	}
	return all[0], nil
}

// choose makes known who is meant.
func (v *provisioned) choose(mac string) {
	v.mac = mac
	v.chosen.Store(&mac)
}

// admit answers who is meant, and nobody else once that is known. Until then it is asked about those that may be of the
// dialect's kind. It is called by the goroutine that serves.
func (v *provisioned) admit(c provision.Client) provision.Verdict {
	chosen := v.chosen.Load()
	switch {
	case chosen != nil && *chosen == c.MAC:
		return provision.Served
	case chosen != nil || !v.Prepared.Dialect.Vendor(c.Vendor):
		return provision.Ignored
	}
	return v.wanted.Admit(c)
}

func (v *provisioned) give(provision.Client) provision.Given {
	return provision.Given{BootFile: v.boot, Server: v.on.Prefix.Addr(), HostName: v.name}
}

// serve answers until the device has what it needs.
func (v *provisioned) serve(
	ctx context.Context, opt provision.Options, everybody network.Broadcaster, conn network.PacketConn,
) error {
	run := v.Run
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var err error
	serving, ended := context.WithCancelCause(context.Background())
	v.desk, err = provision.NewDesk(opt, nil, provision.DeskOptions{
		Clock:   run.Console.Clock(),
		Emit:    run.Console.Emit,
		Waits:   signal(v.waits),
		Change:  signal(v.changed),
		Lookout: v.lookout,
		Probe:   provision.ProbeOn(everybody, v.on),
		Leased:  func(addr netip.Addr) { v.dock.Expect(addr) },
		Another: func(other netip.Addr) {
			if !v.underWay() {
				ended(fmt.Errorf("%w: %s", provision.ErrAnother, other))
			}
		},
	})
	if err != nil {
		return err
	}
	v.dock = serve.NewDock(ctx,
		serve.Options{Network: run.Prepared.Kit.Network, Clock: run.Console.Clock(), Emit: v.desk.File})
	defer func() {
		for _, withdraw := range v.staged {
			withdraw()
		}
		v.dock.Close()
	}()
	if err := v.stage(ctx); err != nil {
		return err
	}
	over := make(chan struct{})
	go func() {
		defer close(over)
		ended(cmp.Or(v.desk.Serve(ctx, conn), errServerEnded))
	}()
	defer func() {
		cancel()
		<-over
	}()
	err = run.Console.Waits(ctx, func(ctx context.Context) error {
		ctx, stop := context.WithCancelCause(ctx) // a question that is open ends with the server, too
		defer stop(nil)
		defer context.AfterFunc(serving, func() { stop(context.Cause(serving)) })()
		err := v.follow(ctx)
		if serving.Err() != nil {
			return context.Cause(serving)
		}
		return err
	})
	if errors.Is(err, engine.ErrTimeout) {
		err = fmt.Errorf("%s; %w", v.stands(), err)
	}
	return err
}

// underWay reports whether the device that is meant has its address from here: it is brought to its end, whoever else
// offers some.
func (v *provisioned) underWay() bool {
	chosen := v.chosen.Load()
	return chosen != nil &&
		slices.ContainsFunc(v.desk.All(),
			func(c provision.Course) bool { return c.Client.MAC == *chosen && c.Stage >= provision.HasAddress })
}

var errServerEnded = errors.New("the DHCP server ended")

// follow looks at the device whenever something has changed, until it has what it needs.
func (v *provisioned) follow(ctx context.Context) error {
	for {
		done, err := v.look(ctx)
		if err != nil || done {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-v.changed:
		case <-v.waits:
		}
	}
}

// stands says the progress, and what may be the matter.
func (v *provisioned) stands() string {
	if v.mac == "" {
		return "no new device was taken for the one that is meant"
	}
	for _, c := range v.desk.All() {
		if c.Client.MAC == v.mac {
			return cmp.Or(c.Stalls(v.Console.Clock().Now()), c.Wrong, v.mac+" "+c.Stage.String())
		}
	}
	return v.mac + " never asked for an address on " + v.on.Name
}

// signal tells a channel that holds one word, and does not wait.
func signal(to chan<- struct{}) func() {
	return func() {
		select {
		case to <- struct{}{}:
		default:
		}
	}
}

// stage stages the image, and the configuration once it is known who is meant.
func (v *provisioned) stage(ctx context.Context) error {
	at := v.on.Prefix.Addr()
	protocol, err := v.w.protocol.Render(v.Env())
	if err != nil {
		return err
	}
	by, err := carrier.Named(protocol)
	if err != nil {
		return err
	}
	for _, c := range slices.Compact([]*carrier.Carrier{carrier.TFTP, by}) {
		place, err := v.dock.Listen(c, netip.AddrPortFrom(at, c.Port))
		if err != nil {
			r := preflight.ListenText(c, netip.AddrPortFrom(at, c.Port), err, otherPlace(v.Run))
			showPreflight(v.Run, r)
			return fmt.Errorf("%s: %s", r.Text, r.Remedy)
		}
		if v.img != nil && c == by {
			v.boot = c.Boot(place, v.img.Name)
		}
	}
	if v.img != nil {
		if err := v.offer(v.img, v.img.Name, protocol); err != nil {
			return err
		}
	}
	if v.mac != "" {
		return v.prepareFor(ctx)
	}
	return nil
}

func (v *provisioned) offer(img *image.Image, name, by string) error {
	withdraw, err := v.dock.Offer(serve.OfferOf(img, name), by)
	if err == nil {
		v.staged = append(v.staged, withdraw)
	}
	return err
}

// prepareFor stages the configuration under the names that this device asks for. From here on it may be changed.
func (v *provisioned) prepareFor(ctx context.Context) error {
	v.Actions.Wrote(v.s, "")
	if err := v.Actions.Alters(ctx, v.s, "DHCP, image and configuration for "+v.mac); err != nil {
		return err
	}
	if v.setup == nil {
		return nil
	}
	names, err := v.Prepared.Dialect.SetupNames(v.name, v.mac)
	if err != nil {
		return err
	}
	v.setups = names
	for _, name := range names {
		if err := v.offer(v.setup, name, carrier.TFTP.Name); err != nil {
			return err
		}
	}
	v.Console.Emit(event.Note{
		Level: event.Info,
		Text:  fmt.Sprintf("%s is staged as %s", v.setup.Name, strings.Join(names, ", then ")),
	})
	return nil
}

// look asks who is meant where that is not known, and sees whether the device has what it needs.
func (v *provisioned) look(ctx context.Context) (done bool, err error) {
	if v.mac == "" {
		v.Now(v.s, "Answers a new device on "+v.on.Name, "one that asks for an address", v.s.Timeout)
		return false, v.ask(ctx)
	}
	for _, c := range v.desk.All() {
		if c.Client.MAC != v.mac {
			continue
		}
		next, within := c.Next()
		v.Now(v.s, fmt.Sprintf("Answers %s on %s: it %s", v.mac, v.on.Name, c.Stage),
			fmt.Sprintf("%s, within %s", next, units.Text(within)), v.s.Timeout)
		if loops := c.Loops(); loops != "" {
			return false, errors.New(loops)
		}
		return v.has(c)
	}
	v.Now(v.s, fmt.Sprintf("Answers %s on %s", v.mac, v.on.Name), "that it asks for an address", v.s.Timeout)
	return false, nil
}

// ask asks about the device that has waited longest, until one is the one that is meant.
func (v *provisioned) ask(ctx context.Context) error {
	client, some := v.wanted.Next()
	if !some {
		return nil
	}
	answer, err := v.Console.Ask(ctx, event.Ask{
		Form:    event.FormNewDevice,
		Step:    v.s.ID,
		Title:   v.Title(v.s),
		Answers: []string{engine.Approve, engine.LeaveIt, engine.StopHere},
		Text:    client.Text() + " asks for an address. Is it the one that is meant? It gets an address, its image and its configuration then; no other one is answered.",
	})
	if err != nil {
		return err
	}
	switch answer {
	case engine.Approve:
		v.choose(client.MAC)
		return v.prepareFor(ctx)
	case engine.StopHere:
		return fmt.Errorf("%w, asked whether %s is the one that is meant; its MAC address may be said beforehand",
			engine.ErrStopped, client.MAC)
	}
	v.wanted.Say(client, false)
	v.Console.Emit(event.Note{
		Level: event.Info,
		Text:  client.MAC + " is left alone; it is asked about again when this step is begun again",
	})
	signal(v.waits)()
	return nil
}

// has reports whether a device is complete, and makes that known.
func (v *provisioned) has(c provision.Course) (bool, error) {
	needs := provision.Needs{Configurations: v.setups}
	if v.img != nil {
		needs.Image = v.img.Name
	}
	if !c.Meets(needs) {
		return false, nil
	}
	setup, image := c.Has(v.setups...), v.img != nil && c.Has(v.img.Name) >= 0
	made := map[string]any{"mac": v.mac, "address": c.Addr.String(), "image": "", "configuration": ""}
	if image {
		made["image"] = v.img.Name
	}
	if setup >= 0 {
		took := c.Files[setup].Name
		made["configuration"] = took
		if took != v.setups[0] {
			v.Console.Emit(event.Note{
				Level: event.Warning,
				Text: fmt.Sprintf("it took its configuration as %s, and not as %s, which it asks for first", took,
					v.setups[0]),
			})
		}
	}
	v.desk.Finish(v.mac)
	v.Made["newcomer"] = runbook.Plain(made)
	v.Account.Try()
	v.Account.Change(true)
	v.Console.Emit(event.Fact{Name: "newcomer.address", Value: c.Addr.String(), Source: "DHCP"})
	return true, nil
}
