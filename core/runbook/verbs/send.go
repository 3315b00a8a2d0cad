package verbs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"pilotrix/core/arithmetic"
	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/image"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
	"pilotrix/core/source"
	"pilotrix/core/transfer"
	"pilotrix/core/transfer/sshput"
	"pilotrix/core/transfer/xmodem"
)

var _ = runbook.Register(runbook.Verb{
	Name:    "send",
	Does:    "makes the device receive (an action) and sends a file over the line; or, by tftp, sends it to a loader that takes it, again and again until its window opens; or, by sftp or scp, puts it on the device over the SSH session that is the line",
	Timeout: 2 * time.Hour,
	Cards:   []string{runbook.CardWindow, runbook.CardTransfer, runbook.CardBanks, runbook.CardReach},
	New:     func() runbook.Body { return new(sendBody) },
})

var (
	_ = done(put(sshput.SFTP, 4, "p"))
	_ = done(put(sshput.SCP, 5, "c"))
)

// put puts a file on the device by one of the protocols of SSH.
func put(protocol string, rank int, key string) ByHand {
	title := strings.ToUpper(protocol)
	return ByHand{
		Name: "put-by-" + protocol, Menu: Sending, Rank: rank, Key: key,
		Does: "put by " + title, Title: "Put a file on the device by " + title,
		Lacks: func(at Place) string {
			if at.Shell {
				return ""
			}
			return "the line is no SSH session"
		},
		Make: func(Place) (*runbook.Runbook, error) {
			return oneStep("put-by-"+protocol, "Put ${file.name} on the device",
				"Puts a file on the device, over the SSH session that is the line.", "send",
				map[string]any{"file": "file", "protocol": protocol, "to": "${to}"},
				input("file", runbook.KindImage, "what the device is to get"),
				input("to", runbook.KindText, "the path on the device"))
		},
	}
}

type sendBody struct {
	File     string                 `yaml:"file" jsonschema:"required" jsonschema_description:"An input of kind image, or what the loop brings"`
	Protocol string                 `yaml:"protocol" jsonschema:"required" jsonschema_description:"xmodem, xmodem-1k, ymodem or ymodem-g over the line, or tftp, sftp or scp; may be the ${input} of a choice"`
	Action   string                 `yaml:"action" jsonschema_description:"Over the line: the action that makes the device receive"`
	With     map[string]source.Text `yaml:"with" jsonschema_description:"Its parameters; may hold ${…}"`
	To       string                 `yaml:"to" jsonschema_description:"By tftp: the address of the loader; by sftp and scp: the path on the device"`
	As       string                 `yaml:"as" jsonschema_description:"By tftp: the name that it is sent under; its own unless said"`
	Port     string                 `yaml:"port" jsonschema_description:"By tftp: another port than 69"`
	Hand     string                 `yaml:"hand" jsonschema_description:"By tftp: what you do meanwhile, so that the loader's window opens; it is tried from before that on"`
}

type sendWork struct {
	file     string
	protocol *expression.Template
	*runbook.CompiledCall
	to, as, port, hand *expression.Template // of one that is sent over the network
	put                string               // sftp or scp, empty for neither
}

// Compile implements runbook.Body.
func (b *sendBody) Compile(c *runbook.Compiler) runbook.Work {
	w := &sendWork{file: b.File}
	c.Image("file", b.File)
	if b.Protocol == carrier.TFTP.Name {
		w.protocol = c.Template("protocol", b.Protocol)
		w.to, w.as, w.port, w.hand = c.Template("to", b.To), c.Template("as", b.As), c.Template("port",
			b.Port), c.Template("hand", b.Hand)
		if b.To == "" {
			c.Complain("", "say where the loader is (to: ADDRESS)")
		}
		if b.Action != "" {
			c.Complain("action", "by tftp a loader is sent to without an action")
		}
		c.Alters()
		return w
	}
	if b.Protocol == sshput.SFTP || b.Protocol == sshput.SCP {
		w.protocol, w.put, w.to = c.Template("protocol", b.Protocol), b.Protocol, c.Template("to", b.To)
		if b.To == "" {
			c.Complain("", "say where on the device it goes (to: PATH)")
		}
		if b.Action+b.As+b.Port+b.Hand != "" {
			c.Complain("", "by %s a file is put over the session itself: action, as, port and hand do not go with it",
				b.Protocol)
		}
		c.Alters()
		return w
	}
	w.protocol = c.Protocol("protocol", b.Protocol,
		func(name string) error { _, err := xmodem.Parse(name); return err })
	if b.Action == "" {
		c.Complain("", "say which action makes the device receive (action: …)")
	}
	if b.To+b.As+b.Port+b.Hand != "" {
		c.Complain("", "to, as, port and hand go with protocol: tftp")
	}
	w.CompiledCall = runbook.Call{Action: b.Action, With: b.With}.CompileBy(c, b.Protocol)
	c.Changes()
	return w
}

