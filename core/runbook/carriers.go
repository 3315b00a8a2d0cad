package runbook

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"pilotrix/core/carrier"
	"pilotrix/core/carrier/tftp"
	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/preflight"
	"pilotrix/core/serve"
)

// where is the carrier and the address that a step asks for.
type where struct {
	by     string
	at     netip.AddrPort
	said   bool // the operator said the address
	device netip.Prefix
}

// text renders one of a step's texts, empty when it was not given.
func (e *Engine) text(s *Prepped, key string) (string, error) {
	if s.texts[key] == nil || s.texts[key].Text() == "" {
		return "", nil
	}
	return s.texts[key].Render(e.env())
}

// where reads the carrier, the address and the port that a step says, and chooses what it does not.
func (e *Engine) where(s *Prepped) (w where, err error) {
	if e.p.Kit.Network == nil {
		return w, fmt.Errorf("no network is at hand to serve on")
	}
	said := map[string]string{}
	for _, key := range []string{"by", "address", "port", "device"} {
		if said[key], err = e.text(s, key); err != nil {
			return w, err
		}
	}
	w.by = said["by"]
	port, err := serve.Port(w.by)
	if err != nil {
		return w, err
	}
	if said["port"] != "" {
		n, err := strconv.ParseUint(said["port"], 10, 16)
		if err != nil {
			return w, fmt.Errorf("%q is no port", said["port"])
		}
		port = uint16(n)
	}
	if said["device"] != "" {
		if w.device, err = netip.ParsePrefix(said["device"]); err != nil {
			return w, fmt.Errorf("the device's address reads %q; want one like 192.0.2.40/24", said["device"])
		}
	}
	var addr netip.Addr
	if said["address"] != "" {
		addr, err = netip.ParseAddr(said["address"])
		w.said = true
	} else {
		addr, err = preflight.Choose(e.p.Kit.Network, w.device)
	}
	w.at = netip.AddrPortFrom(addr, port)
	return w, err
}

// listen starts the carrier, or finds it running, and tells by which words the device is to use it.
func (e *Engine) listen(w where, name string) (serve.Place, error) {
	if e.dock == nil {
		e.dock = serve.NewDock(context.Background(), serve.Options{Network: e.p.Kit.Network, Clock: e.console.Clock(), Emit: e.console.Emit})
	}
	place, err := e.dock.Listen(w.by, w.at)
	if err != nil {
		r := preflight.ListenWords(w.by, w.at, err)
		e.tellPreflight(r)
		return place, fmt.Errorf("%s: %s", r.Text, r.Remedy)
	}
	if place.Password != "" {
		e.console.Emit(event.Secret{What: "password of the " + w.by + " server", Value: place.Password})
	}
	e.made["serve"] = map[string]any{
		"carrier": w.by, "address": place.At.Addr().String(), "port": strconv.Itoa(int(place.At.Port())), "name": name, "path": place.Path(name),
		"user": place.User, "password": place.Password,
	}
	return place, nil
}

func (e *Engine) tellPreflight(r preflight.Result) {
	e.console.Emit(event.Preflight{What: r.What, Held: r.Held, Text: r.Text, Remedy: r.Remedy})
}

// serve stages a file, starts its carrier, and looks whether the device can get it.
func (e *Engine) serve(ctx context.Context, s *Prepped) error {
	img := e.p.imageOf(s, s.Serve.File)
	if img == nil {
		return fmt.Errorf("there is no file %s here", s.Serve.File)
	}
	img, err := e.ready(ctx, s, img)
	if err != nil {
		return err
	}
	name, err := e.text(s, "as")
	if err != nil {
		return err
	}
	name = or(name, img.Name)
	w, err := e.where(s)
	if err != nil {
		return err
	}
	e.tellEstimates(img, w.by)
	e.now(s, fmt.Sprintf("Stages %s by %s", name, strings.ToUpper(w.by)), "the checks before the device is asked", s.Limit)
	place, err := e.listen(w, name)
	if err != nil {
		return err
	}
	if before := e.withdraw[name]; before != nil {
		before()
	}
	offer := serve.OfferOf(img, name)
	if e.withdraw[name], err = e.dock.Offer(offer, w.by); err != nil {
		return err
	}
	var results []preflight.Result
	e.dock.Checking(func() {
		results = preflight.Run(ctx, preflight.Plan{
			Network: e.p.Kit.Network, Clock: e.console.Clock(), Carrier: w.by, At: place.At, Path: place.Path(name), Offer: offer, Device: w.device, Said: w.said,
		})
	})
	for _, r := range results {
		e.tellPreflight(r)
	}
	if bad, failed := preflight.Failed(results); failed {
		e.withdraw[name]()
		return fmt.Errorf("the device was not asked to fetch: %s; %s", bad.Text, bad.Remedy)
	}
	return nil
}

