package verbs

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/offer"
	"pilotrix/core/preflight"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/serve"
)

var serveMakes = []string{
	"serve.address", "serve.port", "serve.name", "serve.path", "serve.user", "serve.password", "serve.protocol",
}

var _ = runbook.Register(runbook.Verb{
	Name: "serve", Does: "stages a file, starts a server for it, and looks whether the device can get it",
	Timeout: time.Minute, Learns: true, Makes: serveMakes, Cards: []string{runbook.CardPreflight, runbook.CardBanks},
	New: func() runbook.Body { return new(serveBody) },
})

// Serving says how this laptop serves.
type Serving struct {
	Protocol string `yaml:"protocol" jsonschema:"required" jsonschema_description:"tftp, http, ftp, sftp or scp; may be the ${input} of a choice"`
	Address  string `yaml:"address" jsonschema_description:"This laptop's address that the device is to use; the one on the device's network unless said"`
	Port     string `yaml:"port" jsonschema_description:"Another port than the protocol's own"`
	Legacy   bool   `yaml:"legacy" jsonschema_description:"With sftp and scp: clients are let in that know only old algorithms, which are not safe any more"`
	Device   string `yaml:"device" jsonschema_description:"The device's own address, with its network's length where that is known"`
}

// serving is a checked Serving.
type serving struct {
	protocol, address, port, device *expression.Template
	legacy                          bool
}

func (b Serving) compile(c *runbook.Compiler) serving {
	return serving{
		c.Protocol("protocol", b.Protocol, func(name string) error { _, err := carrier.Named(name); return err }),
		c.Template("address", b.Address), c.Template("port", b.Port), c.Template("device", b.Device),
		b.Legacy,
	}
}

type serveBody struct {
	File    string `yaml:"file" jsonschema:"required" jsonschema_description:"An input of kind image, or what the loop brings, such as upgrade or upgrade.companion"`
	As      string `yaml:"as" jsonschema_description:"The name it is staged under; its own unless said"`
	Serving `yaml:",inline"`
}

type serveWork struct {
	file string
	as   *expression.Template
	serving
}

// Compile implements runbook.Body.
func (b *serveBody) Compile(c *runbook.Compiler) runbook.Work {
	c.Image("file", b.File)
	w := &serveWork{b.File, c.Template("as", b.As), b.Serving.compile(c)}
	c.Makes(serveMakes...)
	return w
}

// Summary implements runbook.Summarizer.
func (w *serveWork) Summary(p *runbook.Planner, s *runbook.PreparedStep) runbook.Summary {
	img := p.ImageOf(s, w.file)
	name := w.as.Shown(p.Known)
	size := ""
	if img != nil {
		name, size = cmp.Or(name, img.Name), fmt.Sprintf(" (%d B)", img.Size)
	}
	if name == "" {
		name = "${" + w.file + "}"
	}
	return runbook.Summary{
		Does:      []string{fmt.Sprintf("stages %s%s by %s", name, size, placeText(p, w.serving))},
		Estimates: p.EstimatesText(img, w.protocol.Shown(p.Known)),
	}
}

// Foresees implements runbook.Foreseer.
func (w *serveWork) Foresees(p *runbook.Planner, s *runbook.PreparedStep) runbook.Made {
	name := w.as.Shown(p.Known)
	if img := p.ImageOf(s, w.file); img != nil {
		name = cmp.Or(name, img.Name)
	}
	return w.serves(p, name)
}

// serves is what is known of a place before it is opened: the address and the port that were said, the file's name.
func (w serving) serves(p *runbook.Planner, name string) runbook.Made {
	made := runbook.Made{}
	for key, text := range map[string]string{"address": w.address.Shown(p.Known), "port": w.port.Shown(p.Known), "name": name, "protocol": w.protocol.Shown(p.Known)} {
		made["serve."+key] = nil
		if text != "" && !strings.Contains(text, "${") {
			made["serve."+key] = runbook.Plain(text)
		}
	}
	return made
}

