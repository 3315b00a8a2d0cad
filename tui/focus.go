package tui

import (
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/event"
	"pilotrix/tui/course"
	"pilotrix/tui/device"
	"pilotrix/tui/dialects"
	"pilotrix/tui/dryrun"
	"pilotrix/tui/help"
	"pilotrix/tui/images"
	"pilotrix/tui/inputs"
	"pilotrix/tui/keys"
	"pilotrix/tui/plan"
	"pilotrix/tui/reach"
	"pilotrix/tui/runbooks"
	"pilotrix/tui/view"
)

// press gives a key to the first that declares it: what is typed in the strip or its menu, a command that is held, the
// session's question, the frame, the view. What none declares is the strip's or the view's; only the console passes it
// to the device.
func (a *app) press(k tea.KeyPressMsg) tea.Cmd {
	if a.afterthought(k) {
		return nil
	}
	key := k.String()
	live, asks := a.over == nil && a.inConsole() && !a.locked, a.asked() != nil
	switch {
	case key == "esc" && (!live || asks || a.present().state.Kept > 0):
		a.escAt = time.Now()
	case key == "enter" && asks && a.over == nil:
		a.enterAt = time.Now()
	}
	return a.shell.press(k, a.focus())
}

// afterthoughtFor is how long behind an Esc that closed something, or an Enter that answered, one more of it is taken
// for one too many.
const afterthoughtFor = time.Second

// afterthought swallows a key that was pressed once too often: on the live line an Esc would eat the next letter, and
// an Enter would take the helm.
func (a *app) afterthought(k tea.KeyPressMsg) bool {
	if a.over != nil || a.locked || !a.inConsole() || a.asked() != nil || a.present().state.Held != nil ||
		a.present().state.Kept > 0 {
		return false
	}
	switch k.String() {
	case "esc":
		return time.Since(a.escAt) < afterthoughtFor
	case "enter":
		return time.Since(a.enterAt) < afterthoughtFor && a.state.Helm.Who == event.Runbook
	}
	return false
}

// focus is the one order in which keys are looked for.
func (a *app) focus() []keys.Map {
	switch {
	case a.over != nil:
		return []keys.Map{a.over.Keys()}
	case a.locked:
		return []keys.Map{{a.leader()}}
	}
	return []keys.Map{a.kept(), a.sends(), a.answers(), a.playerKeys(), a.frameKeys(), a.view().Keys()}
}

// inConsole reports whether the view is the console.
func (a *app) inConsole() bool { return a.view() == view.View(a.console) }

// allPlaces are the main views in the order of the row of keys.
func (a *app) allPlaces() []place {
	var add func() tea.Cmd
	if a.opt.AddFolder != nil {
		add = a.askFolder
	}
	a.runbooks, a.inputs, a.plan = runbooks.New(a.entries, a.fillIn, a.say), inputs.New(), plan.New()
	a.dialects = dialects.New(a.learn, a.pressEnter)
	var pick, again func() tea.Cmd
	if a.session != nil {
		again = a.readAgain
		if a.opt.Library != nil {
			pick = a.openRunbooks
		}
	}
	places := []place{
		{"f1", "help", "keys and marks", "", help.New(a.help)},
		{"f2", "console", "the live line", "", a.console},
		{"f3", "course", "the runbook step by step, with what each types", "", course.New(a.state, pick)},
		{
			"f4",
			"images",
			"what fits and why not; a digest that is pasted there is compared",
			"",
			images.New(a.state, add, a.say),
		},
		{
			"f5",
			"device",
			"its banks or systems, all that was read, what has changed",
			"",
			device.New(a.state, again, a.showSource, func() { a.show("dry-run") }),
		},
		{"f6", "transfers", "what is staged, each transfer, the ladder of messages", "", view.NewPage(a.transfers)},
		{"f7", "reach", "whether the device answers, and how long it was away", "", reach.New(a.state)},
		{"f8", "events", "what happened, the newest first", "", a.events},
		{
			"",
			"dry-run",
			"what a change would restart, how long that takes, what refuses",
			"device",
			dryrun.New(a.state),
		},
		{"", "runbooks", "what can be carried out", "", a.runbooks},
		{"", "inputs", "what a runbook needs", "runbooks", a.inputs},
		{"", "dialects", "how the device talks", "", a.dialects},
		{"", "plan", "what it would do", "inputs", a.plan},
	}
	for _, one := range a.seconds {
		places = append(places, place{"", one.place(), "what is typed there goes to that line", "", one.console})
	}
	return places
}

