package verbs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strconv"
	"strings"
	"sync/atomic"

	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/transfer"
	"pilotrix/core/transfer/tftp"
)

// A loader's window is open for seconds, and nobody knows exactly when. So the put is tried from before it until it
// opens, while the operator holds the button and watches the light; and when the put is cut, it is begun again while
// the window lasts.

var _ = done(ByHand{
	Name: "put-to-loader", Menu: Sending, Rank: 3, Key: "l",
	Does: "put to a recovery loader", Title: "Put a file to a recovery loader by TFTP",
	Make: func(Place) (*runbook.Runbook, error) {
		return oneStep("put-to-loader", "Put ${file.name} to ${loader}",
			"Sends a file to a recovery loader, again and again until its window opens.", "send",
			map[string]any{
				"file": "file", "protocol": carrier.TFTP.Name, "to": "${loader}", "as": "${as}", "hand": "${hand}",
			},
			input("file", runbook.KindImage, "what the loader is to get"),
			input("loader", runbook.KindText, "the loader's address, such as 192.0.2.1"),
			input("as", runbook.KindText, "the name that it is sent under; its own unless said", "default", ""),
			input("hand", runbook.KindText, "what you do meanwhile, to be reminded of", "default",
				"Bring the device into its recovery mode now: the button, the power. The put is tried from before that on."))
	},
})

// window is one that is tried.
type window struct {
	*engine.Run
	s        *runbook.PreparedStep
	img      *image.Image
	to       netip.AddrPort
	name     string
	reported event.Window
	watch    string // of reach, empty where nothing is watched

	opened  bool        // it has answered
	flowing atomic.Bool // blocks are on their way
	endIf   func()      // ends the put where what it waited out has ended it
	refused string      // what it said last instead of taking it
}

// intoWindow sends a file by TFTP to a loader that takes it.
func (w *sendWork) intoWindow(ctx context.Context, run *engine.Run, s *runbook.PreparedStep, img *image.Image) error {
	to, err := w.loader(run)
	if err != nil {
		return err
	}
	name, err := fill(run, w.as)
	if err != nil {
		return err
	}
	hand, err := fill(run, w.hand)
	if err != nil {
		return err
	}
	name = cmp.Or(name, img.Name)
	v := &window{
		Run:  run,
		s:    s,
		img:  img,
		to:   to,
		name: name,
		reported: event.Window{
			ID:    "send " + to.String(),
			To:    to.String(),
			State: event.WindowAwaited,
			Hand:  strings.TrimSpace(hand),
		},
	}
	v.awaits("the loader's window to open")
	tried := run.Account.Tried()
	if err := run.Actions.Alters(ctx, s, "TFTP put of "+name+" to "+to.Addr().String()); err != nil {
		return err
	}
	run.Actions.Wrote(s, "")
	if r := run.Console.Reach(); r != nil {
		watched := reach.Watched{Kind: reach.ICMP, Addr: to.Addr()}
		v.watch = watched.String()
		r.Add(watched)
	}
	err = v.put(ctx)
	if err != nil && !v.opened {
		if !tried { // it took nothing
			run.Account.NotTried()
		}
		err = fmt.Errorf("the loader at %s never answered, in %d tries: %w", to.Addr(), v.reported.Tries, err)
	}
	return err
}

// loader is where the loader is.
func (w *sendWork) loader(run *engine.Run) (at netip.AddrPort, err error) {
	to, err := w.to.Render(run.Env())
	if err != nil {
		return at, err
	}
	addr, err := netip.ParseAddr(to)
	if err != nil {
		return at, fmt.Errorf("%q is no address to send to", to)
	}
	port := uint64(tftp.Port)
	if text, err := fill(run, w.port); err != nil {
		return at, err
	} else if text != "" {
		if port, err = strconv.ParseUint(text, 10, 16); err != nil {
			return at, fmt.Errorf("%q is no port", text)
		}
	}
	return netip.AddrPortFrom(addr, uint16(port)), nil
}

func (v *window) awaits(what string) {
	v.Now(v.s, fmt.Sprintf("Sends %s to %s by TFTP", v.name, v.to.Addr()), what, v.s.Timeout)
}

func (v *window) report(state string) {
	v.reported.State = state
	if r := v.Console.Reach(); r != nil {
		for _, one := range r.States() {
			if one.Watched.String() == v.watch && one.Known {
				v.reported.Reach = map[bool]string{true: "answers", false: "does not answer"}[one.Up]
			}
		}
	}
	v.Console.Emit(v.reported)
}

