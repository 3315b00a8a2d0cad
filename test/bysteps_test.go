package test

import (
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"pilotrix/bench"
	"pilotrix/core/event"
)

// byHand is one step of a change that is made by hand, and what is known after it.
type byHand struct {
	press string
	fact  string // that is shown then, as name=value
	old   string // the fact that is said to be old
	says  string // what is said of it
}

var bySteps = map[string][]byHand{
	"gateway": {
		{press: "look banks\r", fact: "choice.next=A"},
		{press: "look self\r", fact: "running.release=7.4.2"},
		{press: "favour B\r", old: "choice.next", says: "“favour B” was done: bank B is next"},
		{press: "look banks\r", fact: "choice.next=B"},
		{press: "LO BA\r", fact: "choice.stowed=A"},
		{press: "favour C\r", old: "choice.next", says: "“favour C” did not say that it was done"},
		{press: "stow\ry\r", old: "choice.stowed", says: "“stow” was done: stowed, bank B is next"},
		{press: "look banks\r", fact: "choice.stowed=B"},
		{press: "look banks | B\r", fact: "choice.stowed=B"},
		{press: "recommence\r", old: "running.release", says: "back after 2 min"},
		{press: "look self\r", fact: "running.release=7.2.0", says: "since its restart it runs 7.2.0"},
		{press: "look banks\r", fact: "standby.release=7.4.2"},
	},
	"edge router": {
		{press: "view systems\r", fact: "trial.state=open"},
		{press: "view self\r", fact: "running.release=5.4"},
		{press: "view systems\rview self\r", fact: "lasting.release=5.2"},
		{press: "settle\r", old: "trial.state", says: "“settle” was done"},
		{press: "view systems\r", fact: "trial.state=settled"},
		{press: "anchor\r", old: "lasting.release", says: "“anchor” was done"},
		{press: "view systems\r", fact: "lasting.release=5.4"},
		{press: "view nothing\r", fact: "lasting.release=5.4"},
		{press: "swing 5.2 20\r", old: "running.release", says: "back after"},
		{press: "view self\r", fact: "running.release=5.2", says: "since its restart it runs 5.2"},
		{press: "view systems\r", fact: "trial.state=open"},
	},
	"stack": {
		{press: "report self\r", fact: "running.release=3.1"},
		{press: "report banks\r", fact: "banks=6 rows"},
		{press: "report clock\r", fact: "timed.left=0"},
		{press: "first B\r", old: "banks"},
		{press: "report banks\r", fact: "banks=6 rows"},
		{press: "tumble in 30\r", old: "timed.left"},
		{press: "report clock\r", fact: "timed.state=every"},
		{press: "tumble never\r", old: "timed.state", says: "“tumble never” was done"},
		{press: "report clock\r", fact: "timed.left=0"},
		{press: "board 2\r", fact: "timed.left=0"},
		{press: "report ring\r", fact: "ring.state=closed"},
	},
	"small router": {
		{press: "what self\r", fact: "running.release=6.4"},
		{press: "what layers\r", fact: "board.release=6.4"},
		{press: "what tray\r", fact: "tray.files=0 rows"},
		{press: "what features\r", fact: "listed.features=4"},
		{press: "turn over\r", old: "running.release", says: "back after"},
		{press: "what self\r", fact: "running.release=6.4", says: "since its restart it runs 6.4"},
		{press: "what layers\r", fact: "board.release=6.4"},
	},
	"controller": {
		{press: "about\r", fact: "running.release=3.4"},
		{press: "services\r", fact: "service.feed=off"},
		{press: "service feed on\r", old: "service.feed"},
		{press: "services\r", fact: "service.feed=on"},
		{press: "service feed off\r", old: "service.feed"},
		{press: "services\r", fact: "service.feed=off"},
		{press: "image\r", fact: "collected.state=idle"},
		{press: "points\r", fact: "points.number=12"},
		{press: "verify\r", old: "collected.state", says: "“verify” was not done"},
		{press: "image\r", fact: "collected.state=idle"},
	},
	"router": {
		{press: "tell release\r", fact: "running.release=4.0.7"},
		{press: "tell entry\r", fact: "entry.kept=tern-4.0.7.brm"},
		{press: "tell store\r", fact: "store.images=2 rows"},
		{press: "begin with tern-3.9.4.brm\r", old: "entry.now", says: "“begin with tern-3.9.4.brm” was done"},
		{press: "tell entry\r", fact: "entry.now=tern-3.9.4.brm"},
		{press: "keep\r", old: "entry.kept", says: "“keep” was done"},
		{press: "tell entry\r", fact: "entry.kept=tern-3.9.4.brm"},
		{press: "drop tern-3.9.4.brm\r", old: "store.images"},
		{press: "tell store\r", fact: "store.images=1 row"},
		{press: "restart\r", says: "starts next: tern-3.9.4.brm — not in its store as a whole image, as read"},
	},
}

// TestAChangeMadeByHandIsFollowed makes a change of each family's by hand, step by step: after each of them what is
// shown is what the device is, what it has changed is said to be old, and what it was answered is said.
func TestAChangeMadeByHandIsFollowed(t *testing.T) {
	t.Parallel()
	steps := 0
	for name, made := range handled() {
		steps += len(bySteps[name])
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				o := &atTheKeys{
					T:      t,
					hands:  made(t, awkwardness{on: bench.Awkward{}}, nil),
					random: rand.New(rand.NewPCG(1, 26)),
				}
				defer o.close()
				o.press("\r")
				o.logsIn()
				for _, step := range bySteps[name] {
					o.takes(step)
				}
			})
		})
	}
	assert.GreaterOrEqual(t, steps, 60)
}

// takes makes one step, sends what an interlock holds, and answers yes.
func (o *atTheKeys) takes(step byHand) {
	said := len(o.said())
	for line := range strings.SplitAfterSeq(strings.TrimSuffix(step.press, "\r"), "\r") {
		if !strings.HasSuffix(line, "\r") {
			line += "\r"
		}
		o.press(line)
		o.rest()
	}
	held := o.said()[said:]
	if o.session.SendHeld() {
		o.rest()
	}
	if strings.Contains(o.line(), "(y/n)") {
		o.press("y\r")
		o.rest()
	}
	if strings.HasPrefix(step.says, "back") {
		time.Sleep(4 * time.Minute)
		o.press("\r")
		o.logsIn()
	}
	o.rest()
	facts := o.session.Facts()
	if name, want, ok := strings.Cut(step.fact, "="); ok {
		fact, known := facts.Get(name)
		assert.True(o, known && !facts.Old(fact), "%q: %s is not read, or old", step.press, name)
		assert.Equal(o, want, fact.Text, "%q: %s", step.press, name)
	}
	if step.old != "" {
		fact, known := facts.Get(step.old)
		assert.True(o, known && facts.Old(fact), "%q: %s is not said to be old", step.press, step.old)
	}
	if step.says != "" {
		assert.Contains(o, strings.Join(append(held, o.said()[said:]...), "\n"), step.says, "%q", step.press)
	}
}

// said is all that was said so far: notes, and what an interlock says.
func (o *atTheKeys) said() (all []string) {
	synctest.Wait()
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, e := range o.events {
		switch b := e.Body.(type) {
		case event.Note:
			all = append(all, b.Text)
		case event.Interlock:
			all = append(all, b.Says+" "+strings.Join(b.Now, "; "))
		}
	}
	return all
}