// Expects implements runbook.Expecter.
func (w *sendWork) Expects(p *runbook.Prepared, s *runbook.PreparedStep, baud int) time.Duration {
	img := p.ImageOf(s, w.file)
	variant, err := xmodem.Parse(w.protocol.Shown(p.Env(runbook.NoFacts)))
	framing, badFraming := line.ParseFraming(cmp.Or(string(p.Dialect.Line.Framing), line.DefaultFraming))
	if err != nil || badFraming != nil || img == nil || baud == 0 {
		return 0
	}
	return arithmetic.TransferTime(img.Size, arithmetic.XMODEMRate(arithmetic.LineRate(baud, framing), variant.Block()))
}

// Types implements runbook.Typist.
func (w *sendWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) []runbook.Typed {
	if w.to != nil || w.CompiledCall == nil || w.Action == nil {
		return nil
	}
	return w.Commands(p)
}

// Summary implements runbook.Summarizer.
func (w *sendWork) Summary(p *runbook.Planner, s *runbook.PreparedStep) runbook.Summary {
	name, size := "${"+w.file+"}", ""
	if img := p.ImageOf(s, w.file); img != nil {
		name, size = img.Name, fmt.Sprintf(" (%d B)", img.Size)
	}
	text := fmt.Sprintf("sends %s%s by %s", name, size, w.protocol.Shown(p.Known))
	switch {
	case w.put != "":
		text += " to " + w.to.Shown(p.Known) + " on the device, over the session's own connection"
	case w.to != nil:
		text += " to " + w.to.Shown(p.Known) + ", again and again until it is taken"
	}
	t := runbook.Summary{Does: []string{text}}
	if w.hand != nil && w.hand.Text() != "" {
		t.Does = append(t.Does, "asks you meanwhile: "+strings.TrimSpace(w.hand.Shown(p.Known)))
	}
	return t
}

const (
	sendRetries = 20 // a line with errors is worth more tries than a silent one
	sendAnswer  = 6 * time.Second
)

// Do implements engine.Doer.
func (w *sendWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	img, err := run.Ready(ctx, s, run.Prepared.ImageOf(s, w.file))
	if err != nil {
		return err
	}
	if w.to != nil {
		puts := w.intoWindow
		if w.put != "" {
			puts = w.putFile
		}
		if err = puts(ctx, run, s, img); err == nil && run.Deed() != "" { // a run shows its step's end
			run.Console.Emit(event.Note{Level: event.Info, Text: img.Name + " was taken; what the device makes of it, it says itself"})
		}
		return err
	}
	name, err := w.protocol.Render(run.Env())
	if err != nil {
		return err
	}
	variant, err := xmodem.Parse(name)
	if err != nil {
		return err
	}
	return w.overLine(ctx, run, s, img, variant)
}

// overLine makes the device receive and sends the file.
func (w *sendWork) overLine(
	ctx context.Context, run *engine.Run, s *runbook.PreparedStep, img *image.Image, variant xmodem.Variant,
) error {
	file, err := img.Reader()
	if err != nil {
		return err
	}
	defer file.Close()
	doing := fmt.Sprintf("Sends %s by %s", img.Name, variant)
	run.Now(s, doing, "the receiver", s.Timeout)
	run.Receives(true)
	b, err := run.Actions.Type(ctx, s, w.CompiledCall)
	if err != nil {
		return err
	}
	if err := awaitReceiver(run, ctx, b); err != nil {
		return err
	}
	if err := moves(ctx, run, s, img, img.Name, file, variant, cmp.Or(b.Action.Limit(0), s.Timeout)); err != nil {
		return err
	}
	run.Now(s, "Has sent "+img.Name, "the device's word on the file", s.Timeout)
	return afterSend(run, ctx, b)
}

