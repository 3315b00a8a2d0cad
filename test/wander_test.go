package test

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/session"
)

var wanderSeeds = flag.Int("wander.seeds", 20, "how many operators wander through each demo")

// TestAnOperatorWhoWanders has an operator do things at random at any moment of both demos: take the helm and give it
// back in every way, type, paste, send held Enters, answer questions, pull the cable, cut the power, kill the program.
// Whatever comes of the run, these hold at every event.
func TestAnOperatorWhoWanders(t *testing.T) {
	t.Parallel()
	for _, demo := range []struct {
		name   string
		device func(t *testing.T) *lying
	}{
		{"rescue", func(t *testing.T) *lying {
			r := newRig(t, "R40-2", 9600, nil, nil)
			return &lying{rig: r, close: r.close}
		}},
		{"bank upgrade", func(t *testing.T) *lying {
			g := newGateway(t, gatewayOptions{present: true})
			return &lying{rig: g.rig, gateway: g, close: g.close}
		}},
	} {
		t.Run(demo.name, func(t *testing.T) {
			t.Parallel()
			for seed := range *wanderSeeds {
				if !sampled(seed) {
					continue
				}
				t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
					synctest.Test(t, func(t *testing.T) {
						l := demo.device(t)
						defer l.close()
						newWanderer(t, l, uint64(seed)).wander()
					})
				})
			}
		})
	}
}

// wanderer is one operator with one run.
type wanderer struct {
	*testing.T
	*lying
	random *rand.Rand
	speed  int
	kill   context.CancelFunc

	mu     sync.Mutex
	obeyed []obeyed // what the device was told
	did    []string // by the operator
}

type obeyed struct {
	at      time.Time
	command string
}

func newWanderer(t *testing.T, l *lying, seed uint64) *wanderer {
	w := &wanderer{T: t, lying: l, random: rand.New(rand.NewPCG(seed, 9))}
	w.speed, _ = l.session.Speed()
	l.machine.Lie(func(command string) bench.Lie {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.obeyed = append(w.obeyed, obeyed{time.Now(), command})
		return bench.Truth
	})
	return w
}

// wander runs the runbook with the operator about, then lets it come to its end.
func (w *wanderer) wander() {
	ctx, kill := context.WithCancel(w.Context())
	defer func() {
		kill()
		time.Sleep(10 * time.Second) // a power cut is over by then
	}()
	w.kill = kill
	ended := make(chan engine.Result, 1)
	go func() {
		result, err := w.session.Run(ctx, w.book)
		assert.NoError(w.T, err)
		ended <- result
	}()
	over := func() bool { return len(find[event.RunEnd](w.rig)) > 0 }
	for range 3 + w.random.IntN(25) {
		time.Sleep(w.moment())
		if over() {
			break
		}
		w.act()
	}
	_ = w.machine.Plug()
	for n := 0; !over(); n++ { // from here on the operator lets it come to an end
		require.Less(w.T, n, 3000, "the run never ends: %s\n%s", strings.Join(w.did, ", "), w.story())
		time.Sleep(10 * time.Second)
		w.settle()
	}
	w.holds(<-ended)
}

// before is what went out and what was decided before a time, for failures.
func (w *wanderer) before(at time.Time) string {
	var lines []string
	for _, e := range w.kept() {
		switch e.Body.(type) {
		case event.In, event.Transfer, event.Probe, event.Shelf, event.Course, event.StepNow, event.Fact:
			continue
		}
		if !e.At.After(at) {
			text, _ := e.MarshalJSON()
			lines = append(lines, e.At.Format("15:04:05.000 ")+string(text[min(len(text), 45):]))
		}
	}
	return strings.Join(w.did, ", ") + "\n" + strings.Join(lines[max(0, len(lines)-60):], "\n")
}

