package runbook

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/carrier"
	"pilotrix/core/carrier/xmodem"
	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/reckon"
	"pilotrix/core/sense"
)

// read types commands and keeps what they say as facts.
func (e *Engine) read(ctx context.Context, s *Prepped) error {
	for _, name := range s.Read {
		if err := e.readOne(ctx, s, e.p.Dialect.Reading(name)); err != nil {
			return err
		}
	}
	return nil
}

// readOne tries a few times: a bit error in the answer is no reason to stop.
func (e *Engine) readOne(ctx context.Context, s *Prepped, reading *dialect.CompiledReading) error {
	if err := e.be(ctx, s, reading.In); err != nil {
		return err
	}
	command, err := reading.Type.Command(e.env())
	if err != nil {
		return err
	}
	limit := dialect.DefaultLimit
	if reading.Limit != nil {
		limit = *reading.Limit
	}
	var facts []device.Fact
	for range readTries {
		e.now(s, "Reads "+reading.Reading.Reading, "the answer to "+command, limit)
		output, answerErr := e.command(ctx, command, limit)
		if answerErr != nil {
			return answerErr
		}
		if facts, err = reading.Parse(output, command, e.console.Clock().Now()); err == nil {
			break
		}
	}
	if err != nil {
		return err
	}
	for _, fact := range facts {
		before, _ := e.facts.Set(fact)
		told := event.Fact{Name: fact.Name, Value: fact.Text, Source: fact.Source, Rows: dialect.TextRows(fact.Value)}
		if before.Text != fact.Text {
			told.Was = before.Text
		}
		e.console.Emit(told)
	}
	return nil
}

const readTries = 3

// command types a command and returns what was answered until the next prompt, questions answered.
func (e *Engine) command(ctx context.Context, command string, limit time.Duration) (string, error) {
	if err := e.console.Command(ctx, command, Typing{Fresh: true}); err != nil {
		return "", err
	}
	limited, cancel := e.console.Clock().WithTimeout(ctx, limit)
	defer cancel()
	for {
		v, err := e.console.Await(limited, func(v sense.View) bool { return v.AtPrompt || v.Dialog != "" })
		if err != nil {
			return "", e.awaited(ctx, limited, err, "no prompt after “"+command+"”")
		}
		if v.AtPrompt {
			return v.Output(), nil
		}
		if err := e.answer(limited, nil, v, nil); err != nil {
			return "", err
		}
	}
}

// awaited puts a wait's own limit into words, and leaves other errors alone.
func (e *Engine) awaited(outer, inner context.Context, err error, what string) error {
	if outer.Err() == nil && inner.Err() != nil && errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s, %w: %s", what, errLimit, e.stateWords())
	}
	return err
}

// answer answers a question from the dialect, or asks the operator.
func (e *Engine) answer(ctx context.Context, own []*dialect.CompiledDialog, v sense.View, env map[string]any) error {
	dialog := e.p.Dialect.Dialog(own, v.Asked)
	if dialog == nil {
		return fmt.Errorf("the device asks %q, which the dialect has no answer for", strings.TrimSpace(v.Asked))
	}
	if env == nil {
		env = e.env()
	}
	if dialog.Operator {
		answer, err := e.console.Ask(ctx, event.Ask{Form: "dialog", Text: strings.TrimSpace(v.Asks), Answers: []string{DoneByMe, StopHere}})
		if err == nil && answer != DoneByMe {
			err = fmt.Errorf("%w at a question of the device", errStopped)
		}
		return err
	}
	reply, err := dialog.Reply.Command(env)
	if err != nil {
		return fmt.Errorf("answering %q: %w", strings.TrimSpace(v.Asks), err)
	}
	if dialog.Because != "" {
		e.console.Emit(event.Note{Level: event.Say, Text: fmt.Sprintf("answers “%s” to “%s”: %s", shownReply(dialog, reply), strings.TrimSpace(v.Asked), dialog.Because)})
	}
	if dialog.Bare {
		return e.console.Type(ctx, reply, dialog.Secret)
	}
	return e.console.Command(ctx, reply, Typing{Secret: dialog.Secret})
}

func shownReply(d *dialect.CompiledDialog, reply string) string {
	if d.Secret {
		return "[secret]"
	}
	return reply
}