// moves sends a file under a name to the receiver that waits. endWait is how long that one may take until it has taken the end.
func moves(
	ctx context.Context, run *engine.Run, s *runbook.PreparedStep, img *image.Image, name string, file io.Reader,
	variant xmodem.Variant, endWait time.Duration,
) error {
	doing := fmt.Sprintf("Sends %s by %s", img.Name, variant)
	run.Now(s, doing, fmt.Sprintf("the answer to each block, each within %s", sendAnswer*3/2), s.Timeout)
	allowed := allowedRate(run, variant)
	run.Console.Emit(event.Mark{Text: fmt.Sprintf("%s by %s, %d B", img.Name, variant, img.Size)})
	run.Console.Emit(event.TransferBegin{
		File:     img.Name,
		Size:     img.Size,
		Protocol: variant.String(),
		SHA256:   img.SHA256,
		Allowed:  allowed,
	})
	var result xmodem.Result
	err := run.Console.Carry(ctx, func(ctx context.Context, port transfer.Duplex) (err error) {
		header := xmodem.Header{Name: name, Size: img.Size, Modified: img.Modified}
		result, err = xmodem.Send(ctx, port, []xmodem.File{{Header: header, Data: file}}, xmodem.Options{
			Variant:   variant,
			Clock:     run.Console.Clock(),
			Retries:   sendRetries,
			Answer:    sendAnswer,
			File:      img.Name,
			Character: arithmetic.CharacterTime(run.Console.LineRate()),
			EndWait:   endWait,
			Progress:  transferProgress(run, img.Size, allowed),
		})
		return err
	})
	run.Console.Emit(transferEnd(result, err, ctx))
	return err
}

// Allowed is the most that the protocol carries on our line, in bytes a second, 0 without a speed.
func allowedRate(run *engine.Run, variant xmodem.Variant) float64 {
	return arithmetic.XMODEMRateBehind(run.Console.Latency(), run.Console.LineRate(), variant.Block())
}

// transferProgress thins the transfer's own reports out to a few a second. What it awaits, and its end, are reported at
// once.
func transferProgress(run *engine.Run, size int64, allowed float64) func(transfer.Progress) {
	thin, state := transfer.NewThin(run.Console.Clock()), ""
	return func(p transfer.Progress) {
		if !thin.Due() && p.Bytes < size && p.State == state {
			return
		}
		state = p.State
		run.Console.Emit(event.Transfer{
			Bytes:   p.Bytes,
			Size:    size,
			Blocks:  p.Blocks,
			Resent:  p.Resent,
			Rate:    p.Rate,
			Left:    p.Left,
			Allowed: allowed,
			State:   p.State,
		})
	}
}

func transferEnd(r xmodem.Result, err error, ctx context.Context) event.TransferEnd {
	end := event.TransferEnd{
		Outcome: event.Done,
		Bytes:   r.Bytes,
		Padding: r.Padding,
		Blocks:  r.Blocks,
		Resent:  r.Resent,
		Took:    r.Took,
	}
	if err != nil {
		end.Outcome, end.Message = event.OutcomeOf(err)
		if errors.Is(engine.CauseOf(ctx, err), engine.ErrHelm) {
			end.Outcome, end.Message = event.Stopped, "cancelled: "+engine.ErrHelm.Error()
		}
	}
	return end
}

// awaitReceiver waits until the device asks for the file.
func awaitReceiver(run *engine.Run, ctx context.Context, b *engine.Begun) error {
	limited, cancel := run.Console.Clock().WithTimeout(ctx, time.Minute)
	defer cancel()
	asks := func(v sense.State) bool { // one letter is a request only where the device said that it waits for the file
		return v.Receiver != 0 || v.Request != 0 && b.Way.Ready.Matches(v.Output())
	}
	for {
		v, err := run.Console.Await(limited, func(v sense.State) bool {
			return asks(v) || v.AtPrompt || v.Dialog != "" || b.Way.Fail.Matches(v.Output())
		})
		if errors.Is(err, context.DeadlineExceeded) {
			return fmt.Errorf("the device did not ask for the file after “%s”, %w", b.Command,
				engine.TimeoutError(err, run))
		}
		if err != nil {
			return err
		}
		switch {
		case asks(v):
			return nil
		case v.Dialog != "":
			if err := run.Talk.Answer(limited, b.Way.Asks, v, b.Env); err != nil {
				return err
			}
		default:
			return fmt.Errorf("“%s” did not start a receiver: %s", b.Command, engine.LastLines(v.Output()))
		}
	}
}

