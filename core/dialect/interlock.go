package dialect

import (
	"regexp"
	"slices"
	"strings"
	"time"
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
}

// Interlocks follow the commands of one session, know what is pending by them, and say which command has to
// be stopped: what the dialect calls a danger, and a restart while something would be lost by it. A nil
// dialect stops nothing. They are used by one goroutine.
type Interlocks struct {
	d    *Dialect
	open []Open
}

// NewInterlocks begins with nothing pending.
func (d *Dialect) NewInterlocks() *Interlocks { return &Interlocks{d: d} }

// plain is a command as the patterns see it: one space between words.
func plain(command string) string { return strings.Join(strings.Fields(command), " ") }

// Typed takes note of a command that went to the device at that time, and tells what is pending by it and
// what it dealt with.
func (k *Interlocks) Typed(command string, now time.Time) (opened, dealt []Open) {
	if k.d == nil {
		return nil, nil
	}
	command = plain(command)
	for _, p := range k.d.pending {
		switch {
		case k.d.matchesMeant(p.until, command):
			dealt = append(dealt, k.drop(func(o Open) bool { return o.Name == p.Pending.Pending })...)
		case k.d.matchesMeant(p.after, command):
			k.drop(func(o Open) bool { return o.Name == p.Pending.Pending })
			one := Open{Name: p.Pending.Pending, Says: p.Says}
			if p.Within != nil {
				one.Until = now.Add(time.Duration(*p.Within))
			}
			k.open = append(k.open, one)
			opened = append(opened, one)
		}
	}
	return opened, dealt
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

// Restarted forgets what was pending: the restart has lost it.
func (k *Interlocks) Restarted() []Open { return k.drop(func(Open) bool { return true }) }

// RanOut forgets what the device has dealt with by itself at that time.
func (k *Interlocks) RanOut(now time.Time) []Open {
	return k.drop(func(o Open) bool { return !o.Until.IsZero() && !o.Until.After(now) })
}

// Pending is what is pending now.
func (k *Interlocks) Pending() []Open { return slices.Clone(k.open) }

// restartWords says what a restart means to what is pending, empty when nothing is.
func (k *Interlocks) restartWords() string {
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

// Stops says why a command has to be stopped at its Enter, empty when it need not be.
func (k *Interlocks) Stops(command string) string {
	if k.d == nil {
		return ""
	}
	command = plain(command)
	if words := k.restartWords(); words != "" && k.Restarts(command) {
		return words
	}
	return k.d.DangerOf(command)
}

// Restarts reports whether a command restarts the device.
func (k *Interlocks) Restarts(command string) bool {
	if k.d == nil {
		return false
	}
	command = plain(command)
	return slices.ContainsFunc(k.d.restarts, func(restart *regexp.Regexp) bool { return k.d.matchesMeant(restart, command) })
}

// Any reports whether the dialect knows anything to stop.
func (k *Interlocks) Any() bool {
	return k.d != nil && (len(k.d.dangers) > 0 || len(k.d.restarts) > 0)
}
