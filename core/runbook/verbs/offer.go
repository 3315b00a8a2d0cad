package verbs

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"time"

	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/serve"
)

var _ = runbook.Register(runbook.Verb{
	Name:    "offer",
	Does:    "stages a file, looks whether the device can get it, says what the device needs for it, and waits until it was fetched whole",
	Timeout: 12 * time.Hour, Learns: true, Makes: serveMakes,
	Cards: []string{runbook.CardPreflight, runbook.CardTransfer},
	New:   func() runbook.Body { return new(offerBody) },
})

type offerBody struct {
	serveBody `yaml:",inline"`
}

// offerWork is serving a file until it was fetched.
type offerWork struct{ *serveWork }

// Compile implements runbook.Body.
func (b *offerBody) Compile(c *runbook.Compiler) runbook.Work {
	return offerWork{b.serveBody.Compile(c).(*serveWork)}
}

// Do implements engine.Doer.
func (w offerWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	if err := w.serveWork.Do(ctx, run, s); err != nil {
		return err
	}
	at, stage := run.Made["serve"].(served), stages.Of(run)
	defer stage.withdraw[at.name]()
	endings := stage.dock.Endings()
	by, err := carrier.Named(at.protocol)
	if err != nil {
		return err
	}
	run.Advise(by.Instructions(at.place, at.name))
	run.Now(s, "Offers "+at.name+" by "+by.Title(), "that it is fetched", s.Timeout)
	return run.Console.Waits(ctx, func(ctx context.Context) error { return fetched(ctx, run, endings, at.name) })
}

// fetched waits until somebody has fetched a file whole. What breaks off is said, and waited for again: a device may ask
// once more, or go on where it was.
func fetched(ctx context.Context, run *engine.Run, endings <-chan serve.Ending, name string) error {
	reach := map[netip.Addr]int64{}
	for {
		select {
		case end, open := <-endings:
			switch {
			case !open:
				return fmt.Errorf("the server ended before %s was fetched", name)
			case end.Upload || end.Transfer.File != name:
				continue
			case end.Err != nil:
				run.Console.Emit(event.Note{
					Level: event.Warning,
					Text:  fmt.Sprintf("%s broke off at %s: %v; it is offered on", name, end.Peer.Addr(), end.Err),
				})
				continue
			}
			if peer := end.Peer.Addr(); end.From <= reach[peer] && end.From >= 0 {
				reach[peer] = max(reach[peer], end.From+end.Bytes)
			}
			if reach[end.Peer.Addr()] < end.Transfer.Size {
				continue // a part of it
			}
			run.Console.Emit(event.Note{
				Level: event.Info,
				Text:  fmt.Sprintf("%s was fetched whole by %s", name, end.Peer.Addr()),
			})
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Offer makes a runbook that offers one file until it was fetched. Address is the device's as far as it is known.
func Offer(device string) (*runbook.Runbook, error) {
	names := make([]string, 0, len(carrier.All()))
	for _, c := range carrier.All() {
		names = append(names, c.Name)
	}
	offer := map[string]any{"file": "file", "protocol": "${protocol}", "address": "${address}"}
	if device != "" {
		offer["device"] = device
	}
	return parseMade("an offer", map[string]any{
		"runbook": "offer", "title": "Offer ${file.name}",
		"about": "Offers a file of the shelf to the device until it was fetched, beside whatever else goes on.",
		"inputs": []map[string]any{
			{"input": "file", "kind": runbook.KindImage, "about": "what the device is to fetch"},
			{"input": "protocol", "kind": runbook.KindChoice, "choices": names, "default": cmp.Or(names...), "about": "by which it fetches"},
			{"input": "address", "kind": runbook.KindText, "default": "", "about": "this laptop's address that it fetches from; the one on its network unless said"},
		},
		"phases": []map[string]any{{"phase": "offer it", "steps": []map[string]any{{"step": "Offer it", "offer": offer}}}},
	})
}
