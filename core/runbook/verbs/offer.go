package verbs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/serve"
	"pilotrix/core/units"
)

var _ = runbook.Register(runbook.Verb{
	Name:    "offer",
	Does:    "stages a file, looks whether the device can get it, says what the device needs for it, and waits until it was fetched whole",
	Timeout: 12 * time.Hour, Learns: true, Makes: serveMakes,
	Cards: []string{runbook.CardPreflight, runbook.CardTransfer},
	New:   func() runbook.Body { return new(offerBody) },
})

var _ = done(ByHand{
	Name: "offer", Menu: Offering, Rank: 1, Key: "o",
	Does: "offer a file", Title: "Offer a file",
	Make: func(at Place) (*runbook.Runbook, error) {
		return oneStep("offer", "Offer ${file.name}",
			"Offers a file of the shelf to the device until it was fetched, beside whatever else goes on.",
			"offer", servingBody(at, "file", "file"),
			append([]map[string]any{input("file", runbook.KindImage, "what the device is to fetch")},
				servingInputs("by which it fetches", "that it fetches from")...)...)
	},
})

// servingBody is how a step serves that is made for what is done by hand, with one key and value more.
func servingBody(at Place, key, value string) map[string]any {
	body := map[string]any{"protocol": "${protocol}", "address": "${address}", "for": "${for}", key: value}
	if at.Address != "" {
		body["device"] = at.Address
	}
	return body
}

// servingInputs are what is asked for it.
func servingInputs(by, from string) []map[string]any {
	names := make([]string, 0, len(carrier.All()))
	for _, c := range carrier.All() {
		names = append(names, c.Name)
	}
	return []map[string]any{
		input("protocol", runbook.KindChoice, by, "choices", names, "default", cmp.Or(names...)),
		input("address", runbook.KindText,
			"this laptop's address "+from+"; the one on its network unless said", "from", runbook.FromLaptop, "default", ""),
		input("for", runbook.KindText, "how long, such as 30m; until it is ended unless said", "default", ""),
	}
}

type offerBody struct {
	serveBody `yaml:",inline"`
	lasting   `yaml:",inline"`
}

// offerWork is serving a file until it was fetched.
type offerWork struct {
	*serveWork
	lasts
}

// Compile implements runbook.Body.
func (b *offerBody) Compile(c *runbook.Compiler) runbook.Work {
	return offerWork{b.serveBody.Compile(c).(*serveWork), b.lasting.compile(c)}
}

// lasting says how long something is waited for that the operator has the device do.
type lasting struct {
	For string `yaml:"for" jsonschema_description:"How long, such as 30m; as long as the step has unless said"`
}

type lasts struct{ length *expression.Template }

func (b lasting) compile(c *runbook.Compiler) lasts { return lasts{c.Template("for", b.For)} }

// wait waits for something for as long as that, while others go on.
func (l lasts) wait(
	ctx context.Context, run *engine.Run, s *runbook.PreparedStep, doing, awaiting string,
	wait func(context.Context) error,
) error {
	text, err := fill(run, l.length)
	if err != nil {
		return err
	}
	length := s.Timeout
	if text != "" {
		if length, err = time.ParseDuration(text); err != nil || length <= 0 {
			return fmt.Errorf("%q is no time such as 30m", text)
		}
	}
	run.Now(s, doing, awaiting, length)
	limited, cancel := run.Console.Clock().WithTimeout(ctx, length)
	defer cancel()
	err = run.Console.Waits(limited, wait)
	if text != "" && errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		return fmt.Errorf("ended after %s, as asked: nothing came of it", units.Text(length))
	}
	return err
}

// Do implements engine.Doer.
func (w offerWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	if err := w.serveWork.Do(ctx, run, s); err != nil {
		return err
	}
	at, stage := run.Made["serve"].(served), stages.Of(run)
	by, err := carrier.Named(at.protocol)
	if err != nil {
		return err
	}
	run.Advise(by.Instructions(at.place, at.name))
	return w.wait(ctx, run, s, "Offers "+at.name+" by "+by.Title(), "that it is fetched",
		func(ctx context.Context) error { return fetched(ctx, run, stage.endings, at.name) })
}

var _ = runbook.Register(runbook.Verb{
	Name:    "fetched",
	Does:    "waits until what a step before served was fetched whole",
	Timeout: 2 * time.Hour, Learns: true,
	Cards: []string{runbook.CardTransfer},
	New:   func() runbook.Body { return new(fetchedBody) },
})

type fetchedBody struct {
	lasting `yaml:",inline"`
}

type fetchedWork struct{ lasts }

// Compile implements runbook.Body.
func (b *fetchedBody) Compile(c *runbook.Compiler) runbook.Work {
	return fetchedWork{b.lasting.compile(c)}
}

// Do implements engine.Doer.
func (w fetchedWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	at, served := run.Made["serve"].(served)
	if !served {
		return errors.New("nothing was served: a step that serves comes first")
	}
	return w.wait(ctx, run, s, "Serves "+at.name, "that it is fetched whole",
		func(ctx context.Context) error { return fetched(ctx, run, stages.Of(run).endings, at.name) })
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
