package verbs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
	"pilotrix/core/units"
)

var _ = runbook.Register(runbook.Verb{
	Name:     "restart",
	Restarts: true,
	Does:     "restarts the device and goes on when console, prompt and the watched address agree that it is back; the step's expected time and timeout are the expected and the longest absence",
	Timeout:  15 * time.Minute,
	Makes:    []string{"restart.took", "restart.away"},
	Cards:    []string{runbook.CardRestart, runbook.CardReach, runbook.CardBanks},
	New:      func() runbook.Body { return new(restartBody) },
})

type restartBody struct {
	runbook.Call `yaml:",inline"`
	Back         `yaml:",inline"`
}

// Back is how a device that restarts is seen to be back.
type Back struct {
	Watch string   `yaml:"watch" jsonschema_description:"Address that has to answer again, such as icmp:${device.address}"`
	Mode  []string `yaml:"mode" jsonschema:"required" jsonschema_description:"Modes whose prompt tells that it is back"`
	Never []string `yaml:"never" jsonschema_description:"Modes that tell at once that it does not come back so, such as the bootloader's own start behind a system that was started by it"`
	Then  string   `yaml:"then" jsonschema_description:"Mode to go to afterwards, such as that of somebody who is logged in"`
}

type backWork struct {
	Back
	watch *expression.Template
}

func (b Back) compile(c *runbook.Compiler) backWork {
	if len(b.Mode) == 0 {
		c.Complain("mode", "say by which modes it is seen to be back (mode: […])")
	}
	c.Modes("mode", b.Mode)
	c.Modes("never", b.Never)
	c.Mode("then", b.Then)
	c.Goes("then", b.Then)
	c.Makes("restart.took", "restart.away")
	return backWork{b, c.Template("watch", b.Watch)}
}

type restartWork struct {
	*runbook.CompiledCall
	backWork
}

// Compile implements runbook.Body.
func (b *restartBody) Compile(c *runbook.Compiler) runbook.Work {
	w := &restartWork{CompiledCall: b.Call.CompileBy(c, "")}
	w.begins(c)
	w.backWork = b.Back.compile(c)
	return w
}

// begins holds that it will be seen whether the restart has begun: the mode that the action leads to is none that a
// device waits in which did not restart at all.
func (w *restartWork) begins(c *runbook.Compiler) {
	switch d := c.Dialect(); {
	case w.Action == nil:
	case w.Action.To == "":
		c.Complain("action",
			"action %q does not say which mode a restart begins with (to: …): one that was refused would be taken for one",
			w.Action.Action.Action)
	case !d.Starts(w.Action.To):
		c.Complain("action",
			"action %q leads to mode %s, whose prompt may be that of a device which did not restart: let it lead to one that shows itself by a text while it starts",
			w.Action.Action.Action, w.Action.To)
	}
}

// Types implements runbook.Typist.
func (w *restartWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) []runbook.Typed {
	return append(w.Commands(p), w.afterwards(p)...)
}

// afterwards is what is typed once it is back.
func (w *backWork) afterwards(p *runbook.Planner) (typed []runbook.Typed) {
	p.Mode = w.Mode[0]
	if w.Then != "" {
		typed = p.Goes(w.Then)
	}
	return append(typed, identityTyped(p)...)
}

// identityTyped is what is typed to see that it is still the same device.
func identityTyped(p *runbook.Planner) []runbook.Typed {
	id := p.Dialect.Identity
	if id == nil || p.Mode == "" {
		return nil
	}
	reading := p.Dialect.Reading(id.Read)
	if len(reading.In) > 0 && !slices.Contains(reading.In, p.Mode) {
		return nil
	}
	return []runbook.Typed{{Text: reading.Type.Shown(p.Known), When: "to see that it is the same device"}}
}

// Summary implements runbook.Summarizer.
func (w *backWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	text := "goes on at a prompt of " + strings.Join(w.Mode, " or ")
	if w.Watch != "" {
		text += " and when " + w.watch.Shown(p.Known) + " answers"
	}
	return runbook.Summary{Checks: []string{text}}
}

