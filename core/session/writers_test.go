package session

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/state"
)

var writerSeeds = flag.Int("writers.seeds", 15, "how many operators type, begin and end things at random")

// byHand prepares something that is done by hand.
func byHand(t *testing.T, name string, values map[string]string) *runbook.Prepared {
	t.Helper()
	book, err := verbs.ByHandNamed(name).Make(verbs.Place{})
	require.NoError(t, err)
	p, err := book.Prepare(dialect.Generic(), values, runbook.Kit{})
	require.NoError(t, err)
	return p
}

// waitingRun prepares a run that waits, at whatever prompt.
func waitingRun(t *testing.T) *runbook.Prepared {
	t.Helper()
	book, err := runbook.Parse("wait.yaml", []byte("runbook: w\nphases: [{phase: p, steps: [{step: Wait, expect: {text: never}}]}]"))
	require.NoError(t, err)
	p, err := book.Prepare(dialect.Generic(), nil, runbook.Kit{})
	require.NoError(t, err)
	return p
}

// ofRun is all that a view shows of a run.
func ofRun(t *testing.T, s *state.State) string {
	text, err := json.Marshal(map[string]any{
		"run": s.Run, "end": s.RunEnd, "steps": s.Steps, "here": s.Here, "now": s.Doing, "since": s.DoingAt,
		"checks": s.Checks, "preflight": s.Preflight, "ask": s.Ask, "left": s.OfStep() != nil, "estimates": s.Estimates,
	})
	require.NoError(t, err)
	return string(text)
}

// TestADeedInAPausedRunTouchesNothingOfIt has deeds of all needs done while a run is paused: what is shown of the run
// stays as it is, the run stays paused, and goes on when it is given the helm.
func TestADeedInAPausedRunTouchesNothingOfIt(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "lamp.img")
	require.NoError(t, os.WriteFile(path, []byte("lamp"), 0o600))
	deeds := map[string]struct {
		needs    engine.Needs
		prepared func(*testing.T) *runbook.Prepared
		device   func(l *fakeLine) // what it does meanwhile
		outcome  event.Outcome
	}{
		"an offer that is ended": {engine.Nothing, func(t *testing.T) *runbook.Prepared { return waitingDeed(t, dialect.Generic(), laptop()) }, nil, event.Stopped},
		"a file that nobody wants": {engine.Line, func(t *testing.T) *runbook.Prepared {
			return byHand(t, "carry", map[string]string{"file": path})
		}, nil, event.Failed},
		"a file that is cancelled": {engine.Line, func(t *testing.T) *runbook.Prepared {
			return byHand(t, "carry", map[string]string{"file": path})
		}, func(l *fakeLine) {
			for range 3 {
				l.says("C")
				time.Sleep(time.Second)
			}
			l.says("\x18\x18\x18")
		}, event.Failed},
		"a file that does not come": {engine.Line, func(t *testing.T) *runbook.Prepared {
			return byHand(t, "take", map[string]string{"into": folder, "protocol": "ymodem"})
		}, nil, event.Failed},
		"a text that comes": {engine.Nothing, func(t *testing.T) *runbook.Prepared {
			return byHand(t, "expect", map[string]string{"text": "half way"})
		}, func(l *fakeLine) { l.says("\r\nlog: half way\r\n") }, event.Done},
		"a command that is repeated": {engine.Turns, func(t *testing.T) *runbook.Prepared {
			return byHand(t, "repeat", map[string]string{"command": "look", "until": "ready"})
		}, func(l *fakeLine) {
			time.Sleep(10 * time.Second)
			l.says("look")
			time.Sleep(time.Second)
			l.says("\r\nready\r\n> ")
		}, event.Done},
	}
	for name, deed := range deeds {
		t.Run(name, func(t *testing.T) {
			lockedBy(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
				view := state.New()
				see := func() {
					synctest.Wait()
					batch, _ := feed.Next(t.Context())
					for _, e := range batch {
						view.Apply(e)
					}
				}
				ended := make(chan engine.Result, 1)
				go func() {
					result, _ := s.Run(t.Context(), waitingRun(t))
					ended <- result
				}()
				synctest.Wait()
				s.TakeHelm()
				see()
				before := ofRun(t, view)
				require.True(t, view.Running())
				id, advice, err := s.Do(deed.prepared(t), deed.needs)
				require.NoError(t, err)
				if deed.device != nil {
					go deed.device(l)
				}
				if deed.outcome == event.Stopped {
					<-advice
					require.True(t, s.EndDeed(id))
				}
				for range advice { // until it is over
				}
				s.Emit(event.Mark{Text: "it is over"})
				see()
				assert.Equal(t, before, ofRun(t, view))
				assert.Equal(t, event.Hand, view.Helm.Who, "the run is paused")
				assert.Empty(t, view.Deeds)
				typeKeys(s, "x\x15")
				assert.Contains(t, l.got(), "x", "the line is the operator's")
				s.GiveHelm(engine.Stop)
				result := <-ended
				assert.Equal(t, event.Stopped, result.Outcome, result.Message)
			})
		})
	}
}