// be makes sure that the device waits at a prompt of one of the modes, moving there if there is a way.
func (e *Engine) be(ctx context.Context, s *Prepped, modes []string) error {
	for range 8 {
		v := e.console.View()
		if !v.AtPrompt {
			var err error
			if v, err = e.nudge(ctx, 3, 2*time.Second); err != nil {
				return err
			}
		}
		if len(modes) == 0 || slices.Contains(modes, v.Mode) {
			return nil
		}
		move := e.moveTo(v.Mode, modes)
		if move == nil {
			return fmt.Errorf("this needs mode %s; the device is in %s, and the dialect knows no way there", strings.Join(modes, " or "), v.Mode)
		}
		if err := e.perform(ctx, s, e.p.Dialect.Action(move.By), nil); err != nil {
			return fmt.Errorf("going from %s to %s: %w", move.From, move.To, err)
		}
	}
	return fmt.Errorf("could not get to mode %s", strings.Join(modes, " or "))
}

func (e *Engine) moveTo(from string, modes []string) *dialect.Move {
	for _, to := range modes {
		if move := e.p.Dialect.MoveFrom(from, to); move != nil {
			return move
		}
	}
	return nil
}

// nudge presses the harmless key until there is a prompt.
func (e *Engine) nudge(ctx context.Context, times int, each time.Duration) (sense.View, error) {
	var err error
	for range times {
		if err := e.console.Type(ctx, e.p.Dialect.Nudge(), false); err != nil {
			return sense.View{}, err
		}
		limited, cancel := e.console.Clock().WithTimeout(ctx, each)
		var v sense.View
		v, err = e.console.Await(limited, func(v sense.View) bool { return v.AtPrompt })
		cancel()
		if err == nil {
			return v, nil
		}
		if ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) {
			return v, err
		}
	}
	return sense.View{}, fmt.Errorf("no prompt after %d key presses: %s", times, e.stateWords())
}

// act does an action with the step's parameters.
func (e *Engine) act(ctx context.Context, s *Prepped) error {
	return e.perform(ctx, s, e.p.Dialect.Action(s.Act.Action), s.with)
}

// perform types an action's command and follows it to its end.
func (e *Engine) perform(ctx context.Context, s *Prepped, action *dialect.CompiledAction, with map[string]*expression.Template) error {
	env, err := e.actionEnv(with)
	if err != nil {
		return err
	}
	command, err := e.typeAction(ctx, s, action, env)
	if err != nil {
		return err
	}
	limit := dialect.DefaultLimit
	if action.Limit != nil {
		limit = *action.Limit
	}
	limited, cancel := e.console.Clock().WithTimeout(ctx, limit)
	defer cancel()
	e.now(s, or(action.Title, action.Action.Action), "the end of "+command, limit)
	if err := e.follow(limited, action, env, command); err != nil {
		return e.awaited(ctx, limited, err, "“"+command+"” did not end")
	}
	return e.followSpeed(ctx, action)
}

func (e *Engine) actionEnv(with map[string]*expression.Template) (map[string]any, error) {
	env := e.env()
	filled := map[string]any{}
	for name, template := range with {
		value, err := template.Command(env)
		if err != nil {
			return nil, err
		}
		filled[name] = value
	}
	for name, value := range filled {
		env[name] = value
	}
	return env, nil
}

func (e *Engine) typeAction(ctx context.Context, s *Prepped, action *dialect.CompiledAction, env map[string]any) (string, error) {
	if err := e.be(ctx, s, action.In); err != nil {
		return "", err
	}
	command, err := action.Type.Command(env)
	if err != nil {
		return "", err
	}
	if err := e.interlock(ctx, s, command); err != nil {
		return "", err
	}
	if action.Changes {
		e.changed = true
	}
	return command, e.console.Command(ctx, command, Typing{Fresh: true, Leads: action.To != ""})
}

