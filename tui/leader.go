package tui

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/session"
	"pilotrix/tui/console"
	"pilotrix/tui/keys"
	"pilotrix/tui/strip"
)

// rare are the keys behind the leader key that are shown once more are asked for; they work all the same.
var rare = []string{"s", "b", "u", "p", "f1", keys.Interlocks.Name, keys.Lock.Name}

// openLeader offers what stands behind the leader key, rarely used keys among it or not.
func (a *app) openLeader(all bool) {
	choices := a.leaderKeys()
	for i, key := range choices {
		named := key.Keys()
		if len(named) > 0 && (!all && slices.Contains(rare, named[0]) || all && named[0] == keys.More.Name) {
			choices[i] = key.Unnamed()
		}
	}
	a.menu(strip.Menu{Choices: choices, Other: func(k tea.KeyPressMsg) tea.Cmd {
		a.over = nil
		if k.String() != "esc" {
			a.say("the leader key has no " + k.String())
		}
		return nil
	}})
}

// leaderKeys stand behind the leader key.
func (a *app) leaderKeys() keys.Map {
	here := a.present() // what is done to a line is done to the one that is shown
	live := a.session != nil
	busy := a.state.Running()
	free := a.lineIsYours()
	first := live && a.presentSecond() == nil
	leader := keys.Name(a.opt.Leader)
	toDevice := func(k tea.KeyPressMsg) tea.Cmd {
		here.session.Press(console.Bytes(tea.Key(k), false))
		return nil
	}
	underWay := keys.Just(func() {
		a.say("a runbook is under way: it ends, or " + keys.Stop.After(leader) + " stops it, before another one begins, or the device is read again")
	})
	return append(
		a.answersBehind(),
		keys.Accept.To(a.acceptText(), a.accept).
			Explain("does what the strip offers: an answer, or what can be done now").
			If(first && a.acceptText() != ""),
		keys.Runbooks.To("runbooks", a.openRunbooks).
			Explain("picks a runbook, or a single action, and carries it out").
			If(first && !busy && a.opt.Library != nil),
		keys.ReadAgain.To("read anew", a.readAgain).
			Explain("reads the device anew, as far as that goes where it is; what has changed is marked in F5").
			If(first && !busy),
		keys.Carry.To("send, receive", func() tea.Cmd {
			return a.byHand(verbs.Sending, "Send", "A file over the line, or straight to the device.",
				keys.New("x", "type a text", a.askText, "x").If(free))
		}).
			Explain("sends a file to a receiver on the line, receives one, puts one, or types a text; a key ends it").
			If(first && a.opt.Library != nil),
		keys.Offer.To("offer", func() tea.Cmd {
			return a.byHand(verbs.Offering, "Offer", "A server of this laptop's, beside whatever else goes on.")
		}).
			Explain("offers a file of the shelf until the device has fetched it, or lets it leave one here").
			If(first && a.opt.Library != nil),
		keys.Watch.To("watch; end what is open", a.openDeeds).
			Explain("watches an address, expects a text, repeats a command; and ends what is open").
			If(first && a.opt.Library != nil),
		keys.GetIn.To("get in", func() tea.Cmd {
			return a.byHand(verbs.Entering, "Get in", "From the power-up on, or from where the device is now.",
				keys.New(keys.LogIn.Name, "log in", a.logIn, keys.LogIn.Name).If(a.loginAction() != ""))
		}).
			Explain("brings the device to a prompt: catches it in a mode, stops it with a key as it starts, logs in").
			If(first && free && a.opt.Library != nil),
		keys.LogIn.To("log in", a.logIn).
			Explain("logs in, with the account that was given in this session, or asks for one").
			If(first && free && a.loginAction() != ""),
		keys.New("", "", underWay, keys.Runbooks.Name, keys.ReadAgain.Name).Unnamed().If(first && busy),
		keys.New("", "", keys.Just(func() {
			a.say("the line is not yours now: " + keys.Helm.Shown + " takes the helm")
		}), keys.LogIn.Name, keys.GetIn.Name).Unnamed().If(first && !free),
		keys.Dialects.To("dialect", a.openDialects).
			Explain("says how the device talks: the likely dialects with what speaks for them, and all others").
			If(first && !busy && a.opt.Dialects != nil),
		keys.Hunt.To("hunt the speed", func() tea.Cmd { return a.hunt(here) }).
			Explain("hunts for the speed the device speaks").
			If(live),
		keys.New("s", "set our speed", func() tea.Cmd { return a.askSpeed(here.session) }, "s").
			Explain("sets our end's speed").
			If(live),
		keys.New("b", "send a break", func() tea.Cmd { return a.sendBreak(here.session) }, "b").If(live),
		keys.New("/", "search", a.askSearch, "/").Explain("searches the console back"),
		keys.Stop.On("stop the runbook", a.stopRun).
			Explain("stops the runbook; the line's speed is put back").
			If(live && busy),
		keys.Interlocks.On("interlocks "+map[bool]string{true: "on", false: "off"}[here.state.LocksOff],
			func() { here.session.SetInterlocks(here.state.LocksOff) }).
			Explain("switches interlocks off for this session, and on again; that is recorded").
			If(live),
		keys.New("u", "charset", keys.Just(func() { here.session.NextCharset() }), "u").
			Explain("takes the next character set for what the device writes: UTF-8, Latin-1, code page 437").If(live),
		keys.New("p", "plain screen", keys.Just(func() { here.session.PlainScreen() }), "p").
			Explain("back to a plain screen, where a full-screen program left its own behind").If(live),
		a.lockKey().If(live),
		keys.Of(leader+", F1–F12", "to the device", toDevice, "f1", "f2", "f3", "f4", "f5", "f6", "f7", "f8", "f9",
			"f10", "f11", "f12", a.opt.Leader).
			Explain("sends that key to the device: the leader key itself, or a function key").
			If(live),
		keys.More.On("more", func() { a.openLeader(true) }).Explain("shows the keys behind the leader that are used rarely, too").
			If(live),
		keys.Quit.To("quit", a.quit).Explain("leaves"),
	)
}

