package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook/engine"
	"pilotrix/tui/field"
	"pilotrix/tui/keys"
	"pilotrix/tui/strip"
)

// answer is what a key answers to a question of the session, in words.
type answer struct{ shown, key, gives, does string }

// answersOf are the keys that answer each form of question. No letter ever answers by itself: it may be the beginning
// of something typed.
var answersOf = map[event.Form][]answer{
	event.FormHold: {
		{"Enter", "enter", engine.Approve, "go on"},
		{"Esc", "esc", engine.StopHere, "stop here, nothing changed"},
	},
	event.FormOperator: {{"Enter", "enter", engine.DoneByMe, "done"}, {"Esc", "esc", engine.StopHere, "stop here"}},
	event.FormDialog: {
		{"Enter", "enter", engine.DoneByMe, "it was answered"},
		{"Esc", "esc", engine.StopHere, "stop here"},
	},
	event.FormFailure: {
		{"Enter", "enter", engine.TryAgain, "repeat the step"},
		{"Esc", "esc", engine.StopHere, "stop"},
	},
	event.FormNewDevice: {
		{"Enter", "enter", engine.Approve, "it is the one"},
		{"Esc", "esc", engine.LeaveIt, "another one, leave it"},
	},
	event.FormIdentity: {
		{"Enter", "enter", engine.Approve, "it is the same, go on"},
		{"Esc", "esc", engine.StopHere, "stop here"},
	},
	event.FormRecord: {
		{"Enter", "enter", engine.TryAgain, "try again"},
		{"Esc", "esc", engine.StopHere, "stop here"},
	},
	event.FormLine: {{"Enter", "enter", line.KeyIsRight, "yes"}, {"Esc", "esc", line.KeyIsWrong, "no"}},
	event.FormOverrun: {
		{"Enter", "enter", engine.WaitOn, "wait on, as long again"},
		{"Esc", "esc", engine.GiveUp, "end the wait: the step failed"},
	},
}

// behind are the answers that take the leader key first.
var behind = []answer{
	{"n", "n", engine.SkipIt, "go on without it"},
	{"w", "w", engine.RollBack, "roll back"},
	{"k", "k", engine.GoUnrecorded, "go on unrecorded"},
}

// asked is the question that keys answer now, nil for none: one of the runbook while the operator has the helm waits
// for it to be given back; and while a second line is shown only its own is answered, since what is typed is that
// line's.
func (a *app) asked() *event.Ask {
	here := a.present()
	ask := here.state.Ask
	switch {
	case ask == nil || ask.Typed:
		return nil
	case a.opt.Answer != nil:
		return ask // servers that serve alone: there is no helm
	case here.session == nil || here.state.Held != nil || here.state.Helm.Who != event.Runbook && ask.Form != event.FormLine:
		return nil // what the operator has begun asks too, and is answered behind the leader key: others go to the device
	}
	return ask
}

// answers are the keys that answer the question that is open.
func (a *app) answers() (all keys.Map) {
	ask := a.asked()
	if ask == nil {
		return nil
	}
	return a.answerKeys(ask)
}

// answerKeys are those of a question, whoever looks at it.
func (a *app) answerKeys(ask *event.Ask) (all keys.Map) {
	for _, one := range answersOf[ask.Form] {
		if ask.Form == event.FormHold && ask.Changed && one.gives == engine.StopHere {
			one.does = "stop here"
		}
		all = append(all, keys.New(one.shown, one.does, a.gives(ask, one.gives), one.key))
	}
	return all
}

// hints are what else may be done while a question is open: keys of others, told where they are looked for.
func (a *app) hints(ask *event.Ask) (all keys.Map) {
	switch ask.Form {
	case event.FormHold:
		all = append(all, keys.New("F3", "show the plan", nil, "f3"))
	case event.FormOverrun:
		all = append(all, keys.Helm.To("take the helm and look", nil))
	case event.FormFailure, event.FormRecord:
		for _, key := range a.answersBehind().Enabled() {
			all = append(all, keys.New(keys.Name(a.opt.Leader)+" "+key.Shown(), key.Does(), nil, key.Keys()...))
		}
	}
	return all
}

// gives answers the question. A key that comes right after the question was for something else and is asked for
// once more.
func (a *app) gives(ask *event.Ask, text string) func() tea.Cmd {
	return keys.Just(func() {
		here, c := a.present(), clock.Real()
		if here.session != nil {
			c = here.session.Clock()
		}
		if wall := c.Wall(c.Since(here.state.AskedAt)); wall < tooSoonAfter && !a.tooSoon {
			a.tooSoon = true
			return
		}
		if here.session == nil {
			a.opt.Answer(ask.ID, text)
			return
		}
		here.session.Answer(ask.ID, text, "operator")
	})
}

// answersBehind are those behind the leader key.
func (a *app) answersBehind() (all keys.Map) {
	ask := a.state.Ask
	for _, one := range behind {
		has := a.session != nil && ask != nil && slices.Contains(ask.Answers, one.gives)
		all = append(
			all,
			keys.New(one.shown, one.does, keys.Just(func() { a.session.Answer(ask.ID, one.gives, "operator") }),
				one.key).
				If(has),
		)
	}
	return all
}

// sends is the key that sends a command which is held at its Enter.
func (a *app) sends() keys.Map {
	here := a.present()
	return keys.Map{keys.New("F9", "sends it", keys.Just(func() { here.session.SendHeld() }), "f9").
		Explain("sends a command that was held at its Enter; any other key forgets that Enter").
		If(here.state.Held != nil && here.session != nil)}
}

// kept are the keys that say what becomes of others which were pressed while a transfer has the line.
func (a *app) kept() keys.Map {
	here := a.present()
	waits := here.session != nil && here.state.Kept > 0
	return keys.Map{
		keys.Helm.On("cancels it and types them", func() { here.session.CancelForKept() }).
			Explain("cancels the transfer and types the keys that were pressed meanwhile").
			If(waits),
		keys.New("Esc", "forgets them", keys.Just(func() { here.session.ForgetKept() }), "esc").
			Explain("forgets the keys that were pressed meanwhile: the transfer goes on").
			If(waits),
	}
}

// attend turns to a question whose answer is typed, and away from one that is over.
func (a *app) attend() {
	here := a.present()
	typed := here.state.Ask != nil && here.state.Ask.Typed && here.session != nil
	switch {
	case typed && !a.replying:
		a.reply(here, here.state.Ask)
	case !typed && a.replying:
		a.over, a.replying = nil, false
	}
	if here.state.Ask != nil || here.state.Held != nil || here.state.Kept > 0 {
		a.locked = false // what is asked is answered by keys
	}
}

// reply has the answer typed in the strip.
func (a *app) reply(here at, ask *event.Ask) {
	input := field.New("")
	input.Secret = ask.Secret
	give := func(text func() string) func() tea.Cmd {
		return keys.Just(func() {
			here.session.Answer(ask.ID, text(), "operator")
			here.state.Ask = nil
			a.over, a.replying = nil, false
		})
	}
	a.replying = true
	a.over = &strip.Prompt{Label: ask.Text, Field: input, Choices: keys.Map{
		keys.New("Enter", "gives it", give(input.Text), "enter"),
		keys.New("Esc", "gives nothing", give(func() string { return "" }), "esc"),
	}}
}
