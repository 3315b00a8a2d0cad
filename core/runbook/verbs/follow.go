package verbs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/source"
	"pilotrix/core/units"
)

var _ = runbook.Register(runbook.Verb{
	Name:       "follow",
	Does:       "follows what hangs on the device, each row of a list, until every one has arrived; what has not within its limit is named, with what to look at, and the run ends “done, but” for it",
	Timeout:    2 * time.Hour,
	Repeatable: true,
	Cards:      []string{runbook.CardBanks, runbook.CardReach},
	New:        func() runbook.Body { return new(followBody) },
})

type followBody struct {
	Each    string            `yaml:"each" jsonschema:"required" jsonschema_description:"What a row is called in the expressions and texts here, such as point"`
	In      source.Expression `yaml:"in" jsonschema:"required" jsonschema_description:"The rows: a list that the readings make, or a part of it"`
	Row     string            `yaml:"row" jsonschema_description:"The column that names a row; name unless said"`
	Read    []string          `yaml:"read" jsonschema:"required" jsonschema_description:"Readings that are taken each time"`
	Every   source.Duration   `yaml:"every" jsonschema:"required" jsonschema_description:"How long between two"`
	Until   source.Expression `yaml:"until" jsonschema:"required" jsonschema_description:"What a row has to be to have arrived"`
	GivenUp source.Expression `yaml:"given-up" jsonschema_description:"What a row is that will not arrive: it is not waited for"`
	Number  source.Expression `yaml:"number" jsonschema_description:"How many rows there have to be, so that one that is not even listed is missed; one at least unless said"`
	Within  string            `yaml:"within" jsonschema:"required" jsonschema_description:"How long they are waited for, such as 30m; may hold ${…}"`
	Look    string            `yaml:"look" jsonschema_description:"What to look at where one has not arrived; may hold ${…}"`
	Proves  string            `yaml:"proves" jsonschema_description:"What it proves when all have arrived, in words"`
}

type followWork struct {
	followBody
	every                   time.Duration
	readings                []*dialect.CompiledReading
	rows, until, up, number *expression.Guard
	within, look, proves    *expression.Template
}

// Compile implements runbook.Body.
func (b *followBody) Compile(c *runbook.Compiler) runbook.Work {
	w := &followWork{followBody: *b, every: time.Duration(b.Every)}
	w.Row = cmp.Or(w.Row, "name")
	if b.Every == 0 {
		c.Complain("every", "say how often (every: 10s)")
	}
	if len(b.Read) == 0 {
		c.Complain("read", "what is followed has to be read (read: […])")
	}
	w.readings = c.Readings("read", b.Read)
	c.Name("each", b.Each)
	w.rows, w.number, w.within, w.proves = c.Guard("in", b.In), c.Guard("number", b.Number), c.Template("within",
		b.Within), c.Template("proves", b.Proves)
	c.Row(b.Each, func() {
		w.until, w.up, w.look = c.Guard("until", b.Until), c.Guard("given-up", b.GivenUp), c.Template("look", b.Look)
	})
	return w
}

// Types implements runbook.Typist.
func (w *followWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) (typed []runbook.Typed) {
	for _, reading := range w.readings {
		for _, t := range p.Reading(reading) {
			t.Every = w.every
			typed = append(typed, t)
		}
	}
	return typed
}

// Summary implements runbook.Summarizer.
func (w *followWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{
		Checks: []string{
			fmt.Sprintf("every %s of %s within %s: %s; those that are not are named, and the run ends “done, but”",
				w.Each, w.In, w.within.Shown(p.Known), w.Until),
		},
	}
}

// followProgress is how far the rows are.
type followProgress struct {
	all, arrived int
	waits        []string // names of those that are waited for
	but          []string // those that have not arrived, in words
	odd          []string // rows that do not count, in words
}

// Do implements engine.Doer.
func (w *followWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	text, err := w.within.Render(run.Env())
	if err != nil {
		return err
	}
	limit, err := time.ParseDuration(text)
	if err != nil {
		return fmt.Errorf("within: %q is no time such as 30m", text)
	}
	began := followsSince(run, s)
	until := began.Add(limit)
	for {
		now, err := w.once(ctx, run, s)
		if err != nil {
			return err
		}
		left := until.Sub(run.Console.Clock().Now())
		if len(now.waits) == 0 || left <= 0 {
			return w.end(run, now, run.Console.Clock().Since(began))
		}
		run.Now(s, run.Title(s),
			fmt.Sprintf("the other %d of %d, %s more: %s", len(now.waits), now.all, units.Text(left.Round(time.Second)),
				few(now.waits)),
			s.Timeout)
		if err := run.Console.Pause(ctx, min(w.every, max(left, time.Second))); err != nil {
			return err
		}
	}
}

