package tui

import (
	"strconv"
	"time"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/arithmetic"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/source"
	"pilotrix/core/suggest"
	"pilotrix/tui/keys"
)

// What the strip offers is accepted by one key, always the same: the answer that something of the operator's waits for,
// or what can be done now.

// offered is what can be done now.
type offered struct {
	*suggest.Suggestion
	since time.Time // of the wall, since it is another one

	kit   suggest.Kit // what was available for the command that was typed last
	asked string      // that command

	logsIn string // the action whose inputs were looked for
	takes  []runbook.Input
}

// readWithin is how long a message stands in any case: what can be done may be over by the time that others are.
const readWithin = 1500 * time.Millisecond

// messageNow is the message that is shown: one that was read gives way to what can be done since then.
func (a *app) messageNow() string {
	o := a.offered
	if o.Suggestion != nil && o.since.After(a.messageAt) && time.Since(a.messageAt) > readWithin {
		return ""
	}
	return a.message
}

// available is what was found for a command.
type available struct {
	app     *app
	command string
	kit     suggest.Kit
}

// offers looks what can be done now. What is available for a command is looked for beside the interface.
func (a *app) offers() tea.Cmd {
	o := &a.offered
	if a.session == nil || a.replay || a.opt.Library == nil {
		return nil
	}
	before := o.Suggestion
	o.Suggestion = suggest.For(a.state, a.suggestKit())
	if o.Suggestion == nil || before == nil || o.Text != before.Text || o.Does != before.Does {
		o.since = time.Now()
	}
	command := ""
	if n := len(a.state.Typed); n > 0 && !a.state.Typed[n-1].Secret() {
		command = a.state.Typed[n-1].Text
	}
	if command == o.asked {
		return nil
	}
	o.asked, o.kit = command, suggest.Kit{HasShelf: true}
	return func() tea.Msg { return available{a, command, a.opt.Library.Available(command)} }
}

// suggestKit is what is known besides the session's state.
func (a *app) suggestKit() suggest.Kit {
	kit := a.offered.kit
	d := a.session.Dialect()
	kit.HasShelf, kit.Known, kit.Speed = true, d != nil, a.state.Speed
	if framing, err := line.ParseFraming(a.state.Framing); err == nil && kit.Speed > 0 {
		kit.LineRate = arithmetic.LineRate(kit.Speed, framing)
	}
	action := a.loginAction()
	kit.LogsIn = action != ""
	kit.Account = kit.LogsIn && a.hasAccount(action)
	kit.Readable = d != nil && len(a.state.Facts) == 0 && a.state.Prompt != "" && len(d.ReadableIn(a.state.Mode.Name)) > 0
	if likely := a.looksLike(); likely != nil {
		kit.LooksLike = likely.Dialect.Title + ": " + likely.Reasons[0]
	}
	return kit
}

// hasAccount reports whether all was given in this session that an action takes.
func (a *app) hasAccount(action string) bool {
	if a.offered.logsIn != action {
		a.offered.logsIn, a.offered.takes = action, nil
		if book, err := verbs.Single(a.session.Dialect(), action, ""); err == nil {
			a.offered.takes = book.Inputs
		}
	}
	for _, input := range a.offered.takes {
		if _, given := a.given[input.Input]; !given {
			return false
		}
	}
	return len(a.offered.takes) > 0
}

// questionOfDeed is a question that is answered behind the leader key, nil for none.
func (a *app) questionOfDeed() *event.Ask {
	if ask := a.state.Ask; ask != nil && ask.Deed != "" && a.asked() == nil && !ask.Typed && len(ask.Answers) > 0 {
		return ask
	}
	return nil
}

// acceptText is what accepting does now, empty for nothing.
func (a *app) acceptText() string {
	if ask := a.questionOfDeed(); ask != nil {
		if answers := answersOf[ask.Form]; len(answers) > 0 {
			return answers[0].does
		}
		return ask.Answers[0]
	}
	if o := a.offered; o.Suggestion != nil {
		return o.Does
	}
	return ""
}

// accept does what the strip offers. What it offers only just now may not have been seen yet.
func (a *app) accept() tea.Cmd {
	if ask := a.questionOfDeed(); ask != nil {
		answer := ask.Answers[0]
		if known := answersOf[ask.Form]; len(known) > 0 {
			answer = known[0].gives
		}
		a.session.Answer(ask.ID, answer, "operator")
		return nil
	}
	o := a.offered
	switch {
	case o.Suggestion == nil:
		a.say("nothing is offered now")
		return nil
	case early(o.since):
		a.say("that is offered only just now: once more " + keys.Accept.After(keys.Name(a.opt.Leader)))
		return nil
	}
	return a.takes(o.Suggestion)
}

// takes carries a suggestion out.
func (a *app) takes(s *suggest.Suggestion) tea.Cmd {
	switch s.Kind {
	case suggest.Hunt:
		return a.hunt(at{a.session, a.state})
	case suggest.LogIn:
		return a.logIn()
	case suggest.Dialect:
		return a.openDialects()
	case suggest.Read:
		return a.readAgain()
	case suggest.View:
		a.show(s.Values["view"])
		return nil
	case suggest.Speed:
		baud, err := strconv.Atoi(s.Values["speed"])
		return func() tea.Msg {
			if err == nil {
				err = a.session.SetSpeed(a.ctx, baud, "it was named in a command")
			}
			return said(err, "our end is at "+s.Values["speed"]+" baud")
		}
	}
	one := verbs.ByHandNamed(s.Named)
	if one == nil {
		return nil
	}
	if one.Needs == engine.Line && !a.lineIsYours() {
		a.say(source.Reason(engine.ErrHelm))
		return nil
	}
	return a.doByHand(*one, s.Values, s.Whole)
}