// restarting is one restart under way.
type restarting struct {
	*engine.Run
	s        *runbook.PreparedStep
	w        *backWork
	begun    time.Time
	watched  string // of reach, empty when none is watched
	reported event.Restart
}

// Do implements Work: it restarts the device and goes on when the console shows a prompt and what is watched
// answers again.
func (w *restartWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	r := &restarting{Run: run, s: s, w: &w.backWork}
	if err := r.watchBefore(ctx); err != nil {
		return err
	}
	b, err := run.Actions.Type(ctx, s, w.CompiledCall)
	if err != nil {
		return err
	}
	r.begun = run.Console.Clock().Now()
	run.Console.Emit(event.Mark{Text: "restart: " + b.Command})
	switch err := run.Actions.Follow(ctx, s, b); {
	case errors.Is(err, engine.ErrLineLost):
		run.Console.Emit(event.Note{
			Level: event.Warning,
			Text:  "the line was lost before the restart was seen to begin: what runs afterwards will tell",
		})
	case err != nil:
		return err
	}
	run.Account.Change(b.Action.Alters())
	return r.through(ctx)
}

// through follows a restart that has begun to where the device is back, and known to be the same.
func (r *restarting) through(ctx context.Context) error {
	run, s := r.Run, r.s
	run.Now(s, "Waits for the device to be back", "console, prompt"+r.reachText(), s.Timeout)
	if err := r.comeBack(ctx); err != nil {
		return err
	}
	r.report(true)
	took := run.Console.Clock().Since(r.begun)
	run.Made["restart"] = runbook.Plain(map[string]any{"took": units.Text(took), "away": units.Text(r.away())})
	run.Console.Emit(
		event.Note{Level: event.Info, Text: fmt.Sprintf("back after %s%s", units.Text(took), r.comparedText(took))})
	run.Console.Changed() // whatever was read while it went down is old as well
	run.Account.Own()
	if r.w.Then != "" {
		run.Now(s, "Logs in again", "mode "+run.Prepared.Dialect.ModeTitle(r.w.Then), s.Timeout)
		if err := run.Talk.EnsureMode(ctx, s, []string{r.w.Then}); err != nil {
			return err
		}
	}
	run.Console.Doubt()
	return run.Device.EnsureSameHere(ctx, s)
}

func (r *restarting) watchBefore(ctx context.Context) error {
	text, err := fill(r.Run, r.w.watch)
	if err != nil || text == "" || r.Console.Reach() == nil {
		return err
	}
	watched, err := reach.ParseWatched(reach.WithoutLength(text))
	if err != nil {
		return err
	}
	r.watched = watched.String()
	r.Console.Reach().Add(watched)
	return r.heardBefore(ctx)
}

// knowledge is how long an address is tried before the restart, to see whether it answers at all.
const knowledge = 4 * time.Second

// heardBefore drops an address that does not answer before the restart either: what keeps it from that
// would keep it from being back.
func (r *restarting) heardBefore(ctx context.Context) error {
	limited, cancel := r.Console.Clock().WithTimeout(ctx, knowledge)
	defer cancel()
	err := r.Console.Reach().Await(limited, func([]reach.State) bool { _, known := r.state(); return known })
	if err != nil && ctx.Err() != nil {
		return err
	}
	if state, known := r.state(); !known || !state.Up {
		r.Console.Emit(event.Note{
			Level: event.Warning,
			Text:  r.watched + " does not answer before the restart either: it is not waited for",
		})
		r.watched = ""
	}
	return nil
}

func (r *restarting) reachText() string {
	if r.watched == "" {
		return ""
	}
	return " and " + r.watched
}

// comparedText says how long it took beside what was expected.
func (r *restarting) comparedText(took time.Duration) string {
	if r.s.Expected == 0 {
		return ""
	}
	return fmt.Sprintf(" (expected %s)", units.Text(r.s.Expected))
}

