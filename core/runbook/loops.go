package runbook

import (
	"fmt"
	"maps"
	"slices"

	"pilotrix/core/device"
	"pilotrix/core/image"
)

var noFacts = &device.Facts{}

// unroll replaces a leg with a loop, which begins at step i, by one copy of its steps for each of the
// list. A leg for an empty list is left out.
func (e *Engine) unroll(steps []Prepped, i int) ([]Prepped, error) {
	round := steps[i].loop
	end := i
	for end < len(steps) && steps[end].loop == round {
		end++
	}
	e.step = nil
	rounds, err := rounds(round, e.env())
	if err != nil {
		return nil, err
	}
	var unrolled []Prepped
	for n, vars := range rounds {
		unrolled = append(unrolled, e.p.copies(steps[i:end], round, n, vars, e.hops)...)
	}
	return slices.Concat(steps[:i:i], unrolled, steps[end:]), nil
}

// rounds evaluates a loop's list, each row under the loop's name.
func rounds(round *loop, env map[string]any) (all []map[string]any, err error) {
	value, err := round.in.Value(env)
	if err != nil {
		return nil, err
	}
	var rows []map[string]any
	switch list := value.(type) {
	case []map[string]any:
		rows = list
	case []any:
		for _, row := range list {
			tree, is := row.(map[string]any)
			if !is {
				return nil, fmt.Errorf("for each in %s: %v is no row", round.In, row)
			}
			rows = append(rows, tree)
		}
	case nil:
		return nil, fmt.Errorf("for each in %s: it was not read", round.In)
	default:
		return nil, fmt.Errorf("for each in %s: it is no list", round.In)
	}
	for _, row := range rows {
		vars := map[string]any{round.Each: row}
		if round.where != nil {
			within := maps.Clone(env)
			maps.Copy(within, vars)
			holds, err := round.where.Holds(within)
			if err != nil {
				return nil, err
			}
			if !holds {
				continue
			}
		}
		all = append(all, vars)
	}
	return all, nil
}

// copies are a leg's steps for one round.
func (p *Prepared) copies(steps []Prepped, round *loop, n int, vars map[string]any, hops []image.Hop) (out []Prepped) {
	images := map[string]*image.Image{}
	for _, hop := range hops {
		if row, is := vars[round.Each].(map[string]any); is && row["release"] == hop.Release && row["from"] == hop.From {
			images[round.Each] = hop.Item.Image
			if hop.Companion != nil {
				images[round.Each+".companion"] = hop.Companion.Image
			}
		}
	}
	env := p.Env(noFacts)
	maps.Copy(env, vars)
	for j, s := range steps {
		s.loop, s.vars, s.images = nil, vars, images
		s.ID = fmt.Sprintf("%d%s.%d", round.leg+1, letters(n), j+1)
		s.Leg = round.name.Shown(env)
		if t := s.title; t != nil {
			s.Step.Step = t.Shown(env)
		}
		p.reckonMove(&s)
		out = append(out, s)
	}
	return out
}

// letters counts rounds: a, b, … z, aa, ab, …
func letters(n int) string {
	if n < 26 {
		return string(rune('a' + n))
	}
	return letters(n/26-1) + string(rune('a'+n%26))
}

// planHops plans the chain of releases and makes it the list called hops.
func (e *Engine) planHops(s *Prepped) error {
	name, err := s.texts["paths"].Render(e.env())
	if err != nil {
		return err
	}
	hops, err := e.p.chain(name, s.Hops.To, e.facts)
	if err != nil {
		return err
	}
	e.hops = hops
	e.made["hops"] = hopTrees(hops)
	e.console.Emit(hopsEvent(e.facts, e.p.Images[s.Hops.To], hops))
	return nil
}

// chain plans the releases between what runs and an image.
func (p *Prepared) chain(paths, to string, facts *device.Facts) ([]image.Hop, error) {
	if p.Kit.Shelf == nil || p.Kit.Paths == nil {
		return nil, fmt.Errorf("no shelf is at hand to plan hops over: give its folder with --shelf")
	}
	allowed, err := p.Kit.Paths(paths)
	if err != nil {
		return nil, err
	}
	running, known := facts.Get(image.FactRelease)
	if !known {
		return nil, fmt.Errorf("the running release was not read yet (%s)", image.FactRelease)
	}
	wanted := image.Item{Image: p.Images[to]}
	for _, item := range p.Kit.Shelf.Items() {
		if item.SHA256 == wanted.SHA256 {
			wanted = item
		}
	}
	return allowed.Plan(p.Kit.Shelf.Items(), facts, running.Text, wanted)
}

func hopTrees(hops []image.Hop) []map[string]any {
	trees := make([]map[string]any, len(hops))
	for i, hop := range hops {
		trees[i] = hop.Tree()
	}
	return trees
}
