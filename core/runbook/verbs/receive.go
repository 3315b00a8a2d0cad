package verbs

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/offer"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/serve"
)

var receiveMakes = []string{"received.name", "received.path", "received.size", "received.sha256"}

var _ = runbook.Register(runbook.Verb{
	Name:    "receive",
	Does:    "lets one file be left on this laptop, has the device leave it there, and waits until it is whole",
	Timeout: 5 * time.Minute,
	Makes:   append(receiveMakes, serveMakes...),
	Cards:   []string{runbook.CardTransfer, runbook.CardBanks, runbook.CardReach},
	New:     func() runbook.Body { return new(receiveBody) },
})

type receiveBody struct {
	slotBody     `yaml:",inline"`
	runbook.Call `yaml:",inline"`
}

// slotBody says which file is let in.
type slotBody struct {
	As      string       `yaml:"as" jsonschema:"required" jsonschema_description:"The name that it is left under"`
	Into    string       `yaml:"into" jsonschema:"required" jsonschema_description:"The folder"`
	Most    dialect.Size `yaml:"most" jsonschema_description:"The largest size taken, 16 MiB unless said"`
	Serving `yaml:",inline"`
}

type receiveWork struct {
	slotWork
	*runbook.CompiledCall
}

// slotWork lets one file in.
type slotWork struct {
	as, into *expression.Template
	most     int64
	serving
}

const usualMost = 16 << 20 // bytes of an upload

// Compile implements runbook.Body.
func (b *receiveBody) Compile(c *runbook.Compiler) runbook.Work {
	w := &receiveWork{slotWork: b.slotBody.compile(c)}
	w.CompiledCall = b.Call.CompileBy(c, b.Protocol)
	c.Makes(receiveMakes...)
	return w
}

func (b *slotBody) compile(c *runbook.Compiler) slotWork {
	w := slotWork{
		as:      c.Template("as", b.As),
		into:    c.Template("into", b.Into),
		most:    usualMost,
		serving: b.Serving.compile(c),
	}
	if b.Most != "" {
		w.most = int64(b.Most.Bytes())
	}
	c.Makes(serveMakes...)
	return w
}

// Types implements runbook.Typist.
func (w *receiveWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) []runbook.Typed {
	return w.Commands(p)
}

// Summary implements runbook.Summarizer.
func (w slotWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{
		Does: []string{
			fmt.Sprintf("lets %s be left in %s once, by %s", w.as.Shown(p.Known),
				cmp.Or(w.into.Shown(p.Known), "${into}"), placeText(p, w.serving)),
		},
	}
}

// Foresees implements runbook.Foreseer.
func (w slotWork) Foresees(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Made {
	return w.serves(p, w.as.Shown(p.Known))
}

// Do implements engine.Doer.
func (w *receiveWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	open, err := w.open(run, s)
	if err != nil {
		return err
	}
	defer open.close()
	if err := run.Actions.Perform(ctx, s, w.CompiledCall); err != nil {
		return err
	}
	return run.Console.Waits(ctx, open.upload)
}

// slot is one that is open.
type slot struct {
	run     *engine.Run
	path    string
	device  netip.Addr
	endings <-chan serve.Ending
	close   func()
}

// open opens the slot on a server.
func (w slotWork) open(run *engine.Run, s *runbook.PreparedStep) (*slot, error) {
	name, err := fill(run, w.as)
	if err != nil {
		return nil, err
	}
	into, err := fill(run, w.into)
	if err != nil {
		return nil, err
	}
	at, err := placeFor(run, w.serving)
	if err != nil {
		return nil, err
	}
	run.Now(s, "Opens a slot for "+name, "the device to leave it there", s.Timeout)
	if _, err := listen(run, at, name); err != nil {
		return nil, err
	}
	dock := stages.Of(run).dock
	endings, leave := dock.Endings()
	closeSlot, err := dock.OpenSlot(offer.Slot{Name: name, Folder: into, Most: w.most}, at.by.Name)
	if err != nil {
		leave()
		return nil, err
	}
	forget := dock.OfDeed(name, run.Deed())
	return &slot{run, filepath.Join(into, name), at.device.Addr(), endings, func() { closeSlot(); forget(); leave() }}, nil
}

// upload waits for the transfer's end and reads the file back. An upload of somebody else's than the device, where its
// address is known, ends nothing: it may have failed, or given way.
func (o *slot) upload(ctx context.Context) error {
	for {
		select {
		case end, open := <-o.endings:
			if !open {
				return fmt.Errorf("the server ended before the file was here")
			}
			if !end.Upload || end.Transfer.File != filepath.Base(o.path) {
				continue
			}
			stranger := o.device.IsValid() && end.Peer.Addr() != o.device || errors.Is(end.Err, offer.ErrTakenOver)
			if end.Err != nil && stranger {
				o.run.Console.Emit(event.Note{
					Level: event.Warning,
					Text: fmt.Sprintf("%s was begun by %s and came to nothing: %v; it is still waited for",
						end.Transfer.File, end.Peer.Addr(), end.Err),
				})
				continue
			}
			if end.Err != nil {
				return fmt.Errorf("%s did not arrive: %w", end.Transfer.File, end.Err)
			}
			return received(o.run, o.path)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func received(run *engine.Run, path string) error {
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
	run.Made["received"] = runbook.Plain(
		map[string]any{"name": filepath.Base(path), "path": path, "size": float64(n), "sha256": sum})
	run.Console.Emit(event.Note{
		Level: event.Info,
		Text:  fmt.Sprintf("%s is here: %d B, sha256 %.12s…", filepath.Base(path), n, sum),
	})
	return nil
}
