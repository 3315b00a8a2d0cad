package dialect

import (
	"regexp"
	"strings"
)

type compiledSave struct {
	after, by *regexp.Regexp
	says      string
}

// Interlocks follow the commands of one session and say which one has to be stopped: what the dialect
// calls a danger, and a restart while something would be lost by it. A nil dialect stops nothing. They
// are used by one goroutine.
type Interlocks struct {
	d       *Dialect
	unsaved []bool // by the dialect's saves
}

// NewInterlocks begins with nothing to lose.
func (d *Dialect) NewInterlocks() *Interlocks {
	k := &Interlocks{d: d}
	if d != nil {
		k.unsaved = make([]bool, len(d.saves))
	}
	return k
}

// plain is a command as the patterns see it: one space between words.
func plain(command string) string { return strings.Join(strings.Fields(command), " ") }

// Typed takes note of a command that went to the device.
func (k *Interlocks) Typed(command string) {
	if k.d == nil {
		return
	}
	command = plain(command)
	for i, save := range k.d.saves {
		switch {
		case save.after.MatchString(command):
			k.unsaved[i] = true
		case save.by.MatchString(command):
			k.unsaved[i] = false
		}
	}
}

// Restarted forgets what was unsaved: the restart has lost it.
func (k *Interlocks) Restarted() { clear(k.unsaved) }

// Unsaved says what a restart would lose, empty when nothing known.
func (k *Interlocks) Unsaved() string {
	var says []string
	for i, unsaved := range k.unsaved {
		if unsaved {
			says = append(says, k.d.saves[i].says)
		}
	}
	return strings.Join(says, "; ")
}

// Stops says why a command has to be stopped at its Enter, empty when it need not be.
func (k *Interlocks) Stops(command string) string {
	if k.d == nil {
		return ""
	}
	command = plain(command)
	if k.Restarts(command) {
		if lost := k.Unsaved(); lost != "" {
			return "restarts the device, and this is lost by it: " + lost
		}
	}
	return k.d.DangerOf(command)
}

// Restarts reports whether a command restarts the device.
func (k *Interlocks) Restarts(command string) bool {
	if k.d == nil {
		return false
	}
	command = plain(command)
	for _, restart := range k.d.restarts {
		if restart.MatchString(command) {
			return true
		}
	}
	return false
}

// Any reports whether the dialect knows anything to stop.
func (k *Interlocks) Any() bool {
	return k.d != nil && (len(k.d.dangers) > 0 || len(k.d.restarts) > 0)
}