// TestTheHelmIsAlwaysSomebodys has runs, deeds, keys, wishes and ends in any order: one writer has the helm at a time,
// nothing waits for ever, and in the end it is the operator's.
func TestTheHelmIsAlwaysSomebodys(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lamp.img")
	require.NoError(t, os.WriteFile(path, []byte("lamp"), 0o600))
	for seed := range uint64(*writerSeeds) {
		r := rand.New(rand.NewPCG(seed, 28))
		lockedBy(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
			var ids []string
			runs := 0
			ended := make(chan engine.Result, 100)
			for range 25 {
				switch r.IntN(9) {
				case 0:
					runs++
					go func() {
						result, err := s.Run(t.Context(), waitingRun(t))
						if err != nil {
							result = engine.Result{}
						}
						ended <- result
					}()
				case 1, 2:
					name := []string{"carry", "take"}[r.IntN(2)]
					values := map[string]map[string]string{"carry": {"file": path}, "take": {"into": t.TempDir()}}[name]
					if id, _, err := s.Do(byHand(t, name, values), engine.Line); err == nil {
						ids = append(ids, id)
					}
				case 3:
					if id, _, err := s.Do(byHand(t, "repeat", map[string]string{"command": "look"}), engine.Turns); err == nil {
						ids = append(ids, id)
					}
				case 4:
					s.TakeHelm()
				case 5:
					s.GiveHelm([]engine.Wish{engine.Resume, engine.Repeat, engine.GoOn, engine.Stop}[r.IntN(4)])
				case 6:
					typeKeys(s, []string{"x", "\x15", "look\r", "\x03"}[r.IntN(4)])
				case 7:
					if len(ids) > 0 {
						s.EndDeed(ids[r.IntN(len(ids))])
					}
				case 8:
					l.says([]string{"C", "\r\n> ", "\x18\x18", "x", "\x15", "look"}[r.IntN(6)])
				}
				time.Sleep(time.Duration(r.IntN(5000)) * time.Millisecond)
			}
			for _, id := range ids {
				s.EndDeed(id)
			}
			s.CancelForKept()
			s.TakeHelm()
			time.Sleep(20 * time.Second) // a transfer is cancelled in its own time
			s.GiveHelm(engine.Stop)
			for range runs {
				<-ended
			}
			time.Sleep(20 * time.Second)
			s.do(func() {
				assert.Equal(t, event.Hand, s.helm.who, "seed %d", seed)
				assert.Nil(t, s.helm.borrowed, "seed %d", seed)
				assert.Empty(t, s.helm.cuts, "seed %d", seed)
				assert.Nil(t, s.lent, "seed %d", seed)
				assert.Empty(t, s.deeds.open, "seed %d", seed)
				assert.Empty(t, s.questions.open, "seed %d", seed)
			})
			typeKeys(s, "\x15z")
			time.Sleep(time.Second)
			assert.True(t, strings.HasSuffix(l.got(), "z"), "seed %d: the line is the operator's", seed)
		})
	}
}

