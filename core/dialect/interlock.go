package dialect

import (
	"cmp"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"pilotrix/core/device"
)

type compiledPending struct {
	Pending
	after, until *regexp.Regexp
}

// Open is something that is pending now. Until is when the device acts by itself, zero where only a restart
// brings the loss.
type Open struct {
	Name, Says string
	Until      time.Time
	begins     bool // with the restart that is to come, which does not end it
}

// Interlocks follow the commands of one session, know what is pending by them, and say which command has to
// be stopped: what the dialect calls a danger, and a restart while something would be lost by it. A nil
// dialect stops nothing. They are used by one goroutine.
type Interlocks struct {
	d       *Dialect
	open    []Open
	running *device.Release // as far as it was read
}

// NewInterlocks begins with nothing pending.
func (d *Dialect) NewInterlocks() *Interlocks { return &Interlocks{d: d} }

// spaced is a command as the patterns see it: one space between words.
func spaced(command string) string { return strings.Join(strings.Fields(command), " ") }

// Typed takes note of a line that went to the device at that time, and says what is pending by it and what it dealt
// with.
func (k *Interlocks) Typed(line string, now time.Time) (opened, dealt []Open) {
	for _, one := range k.d.Means(line, "",
		nil).commands { // in their order: what one leaves pending the next may deal with
		more, less := k.typed(one, now)
		for _, gone := range less {
			opened = slices.DeleteFunc(opened, func(o Open) bool { return o.Name == gone.Name })
		}
		opened, dealt = append(opened, more...), append(dealt, less...)
	}
	return opened, dealt
}

// typed takes note of one command.
func (k *Interlocks) typed(c lineCommand, now time.Time) (opened, dealt []Open) {
	for _, p := range k.d.pending {
		switch {
		case c.may(p.until):
			dealt = append(dealt, k.drop(func(o Open) bool { return o.Name == p.Pending.Pending })...)
		case c.may(p.after):
			k.drop(func(o Open) bool { return o.Name == p.Pending.Pending })
			one := Open{Name: p.Pending.Pending, Says: p.Says, begins: p.Begins == BeginsRestart}
			if within := p.within(c); within > 0 {
				one.Until = now.Add(within)
			}
			k.open = append(k.open, one)
			opened = append(opened, one)
		}
	}
	return opened, dealt
}

// PendingNames are what the dialect calls what can be pending.
func (d *Dialect) PendingNames() (names []string) {
	for _, p := range d.pending {
		names = append(names, p.Pending.Pending)
	}
	return names
}

// DealtWithBy names what is pending no more once a line was typed.
func (d *Dialect) DealtWithBy(line string) (names []string) {
	for _, p := range d.pending {
		if slices.ContainsFunc(d.Means(line, "", nil).commands, func(c lineCommand) bool { return c.may(p.until) }) {
			names = append(names, p.Pending.Pending)
		}
	}
	return names
}

func (k *Interlocks) drop(which func(Open) bool) (dropped []Open) {
	k.open = slices.DeleteFunc(k.open, func(o Open) bool {
		if which(o) {
			dropped = append(dropped, o)
			return true
		}
		return false
	})
	return dropped
}

// BeginsRestart is what something pending begins with that its own command's restart does not end.
const BeginsRestart = "restart"

// within is how long the device waits after that command, 0 where it is not known.
func (p compiledPending) within(c lineCommand) (within time.Duration) {
	if p.Within != nil {
		return time.Duration(*p.Within)
	}
	said := p.after.FindStringSubmatch(c.text)
	for unit, each := range map[string]time.Duration{"hours": time.Hour, "minutes": time.Minute, "seconds": time.Second} {
		if at := p.after.SubexpIndex(unit); at >= 0 && said != nil {
			n, _ := strconv.Atoi(said[at])
			within += time.Duration(n) * each
		}
	}
	return within
}

// Read takes note of what a reading says is left of something, in seconds, and says what is pending by that and is no
// more. What moves by less than a moment is not reported again.
func (k *Interlocks) Read(fact string, seconds float64, now time.Time) (opened, ended []Open) {
	if k.d == nil {
		return nil, nil
	}
	for _, p := range k.d.pending {
		if p.Left != fact {
			continue
		}
		same := func(o Open) bool { return o.Name == p.Pending.Pending }
		if seconds <= 0 {
			ended = append(ended, k.drop(same)...)
			continue
		}
		one := Open{
			Name:  p.Pending.Pending,
			Says:  p.Says,
			Until: now.Add(time.Duration(seconds * float64(time.Second))),
		}
		if known := slices.IndexFunc(k.open, same); known >= 0 && k.open[known].Until.Sub(one.Until).Abs() < moment {
			continue
		}
		k.drop(same)
		k.open = append(k.open, one)
		opened = append(opened, one)
	}
	return opened, ended
}

// moment is what a device's own seconds may differ from ours.
const moment = 2 * time.Second