// afterSend waits for what the device says of the file it got, for as long as the action and the step may
// take: a store may be slow to write. Questions are answered meanwhile.
func afterSend(run *engine.Run, ctx context.Context, b *engine.Begun) error {
	answered := ""
	for {
		v, err := run.Console.Await(ctx, func(v sense.State) bool {
			return v.AtPrompt || v.Dialog != "" || b.AsksOwn(v, answered) || b.Way.Fail.Matches(v.Output()) ||
				v.Commands != b.Commands
		})
		if errors.Is(err, context.DeadlineExceeded) {
			err = fmt.Errorf("no prompt after the transfer, %w", engine.TimeoutError(err, run))
		}
		if err != nil {
			return err
		}
		run.Receives(false)
		text := b.Way.Fail.Find(v.Output())
		switch {
		case v.Commands != b.Commands:
			return engine.UnseenError(b.Command)
		case text != "":
			return fmt.Errorf("the transfer was acknowledged, but the device says: %s", text)
		case !v.AtPrompt:
			answered = v.Asked
			if err := run.Talk.Answer(ctx, b.Way.Asks, v, b.Env); err != nil {
				return err
			}
		case b.Way.Done != nil && !b.Way.Done.Matches(v.Output()):
			return fmt.Errorf("after “%s” the device did not say that it has the file (looked for %s): %s", b.Command,
				b.Way.Way.Done, engine.LastLines(v.Output()))
		default:
			run.Account.Change(b.Action.Alters())
			return nil
		}
	}
}

// putFile puts a file on the device over the SSH session that is the line.
func (w *sendWork) putFile(ctx context.Context, run *engine.Run, s *runbook.PreparedStep, img *image.Image) error {
	to, err := fill(run, w.to)
	if err != nil {
		return err
	}
	shell := run.Console.Shell()
	if shell == nil {
		if _, lost := run.Console.Await(ctx, func(sense.State) bool { return true }); errors.Is(lost,
			engine.ErrLineLost) {
			return lost
		}
		return fmt.Errorf("the line is no SSH session: %s cannot be put on the device by %s", img.Name, w.put)
	}
	protocol := strings.ToUpper(w.put)
	run.Now(s, fmt.Sprintf("Puts %s on the device by %s", img.Name, protocol), "the device to take it", s.Timeout)
	if reading := run.Device.Reading(); reading != nil &&
		run.Device.Doubted() { // nothing was typed that has brought it to its prompt
		if err := run.Talk.EnsureMode(ctx, s, reading.In); err != nil {
			return err
		}
	}
	if err := run.Actions.Alters(ctx, s, protocol+" put of "+img.Name+" to "+to); err != nil {
		return err
	}
	run.Actions.Wrote(s, "")
	id := "put " + to
	run.Console.Emit(event.TransferBegin{
		ID:       id,
		File:     img.Name,
		Size:     img.Size,
		Protocol: protocol,
		Peer:     shell.RemoteAddr().String(),
		SHA256:   img.SHA256,
	})
	say := func(text string) { run.Console.Emit(event.Note{Level: event.Info, Text: text}) }
	put := sshput.Put{
		Client:   shell,
		Protocol: w.put,
		To:       to,
		Size:     img.Size,
		SHA256:   img.SHA256,
		Open:     func() (io.ReadSeekCloser, error) { return img.Reader() },
		Say:      say,
		Clock:    run.Console.Clock(),
		Progress: func(p transfer.Progress) {
			run.Console.Emit(event.Transfer{ID: id, Bytes: p.Bytes, Size: p.Size, Rate: p.Rate, Left: p.Left})
		},
	}
	end := event.TransferEnd{ID: id, Outcome: event.Done}
	err = run.Console.Moves(ctx, func(ctx context.Context) (err error) {
		end.Bytes, end.Took, err = put.Do(ctx)
		return err
	})
	run.Account.Change(err == nil)
	if err != nil && ctx.Err() == nil && ended(shell) {
		err = engine.NoticeLoss(ctx, run.Console, err)
	}
	end.Outcome, end.Message = event.OutcomeOf(err)
	run.Console.Emit(end)
	return err
}

// ended reports whether a connection is no more.
func ended(shell *ssh.Client) bool {
	_, _, err := shell.SendRequest("keepalive@openssh.com", true, nil)
	return err != nil
}
