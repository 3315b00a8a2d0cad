package dialect

import (
	"fmt"
	"strings"

	"pilotrix/core/device"
)

// Which actions a release has. A command that exists from a release on may be refused by an older one only after
// minutes, so that it is not typed there.

// What expressions call whether the running release has an action, and why it does not: can.NAME and lacks.NAME.
const (
	Can   = "can"
	Lacks = "lacks"
)

func expressionName(action string) string { return strings.ReplaceAll(action, "-", "_") }

// ofGates reports whether a dotted name is one of those.
func (d *Dialect) ofGates(name string) bool {
	first, rest, _ := strings.Cut(name, ".")
	if first != Can && first != Lacks {
		return false
	}
	for action := range d.actions {
		if rest == expressionName(action) {
			return true
		}
	}
	return rest == ""
}

// Gated reports whether it depends on the release that runs.
func (a *CompiledAction) Gated() bool { return a.Since != "" || a.Until != "" }

// Lacks says why a release does not have the action, and what is done instead; empty where it has it.
func (a *CompiledAction) Lacks(running device.Release) string {
	why := ""
	if since, err := running.Order().Parse(a.Since); a.Since != "" && err == nil && running.Compare(since) < 0 {
		why = fmt.Sprintf("%s has no “%s”: it is there from %s on", running, a.Action.Action, a.Since)
	}
	if until, err := running.Order().Parse(a.Until); a.Until != "" && err == nil && running.Compare(until) >= 0 {
		why = fmt.Sprintf("%s has no “%s” any more: it was there before %s", running, a.Action.Action, a.Until)
	}
	if why != "" && a.Instead != "" {
		why += "; " + a.Instead
	}
	return why
}

// Can is which actions a release has, under their names in expressions.
func (d *Dialect) Can(running device.Release) map[string]any {
	can := map[string]any{}
	for name, action := range d.actions {
		can[expressionName(name)] = action.Lacks(running) == ""
	}
	return can
}

// Lacking says why a release does not have an action, empty where it has it, under their names in expressions.
func (d *Dialect) Lacking(running device.Release) map[string]any {
	lacks := map[string]any{}
	for name, action := range d.actions {
		lacks[expressionName(name)] = action.Lacks(running)
	}
	return lacks
}

func (d *Dialect) hasGates() bool {
	for _, action := range d.actions {
		if action.Gated() {
			return true
		}
	}
	return false
}