// lineIsYours reports whether neither a runbook nor something else that was begun has the line.
func (a *app) lineIsYours() bool {
	return a.state.Helm.Who != event.Runbook && a.state.Helm.Who != event.ByDeed
}

func (a *app) lockKey() keys.Key {
	does, says := "lock all keys to the device", "gives every key but this one to the device, function keys too, for a full-screen program there; once more gives them back"
	if a.locked {
		does = "give the function keys back"
	}
	return keys.Lock.On(does, func() { a.locked = !a.locked; a.toLine() }).Explain(says)
}

// handBack asks how the runbook goes on after the operator had the helm.
func (a *app) handBack() {
	give := func(wish engine.Wish) func() tea.Cmd {
		return keys.Just(func() { a.session.GiveHelm(wish) })
	}
	first := keys.Map{keys.New("Enter", "repeat this step", give(engine.Repeat), "enter")}
	if a.state.Doing.Resumes {
		first = keys.Map{
			keys.New("Enter", "go on waiting", give(engine.Resume), "enter"),
			keys.New("r", "begin this step again", give(engine.Repeat), "r"),
		}
	}
	next := keys.Map{keys.New("n", "it is done, go on", give(engine.GoOn), "n")}
	if a.state.HandedOver() {
		first, next = keys.Map{keys.New("Enter", "it is enough, go on", give(engine.Resume), "enter")}, nil
	}
	title := "its first step"
	if step := a.state.Present(); step != nil {
		title = step.Title
	}
	a.menu(strip.Menu{
		Mark: "◉", Word: "Helm", Text: "Give the helm back to the runbook, which waits in “" + title + "”.",
		Choices: append(append(first, next...),
			keys.New("x", "stop the runbook", give(engine.Stop), "x"),
			keys.New("Esc", "keep the helm", keys.Just(func() {}), "esc"),
		),
	})
}

// quit leaves; while a runbook is under way, or something that was begun beside it, that is asked first.
func (a *app) quit() tea.Cmd {
	switch {
	case a.session == nil, !a.state.Running() && len(a.state.Deeds) == 0:
		return a.leaves
	case !a.state.Running():
		a.menu(strip.Menu{
			Mark: "◉",
			Word: "Leave",
			Text: "Leaving ends what is open: " + a.openText() + ".",
			Choices: keys.Map{
				keys.New("y", "leave", func() tea.Cmd { return a.leaves }, "y"),
				keys.New("Esc", "stay", keys.Just(func() {}), "esc"),
			},
		})
		return nil
	}
	a.menu(strip.Menu{
		Bad:  true,
		Mark: "▲",
		Word: "Leave",
		Text: "A runbook is under way; leaving stops it, and the line's speed is put back first.",
		Choices: keys.Map{
			keys.New("y", "leave", keys.Just(a.stopAndLeave), "y"),
			keys.New("Esc", "stay", keys.Just(func() {}), "esc"),
		},
	})
	return nil
}

// stopAndLeave stops the runbook first, so that its end puts the line in order.
func (a *app) stopAndLeave() {
	a.leaving = true
	a.stopRun()
	a.say("stopping the runbook and putting the line in order")
}

// stopRun stops the runbook wherever it is.
func (a *app) stopRun() {
	a.session.TakeHelm()
	a.session.GiveHelm(engine.Stop)
}

func (a *app) sendBreak(s *session.Session) tea.Cmd {
	sent := s.Break() // in its turn: behind what was typed before
	return func() tea.Msg { return said(sent(a.ctx), "break sent") }
}

func (a *app) hunt(here at) tea.Cmd {
	if here.state.Helm.Who != event.Hand {
		a.say("something else has the helm: " + keys.Helm.Shown + " takes it")
		return nil
	}
	a.say("hunting for the speed")
	ours, _ := here.session.Speed()
	return func() tea.Msg {
		found, err := here.session.Hunt(a.ctx, here.session.Dialect().Hunt(ours))
		if err == nil && found.Best() == 0 {
			return saidMsg("no speed fits: is the device on?")
		}
		return said(err, fmt.Sprintf("the device speaks %d baud, %.0f %% sure", found.Best(), 100*found.Sure))
	}
}

func said(err error, otherwise string) saidMsg {
	if err != nil {
		return saidMsg(err.Error())
	}
	return saidMsg(otherwise)
}
