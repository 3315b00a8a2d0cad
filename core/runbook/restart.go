package runbook

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/reach"
	"pilotrix/core/sense"
)

// watch begins to watch targets; they are watched until the session ends.
func (e *Engine) watch(s *Prepped) error {
	for _, template := range s.watch {
		text, err := template.Render(e.env())
		if err != nil {
			return err
		}
		if err := e.watchTarget(text); err != nil {
			return err
		}
	}
	return nil
}

func (e *Engine) watchTarget(text string) error {
	target, err := reach.ParseTarget(withoutLength(text))
	if err != nil {
		return err
	}
	if w := e.console.Reach(); w != nil {
		w.Add(target)
	} else {
		e.console.Emit(event.Note{Level: event.Warn, Text: "nothing can be watched here: " + text})
	}
	return nil
}

// withoutLength drops the length of a network, 192.0.2.40/24: a device tells its address so.
func withoutLength(text string) string {
	if strings.HasPrefix(text, "http") {
		return text
	}
	before, _, _ := strings.Cut(text, "/")
	return before
}

// restarting is one restart under way.
type restarting struct {
	*Engine
	s      *Prepped
	begun  time.Time
	target string // of reach, empty when none is watched
	told   event.Restart
}

// restart restarts the device and goes on when the console shows a prompt and the target answers again.
func (e *Engine) restart(ctx context.Context, s *Prepped) error {
	r := &restarting{Engine: e, s: s}
	if err := r.watchBefore(ctx); err != nil {
		return err
	}
	action := e.p.Dialect.Action(s.Restart.Action)
	env, err := e.actionEnv(s.with)
	if err != nil {
		return err
	}
	command, err := e.typeAction(ctx, s, action, env)
	if err != nil {
		return err
	}
	r.begun = e.console.Clock().Now()
	e.console.Emit(event.Mark{Text: "restart: " + command})
	if err := e.follow(ctx, action, env, command); err != nil && !errors.Is(err, ErrLineLost) {
		return err
	}
	e.now(s, "Waits for the device to be back", "console, prompt"+r.reachWords(), s.Limit)
	if err := r.comeBack(ctx); err != nil {
		return err
	}
	r.tell(true)
	took := e.console.Clock().Since(r.begun)
	e.made["restart"] = map[string]any{"took": clock.Words(took), "away": clock.Words(r.away())}
	e.console.Emit(event.Note{Level: event.Say, Text: fmt.Sprintf("back after %s%s", clock.Words(took), r.comparedWords(took))})
	if s.Restart.Then == "" {
		return nil
	}
	e.now(s, "Logs in again", "mode "+e.p.Dialect.ModeTitle(s.Restart.Then), s.Limit)
	return e.be(ctx, s, []string{s.Restart.Then})
}

func (r *restarting) watchBefore(ctx context.Context) error {
	text, err := r.text(r.s, "watch")
	if err != nil || text == "" || r.console.Reach() == nil {
		return err
	}
	target, err := reach.ParseTarget(withoutLength(text))
	if err != nil {
		return err
	}
	r.target = target.String()
	r.console.Reach().Add(target)
	return r.heardBefore(ctx)
}

// knowledge is how long a target is tried before the restart, to see whether it answers at all.
const knowledge = 4 * time.Second

// heardBefore drops a target that does not answer before the restart either: what keeps it from that
// would keep it from being back.
func (r *restarting) heardBefore(ctx context.Context) error {
	limited, cancel := r.console.Clock().WithTimeout(ctx, knowledge)
	defer cancel()
	err := r.console.Reach().Await(limited, func([]reach.State) bool { _, known := r.state(); return known })
	if err != nil && ctx.Err() != nil {
		return err
	}
	if state, known := r.state(); !known || !state.Up {
		r.console.Emit(event.Note{Level: event.Warn, Text: r.target + " does not answer before the restart either: it is not waited for"})
		r.target = ""
	}
	return nil
}

func (r *restarting) reachWords() string {
	if r.target == "" {
		return ""
	}
	return " and " + r.target
}

// comparedWords says how long it took beside what was expected.
func (r *restarting) comparedWords(took time.Duration) string {
	if r.s.Expected == 0 {
		return ""
	}
	return fmt.Sprintf(" (expected %s)", clock.Words(r.s.Expected))
}

// comeBack waits for console and prompt, then for reach.
func (r *restarting) comeBack(ctx context.Context) error {
	err := r.prompt(ctx)
	if err == nil {
		err = r.reached(ctx)
	}
	if err != nil && errors.Is(err, context.DeadlineExceeded) && ctx.Err() != nil {
		r.tell(false)
		return fmt.Errorf("the device is not back within %s: console %s%s", clock.Words(r.s.Limit), r.told.Console, r.stillWords())
	}
	return err
}

func (r *restarting) stillWords() string {
	if r.told.Reach == "" {
		return ""
	}
	return ", " + r.target + " " + r.told.Reach
}

// prompt follows the console through the restart, answering questions, following its speed, and waiting
// for a line that went with it.
func (r *restarting) prompt(ctx context.Context) error {
	seen := -1
	for {
		v, err := r.console.Await(ctx, func(v sense.View) bool { return v.Count != seen || v.Dialog != "" || v.AtPrompt })
		switch {
		case errors.Is(err, ErrLineLost):
			if err := r.lineBack(ctx); err != nil {
				return err
			}
			continue
		case err != nil:
			return err
		}
		seen = v.Count
		r.tell(false)
		switch {
		case v.AtPrompt && slices.Contains(r.s.Restart.Mode, v.Mode):
			return nil
		case v.Dialog != "":
			if err := r.answer(ctx, nil, v, nil); err != nil {
				return err
			}
		case v.Mode == sense.Garbled:
			if err := r.waitGarbled(ctx, r.s, v); err != nil {
				return err
			}
		case v.AtPrompt:
			return fmt.Errorf("after the restart the device came to mode %s instead of %s (%q)", v.Mode, strings.Join(r.s.Restart.Mode, " or "), v.Prompt)
		}
	}
}

// reached waits until the target answers. One that never stopped answering has to do so once more.
func (r *restarting) reached(ctx context.Context) error {
	w := r.console.Reach()
	if r.target == "" || w == nil {
		return nil
	}
	since := r.console.Clock().Now()
	return w.Await(ctx, func(states []reach.State) bool {
		for _, state := range states {
			if state.Target.String() == r.target {
				r.tell(false)
				return state.Up && state.Last.Held && (state.Last.At.After(since) || state.Since.After(r.begun))
			}
		}
		return false
	})
}

// tell says how far it is, when that changed.
func (r *restarting) tell(over bool) {
	v := r.console.View()
	told := event.Restart{Step: r.s.ID, Begun: r.begun, Expected: r.s.Expected, Longest: r.s.Limit, Console: v.Mode, Over: over}
	if v.AtPrompt {
		told.Prompt = v.Prompt
	}
	if state, known := r.state(); known {
		told.Reach = map[bool]string{true: "answers", false: "does not answer"}[state.Up]
	}
	if told != r.told {
		r.told = told
		r.console.Emit(told)
	}
}

func (r *restarting) state() (reach.State, bool) {
	w := r.console.Reach()
	if r.target == "" || w == nil {
		return reach.State{}, false
	}
	for _, state := range w.States() {
		if state.Target.String() == r.target {
			return state, state.Known
		}
	}
	return reach.State{}, false
}

// away is how long the target did not answer in this restart.
func (r *restarting) away() time.Duration {
	state, known := r.state()
	if !known || state.Away.Begin.Before(r.begun) {
		return 0
	}
	return state.Away.Length(r.console.Clock().Now())
}
