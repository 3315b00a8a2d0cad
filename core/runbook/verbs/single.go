package verbs

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/carrier"
	"pilotrix/core/dialect"
	"pilotrix/core/runbook"
)

// Single makes a runbook of one action of a dialect, so that it is carried out by itself as in any other: with its
// guard, a hold, and what the device has to say for it to have succeeded. Facts that its command takes are read first;
// what it takes besides them are inputs. By is the way that it is done; where it is empty and there are several that is
// an input. A way by which the device fetches from this laptop stages the file itself, and waits until it was fetched.
func Single(d *dialect.Dialect, name, by string) (*runbook.Runbook, error) {
	action := d.Action(name)
	if action == nil {
		return nil, fmt.Errorf("dialect %s has no action %q", d.Dialect, name)
	}
	title := cmp.Or(action.Title, name)
	act := map[string]any{"action": name}
	needs := newNeeds(d)
	ways := action.WayNames()
	if by != "" {
		ways, act["by"] = []string{by}, by
		title = WayTitle(title, by)
	}
	with := map[string]string{}
	staged := stagedFor(action, by)
	for _, by := range ways {
		way, err := action.Way(by)
		if err != nil {
			return nil, err
		}
		if way.Ready != nil {
			return nil, errors.New("it moves a file over the line, which takes a runbook")
		}
		for _, name := range way.Type.Uses() {
			if first, _, _ := strings.Cut(name, "."); runbook.MadeByVerb(first) && !d.Knows(name) {
				return nil, fmt.Errorf("it types %s…, which a runbook has to make", first+".")
			}
		}
		for _, param := range way.With {
			if fact := staged[param]; fact != "" {
				with[param] = "${" + fact + "}"
				continue
			}
			with[param] = "${" + param + "}"
			switch fetches := slices.Contains(way.With, "server"); {
			case param == "server":
				needs.from = runbook.FromLaptop
			case param == "name" && !fetches && len(d.Files) == 1: // what was read of its files is there to pick
				needs.from = d.Files[0].List + ".name"
			}
			needs.input(param, slices.Contains(way.Secret, param), "what "+title+" takes as "+param)
		}
		needs.way(way, way.With)
	}
	if len(with) > 0 {
		act["with"] = with
	}
	for _, mode := range action.In {
		needs.goes(mode)
	}
	inputs := needs.inputs
	if len(ways) > 1 {
		act["by"] = "${by}"
		inputs = append(
			[]map[string]any{{"input": "by", "kind": runbook.KindChoice, "choices": ways, "about": "how it is done"}},
			inputs...)
	}
	step := map[string]any{"step": title, "act": act}
	if action.Alters() || action.Danger != "" {
		step["hold"] = strings.TrimSuffix(title+": "+cmp.Or(action.Danger, "it changes what the device keeps"),
			".") + "."
		step["rollback"] = "none is prepared: it is one action by itself"
	}
	var steps []map[string]any
	if staged != nil {
		inputs = append([]map[string]any{
			input("file", runbook.KindImage, "what the device is to fetch"),
			input("address", runbook.KindText,
				"this laptop's address that it fetches from; the one on its network unless said",
				"from", runbook.FromLaptop, "default", ""),
		}, inputs...)
	}
	if len(needs.readings) > 0 {
		steps = append(steps, map[string]any{"step": "Read what it takes", "read": needs.readings})
	}
	if steps = append(steps, step); staged != nil {
		serve := map[string]any{"file": "file", "protocol": by, "address": "${address}"}
		steps = append(append([]map[string]any{{"step": "Stage it", "serve": serve}}, steps...),
			map[string]any{"step": "It is fetched", "fetched": map[string]any{"for": ""}})
	}
	document := map[string]any{
		"runbook": strings.TrimSuffix("action-"+name+"-"+by, "-"), "title": title,
		"about":  "One action of the dialect, by itself.",
		"phases": []map[string]any{{"phase": "do it", "steps": steps}},
	}
	if len(inputs) > 0 {
		document["inputs"] = inputs
	}
	return parseMade("the action "+name, document)
}