// followsSince is when the step was begun first: a line that is lost meanwhile, and the step that is repeated then, do
// not make its limit longer.
func followsSince(run *engine.Run, s *runbook.PreparedStep) time.Time {
	now := followed.Of(run)
	if now.step != s.ID {
		*now = following{s.ID, run.Console.Clock().Now()}
	}
	return now.since
}

// followed is what is followed now, by its step.
var followed = new(engine.Kept[following])

type following struct {
	step  string
	since time.Time
}

// few names some, and how many more there are.
func few(names []string) string {
	const most = 3
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// once reads the rows, and holds each against what it has to be. A reading that is not answered leaves all of them
// waiting.
func (w *followWork) once(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) (followProgress, error) {
	for _, reading := range w.readings {
		limited, cancel := run.Console.Clock().WithTimeout(ctx, reading.Limit())
		err := run.Readings.Take(limited, s, reading)
		cancel()
		if err != nil {
			if ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) {
				return followProgress{}, err
			}
			run.Console.Emit(event.Note{Level: event.Warning, Text: "one reading is left out: " + err.Error()})
			return followProgress{
				waits: []string{"the next reading"},
				but:   []string{"all of them: the last reading was not answered"},
			}, nil
		}
	}
	env := run.Env()
	rows, err := runbook.RowsOf(w.rows, string(w.In), env)
	if err != nil {
		return followProgress{}, err
	}
	roll := run.Readings.RollOf(w.rows, w.Row)
	rows, odd := roll.Split(rows, w.Row)
	now := followProgress{all: len(rows)}
	for _, row := range rows {
		if err := w.hold(&now, row, env); err != nil {
			return now, err
		}
	}
	now.odd = odd
	return now, w.missing(&now, env, roll.Absent)
}

// hold holds one row against what it has to be.
func (w *followWork) hold(now *followProgress, row, env map[string]any) error {
	within := maps.Clone(env)
	within[w.Each] = row
	arrived, err := w.until.Holds(within)
	if err != nil {
		return err
	}
	if arrived {
		now.arrived++
		return nil
	}
	gone, name := false, expression.Format(row[w.Row])
	if w.up != nil {
		if gone, err = w.up.Holds(within); err != nil {
			return err
		}
	}
	look, err := w.look.Render(within)
	if err != nil {
		return err
	}
	if look != "" {
		look = " (" + look + ")"
	}
	now.but = append(now.but, name+look)
	if !gone {
		now.waits = append(now.waits, name)
	}
	return nil
}

// missing counts what is not even listed: those that were there when the run began, and as many as their number says.
// No row at all is none that has arrived.
func (w *followWork) missing(now *followProgress, env map[string]any, absent []string) error {
	for _, name := range absent {
		now.all++
		now.but, now.waits = append(now.but, name+" (it is not listed any more)"), append(now.waits, name)
	}
	if w.number == nil {
		if now.all == 0 {
			now.but, now.waits = []string{"all of them: not one is listed"}, []string{"the first one that is listed"}
		}
		return nil
	}
	value, err := w.number.Value(env)
	if err != nil {
		return err
	}
	want := 0
	if _, err := fmt.Sscan(expression.Format(value), &want); err != nil {
		return fmt.Errorf("%s is no number of rows", w.Number)
	}
	if missing := want - now.all; missing > 0 {
		now.all = want
		now.but = append(now.but, fmt.Sprintf("%d that are not listed any more", missing))
		now.waits = append(now.waits, fmt.Sprintf("%d that are not listed", missing))
	}
	return nil
}

// end says who has not arrived; the run goes on.
func (w *followWork) end(run *engine.Run, now followProgress, waited time.Duration) error {
	*followed.Of(run) = following{}
	if len(now.odd) > 0 {
		run.Console.Emit(event.Note{Level: event.Warning, Text: "not followed: " + strings.Join(now.odd, "; ")})
	}
	if len(now.but) == 0 {
		return prove(run, w.proves)
	}
	text := fmt.Sprintf("%d of %d have arrived after %s; not: %s", now.arrived, now.all,
		units.Text(waited.Round(time.Second)), strings.Join(now.but, "; "))
	run.Console.Emit(event.Note{Level: event.Warning, Text: text})
	run.Account.Miss(now.but...)
	return nil
}
