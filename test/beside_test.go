package test

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
	"pilotrix/demo"
)

// besideBook types on two lines: what it reads on the second, it holds against what the first says.
const besideBook = `
runbook: two-lines
title: Two lines
inputs:
  - {input: user, kind: text}
  - {input: password, kind: secret}
phases:
  - phase: do it
    steps:
      - {step: Find it, catch: {mode: admin}}
      - {step: Find it there, on: console, catch: {mode: user}}
      - {step: Choose the other bank, act: {action: choose-bank, with: {bank: B}}}
      - {step: Read the banks there, on: console, read: [banks]}
      - {step: Wait there, on: console, hold: Restarts., timeout: 1h, wait: {mode: [login]}}
      - {step: Read it here, read: [self]}
rollback: {about: nothing}
`

// onTwoLines is a gateway with another line beside its first: the console of one more gateway stands for it, so that it
// can be seen which of both was typed on.
func onTwoLines(t *testing.T, on func(g, other *rig, e event.Event), use func(t *testing.T, g *gateway, other *rig)) {
	synctest.Test(t, func(t *testing.T) {
		lan := bench.NewLAN(true, 9)
		beside := bench.New("second", demo.Gateway(lan, smallImage), clock.Real(), true)
		require.NoError(t, beside.Start())
		d, err := shipped.Dialect("cormel-g2")
		require.NoError(t, err)
		opener := line.NewOpener(clock.Real())
		opener.Register(line.Bench, func(ctx context.Context, target line.Target) (line.Line, error) {
			return beside.Open(ctx, opener, target)
		})
		target, err := line.ParseTarget("bench:second")
		require.NoError(t, err)
		other := &rig{t: t, machine: beside, done: make(chan struct{})}
		other.session, err = session.Open(t.Context(), session.Options{Target: target, Dialect: d, Opener: opener})
		require.NoError(t, err)
		other.listen(nil)
		restart := func(ask event.Ask) string {
			beside.PowerCut(time.Second)
			time.Sleep(5 * time.Second) // it writes again by then
			return approveAll(ask)
		}
		g := newGateway(t, gatewayOptions{
			book:    besideBook,
			inputs:  map[string]string{},
			approve: restart,
			on:      func(g *gateway, e event.Event) { on(g.rig, other, e) },
		})
		defer g.close()
		defer other.close()
		use(t, g, other)
	})
}

func noticeNothing(_, _ *rig, _ event.Event) {}

func TestAStepTypesOnTheLineThatItSays(t *testing.T) {
	onTwoLines(t, func(g, other *rig, e event.Event) {
		if begin, ok := e.Body.(event.StepBegin); ok && begin.ID == "1.5" {
			go func() { // the operator types there, and gives the helm back on the first line
				time.Sleep(20 * time.Second)
				other.session.Press([]byte("\x15")) // what is typed would stand at the login
				time.Sleep(time.Minute)
				g.session.GiveHelm(engine.Resume)
			}()
		}
	}, func(t *testing.T, g *gateway, other *rig) {
		g.session.Extra("console", other.session)
		result := g.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s\n%s", result.Message, g.story(), other.story())
		assert.Contains(t, g.typed(), "favour B")
		assert.NotContains(t, g.typed(), "look banks")
		assert.Contains(t, other.typed(), "look banks")
		assert.NotContains(t, other.typed(), "favour")
		for _, e := range other.kept() {
			text, err := e.MarshalJSON()
			require.NoError(t, err)
			require.NotContains(t, string(text), "lamp-and-tide", "what is secret on one line is so on the other")
		}
		var helms []string
		for _, h := range find[event.Helm](other) {
			helms = append(helms, h.Who)
		}
		assert.Equal(t, event.Hand, helms[len(helms)-1], "the line is the hand's when no step types on it")
		var here []string
		for _, h := range find[event.Helm](g.rig) {
			here = append(here, h.Who+": "+h.Why)
		}
		assert.Contains(t, here, event.Hand+": taken on another line", "there is one helm")
	})
}

func TestARunbookForTwoLinesNeedsBoth(t *testing.T) {
	onTwoLines(t, noticeNothing, func(t *testing.T, g *gateway, _ *rig) {
		_, err := g.session.Run(t.Context(), g.book)
		assert.EqualError(t, err,
			"the runbook types on the line console too, which is not open: open it with --also console=TARGET, such as --also console=serial:/dev/ttyUSB0")
		plan := g.book.Plan(&device.Facts{})
		assert.Equal(t, "console", plan.Steps[3].Types[0].On)
		assert.Contains(t, plan.Steps[3].Types[0].Line(), "(on the line console)")
		assert.Empty(t, plan.Steps[2].Types[0].On)
	})
}

// TestTheOtherLineIsLost pulls the second line while a step waits there: it is waited for, and the step goes on.
func TestTheOtherLineIsLost(t *testing.T) {
	onTwoLines(t, func(_, other *rig, e event.Event) {
		if begin, ok := e.Body.(event.StepBegin); ok && begin.ID == "1.5" && begin.Try == 1 {
			go func() {
				other.machine.Unplug()
				time.Sleep(20 * time.Second)
				_ = other.machine.Plug()
			}()
		}
	}, func(t *testing.T, g *gateway, other *rig) {
		g.session.Extra("console", other.session)
		result := g.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s\n%s", result.Message, g.story(), other.story())
		var states []string
		for _, l := range find[event.Line](other) {
			states = append(states, l.State)
		}
		assert.Contains(t, states, event.LineLost)
		assert.Contains(t, states, event.LineBack)
	})
}