// placeText is where this laptop serves, in words.
func placeText(p *runbook.Planner, w serving) string {
	text := strings.ToUpper(w.protocol.Shown(p.Known))
	if address := w.address.Shown(p.Known); address != "" {
		text += " at " + address
	}
	if port := w.port.Shown(p.Known); port != "" {
		text += ", port " + port
	}
	return text
}

// Do implements engine.Doer.
func (w *serveWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	img := run.Prepared.ImageOf(s, w.file)
	if img == nil {
		return fmt.Errorf("there is no file %s here", w.file)
	}
	img, err := run.Ready(ctx, s, img)
	if err != nil {
		return err
	}
	name, err := fill(run, w.as)
	if err != nil {
		return err
	}
	name = cmp.Or(name, img.Name)
	at, err := placeFor(run, w.serving)
	if err != nil {
		return err
	}
	run.ShowEstimates(img, at.by.Name)
	run.Now(s, fmt.Sprintf("Stages %s by %s", name, at.by.Title()), "the checks before the device is asked", s.Timeout)
	place, err := listen(run, at, name)
	if err != nil {
		return err
	}
	stage := stages.Of(run)
	file := serve.OfferOf(img, name)
	withdraw, err := stage.offer(run, file, at.by.Name)
	if err != nil {
		return err
	}
	var results []preflight.Result
	stage.dock.Checking(func() {
		results = preflight.Run(ctx, preflight.Plan{
			Network: run.Prepared.Kit.Network,
			Clock:   run.Console.Clock(),
			Carrier: at.by,
			At:      place.At,
			Path:    place.Path(name),
			Offer:   file,
			Device:  at.device,
			Said:    at.said,
			By:      otherPlace(run),
		})
	})
	for _, r := range results {
		showPreflight(run, r)
	}
	if bad, failed := preflight.Failed(results); failed {
		withdraw()
		return fmt.Errorf("the device was not asked to fetch: %s; %s", bad.Text, bad.Remedy)
	}
	return nil
}

// servingPlace is the protocol and the address that a step asks for.
type servingPlace struct {
	by     *carrier.Carrier
	at     netip.AddrPort
	said   bool // the operator said the address
	legacy bool
	device netip.Prefix
}

// fill renders one of a step's texts, empty when it was not given.
func fill(run *engine.Run, t *expression.Template) (string, error) {
	if t == nil || t.Text() == "" {
		return "", nil
	}
	return t.Render(run.Env())
}

// placeFor reads the protocol, the address and the port that a step says, and chooses what it does not.
func placeFor(run *engine.Run, s serving) (w servingPlace, err error) {
	w.legacy = s.legacy
	if run.Prepared.Kit.Network == nil {
		return w, fmt.Errorf("no network is at hand to serve on")
	}
	var protocol, address, port, device string
	for _, one := range []struct {
		to   *string
		from *expression.Template
	}{{&protocol, s.protocol}, {&address, s.address}, {&port, s.port}, {&device, s.device}} {
		if *one.to, err = fill(run, one.from); err != nil {
			return w, err
		}
	}
	if w.by, err = carrier.Named(protocol); err != nil {
		return w, err
	}
	number := w.by.Port
	if port != "" {
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil {
			return w, fmt.Errorf("%q is no port", port)
		}
		number = uint16(n)
	}
	if device != "" {
		if w.device, err = prefixOf(run, device); err != nil {
			return w, err
		}
	}
	var addr netip.Addr
	if address != "" {
		addr, err = netip.ParseAddr(address)
		w.said = true
	} else {
		addr, err = preflight.Choose(run.Prepared.Kit.Network, w.device, otherPlace(run))
	}
	w.at = netip.AddrPortFrom(addr, number)
	return w, err
}

// otherPlace are how another address or port is said where this runbook has such an input.
func otherPlace(run *engine.Run) (by preflight.Switches) {
	for _, input := range run.Prepared.Book.Inputs {
		switch input.Input {
		case "address":
			by.Address = "--set address=…"
		case "port":
			by.Port = "--set port=…"
		}
	}
	return by
}