const usualMost = 16 << 20 // bytes of an upload

// take opens a slot, has the device leave its file there, and waits until it is whole.
func (e *Engine) take(ctx context.Context, s *Prepped) error {
	name, err := e.text(s, "as")
	if err != nil {
		return err
	}
	into, err := e.text(s, "into")
	if err != nil {
		return err
	}
	w, err := e.where(s)
	if err != nil {
		return err
	}
	most := float64(usualMost)
	if s.Take.Most != "" {
		if most, err = device.ParseSize(s.Take.Most); err != nil {
			return err
		}
	}
	e.now(s, "Opens a slot for "+name, "the device to leave it there", s.Limit)
	if _, err := e.listen(w, name); err != nil {
		return err
	}
	endings := e.dock.Endings()
	closeSlot, err := e.dock.OpenSlot(carrier.Slot{Name: name, Folder: into, Limit: int64(most)}, w.by)
	if err != nil {
		return err
	}
	defer closeSlot()
	if err := e.perform(ctx, s, e.p.Dialect.Action(s.Take.Action), s.with); err != nil {
		return err
	}
	return e.awaitUpload(ctx, endings, filepath.Join(into, name))
}

// awaitUpload waits for the transfer's end and reads the file back.
func (e *Engine) awaitUpload(ctx context.Context, endings <-chan serve.Ending, path string) error {
	for {
		select {
		case end, open := <-endings:
			if !open {
				return fmt.Errorf("the carrier ended before the file was here")
			}
			if !end.Upload || end.Transfer.File != filepath.Base(path) {
				continue
			}
			if end.Err != nil {
				return fmt.Errorf("%s did not arrive: %w", end.Transfer.File, end.Err)
			}
			return e.taken(path)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (e *Engine) taken(path string) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	h := sha256.New()
	n, err := io.Copy(h, file)
	if err != nil {
		return err
	}
	sum := fmt.Sprintf("%x", h.Sum(nil))
	e.made["taken"] = map[string]any{"name": filepath.Base(path), "path": path, "size": float64(n), "sha256": sum}
	e.console.Emit(event.Note{Level: event.Say, Text: fmt.Sprintf("%s is here: %d B, sha256 %.12s…", filepath.Base(path), n, sum)})
	return nil
}

// put sends a file to a loader that takes it, until its window opens.
func (e *Engine) put(ctx context.Context, s *Prepped) error {
	img, err := e.ready(ctx, s, e.p.imageOf(s, s.Put.File))
	if err != nil {
		return err
	}
	to, err := s.texts["to"].Render(e.env())
	if err != nil {
		return err
	}
	addr, err := netip.ParseAddr(to)
	if err != nil {
		return fmt.Errorf("%q is no address to put to", to)
	}
	name, err := e.text(s, "as")
	if err != nil {
		return err
	}
	port := uint64(tftp.Port)
	if text, err := e.text(s, "port"); err != nil {
		return err
	} else if text != "" {
		if port, err = strconv.ParseUint(text, 10, 16); err != nil {
			return fmt.Errorf("%q is no port", text)
		}
	}
	name = or(name, img.Name)
	e.now(s, fmt.Sprintf("Puts %s to %s by TFTP", name, to), "the loader's window to open", s.Limit)
	return e.putNow(ctx, s, img, netip.AddrPortFrom(addr, uint16(port)), name)
}

func (e *Engine) putNow(ctx context.Context, s *Prepped, img *image.Image, to netip.AddrPort, name string) error {
	id := "put " + to.String()
	e.console.Emit(event.TransferBegin{ID: id, File: name, Size: img.Size, By: "TFTP", Peer: to.String(), SHA256: img.SHA256})
	client := tftp.Client{Network: e.p.Kit.Network, Clock: e.console.Clock(), Progress: func(p carrier.Progress) {
		e.console.Emit(event.Transfer{ID: id, Bytes: p.Bytes, Size: p.Size, Blocks: p.Blocks, Again: p.Again, Rate: p.Rate, Left: p.Left})
	}}
	result, err := client.PutWhenOpen(ctx, to, name, img.Size, func() (io.ReadCloser, error) { return img.Reader() }, func(tries int) {
		e.now(s, fmt.Sprintf("Puts %s to %s by TFTP", name, to.Addr()), fmt.Sprintf("the loader's window to open, try %d", tries), s.Limit)
	})
	end := event.TransferEnd{ID: id, Outcome: event.Done, Bytes: result.Bytes, Blocks: result.Blocks, Again: result.Again, Took: result.Took}
	if err != nil {
		end.Outcome, end.Message = event.Failed, err.Error()
	}
	e.console.Emit(end)
	return err
}

// hopsEvent tells a chain of releases.
func hopsEvent(facts *device.Facts, wanted *image.Image, hops []image.Hop) event.Hops {
	running, _ := facts.Get(image.FactRelease)
	told := event.Hops{From: running.Text, To: wanted.Says[image.SaysRelease]}
	for _, hop := range hops {
		plan := event.HopPlan{From: hop.From, Release: hop.Release, Image: hop.Item.Name, Size: hop.Item.Size, Before: hop.Before, After: hop.After}
		if hop.Companion != nil {
			plan.Companion = hop.Companion.Name
		}
		told.Hops = append(told.Hops, plan)
	}
	return told
}

// pollOnce takes every reading of a poll.
func (e *Engine) pollOnce(ctx context.Context, s *Prepped) error {
	for _, name := range s.Poll.Read {
		if err := e.readOne(ctx, s, e.p.Dialect.Reading(name)); err != nil {
			return err
		}
	}
	return nil
}

// poll takes readings until something holds, gives up when it fails, or when nothing changes any more.
func (e *Engine) poll(ctx context.Context, s *Prepped) error {
	begun := e.console.Clock().Now()
	changed, last := begun, ""
	for {
		if err := e.pollOnce(ctx, s); err != nil {
			return err
		}
		now := e.console.Clock().Now()
		if state := e.pollState(s.Poll.Read); state != last {
			changed, last = now, state
		}
		done, err := e.pollEnds(s)
		if err != nil || done {
			return err
		}
		if s.Poll.Stalled != nil && now.Sub(changed) >= *s.Poll.Stalled {
			return fmt.Errorf("nothing changed for %s: %s", clock.Words(now.Sub(changed)), e.pollWords(s))
		}
		e.now(s, s.Step.Step, fmt.Sprintf("the next reading, every %s; the last: %s", clock.Words(s.Poll.Every), e.pollWords(s)), s.Limit)
		if err := e.console.Clock().Wait(ctx, s.Poll.Every); err != nil {
			return err
		}
	}
}

// pollState is all that a poll's readings say, to see whether anything changes.
func (e *Engine) pollState(readings []string) string {
	var out strings.Builder
	for _, fact := range e.facts.All() {
		for _, name := range readings {
			if e.p.Dialect.Reading(name).Makes(fact.Name) {
				fmt.Fprintf(&out, "%s=%s\n", fact.Name, fact.Text)
			}
		}
	}
	return out.String()
}

func (e *Engine) pollWords(s *Prepped) string {
	if text, err := e.text(s, "shows"); err == nil && text != "" {
		return text
	}
	return "not there yet"
}

func (e *Engine) pollEnds(s *Prepped) (done bool, err error) {
	env := e.env()
	if done, err = s.until.Holds(env); err != nil || done || s.giveUp == nil {
		return done, err
	}
	failed, err := s.giveUp.Holds(env)
	if err != nil || !failed {
		return false, err
	}
	text, err := e.text(s, "else")
	if err != nil || text == "" {
		text = "this holds: " + s.Poll.Fail
	}
	return false, fmt.Errorf("%s", text)
}