// put tries until it is taken. What the operator is asked to do meanwhile stands in the strip; to stop there ends it.
func (v *window) put(ctx context.Context) error {
	run, id := v.Run, v.reported.ID
	run.Console.Emit(event.TransferBegin{
		ID:       id,
		File:     v.name,
		Size:     v.img.Size,
		Protocol: carrier.TFTP.Title(),
		Peer:     v.to.String(),
		SHA256:   v.img.SHA256,
	})
	client := tftp.Client{
		Network: run.Prepared.Kit.Network,
		Clock:   run.Console.Clock(),
		Remark:  func(text string) { run.Console.Emit(event.Note{Level: event.Info, Text: text}) },
		Progress: func(p transfer.Progress) {
			run.Console.Emit(event.Transfer{
				ID:     id,
				Bytes:  p.Bytes,
				Size:   p.Size,
				Blocks: p.Blocks,
				Resent: p.Resent,
				Rate:   p.Rate,
				Left:   p.Left,
			})
		},
	}
	var result tftp.Result
	err := run.Console.Moves(ctx, func(ctx context.Context) (err error) {
		trying, stop := v.unlessFlowing(ctx)
		defer stop(nil)
		asked := v.askHand(trying, stop)
		defer func() { stop(nil); <-asked }()
		result, err = client.PutWhenOpen(trying, v.to, v.name, v.img.Size,
			func() (io.ReadCloser, error) { return v.img.Reader() }, v.opening())
		if cause := context.Cause(trying); err != nil && errors.Is(cause, engine.ErrStopped) {
			return cause
		}
		return err
	})
	if errors.Is(err, tftp.ErrUnconfirmed) {
		run.Console.Emit(event.Note{Level: event.Warning, Text: err.Error() + ": what runs afterwards will tell"})
		err = nil
	}
	run.Account.Change(err == nil)
	v.report(map[bool]string{true: event.WindowTaken, false: event.WindowMissed}[err == nil])
	end := event.TransferEnd{
		ID:      id,
		Outcome: event.Done,
		Bytes:   result.Bytes,
		Blocks:  result.Blocks,
		Resent:  result.Resent,
		Took:    result.Took,
	}
	end.Outcome, end.Message = event.OutcomeOf(err)
	run.Console.Emit(end)
	return err
}

// unlessFlowing is a context that ends with ctx, but for the operator that takes the helm while blocks are on their
// way: the put does not need the line, and a key that was pressed by mistake must not leave half a system behind.
func (v *window) unlessFlowing(ctx context.Context) (context.Context, context.CancelCauseFunc) {
	trying, stop := context.WithCancelCause(context.WithoutCancel(ctx))
	v.endIf = func() {
		if ctx.Err() != nil {
			stop(context.Cause(ctx))
		}
	}
	context.AfterFunc(ctx, func() {
		if cause := context.Cause(ctx); !errors.Is(cause, engine.ErrHelm) || !v.flowing.Load() {
			stop(cause)
		}
	})
	context.AfterFunc(v.Context,
		func() { stop(context.Cause(v.Context)) }) // the program is ended: nothing waits out that
	return trying, stop
}

// opening says how it goes.
func (v *window) opening() tftp.Opening {
	return tftp.Opening{
		Trying: func(tries int) {
			v.reported.Tries = tries
			v.flowing.Store(false)
			v.endIf()
			v.awaits(fmt.Sprintf("the loader's window to open, try %d", tries))
			if v.reported.State != event.WindowCut {
				v.reported.State = event.WindowAwaited
			}
			v.report(v.reported.State)
		},
		Began: func() {
			v.opened = true
			v.flowing.Store(true)
			v.awaits("the answer to each block")
			v.report(event.WindowOpen)
		},
		Cut: func(sent int64, err error) {
			v.Console.Emit(event.Note{
				Level: event.Warning,
				Text: fmt.Sprintf("the put was cut after %d B (%v): it is begun again while the window lasts", sent,
					err),
			})
			v.report(event.WindowCut)
		},
		Refused: func(err error) {
			if v.refused != err.Error() {
				v.refused = err.Error()
				v.Console.Emit(event.Note{
					Level: event.Warning,
					Text:  err.Error() + ": it is tried on, the window may not be open yet",
				})
			}
		},
	}
}

// askHand asks for what is to be done by hand, while the put is tried. The channel is closed when that is over.
func (v *window) askHand(ctx context.Context, stop context.CancelCauseFunc) <-chan struct{} {
	over := make(chan struct{})
	if v.reported.Hand == "" {
		close(over)
		return over
	}
	go func() {
		defer close(over)
		answer, err := v.Console.Console.Ask(ctx, event.Ask{
			Form:    event.FormOperator,
			Step:    v.s.ID,
			Title:   v.Title(v.s),
			Text:    v.reported.Hand,
			Answers: []string{engine.DoneByMe, engine.StopHere},
		})
		if err == nil && answer != engine.DoneByMe {
			stop(fmt.Errorf("%w, asked to do something", engine.ErrStopped))
		}
	}()
	return over
}