// moment is a while: most are short, some are long.
func (w *wanderer) moment() time.Duration {
	most := []time.Duration{200 * time.Millisecond, 2 * time.Second, 20 * time.Second, 3 * time.Minute}[w.random.IntN(4)]
	return time.Duration(w.random.Int64N(int64(most)))
}

func pick[T any](w *wanderer, of ...T) T { return of[w.random.IntN(len(of))] }

// act does something.
func (w *wanderer) act() {
	acts := []struct {
		name string
		do   func()
	}{
		{"takes the helm", func() { w.session.TakeHelm() }},
		{"gives it back", func() {
			w.session.GiveHelm(pick(w, engine.Resume, engine.Resume, engine.Repeat, engine.GoOn, engine.Stop))
		}},
		{"types", func() {
			w.keys(pick(w, "look self\r", "store\r", "look", "wipe bank B\r", "store empty\r", "recommence\r", "y\r",
				"n\r", "\r", "harbour\r", "lamp-and-tide\r", "\x1b[A", "\x15"))
		}},
		{"pastes", func() {
			w.session.Press([]byte(pick(w, "look banks\rwipe bank A\rlook self\r", "words\rstore empty\r")))
		}},
		{"pastes a text", func() {
			_, _ = w.session.Paste(w.Context(), "words\nstore\n", session.PasteOptions{Timeout: 5 * time.Second})
		}},
		{"sends what is held", func() { w.session.SendHeld() }},
		{"answers", w.answer},
		{"answers", w.answer},
		{"answers", w.answer},
		{"pulls the cable", func() { w.machine.Unplug() }},
		{"plugs it in", func() { _ = w.machine.Plug() }},
		{"cuts the power", func() {
			if w.random.IntN(3) == 0 {
				w.machine.PowerCut(5 * time.Second)
			}
		}},
		{"begins something by hand", w.begins},
		{"ends that", func() {
			for _, e := range w.kept() {
				if deed, ok := e.Body.(event.Deed); ok && w.random.IntN(2) == 0 {
					w.session.EndDeed(deed.ID)
				}
			}
		}},
		{"kills it", func() {
			if w.random.IntN(8) == 0 {
				w.kill()
			}
		}},
	}
	one := pick(w, acts...)
	w.did = append(w.did, one.name)
	one.do()
}

// begins has something done by hand, whatever goes on.
func (w *wanderer) begins() {
	values := map[string]map[string]string{
		"repeat":    {"command": pick(w, "look self", "store", "wipe bank B"), "every": "2s", "until": "never"},
		"expect":    {"text": pick(w, "never", "bank")},
		"take":      {"into": w.TempDir(), "protocol": "ymodem"},
		"interrupt": {"key": pick(w, "Enter", "Space", "Ctrl-C")},
	}
	one := verbs.ByHandNamed(pick(w, slices.Sorted(maps.Keys(values))...))
	book, err := one.Make(verbs.Place{})
	require.NoError(w.T, err)
	p, err := book.Prepare(w.book.Dialect, values[one.Name], runbook.Kit{})
	require.NoError(w.T, err)
	_, _, err = w.session.Do(p, one.Needs)
	w.did = append(w.did, fmt.Sprintf("%s: %v", one.Name, err))
}

func (w *wanderer) keys(text string) {
	if strings.HasPrefix(text, "\x1b") {
		w.session.Press([]byte(text))
		return
	}
	for _, key := range text {
		w.session.Press([]byte(string(key)))
		time.Sleep(time.Duration(w.random.IntN(120)) * time.Millisecond)
	}
}

// open is the question that waits for an answer.
func (w *wanderer) open() (ask event.Ask, open bool) {
	for _, e := range w.kept() {
		switch b := e.Body.(type) {
		case event.Ask:
			ask, open = b, true
		case event.Answer:
			if b.ID == ask.ID {
				open = false
			}
		}
	}
	return ask, open
}

func (w *wanderer) answer() {
	if ask, open := w.open(); open {
		w.session.Answer(ask.ID, pick(w, ask.Answers...), "operator")
	}
}