// TestKeysAndARepeatedCommandKeepOutOfEachOther has a device that echoes and answers, a command that is repeated, and
// somebody who types at any time: each line that the device gets is whole, and nobody's holds a piece of the other's.
func TestKeysAndARepeatedCommandKeepOutOfEachOther(t *testing.T) {
	for seed := range uint64(*writerSeeds) {
		r := rand.New(rand.NewPCG(seed, 3))
		lockedBy(t, clearing, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
			ctx, end := context.WithCancel(t.Context())
			lines, slow := make(chan []string, 1), r.IntN(2) == 0
			go func() { lines <- talksBack(ctx, l, slow) }()
			_, _, err := s.Do(byHand(t, "repeat", map[string]string{"command": "look state", "every": "1s", "until": "never"}), engine.Turns)
			require.NoError(t, err)
			typed := 0
			for range 12 {
				time.Sleep(time.Duration(r.IntN(9000)) * time.Millisecond)
				typed++
				for _, key := range fmt.Sprintf("say word %d\r", typed) {
					s.Press([]byte(string(key)))
					time.Sleep(time.Duration(r.IntN(300)) * time.Millisecond)
				}
			}
			time.Sleep(20 * time.Second)
			end()
			repeated, said := 0, 0
			for _, line := range <-lines {
				switch line {
				case "look state":
					repeated++
				case "", fmt.Sprintf("say word %d", said+1):
					if line != "" {
						said++
					}
				default:
					t.Errorf("seed %d: the device got %q", seed, line)
				}
			}
			assert.Equal(t, typed, said, "seed %d", seed)
			assert.Greater(t, repeated, 3, "seed %d", seed)
		})
	}
}

// talksBack echoes what it gets, and answers each line; it returns the lines.
func talksBack(ctx context.Context, l *fakeLine, slow bool) (lines []string) {
	line, heard := "", 0
	for ctx.Err() == nil {
		time.Sleep(20 * time.Millisecond)
		all := l.soFar()
		now := all[heard:]
		heard = len(all)
		for _, key := range now {
			if slow {
				time.Sleep(30 * time.Millisecond)
			}
			switch key {
			case '\r':
				lines = append(lines, line)
				line = ""
				l.says("\r\nan answer\r\n> ")
			case 0x15:
				l.says(strings.Repeat("\b \b", len(line)))
				line = ""
			default:
				line += string(key)
				l.says(string(key))
			}
		}
	}
	return lines
}

// TestDeedsOnALineThatIsLost: what needs the line ends and says so, what needs none goes on, and each can be ended; the
// line is the operator's when it is back.
func TestDeedsOnALineThatIsLost(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lamp.img")
	require.NoError(t, os.WriteFile(path, bytes.Repeat([]byte("lamp"), 100_000), 0o600))
	for name, c := range map[string]struct {
		needs  engine.Needs
		values map[string]string
		goesOn bool
	}{
		"carry":     {engine.Line, map[string]string{"file": path}, false},
		"take":      {engine.Line, map[string]string{"into": t.TempDir()}, false},
		"interrupt": {engine.Line, map[string]string{"key": "Enter"}, false},
		"expect":    {engine.Nothing, map[string]string{"text": "never"}, true},
		"repeat":    {engine.Turns, map[string]string{"command": "look"}, true},
		"watch":     {engine.Nothing, map[string]string{"address": "192.0.2.1"}, false},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				lines := []*fakeLine{newFakeLine(), newFakeLine()}
				next := 0
				opener := line.NewOpener(clock.Real())
				opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) {
					next++
					return lines[min(next, len(lines))-1], nil
				})
				s, err := Open(t.Context(), Options{Target: lines[0].Target(), Dialect: dialect.Generic(), Opener: opener})
				require.NoError(t, err)
				feed := s.Subscribe()
				s.Begin()
				lines[0].prompt()
				id, over, err := s.Do(byHand(t, name, c.values), c.needs)
				require.NoError(t, err)
				time.Sleep(time.Second)
				close(lines[0].chunks)
				time.Sleep(time.Minute)
				assert.Equal(t, c.goesOn, s.EndDeed(id), "it has ended by itself, or goes on")
				for range over {
				}
				lines[1].prompt()
				typeKeys(s, "z")
				assert.True(t, strings.HasSuffix(lines[1].got(), "z"), "the line is the operator's: %q", lines[1].got())
				var last event.Deed
				for _, d := range collect[event.Deed](t, feed) {
					last = d
				}
				assert.Equal(t, event.DeedEnded, last.State)
				if name != "watch" {
					assert.NotEqual(t, event.Done, last.Outcome)
					assert.NotEmpty(t, last.Message)
				}
				s.Close("the test ends")
			})
		})
	}
}
