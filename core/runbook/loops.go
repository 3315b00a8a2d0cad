package runbook

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/expression"
)

// NoFacts are those of a device of which nothing is known.
var NoFacts = &device.Facts{}

// rounds evaluates a loop's list, each row under the loop's name.
func rounds(round *CompiledLoop, env map[string]any) (all []map[string]any, err error) {
	rows, err := RowsOf(round.in, string(round.In), env)
	if err != nil {
		return nil, fmt.Errorf("for each in %w", err)
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

// RowsOf evaluates a list of rows.
func RowsOf(in *expression.Guard, text string, env map[string]any) (rows []map[string]any, err error) {
	value, err := in.Value(env)
	if err != nil {
		return nil, err
	}
	switch list := value.(type) {
	case []map[string]any:
		rows = list
	case []any:
		for _, row := range list {
			tree, ok := row.(map[string]any)
			if !ok {
				return nil, fmt.Errorf("%s: %v is no row", text, row)
			}
			rows = append(rows, tree)
		}
	case nil:
		return nil, fmt.Errorf("%s: it was not read", text)
	default:
		return nil, fmt.Errorf("%s: it is no list", text)
	}
	return rows, nil
}

// copies are a phase's steps for one round.
func (p *Prepared) copies(
	steps []PreparedStep, round *CompiledLoop, n int, vars map[string]any, made Made,
) (out []PreparedStep) {
	row, _ := vars[round.Each].(map[string]any)
	images := made.files(round.Each, row)
	env := p.Env(NoFacts)
	maps.Copy(env, vars)
	for j, s := range steps {
		s.loop, s.Vars, s.images = nil, vars, images
		s.ID = fmt.Sprintf("%d%s.%d", round.phase+1, letters(n), j+1)
		s.Phase = round.name.Shown(env)
		s.Step = s.TitleText.Shown(env)
		p.estimateStep(&s)
		out = append(out, s)
	}
	return out
}

// LoopsTake is what the loops over a value, under its name, are expected to take.
func (p *Prepared) LoopsTake(name string, value Value) (total time.Duration) {
	env := p.Env(NoFacts)
	env[name] = value.Tree()
	for i := 0; i < len(p.Steps); i++ {
		loop := p.Steps[i].loop
		if loop == nil {
			continue
		}
		end := i
		for end < len(p.Steps) && p.Steps[end].loop == loop {
			end++
		}
		all, err := rounds(loop, env)
		if err == nil && strings.HasPrefix(string(loop.In), name) {
			for n, vars := range all {
				for _, s := range p.copies(p.Steps[i:end], loop, n, vars, Made{name: value}) {
					total += s.Expected
				}
			}
		}
		i = end - 1
	}
	return total
}

// Unroll replaces a phase with a loop, which begins at step i, by one copy of its steps for each of the list. A phase
// for an empty list is left out.
func (p *Prepared) Unroll(steps []PreparedStep, i int, env map[string]any, made Made) ([]PreparedStep, error) {
	round := steps[i].loop
	end := i
	for end < len(steps) && steps[end].loop == round {
		end++
	}
	rounds, err := rounds(round, env)
	if err != nil {
		return nil, err
	}
	var unrolled []PreparedStep
	for n, vars := range rounds {
		unrolled = append(unrolled, p.copies(steps[i:end], round, n, vars, made)...)
	}
	return slices.Concat(steps[:i:i], unrolled, steps[end:]), nil
}

// letters counts rounds: a, b, … z, aa, ab, …
func letters(n int) string {
	if n < 26 {
		return string(rune('a' + n))
	}
	return letters(n/26-1) + string(rune('a'+n%26))
}