// settle brings the run to its end: holds are approved, failures stop it, the helm goes back.
func (w *wanderer) settle() {
	w.session.GiveHelm(pick(w, engine.Resume, engine.GoOn, engine.Stop))
	if ask, open := w.open(); open {
		for _, answer := range []string{engine.Approve, engine.DoneByMe, engine.WaitOn, engine.StopHere} {
			if slices.Contains(ask.Answers, answer) && (answer != engine.WaitOn || w.random.IntN(3) > 0) {
				w.session.Answer(ask.ID, answer, "operator")
				return
			}
		}
		if !w.session.Answer(ask.ID, ask.Answers[len(ask.Answers)-1], "operator") {
			w.session.Answer(ask.ID, engine.StopHere, "operator") // some type “st” for a password
		}
	}
}

// holds looks at everything that happened.
func (w *wanderer) holds(result engine.Result) {
	story := func() string { return strings.Join(w.did, ", ") + "\n" + w.story() }
	who, before, running, stopped := "", "", false, false
	var since time.Time
	var open []string // steps that were begun and not ended
	approved, sent := map[string]bool{}, map[string]bool{}
	asks := map[string]event.Ask{}
	for _, e := range w.kept() {
		switch b := e.Body.(type) {
		case event.Helm:
			before, who, since = who, b.Who, e.At
			stopped = stopped || strings.HasSuffix(b.Why, engine.Stop.String())
		case event.Out:
			late := b.Who == before && e.At.Sub(since) <= time.Second                         // it was held back: it might have begun a secret
			if b.Who != event.Answerer && !late && !strings.Contains(b.Who, event.Redacted) { // some type “look” for a password
				require.Equal(w.T, who, b.Who, "one writer at a time\n%s", w.before(e.At))
			}
		case event.RunBegin:
			running = true
		case event.StepBegin:
			require.False(w.T, stopped, "no step after a stop\n%s", story())
			require.True(w.T, running)
			if !slices.Contains(open, b.ID) {
				require.Empty(w.T, open, "a step begins while another is under way\n%s", story())
				open = append(open, b.ID)
			}
		case event.StepEnd:
			open = slices.DeleteFunc(open, func(id string) bool { return id == b.ID })
		case event.RunEnd:
			require.True(w.T, running)
			require.Empty(w.T, open, "every begun step has ended\n%s", story())
			running = false
		case event.Ask:
			asks[b.ID] = b
		case event.Answer:
			if b.Answer == engine.Approve {
				for _, text := range asks[b.ID].Types {
					command, _, _ := strings.Cut(text, "   (")
					approved[command] = true
				}
			}
			stopped = stopped ||
				b.Answer == engine.StopHere && b.Who == "operator" && asks[b.ID].Form != event.FormDialog
		case event.Interlock:
			sent[b.Command] = sent[b.Command] || b.State == event.InterlockSent
		}
	}
	masked := slices.ContainsFunc(slices.Collect(maps.Keys(approved)), // what was approved cannot be read in its words
		func(command string) bool { return strings.Contains(command, event.Redacted) })
	require.False(w.T, running, "the run has its last event\n%s", story())
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, report := range w.obeyed {
		if says := w.book.Dialect.DangerOf(report.command); says != "" {
			require.True(w.T, approved[report.command] || sent[report.command] || masked, "“%s” %s, and nobody said so\n%s",
				report.command, says, w.before(report.at))
		}
	}
	baud, _ := w.session.Speed()
	left := strings.Contains(result.Message, "could not be put back") ||
		strings.Contains(result.Message, "the device may still be at")
	require.True(w.T, baud == w.speed || left, "our end is at %d: %s\n%s", baud, result.Message, story())
	for _, e := range w.kept() {
		text, err := e.MarshalJSON()
		require.NoError(w.T, err)
		require.NotContains(w.T, string(text), "lamp-and-tide")
	}
}