// interlock asks before a command that the dialect calls a danger, or that a restart would lose something
// by, unless the step has asked already. A loss that is not the step's own is always asked about.
func (e *Engine) interlock(ctx context.Context, s *Prepped, command string) error {
	says := e.console.Stops(command)
	if says == "" || (s.Step.Hold != "" && says == e.p.Dialect.DangerOf(command)) {
		return nil
	}
	answer, err := e.console.Ask(ctx, event.Ask{
		Form: "hold", Step: s.ID, Text: fmt.Sprintf("“%s” %s.", command, says), Types: []string{command},
		NoReturn: true, Changed: e.changed, Answers: []string{Approve, StopHere},
	})
	if err == nil && answer != Approve {
		err = fmt.Errorf("%w before “%s”", errStopped, command)
	}
	return err
}

// follow waits for what tells that an action succeeded or failed, answering questions meanwhile.
func (e *Engine) follow(ctx context.Context, action *dialect.CompiledAction, env map[string]any, command string) error {
	reached := func(v sense.View) bool { return action.To != "" && slices.Contains(v.Passed, action.To) }
	answered := ""
	for {
		v, err := e.console.Await(ctx, func(v sense.View) bool {
			return failed(action, v) != "" || v.AtPrompt || v.Dialog != "" || asksOwn(action, v, answered) || reached(v)
		})
		if err != nil {
			return err
		}
		if text := failed(action, v); text != "" {
			return fmt.Errorf("“%s” was answered: %s", command, text)
		}
		switch {
		case reached(v):
			return nil
		case v.Dialog != "" || asksOwn(action, v, answered):
			answered = v.Asked
			if err := e.answer(ctx, action.Asks, v, env); err != nil {
				return err
			}
		case action.To != "" && !slices.Contains(action.In, v.Mode):
			return fmt.Errorf("“%s” led to mode %s instead of %s", command, v.Mode, action.To)
		case action.To != "":
			return fmt.Errorf("“%s” left the device in mode %s: %s", command, v.Mode, lastLines(v.Output()))
		case action.Done != nil && !action.Done.MatchString(v.Output()):
			return fmt.Errorf("“%s” did not say that it succeeded (looked for %s): %s", command, action.Action.Done, lastLines(v.Output()))
		default:
			return nil
		}
	}
}

// asksOwn reports that the device waits with a question of the action's own.
func asksOwn(action *dialect.CompiledAction, v sense.View, answered string) bool {
	if v.Asked == "" || v.Asked == answered || v.AtPrompt || !v.Free {
		return false
	}
	for _, dialog := range action.Asks {
		if dialog.Pattern.MatchString(v.Asked) {
			return true
		}
	}
	return false
}

func failed(action *dialect.CompiledAction, v sense.View) string {
	if action.Fail == nil {
		return ""
	}
	return strings.TrimSpace(action.Fail.FindString(v.Output()))
}

func lastLines(output string) string {
	lines := strings.Split(strings.TrimSpace(output), "\n")
	return strings.Join(lines[max(0, len(lines)-2):], " / ")
}

// followSpeed goes with a device that changes its own speed.
func (e *Engine) followSpeed(ctx context.Context, action *dialect.CompiledAction) error {
	ours, can := e.console.Speed()
	if action.Speed == 0 || !can || ours == action.Speed {
		return nil
	}
	return e.console.SetSpeed(ctx, action.Speed, "the device goes to it by itself")
}

// check holds a guard against facts and inputs.
func (e *Engine) check(s *Prepped) error {
	env := e.env()
	held, err := s.check.Holds(env)
	if err != nil {
		return err
	}
	text := s.Step.Step
	if !held {
		if text, err = s.orElse.Render(env); err != nil || text == "" {
			text = "this does not hold: " + s.Step.Check
		}
	}
	e.console.Emit(event.Check{Step: s.ID, Text: text, Held: held})
	if !held {
		return errors.New(strings.TrimSpace(text))
	}
	return nil
}

// compareAll holds values against each other and keeps what they prove.
func (e *Engine) compareAll(s *Prepped) error {
	env := e.env()
	for _, c := range s.compare {
		want, err := c.want.Value(env)
		if err != nil {
			return err
		}
		got, err := c.got.Value(env)
		if err != nil {
			return err
		}
		held := want != nil && got != nil && sameValue(want, got)
		told := event.Check{Step: s.ID, Text: c.What, Held: held, Got: expression.Format(got)}
		if e.comparesWithBefore(c) {
			told.Before = expression.Format(want)
		}
		e.console.Emit(told)
		if !held {
			return fmt.Errorf("%s: want %s, the device says %s", c.What, or(expression.Format(want), "nothing"), or(expression.Format(got), "nothing"))
		}
		proves, err := c.proves.Render(env)
		if err != nil {
			return err
		}
		if proves != "" {
			e.proved = append(e.proved, proves)
		}
	}
	return nil
}

