package runbook

import (
	"regexp"
	"slices"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/image"
)

// plainName is what expressions can call by its name.
var plainName = regexp.MustCompile(`^[A-Za-z_]\w*$`)

// names knows what expressions may use: the facts of the dialect, the inputs of the runbook, and what its
// steps make.
type names struct {
	r      *Runbook
	d      *dialect.Dialect
	made   []string // by steps, besides facts
	extra  []string // parameters of an action
	masked []string // those that are masked wherever they are shown
	loop   string   // the name of the loop that is in force
	row    string   // what a row is called while it is looked at
	kept   []string // names of snapshots
}

var clockNames = []string{"clock.day", "clock.time"}

// Order implements expression.Names.
func (n names) Order() *device.Order { return n.d.Order() }

// Known implements expression.Names.
func (n names) Known(name string) bool {
	first, rest, _ := strings.Cut(name, ".")
	switch {
	case slices.Contains(n.extra, name) || n.d.Knows(name):
		return true
	case n.loop != "" && first == n.loop, n.row != "" && first == n.row:
		return true // its fields are those of the list's rows
	case first == "described":
		return rest == "" || slices.ContainsFunc(n.d.Described(), func(h image.Header) bool { return h.Name == rest })
	case slices.Contains(n.kept, first):
		return rest == "" || n.d.Knows(rest)
	case slices.ContainsFunc(slices.Concat(n.made, clockNames),
		func(m string) bool { return m == name || strings.HasPrefix(m, name+".") }):
		return true
	}
	return n.isInput(name)
}

// isInput reports whether a name is an input, or a field of one that is an image.
func (n names) isInput(name string) bool {
	for _, input := range n.r.Inputs {
		if input.Input == name {
			return true
		}
		field, of := strings.CutPrefix(name, input.Input+".")
		if of && input.Kind == KindImage && (slices.Contains(image.Fields, field) ||
			slices.ContainsFunc(n.d.Headers(), func(h image.Header) bool { return h.Name == field })) {
			return true
		}
	}
	return false
}

// always reports whether a name is known at every time: nothing has to be read or made for it.
func (n names) always(name string) bool {
	first, _, _ := strings.Cut(name, ".")
	return first == "clock" || first == "prompt" || first == n.loop && n.loop != "" || slices.Contains(n.extra, name) ||
		n.isInput(name)
}

// secret reports whether a name's value is shown and recorded nowhere.
func (n names) secret(name string) bool {
	input, ok := n.r.Input(name)
	return ok && input.Kind == KindSecret || name == "serve.password"
}
