package test

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
	"pilotrix/core/session"
	"pilotrix/demo"
)

// typeAt types a line at the next prompt.
func (r *rig) typeAt(text string) {
	r.session.Press([]byte(text + "\r"))
	time.Sleep(3 * time.Second)
}

// TestTheQuestionnaireTakesEffectAtTheRestart sets the speed the slow way and finds it again.
func TestTheQuestionnaireTakesEffectAtTheRestart(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, approveAll, nil)
		defer r.close()
		time.Sleep(2 * time.Second)
		for _, text := range []string{"setup", "57600", ""} {
			r.typeAt(text)
		}
		assert.Equal(t, 9600, r.machine.Wire().Baud(), "not before the restart")
		r.typeAt("again")
		assert.Equal(t, 57600, r.machine.Wire().Baud())
		found, err := r.session.Hunt(t.Context(), sense.Hunt{Prompts: r.book.Dialect.Prompts()})
		require.NoError(t, err)
		assert.Equal(t, 57600, found.Best())
	})
}

// TestAHuntThatFindsNothingLeavesTheSpeedAsItWas hunts on a device that is off, to its end and cut short: what the
// interface shows is what the line has.
func TestAHuntThatFindsNothingLeavesTheSpeedAsItWas(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		for _, limit := range []time.Duration{time.Hour, 100 * time.Millisecond, 1500 * time.Millisecond, 3 * time.Second} {
			r := newRig(t, "R40-2", 38400, approveAll, nil)
			r.machine.PowerOff()
			ctx, cancel := context.WithTimeout(t.Context(), limit)
			found, err := r.session.Hunt(ctx, r.book.Dialect.Hunt(38400))
			cancel()
			require.Equal(t, limit < time.Hour, errors.Is(err, context.DeadlineExceeded), "%v", err)
			require.Zero(t, found.Best())
			ours, can := r.session.Speed()
			require.True(t, can)
			require.Equal(t, 38400, ours)
			synctest.Wait()
			shown := 38400
			for _, e := range find[event.Speed](r) {
				require.Equal(t, shown, e.From, "each goes on from the one before")
				shown = e.To
			}
			require.Equal(t, 38400, shown, "cut off after %s", limit)
			r.close()
		}
	})
}

// TestNoSpeedIsHuntedWhereTextComes rescues a router that is switched on, later and later, behind the right speed: what
// it says as it boots is proof enough.
func TestNoSpeedIsHuntedWhereTextComes(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		for late := time.Duration(0); late < 8*time.Second; late += 700 * time.Millisecond {
			r := newRig(t, "R40-2", 9600, approveAll, nil)
			r.machine.PowerCut(time.Second)
			time.Sleep(late)
			result := r.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
			for _, e := range find[event.Speed](r) {
				require.NotContains(t, e.Why, "tried", "switched on %s before\n%s", late, r.story())
			}
			r.close()
		}
	})
}

const lookBook = `
runbook: look
title: Look
phases:
  - phase: look
    steps:
      - {step: Find it, catch: {mode: monitor}}
      - {step: Read the store, read: [store]}
`

// TestTheSpeedThatWasFoundLaterWins has the operator, or a hunt, find that the device speaks another speed than the
// session began with.
func TestTheSpeedThatWasFoundLaterWins(t *testing.T) {
	t.Parallel()
	for name, set := range map[string]func(*rig){
		"a hunt":   func(*rig) {},
		"the hand": func(r *rig) { require.NoError(r.t, r.session.SetSpeed(r.t.Context(), 9600, "set by hand")) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				r := newRig(t, "R40-2", 115200, approveAll, func(r *rig, e event.Event) {
					if _, begun := e.Body.(event.RunBegin); begun {
						set(r)
					}
				})
				defer r.close()
				book, err := runbook.Parse("look.yaml", []byte(lookBook))
				require.NoError(t, err)
				r.book, err = book.Prepare(r.book.Dialect, nil, runbook.Kit{})
				require.NoError(t, err)
				result := r.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
				ours, _ := r.session.Speed()
				assert.Equal(t, 9600, ours, r.story())
				assert.Equal(t, 9600, r.machine.Wire().Baud())
			})
		})
	}
}

// TestAnEmptiedStoreIsNoticed empties the store where one file was meant: the rescue works, and says
// at the end what is missing.
func TestAnEmptiedStoreIsNoticed(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, approveAll, nil)
		defer r.close()
		time.Sleep(2 * time.Second)
		r.typeAt("store empty")
		require.Len(t, find[event.Interlock](r), 1, "held at its Enter")
		require.Len(t, r.router.Store.Files(), 2)
		require.True(t, r.session.SendHeld())
		time.Sleep(3 * time.Second)
		r.typeAt("y")
		time.Sleep(10 * time.Second)
		require.Len(t, r.router.Store.Files(), 0)
		result := r.run()
		require.Equal(t, event.Failed, result.Outcome, "%s\n%s", result.Message, r.story())
		assert.Contains(t, result.Message, "configuration: want saved, taken over, the device says factory settings")
	})
}

const rollbackBook = `
runbook: there-and-back
title: There and back
phases:
  - phase: there
    steps:
      - {step: Find it, catch: {mode: monitor}}
      - {step: Read the store, read: [store]}
      - step: Remove a file
        act: {action: remove-file, with: {name: '${store.broken}'}}
      - step: Never holds
        check: {holds: store.free < 0, message: 'there are ${store.free} B'}
        on-failure: {do: roll-back}
rollback:
  about: look at what is left
  steps:
    - {step: Read the store again, read: [store]}
`