// comparesWithBefore reports whether a comparison wants what a snapshot kept.
func (e *Engine) comparesWithBefore(c comparison) bool {
	first, _, _ := strings.Cut(c.Want, ".")
	return slices.Contains(e.p.Book.snapshots(), first)
}

// sameValue compares releases as releases and anything else as written, letter case aside.
func sameValue(a, b any) bool {
	x, isX := a.(device.Release)
	y, isY := b.(device.Release)
	if isX != isY {
		var err error
		if !isX {
			x, err = device.ParseRelease(expression.Format(a))
		} else {
			y, err = device.ParseRelease(expression.Format(b))
		}
		if err != nil {
			return false
		}
		isX, isY = true, true
	}
	if isX && isY {
		return x.Compare(y) == 0
	}
	return strings.EqualFold(expression.Format(a), expression.Format(b))
}

// operator asks for something to be done by hand.
func (e *Engine) operator(ctx context.Context, s *Prepped) error {
	text, err := s.say.Render(e.env())
	if err != nil {
		return err
	}
	e.now(s, s.Step.Step, "your hands", s.Limit)
	answer, err := e.console.Ask(ctx, event.Ask{Form: "operator", Step: s.ID, Text: strings.TrimSpace(text), Answers: []string{DoneByMe, StopHere}})
	if err != nil {
		return err
	}
	if answer != DoneByMe {
		return fmt.Errorf("%w, asked to do something", errStopped)
	}
	return nil
}

const (
	sendRetries = 20 // a line with errors is worth more tries than a silent one
	sendAnswer  = 6 * time.Second
)

// send makes the device receive a file and sends it.
func (e *Engine) send(ctx context.Context, s *Prepped) error {
	name, err := s.by.Render(e.env())
	if err != nil {
		return err
	}
	variant, err := xmodem.Parse(name)
	if err != nil {
		return err
	}
	img, err := e.ready(ctx, s, e.p.imageOf(s, s.Send.File))
	if err != nil {
		return err
	}
	file, err := img.Reader()
	if err != nil {
		return err
	}
	defer file.Close()
	env, err := e.actionEnv(s.with)
	if err != nil {
		return err
	}
	action := e.p.Dialect.Action(s.Send.Action)
	e.now(s, fmt.Sprintf("Sends %s by %s", img.Name, variant), "the receiver", s.Limit)
	e.receiving = true
	command, err := e.typeAction(ctx, s, action, env)
	if err != nil {
		return err
	}
	if err := e.awaitReceiver(ctx, action, command); err != nil {
		return err
	}
	e.now(s, fmt.Sprintf("Sends %s by %s", img.Name, variant), fmt.Sprintf("the answer to each block, each within %s", sendAnswer*3/2), s.Limit)
	allowed := e.allowed(variant)
	e.console.Emit(event.Mark{Text: fmt.Sprintf("%s by %s, %d B", img.Name, variant, img.Size)})
	e.console.Emit(event.TransferBegin{File: img.Name, Size: img.Size, By: variant.String(), SHA256: img.SHA256, Allowed: allowed})
	var result xmodem.Result
	err = e.console.Carry(ctx, func(ctx context.Context, port carrier.Port) error {
		header := xmodem.Header{Name: img.Name, Size: img.Size, Modified: img.Modified}
		result, err = xmodem.Send(ctx, port, []xmodem.File{{Header: header, Data: file}}, xmodem.Options{
			Variant: variant, Clock: e.console.Clock(), Retries: sendRetries, Answer: sendAnswer, File: img.Name,
			Character: reckon.CharacterTime(e.console.LineRate()), EndWait: cmp.Or(limitOf(action), s.Limit), Progress: e.progress(img.Size, allowed),
		})
		return err
	})
	e.console.Emit(transferEnd(result, err, ctx))
	if err != nil {
		return err
	}
	e.now(s, "Has sent "+img.Name, "the device's word on the file", s.Limit)
	return e.afterSend(ctx, action, env, command)
}

