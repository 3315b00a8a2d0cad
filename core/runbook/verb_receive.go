package runbook

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
	"pilotrix/core/serve"
)

var receiveMakes = []string{"received.name", "received.path", "received.size", "received.sha256"}

var _ = register(Verb{
	Name: "receive", Does: "lets one file be left on this laptop, has the device leave it there, and waits until it is whole",
	Timeout: 5 * time.Minute, Makes: append(receiveMakes, serveMakes...), Cards: []string{CardTransfer, CardBanks, CardReach},
	New: func() Body { return new(receiveBody) },
})

type receiveBody struct {
	As      string       `yaml:"as" jsonschema:"required" jsonschema_description:"The name that it is left under"`
	Into    string       `yaml:"into" jsonschema:"required" jsonschema_description:"The folder"`
	Most    dialect.Size `yaml:"most" jsonschema_description:"The largest size taken, 16 MiB unless said"`
	Serving `yaml:",inline"`
	Doing   `yaml:",inline"`
}

type receiveWork struct {
	as, into *expression.Template
	most     int64
	serving
	*doing
}

const usualMost = 16 << 20 // bytes of an upload

// Compile implements Body.
func (b *receiveBody) Compile(c *Compiler) Work {
	w := &receiveWork{as: c.Template("as", b.As), into: c.Template("into", b.Into), most: usualMost, serving: b.Serving.compile(c)}
	if b.Most != "" {
		w.most = int64(b.Most.Bytes())
	}
	c.Makes(serveMakes...)
	w.doing = b.Doing.compile(c, b.Protocol)
	c.Makes(receiveMakes...)
	return w
}

// Types implements typist.
func (w *receiveWork) Types(p *planner, _ *PreparedStep) []Typed { return w.types(p) }

// Tells implements teller.
func (w *receiveWork) Tells(p *planner, _ *PreparedStep) Told {
	return Told{Does: []string{fmt.Sprintf("lets %s be left in %s once, by %s", w.as.Shown(p.env), cmp.Or(w.into.Shown(p.env), "${into}"), p.place(w.serving))}}
}

// Foresees implements foreseer.
func (w *receiveWork) Foresees(p *planner, _ *PreparedStep) Made {
	return w.serves(p, w.as.Shown(p.env))
}

// Do implements Doer.
func (w *receiveWork) Do(ctx context.Context, e *Engine, s *PreparedStep) error {
	name, err := e.fill(w.as)
	if err != nil {
		return err
	}
	into, err := e.fill(w.into)
	if err != nil {
		return err
	}
	at, err := e.where(w.serving)
	if err != nil {
		return err
	}
	e.now(s, "Opens a slot for "+name, "the device to leave it there", s.Timeout)
	if _, err := e.listen(at, name); err != nil {
		return err
	}
	dock := stages.Of(e).dock
	endings := dock.Endings()
	closeSlot, err := dock.OpenSlot(offer.Slot{Name: name, Folder: into, Most: w.most}, at.protocol)
	if err != nil {
		return err
	}
	defer closeSlot()
	if err := e.perform(ctx, s, w.doing); err != nil {
		return err
	}
	return e.awaitUpload(ctx, endings, filepath.Join(into, name), at.device.Addr())
}

// awaitUpload waits for the transfer's end and reads the file back. An upload of somebody else's than the device, where its address
// is known, ends nothing: it may have failed, or given way.
func (e *Engine) awaitUpload(ctx context.Context, endings <-chan serve.Ending, path string, device netip.Addr) error {
	return e.console.Waits(ctx, func(ctx context.Context) error { return e.uploadOf(ctx, endings, path, device) })
}

func (e *Engine) uploadOf(ctx context.Context, endings <-chan serve.Ending, path string, device netip.Addr) error {
	for {
		select {
		case end, open := <-endings:
			if !open {
				return fmt.Errorf("the server ended before the file was here")
			}
			if !end.Upload || end.Transfer.File != filepath.Base(path) {
				continue
			}
			stranger := device.IsValid() && end.Peer.Addr() != device || errors.Is(end.Err, offer.ErrTakenOver)
			if end.Err != nil && stranger {
				e.console.Emit(event.Note{Level: event.Warning, Text: fmt.Sprintf("%s was begun by %s and came to nothing: %v; it is still waited for", end.Transfer.File, end.Peer.Addr(), end.Err)})
				continue
			}
			if end.Err != nil {
				return fmt.Errorf("%s did not arrive: %w", end.Transfer.File, end.Err)
			}
			return e.received(path)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (e *Engine) received(path string) error {
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
	e.made["received"] = Plain{map[string]any{"name": filepath.Base(path), "path": path, "size": float64(n), "sha256": sum}}
	e.console.Emit(event.Note{Level: event.Info, Text: fmt.Sprintf("%s is here: %d B, sha256 %.12s…", filepath.Base(path), n, sum)})
	return nil
}