func TestAFailureGoesTheRollback(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		r := newRig(t, "R40-2", 9600, approveAll, nil)
		defer r.close()
		book, err := runbook.Parse("there-and-back.yaml", []byte(rollbackBook))
		require.NoError(t, err)
		r.book, err = book.Prepare(r.book.Dialect, nil, runbook.Kit{})
		require.NoError(t, err)
		result := r.run()
		require.Equal(t, event.RolledBackBut, result.Outcome, "%s\n%s", result.Message, r.story())
		assert.Equal(t, engine.ExitRolledBack, result.Exit)
		assert.Contains(t, result.Message, "B; not put back: what these have changed: “Remove a file”")
	})
}

// TestPlanSendsNothing holds that a plan needs no device and shows no secret.
func TestPlanSendsNothing(t *testing.T) {
	args := rescueArgs(t, "none")
	plan := exec.Command(program, "plan", "rescue-over-serial", "--dialect", "brindle-r40", args[4], args[5], args[6],
		args[7], args[8], args[9])
	plan.Env = append(os.Environ(), "DEVICE_PASSWORD=lamp-and-tide")
	out, err := plan.CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, want := range []string{"store drop ${store.broken}", "rate 115200", "take x tern-4.2.1.brm", "start tern-4.2.1.brm", "▲ 2.1", "◇ 5.1", "rollback:", "Nothing was sent"} {
		assert.Contains(t, string(out), want)
	}
	assert.NotContains(t, string(out), "lamp-and-tide")
}

// TestBenchFromAnotherProcess runs a device alone and finds its speed through its path.
func TestBenchFromAnotherProcess(t *testing.T) {
	device := exec.Command(program, "bench", "hollow-rtr1", "--time-scale", "20")
	out, err := device.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, device.Start())
	defer func() {
		require.NoError(t, device.Process.Signal(syscall.SIGTERM))
		require.NoError(t, device.Wait())
	}()
	path, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	hunt := exec.Command(program, "hunt", "serial:"+strings.TrimSpace(path)+"?speed=115200", "--dialect", "brindle-r40",
		"--logbook", "none")
	said, err := hunt.CombinedOutput()
	require.NoError(t, err, "%s", said)
	assert.Contains(t, string(said), "9600 baud, 100 % sure")
}

// TestUnpluggedForReal pulls a pseudo-terminal away under a session and brings another one back under
// the same name.
func TestUnpluggedForReal(t *testing.T) {
	c := clock.Scaled(8)
	machine, _, err := demo.Machine("hollow-rtr1", c, false, nil, nil)
	require.NoError(t, err)
	require.NoError(t, machine.Start())
	defer machine.Stop()
	opener := line.NewOpener(c)
	opener.Register(line.Bench,
		func(ctx context.Context, t line.Target) (line.Line, error) { return machine.Open(ctx, opener, t) })
	s, err := session.Open(t.Context(), session.Options{
		Target: line.Target{Kind: line.Bench, Address: "hollow-rtr1", Speed: 9600},
		Clock:  c,
		Opener: opener,
	})
	require.NoError(t, err)
	defer s.Close("the test ends")
	feed := s.Subscribe()
	s.Begin()
	awaitLine := func(state string) {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		for {
			batch, err := feed.Next(ctx)
			require.NoError(t, err, "never %s", state)
			for _, e := range batch {
				if l, ok := e.Body.(event.Line); ok && l.State == state {
					return
				}
			}
		}
	}
	awaitLine(event.LineOpen)
	machine.Unplug()
	awaitLine(event.LineLost)
	require.NoError(t, machine.Plug())
	awaitLine(event.LineBack)
}

// TestSendAndReceive lets two programs move a file between them over sockets.
func TestSendAndReceive(t *testing.T) {
	t.Parallel()
	for _, by := range []string{"xmodem-1k", "ymodem", "ymodem-g"} {
		folder := tempDir(t)
		ends := bridge(t, folder)
		sent := randomFile(t, 50_000)
		to := folder
		if by == "xmodem-1k" {
			to = filepath.Join(folder, filepath.Base(sent))
		}
		receive := exec.Command(program, "receive", "--on", "unix:"+ends[1], "--protocol", by, "--to", to, "--logbook",
			"none")
		require.NoError(t, receive.Start())
		out, err := exec.Command(program, "send", sent, "--on", "unix:"+ends[0], "--protocol", by, "--logbook", "none").
			CombinedOutput()
		require.NoError(t, err, "%s: %s", by, out)
		require.NoError(t, receive.Wait())
		want, err := os.ReadFile(sent)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(folder, filepath.Base(sent)))
		require.NoError(t, err)
		require.GreaterOrEqual(t, len(got), len(want))
		assert.Equal(t, want, got[:len(want)], by)

		again, err := exec.Command(program, "receive", "--on", "unix:"+ends[1], "--protocol", by, "--to", to,
			"--logbook", "none").
			CombinedOutput()
		require.Error(t, err, "the bridge is gone: %s", again)
	}
}

// bridge joins two sockets once.
func bridge(t *testing.T, folder string) [2]string {
	t.Helper()
	var paths [2]string
	var conns [2]chan net.Conn
	for i := range paths {
		paths[i] = filepath.Join(folder, []string{"a", "b"}[i])
		server, err := net.Listen("unix", paths[i])
		require.NoError(t, err)
		conns[i] = make(chan net.Conn, 1)
		go func() {
			conn, err := server.Accept()
			_ = server.Close()
			if err == nil {
				conns[i] <- conn
			}
			close(conns[i])
		}()
	}
	go func() {
		a, b := <-conns[0], <-conns[1]
		if a == nil || b == nil {
			return
		}
		go func() { _, _ = io.Copy(b, a) }()
		_, _ = io.Copy(a, b)
	}()
	return paths
}