// limitOf is how long an action may take, 0 when it does not say.
func limitOf(action *dialect.CompiledAction) time.Duration {
	if action.Limit == nil {
		return 0
	}
	return *action.Limit
}

// Allowed is the most that the protocol carries on our line, in bytes a second, 0 without a speed.
func (e *Engine) allowed(variant xmodem.Variant) float64 {
	return reckon.XMODEMRateBehind(e.console.Latency(), e.console.LineRate(), variant.Block())
}

const progressEvery = 200 * time.Millisecond

// progress thins the transfer's own reports out to a few a second.
func (e *Engine) progress(size int64, allowed float64) func(carrier.Progress) {
	var last time.Time
	state := ""
	return func(p carrier.Progress) {
		now := e.console.Clock().Now()
		if now.Sub(last) < progressEvery && p.Bytes < size && p.State == state {
			return
		}
		last, state = now, p.State
		e.console.Emit(event.Transfer{Bytes: p.Bytes, Size: size, Blocks: p.Blocks, Again: p.Again, Rate: p.Rate, Left: p.Left, Allowed: allowed, State: p.State})
	}
}

func transferEnd(r xmodem.Result, err error, ctx context.Context) event.TransferEnd {
	end := event.TransferEnd{Outcome: event.Done, Bytes: r.Bytes, Padding: r.Padding, Blocks: r.Blocks, Again: r.Again, Took: r.Took}
	if err != nil {
		end.Outcome, end.Message = event.Failed, err.Error()
		if errors.Is(causeOf(ctx, err), ErrHelm) {
			end.Outcome, end.Message = event.Stopped, "cancelled: "+ErrHelm.Error()
		}
	}
	return end
}

// awaitReceiver waits until the device asks for the file.
func (e *Engine) awaitReceiver(ctx context.Context, action *dialect.CompiledAction, command string) error {
	limited, cancel := e.console.Clock().WithTimeout(ctx, time.Minute)
	defer cancel()
	asks := func(v sense.View) bool { // one letter is a request only where the device said that it waits for the file
		return v.Receiver != 0 || v.Request != 0 && action.Ready != nil && action.Ready.MatchString(v.Output())
	}
	for {
		v, err := e.console.Await(limited, func(v sense.View) bool {
			return asks(v) || v.AtPrompt || v.Dialog != "" || failed(action, v) != ""
		})
		if err != nil {
			return e.awaited(ctx, limited, err, "the device did not ask for the file after “"+command+"”")
		}
		switch {
		case asks(v):
			return nil
		case v.Dialog != "":
			if err := e.answer(limited, action.Asks, v, nil); err != nil {
				return err
			}
		default:
			return fmt.Errorf("“%s” did not start a receiver: %s", command, lastLines(v.Output()))
		}
	}
}

// afterSend waits for what the device says of the file it got, for as long as the action and the step may
// take: a store may be slow to write. Questions are answered meanwhile.
func (e *Engine) afterSend(ctx context.Context, action *dialect.CompiledAction, env map[string]any, command string) error {
	limited, cancel := ctx, context.CancelFunc(func() {})
	if action.Limit != nil {
		limited, cancel = e.console.Clock().WithTimeout(ctx, *action.Limit)
	}
	defer cancel()
	answered := ""
	for {
		v, err := e.console.Await(limited, func(v sense.View) bool {
			return v.AtPrompt || v.Dialog != "" || asksOwn(action, v, answered) || failed(action, v) != ""
		})
		if err != nil {
			return e.awaited(ctx, limited, err, "no prompt after the transfer")
		}
		e.receiving = false
		text := failed(action, v)
		switch {
		case text != "":
			return fmt.Errorf("the transfer was acknowledged, but the device says: %s", text)
		case !v.AtPrompt:
			answered = v.Asked
			if err := e.answer(limited, action.Asks, v, env); err != nil {
				return err
			}
		case action.Done != nil && !action.Done.MatchString(v.Output()):
			return fmt.Errorf("after “%s” the device did not say that it has the file (looked for %s): %s", command, action.Action.Done, lastLines(v.Output()))
		default:
			return nil
		}
	}
}
