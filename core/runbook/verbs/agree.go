package verbs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/source"
	"pilotrix/core/units"
)

var _ = runbook.Register(runbook.Verb{
	Name:       "agree",
	Does:       "holds that all units, rows of a list, agree on something, and names those that do not with what they have",
	Timeout:    30 * time.Second,
	Repeatable: true,
	Cards:      []string{runbook.CardBanks},
	New:        func() runbook.Body { return new(agreeBody) },
})

type agreeBody struct {
	What   string            `yaml:"what" jsonschema:"required" jsonschema_description:"What they agree on, in words"`
	In     source.Expression `yaml:"in" jsonschema:"required" jsonschema_description:"The rows: a list that was read, or a part of it"`
	On     string            `yaml:"on" jsonschema:"required" jsonschema_description:"The column that has to be the same in all"`
	Unit   string            `yaml:"unit" jsonschema_description:"The column that names a row; unit unless said"`
	Want   source.Expression `yaml:"want" jsonschema_description:"What all of them have to have; what the first one has unless said"`
	Number source.Expression `yaml:"number" jsonschema_description:"How many rows there have to be, so that none is left out; one at the least unless said"`
	Proves string            `yaml:"proves" jsonschema_description:"What it proves, in words"`
}

type agreeWork struct {
	agreeBody
	in, want, number *expression.Guard
	what, proves     *expression.Template
}

// Compile implements runbook.Body.
func (b *agreeBody) Compile(c *runbook.Compiler) runbook.Work {
	w := &agreeWork{
		agreeBody: *b,
		in:        c.Proof("in", b.In),
		what:      c.Template("what", b.What),
		proves:    c.Template("proves", b.Proves),
	}
	w.Unit = cmp.Or(w.Unit, "unit")
	if b.Want != "" {
		w.want = c.Guard("want", b.Want)
	}
	if b.Number != "" {
		w.number = c.Proof("number", b.Number)
	}
	return w
}

// Summary implements runbook.Summarizer.
func (w *agreeWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	text := fmt.Sprintf("%s: %s is the same in all of %s", w.what.Shown(p.Known), w.On, w.In)
	if w.Want != "" {
		text += ", which is " + string(w.Want)
	}
	return runbook.Summary{Checks: []string{text}}
}

// Do implements engine.Doer.
func (w *agreeWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	if err := run.Readings.EnsureFresh(ctx, s, w.in, w.want, w.number); err != nil {
		return err
	}
	env := run.Env()
	rows, err := w.rows(env, run.Readings.RollOf(w.in, w.Unit))
	if err != nil {
		return err
	}
	what, err := w.what.Render(env)
	if err != nil {
		return err
	}
	said, differs, err := w.hold(run, rows)
	if err != nil {
		return err
	}
	run.Console.Emit(event.Check{Step: s.ID, Text: what, Held: !differs, Got: said})
	if differs {
		return fmt.Errorf("the units do not agree on %s: %s", what, said)
	}
	return prove(run, w.proves)
}

// rows are those that are to agree: each once, all that the run began with, and no other.
func (w *agreeWork) rows(env map[string]any, roll engine.Roll) ([]map[string]any, error) {
	all, err := runbook.RowsOf(w.in, string(w.In), env)
	if err != nil {
		return nil, err
	}
	_, odd := roll.Split(all, w.Unit)
	if missing := roll.MissingText(w.Unit); missing != "" {
		odd = append(odd, missing)
	}
	if len(odd) > 0 {
		return nil, fmt.Errorf("%s: %s", w.In, strings.Join(odd, ", "))
	}
	least := 1
	if w.number != nil {
		value, err := w.number.Value(env)
		if err != nil {
			return nil, err
		}
		if _, err := fmt.Sscan(expression.Format(value), &least); err != nil {
			return nil, fmt.Errorf("%s is no number of units", w.Number)
		}
	}
	if len(all) < least {
		var named []string
		for _, row := range all {
			named = append(named, expression.Format(row[w.Unit]))
		}
		return nil, fmt.Errorf("%s are to agree, and only %d tell: unit %s", units.Many(least, "unit"), len(all),
			cmp.Or(strings.Join(named, ", "), "none"))
	}
	return all, nil
}

// hold says what the units have, by value in the order of the rows, and whether that differs.
func (w *agreeWork) hold(run *engine.Run, rows []map[string]any) (said string, differs bool, err error) {
	want := rows[0][w.On]
	if w.want != nil {
		if want, err = w.want.Value(run.Env()); err != nil {
			return "", false, err
		}
	}
	if want == nil {
		return "", false, errors.New("what they have to have was not read")
	}
	var parts []string
	for _, row := range rows {
		value, there := row[w.On]
		if !there {
			return "", false, fmt.Errorf("the rows of %s have no %s", w.In, w.On)
		}
		parts = append(parts,
			fmt.Sprintf("unit %s has %s", expression.Format(row[w.Unit]), cmp.Or(expression.Format(value), "none")))
		differs = differs || !sameValue(run.Prepared.Dialect.Order(), want, value)
	}
	if !differs {
		return fmt.Sprintf("%s in all %d", expression.Format(want), len(rows)), false, nil
	}
	said = strings.Join(parts, ", ")
	if w.want != nil {
		said += "; wanted is " + expression.Format(want)
	}
	return said, true, nil
}