// prefixOf reads a device's address. One without its network's length is on our network that it is on; on none of ours,
// nothing is known of its network.
func prefixOf(run *engine.Run, device string) (prefix netip.Prefix, err error) {
	if prefix, err = netip.ParsePrefix(device); err == nil {
		return prefix, nil
	}
	addr, err := netip.ParseAddr(device)
	if err != nil {
		return prefix, fmt.Errorf("the device's address reads %q; want one like 192.0.2.40/24", device)
	}
	ours, err := run.Prepared.Kit.Network.Interfaces()
	for _, one := range ours {
		if one.Reaches(addr) {
			return netip.PrefixFrom(addr, one.Prefix.Bits()), nil
		}
	}
	return netip.Prefix{}, err
}

// stage is what a run offers the device.
type stage struct {
	dock     *serve.Dock // nil until a step serves
	withdraw map[string]func()
	endings  <-chan serve.Ending // of all transfers since then
}

var stages = new(engine.Kept[stage])

// open makes a stage that ends with the run. Its dock is the session's: a port is listened on once.
func (s *stage) open(run *engine.Run) {
	dock, giveBack := run.Console.Share(stages, func(emit func(event.Body)) io.Closer {
		return serve.NewDock(context.Background(), serve.Options{
			Network: run.Prepared.Kit.Network,
			Clock:   run.Console.Clock(),
			Emit:    emit,
			OldBy:   "legacy: true in the step that serves",
		})
	})
	s.dock, s.withdraw = dock.(*serve.Dock), map[string]func(){}
	var leave func()
	s.endings, leave = s.dock.Endings()
	run.AtEnd(giveBack)
	run.AtEnd(leave)
	run.AtEnd(func() {
		for _, withdraw := range s.withdraw {
			withdraw()
		}
	})
}

// offer stages a file.
func (s *stage) offer(run *engine.Run, o offer.File, by string) (withdraw func(), err error) {
	if before := s.withdraw[o.Name]; before != nil {
		before()
	}
	undo, err := s.dock.Offer(o, by)
	if err != nil {
		return nil, err
	}
	forget := s.dock.OfDeed(o.Name, run.Deed())
	withdraw = sync.OnceFunc(func() { undo(); forget() })
	s.withdraw[o.Name] = withdraw
	return withdraw, nil
}

// listen starts its server, or finds it running, and says by which words the device is to use it.
func listen(run *engine.Run, w servingPlace, name string) (carrier.Endpoint, error) {
	stage := stages.Of(run)
	if stage.dock == nil {
		stage.open(run)
	}
	if w.legacy {
		stage.dock.LetOldIn()
	}
	if w.device.IsValid() {
		stage.dock.Expect(w.device.Addr())
	}
	place, leave, err := stage.dock.Lease(w.by, w.at)
	if err != nil {
		r := preflight.ListenText(w.by, w.at, err, otherPlace(run))
		showPreflight(run, r)
		return place, fmt.Errorf("%s: %s", r.Text, r.Remedy)
	}
	run.AtEnd(leave)
	if place.Password != "" {
		run.Console.Emit(event.Secret{What: "password of the " + w.by.Name + " server", Value: place.Password})
	}
	run.Made["serve"] = served{w.by.Name, place, name}
	return place, nil
}

// served is where a file waits for the device.
type served struct {
	protocol string
	place    carrier.Endpoint
	name     string
}

// Tree implements runbook.Value.
func (s served) Tree() any {
	return map[string]any{
		"protocol": s.protocol,
		"address":  s.place.At.Addr().String(),
		"port":     strconv.Itoa(int(s.place.At.Port())),
		"name":     s.name,
		"path":     s.place.Path(s.name),
		"user":     s.place.User,
		"password": s.place.Password,
	}
}

// Shown implements runbook.Masks.
func (s served) Shown() any { return runbook.Masked(s.Tree().(map[string]any), "password") }

func showPreflight(run *engine.Run, r preflight.Result) {
	run.Console.Emit(event.Preflight{What: r.What, Held: r.Held, Text: r.Text, Remedy: r.Remedy})
}
