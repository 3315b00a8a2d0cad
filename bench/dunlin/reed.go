package dunlin

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/bench"
)

// reed is the operating system, from its start to the restart.
type reed struct {
	*Router
	*bench.Shell
	begun time.Time
}

// features are what releases can do, each from its first one on.
var features = []struct{ name, since string }{
	{"night-dimming", "6.0"}, {"two-uplinks", "6.2"}, {"gauge-alarm", "6.4"}, {"fast-lanes", "6.4"},
}

func (x *reed) run() {
	if x.boot(); !x.OK() {
		return
	}
	x.begun = x.Wire.Clock().Now()
	x.lan.SetUp(x.Address.Addr(), true)
	x.Wire.Answer()
	x.Text, x.LogsOut = x.words(), true
	x.Prompt = func() string { return x.HostName + " ) " }
	_ = x.Serve(func() bench.Login {
		return bench.Login{
			Name: x.HostName + " user: ", Word: "word: ", Refusal: "not one of ours", Login: x.Login,
			Knows: func(name, word string) bool { return name == x.Login && word == x.Word },
		}
	})
}

func (x *reed) boot() {
	if x.TakeWarm() {
		return
	}
	x.Wait(boots + time.Duration(x.apply())*applies)
}

func (x *reed) words() []bench.Word {
	return []bench.Word{
		x.Help("words"),
		{Form: "what self", About: "what this is", Run: x.whatSelf},
		{Form: "what layers", About: "the parts and the board, and what they run", Run: x.whatLayers},
		{Form: "what tray", About: "what was dropped, to be applied at a restart", Run: x.whatTray},
		{Form: "what features", About: "what this release can do, and what is used of it", Run: x.whatFeatures},
		{Form: "toss NAME", About: "remove what was dropped", Run: x.toss, Grave: true},
		{
			Form:  "board take",
			About: "have the board take the firmware that the release brings, at the next restart",
			Run:   x.boardTake,
			Grave: true,
		},
		{Form: "lend setup ADDRESS NAME", About: "leave the setup on a server by TFTP", Run: x.lend, Grave: true},
		{Form: "turn over", About: "restart, and apply what is newer", Run: x.turnOver},
		{Form: "turn over down", About: "restart, and apply what is older, too", Run: x.turnOverDown},
		x.Leave("quit"),
	}
}

func (x *reed) whatSelf([]string) error {
	x.Mu.Lock()
	release := x.release()
	x.Mu.Unlock()
	x.Fields("name", x.HostName, "model", x.Model, "serial", x.Serial, "architecture", x.Architecture, "address",
		x.Address, "release", release, "up", x.Wire.Clock().Since(x.begun).Round(time.Second))
	return nil
}

func (x *reed) whatLayers([]string) error {
	x.Mu.Lock()
	defer x.Mu.Unlock()
	out := "  layer   release  state  brings\r\n"
	for _, p := range x.parts {
		state := "runs"
		if p.Release != x.release() {
			state = "rests"
		}
		out += fmt.Sprintf("  %-6s  %-7s  %-5s  -\r\n", p.Name, p.Release, state)
	}
	out += fmt.Sprintf("  %-6s  %-7s  %-5s  %s\r\n", "board", x.board, "runs", x.release())
	if x.taken != "" {
		out += "  board takes " + x.taken + " at the next restart\r\n"
	}
	x.Say(out)
	return nil
}

func (x *reed) whatTray([]string) error {
	for _, f := range x.tray.Files() {
		state := "whole"
		if f.Broken {
			state = "open"
		}
		x.Sayf("  %-26s %11s B  %-5s  sha256 %x\r\n", f.Name, bench.Commas(len(f.Data)), state, sha256.Sum256(f.Data))
	}
	x.Sayf("  room                       %11s B\r\n", bench.Commas(x.tray.Free()))
	return nil
}

func (x *reed) whatFeatures([]string) error {
	x.Mu.Lock()
	defer x.Mu.Unlock()
	count := 0
	for _, f := range features {
		if !bench.Older(x.release(), f.since) {
			count++
			x.Sayf("  %-14s  since %-4s  %s\r\n", f.name, f.since,
				map[bool]string{true: "used", false: "not used"}[slices.Contains(x.Uses, f.name)])
		}
	}
	x.Sayf("  %d in all\r\n", count)
	return nil
}

func (x *reed) toss(args []string) error {
	if !x.tray.Drop(args[0]) {
		return fmt.Errorf("no %s in the tray", args[0])
	}
	x.Sayf("  %s is gone\r\n", args[0])
	return nil
}

func (x *reed) boardTake([]string) error {
	x.Mu.Lock()
	from, to := x.board, x.release()
	x.Mu.Unlock()
	if from == to {
		return errors.New("the board has " + to + " already")
	}
	if !x.Yes(fmt.Sprintf("  the board goes from %s to %s. Go on?", from, to)) {
		return errors.New("nothing done")
	}
	if !x.Dots("  writing ", 8, 6*time.Second, " ") || !x.Stall() {
		return nil
	}
	x.Mu.Lock()
	x.taken = to
	x.Mu.Unlock()
	x.Sayf("taken: %s from the next restart on\r\n", to)
	return nil
}

func (x *reed) lend(args []string) error {
	text := strings.Join(
		[]string{"name " + x.HostName, "lan " + x.Address.String(), "uses " + strings.Join(x.Uses, " ")}, "\n") + "\n"
	if err := x.net.Leave(x.Context(), args[0], args[1], []byte(text)); err != nil {
		return fmt.Errorf("not lent: %w", err)
	}
	x.Say("  lent\r\n")
	return nil
}

func (x *reed) turnOver([]string) error { return x.turn(false) }

func (x *reed) turnOverDown([]string) error { return x.turn(true) }

func (x *reed) turn(down bool) error {
	if !x.Yes("  turn over now?") {
		return errors.New("nothing done")
	}
	x.Mu.Lock()
	x.down = down
	x.Mu.Unlock()
	x.Say("  turning over\r\n")
	return bench.ErrRestart
}