// WayTitle is an action's title with the way that it is done by.
func WayTitle(title, by string) string {
	if c, err := carrier.Named(by); err == nil {
		return title + ", by " + c.Title()
	}
	return title + ", " + by
}

// stagedFor are the parameters of a way that serving a file says, by what a device is asked to fetch with: nil for a
// way that fetches nothing from here.
func stagedFor(action *dialect.CompiledAction, by string) map[string]string {
	way, err := action.Way(by)
	if c, unknown := carrier.Named(by); err != nil || unknown != nil || c == nil || !slices.Contains(way.With, "server") {
		return nil
	}
	return map[string]string{
		"server": "serve.address", "port": "serve.port", "name": "serve.name", "path": "serve.path",
		"account": "serve.user", "word": "serve.password",
	}
}

// Readings makes a runbook of what can be read in a mode as it is, without going to another one and without anything
// that only a runbook knows. It is nil where there is none.
func Readings(d *dialect.Dialect, mode string) (*runbook.Runbook, error) {
	var steps []map[string]any
	for _, name := range d.ReadableIn(mode) {
		steps = append(steps, map[string]any{"step": "Read " + name, "read": []string{name}})
	}
	if len(steps) == 0 {
		return nil, nil
	}
	book, err := parseMade("the readings", map[string]any{
		"runbook": "read-anew", "title": "Read it anew", "phases": []map[string]any{{"phase": "read", "steps": steps}},
	})
	if err == nil {
		book.StayInMode()
	}
	return book, err
}

// parseMade loads a runbook that was put together: as JSON, which YAML holds.
func parseMade(name string, document map[string]any) (*runbook.Runbook, error) {
	text, err := json.Marshal(document)
	if err != nil {
		return nil, err
	}
	return runbook.Parse(name, text)
}

// needs gathers what an action takes besides its parameters.
type needs struct {
	d        *dialect.Dialect
	inputs   []map[string]any
	readings []string
	known    map[string]bool
	from     string // the list that the next input may be picked from
}

func newNeeds(d *dialect.Dialect) *needs { return &needs{d: d, known: map[string]bool{}} }

func (n *needs) input(name string, secret bool, about string) {
	if n.known[name] {
		return
	}
	n.known[name] = true
	kind := runbook.KindText
	if secret {
		kind = runbook.KindSecret
	}
	declared := map[string]any{"input": name, "kind": kind, "about": about}
	if n.from != "" {
		declared["from"], n.from = n.from, ""
	}
	n.inputs = append(n.inputs, declared)
}

// way notes what a command and the questions after it take.
func (n *needs) way(way *dialect.CompiledWay, params []string) {
	n.uses(way.Type.Uses(), params, false)
	for _, asks := range way.Asks {
		if asks.Reply != nil {
			n.uses(asks.Reply.Uses(), params, asks.Secret)
		}
	}
}

func (n *needs) uses(names, params []string, secret bool) {
	for _, name := range names {
		switch {
		case slices.Contains(params, name):
			if secret {
				n.hide(name)
			}
		case n.d.Knows(name):
			for _, reading := range n.d.ReadingNames() {
				if slices.Contains(n.d.Reading(reading).Makes(), name) && !slices.Contains(n.readings, reading) {
					n.readings = append(n.readings, reading)
					break
				}
			}
		default:
			n.input(name, secret, "what the device asks for")
		}
	}
}

// hide makes a parameter that answers a secret question a secret.
func (n *needs) hide(name string) {
	for _, input := range n.inputs {
		if input["input"] == name {
			input["kind"] = runbook.KindSecret
		}
	}
}

// goes notes what is typed on the way to a mode: a login, say.
func (n *needs) goes(mode string) {
	for _, move := range n.d.MovesTo(mode) {
		if way, err := n.d.Action(move.Action).Way(""); err == nil {
			n.way(way, nil)
		}
	}
	for _, reading := range n.readings {
		for _, in := range n.d.Reading(reading).In {
			if in != mode {
				for _, move := range n.d.MovesTo(in) {
					if way, err := n.d.Action(move.Action).Way(""); err == nil {
						n.way(way, nil)
					}
				}
			}
		}
	}
}