// entries is what can be carried out.
func (a *app) entries() []runbooks.Entry {
	if a.opt.Library == nil {
		return nil
	}
	return a.opt.Library.Entries()
}

// showSource shows in the console where a fact was read.
func (a *app) showSource(command string) {
	a.show("console")
	if !a.console.Search(command) {
		a.say("“" + command + "” is not in the console's history any more")
	}
}

// turnTo shows a view; the console's key leads on to those of further lines.
func (a *app) turnTo(name string) {
	if name == "console" {
		name = a.nextConsole()
	}
	a.show(name)
}

// onlyServing leaves the views of servers that work alone.
func (a *app) onlyServing() {
	a.serving, a.home = true, "transfers"
	a.places = slices.DeleteFunc(a.places,
		func(p place) bool { return !slices.Contains([]string{"help", "transfers", "events"}, p.name) })
	a.show("transfers")
}

// show turns to a view; the console is then live. A view that is turned to while every key goes to the device gets
// them: it would offer keys that do nothing, and what is typed for it would be the device's.
func (a *app) show(name string) {
	a.shell.show(name)
	switch {
	case a.inConsole():
		a.console.Live()
	case a.locked && a.presentSecond() == nil:
		a.locked = false
		a.say("the keys are this view's again; " + keys.Lock.After(keys.Name(a.opt.Leader)) + " gives them to the device once more")
	}
}

// frameKeys work in every view.
func (a *app) frameKeys() keys.Map {
	all := a.placeKeys(a.turnTo)
	back := keys.New("Esc", "back", keys.Just(func() { a.show(a.back()) }), "esc").
		Explain("back to the " + a.home + ", or to the view before")
	return append(
		all,
		back.If(a.places[a.shown].name != a.home && a.asked() == nil && a.presentSecond() == nil),
		keys.New("q", "ends it", func() tea.Cmd { return a.leaves }, "q", "ctrl+c").
			Explain("ends it, Ctrl-C too; what is under way is told so").
			If(a.serving),
		keys.Helm.On(a.pauses(), a.pause).
			Explain("pauses the runbook, or gives the helm back to it").
			If(a.session != nil),
		a.leader().If(!a.serving),
	)
}

// rowKeys are those of the row of keys: none that would go to the device.
func (a *app) rowKeys() keys.Map {
	if a.locked {
		return keys.Map{a.leader()}
	}
	return a.frameKeys()
}

func (a *app) leader() keys.Key {
	return keys.New(keys.Name(a.opt.Leader), "more", keys.Just(func() { a.openLeader(false) }), a.opt.Leader)
}

// pauses is what F10 does now, empty for nothing.
func (a *app) pauses() string {
	switch {
	case a.state.Held != nil:
		return ""
	case a.state.Helm.Who == event.ByDeed:
		return "take the line"
	case !a.state.Running():
		return ""
	case a.state.Helm.Who == event.Hand:
		return "give back"
	}
	return "pause"
}

// pause takes the helm, or asks how to give it back.
func (a *app) pause() {
	switch {
	case a.state.Helm.Who == event.ByDeed, a.state.Running() && a.state.Helm.Who == event.Runbook:
		a.session.TakeHelm()
	case !a.state.Running():
		a.say("there is no runbook to pause")
	case a.state.Held != nil: // the strip says what comes first
	default:
		a.handBack()
	}
}