// comeBack waits for console and prompt, then for reach.
func (r *restarting) comeBack(ctx context.Context) error {
	err := r.prompt(ctx)
	if err == nil {
		err = r.reached(ctx)
	}
	if errors.Is(err, engine.ErrTimeout) {
		r.report(false)
		return fmt.Errorf("the device is not back: console %s%s; %w", r.reported.Console, r.stillText(), err)
	}
	return err
}

func (r *restarting) stillText() string {
	if r.reported.Reach == "" {
		return ""
	}
	return ", " + r.watched + " " + r.reported.Reach
}

// prompt follows the console through the restart, answering questions, following its speed, and waiting
// for a line that went with it.
func (r *restarting) prompt(ctx context.Context) error {
	seen := -1
	for {
		v, err := r.Console.Await(ctx,
			func(v sense.State) bool { return v.Count != seen || v.Dialog != "" || v.AtPrompt })
		switch {
		case errors.Is(err, engine.ErrLineLost):
			if err := r.LineBack(ctx); err != nil {
				return err
			}
			continue
		case err != nil:
			return err
		}
		seen = v.Count
		r.report(false)
		switch {
		case v.AtPrompt && (slices.Contains(r.w.Mode, v.Mode) || r.leadsOn(v.Mode)):
			return nil
		case slices.Contains(r.w.Never, v.Mode):
			return fmt.Errorf("it came to mode %s, and not to %s: what was started did not stay up; the console shows what it said last",
				v.Mode, strings.Join(r.w.Mode, " or "))
		case v.Dialog != "":
			if err := r.Talk.Answer(ctx, nil, v, nil); err != nil {
				return err
			}
		case v.Mode == sense.Garbled:
			if err := waitGarbled(r.Run, ctx, r.s, v); err != nil && !errors.Is(err, engine.ErrReturned) {
				return err
			}
		case v.AtPrompt:
			return fmt.Errorf("after the restart the device came to mode %s instead of %s (%q)", v.Mode,
				strings.Join(r.w.Mode, " or "), v.Prompt)
		}
	}
}

// leadsOn reports whether a mode is the wanted one, or on the way there: the operator, or the session itself, may have
// logged in.
func (r *restarting) leadsOn(mode string) bool {
	return r.w.Then != "" && (mode == r.w.Then || r.Prepared.Dialect.MoveFrom(mode, r.w.Then) != nil)
}

// reached waits until what is watched answers. One that never stopped answering has to do so once more.
func (r *restarting) reached(ctx context.Context) error {
	w := r.Console.Reach()
	if r.watched == "" || w == nil {
		return nil
	}
	since := r.Console.Clock().Now()
	return r.Console.Waits(ctx, func(ctx context.Context) error {
		return w.Await(ctx, func(states []reach.State) bool {
			for _, state := range states {
				if state.Watched.String() == r.watched {
					r.report(false)
					return state.Up && state.Last.Held && (state.Last.At.After(since) || state.Since.After(r.begun))
				}
			}
			return false
		})
	})
}

// report says the progress, when that changed.
func (r *restarting) report(over bool) {
	v := r.Console.Device()
	report := event.Restart{
		Step:     r.s.ID,
		Begun:    r.begun,
		Expected: r.s.Expected,
		Longest:  r.s.Timeout,
		Console:  v.Mode,
		Over:     over,
	}
	if v.AtPrompt {
		report.Prompt = v.Prompt
	}
	if state, known := r.state(); known {
		report.Reach = map[bool]string{true: "answers", false: "does not answer"}[state.Up]
	}
	if report != r.reported {
		r.reported = report
		r.Console.Emit(report)
	}
}

func (r *restarting) state() (reach.State, bool) {
	w := r.Console.Reach()
	if r.watched == "" || w == nil {
		return reach.State{}, false
	}
	for _, state := range w.States() {
		if state.Watched.String() == r.watched {
			return state, state.Known
		}
	}
	return reach.State{}, false
}

// away is how long it did not answer in this restart.
func (r *restarting) away() time.Duration {
	state, known := r.state()
	if !known || state.Away.Begin.Before(r.begun) {
		return 0
	}
	return state.Away.Length(r.Console.Clock().Now())
}