// Runs takes note of the release that runs, which is not known after a restart: it says which commands are there.
func (k *Interlocks) Runs(release string) {
	if k.d == nil {
		return
	}
	k.running = nil
	if running, err := k.d.Order().Parse(release); err == nil {
		k.running = &running
	}
}

// lacks says that the release that runs does not have a command, empty where it has, or where that is not known.
func (k *Interlocks) lacks(m Meaning) string {
	if k.running == nil {
		return ""
	}
	for _, c := range m.commands {
		for _, known := range k.d.known {
			if known.action == nil || !known.begins(k.d.spelling, strings.Fields(c.text)) {
				continue
			}
			if words := known.action.Lacks(*k.running); words != "" {
				return words
			}
		}
	}
	return ""
}

// Restarted forgets what was pending, which the restart has lost; what begins with it stays.
func (k *Interlocks) Restarted() []Open {
	k.running = nil
	lost := k.drop(func(o Open) bool { return !o.begins })
	k.Begun()
	return lost
}

// Begins reports whether something waits for the restart that it begins with.
func (k *Interlocks) Begins() bool {
	return slices.ContainsFunc(k.open, func(o Open) bool { return o.begins })
}

// Begun takes note that the restart has come which something begins with.
func (k *Interlocks) Begun() {
	for i := range k.open {
		k.open[i].begins = false
	}
}

// Denied puts things right behind a command that the device has not done: what it was to deal with is pending still,
// and what it was to begin is not.
func (k *Interlocks) Denied(opened, dealt []Open) {
	for _, one := range opened {
		k.drop(func(o Open) bool { return o.Name == one.Name })
	}
	for _, one := range dealt {
		k.drop(func(o Open) bool { return o.Name == one.Name })
		k.open = append(k.open, one)
	}
}

// Refused forgets what was to begin with a restart that does not come.
func (k *Interlocks) Refused() []Open { return k.drop(func(o Open) bool { return o.begins }) }

// RanOut forgets what the device has dealt with by itself at that time.
func (k *Interlocks) RanOut(now time.Time) []Open {
	return k.drop(func(o Open) bool { return !o.Until.IsZero() && !o.Until.After(now) })
}

// Assume takes what is pending for granted.
func (k *Interlocks) Assume(open []Open) { k.open = append(k.open, open...) }

// Slept has what the device does by itself come sooner, since our clock stood still for that long, and returns what
// that is.
func (k *Interlocks) Slept(gone time.Duration) (moved []Open) {
	for i := range k.open {
		if open := &k.open[i]; !open.Until.IsZero() {
			open.Until = open.Until.Add(-gone)
			moved = append(moved, *open)
		}
	}
	return moved
}

// Pending is what is pending now.
func (k *Interlocks) Pending() []Open { return slices.Clone(k.open) }

// restartText says what a restart means to what is pending, empty when nothing is.
func (k *Interlocks) restartText() string {
	var lost, waits []string
	for _, o := range k.open {
		if o.Until.IsZero() {
			lost = append(lost, o.Says)
		} else {
			waits = append(waits, o.Says)
		}
	}
	var words []string
	if len(lost) > 0 {
		words = append(words, "restarts the device, and this is lost by it: "+strings.Join(lost, "; "))
	}
	if len(waits) > 0 {
		words = append(words, "restarts the device while this is pending: "+strings.Join(waits, "; "))
	}
	return strings.Join(words, "; ")
}

// Stops says why a line has to be stopped at its Enter, empty when it need not be.
func (k *Interlocks) Stops(line string) string {
	if k.d == nil {
		return ""
	}
	m := k.d.Means(line, "", nil)
	if words := k.lacks(m); words != "" {
		return "will be refused: " + words
	}
	return cmp.Or(k.losesByRestart(m), m.Danger(), k.d.unread(line))
}

// losesByRestart says what a restart on a line means to what is pending by then, by the commands before it on that
// line, too.
func (k *Interlocks) losesByRestart(m Meaning) string {
	then := Interlocks{d: k.d, open: slices.Clone(k.open)}
	for _, one := range m.commands {
		if words := then.restartText(); words != "" && k.d.restartsBy(one) {
			return words
		}
		then.typed(one, time.Time{})
	}
	return ""
}

// unread says of a line that a shell reads why it cannot be read from here, empty where it can.
func (d *Dialect) unread(line string) string {
	if d.Document.Commands.Grammar != GrammarShell || strings.TrimSpace(line) == "" {
		return ""
	}
	if why := readShell(strings.TrimSpace(line)).unread; why != "" {
		return "cannot be read from here: " + why
	}
	return ""
}

// Restarts reports whether a line restarts the device.
func (k *Interlocks) Restarts(line string) bool { return k.d.Means(line, "", nil).Restarts() }

// Any reports whether the dialect knows anything to stop.
func (k *Interlocks) Any() bool {
	return k.d != nil && (len(k.d.dangers) > 0 || len(k.d.restarts) > 0 || k.d.hasGates())
}
