package verbs

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"pilotrix/core/arithmetic"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/source"
	"pilotrix/core/units"
)

var _ = runbook.Register(runbook.Verb{
	Name:       "poll",
	Does:       "takes readings again and again until something holds; gives up when it fails, or when nothing changes any more",
	Timeout:    30 * time.Minute,
	Repeatable: true,
	Cards:      []string{runbook.CardTransfer, runbook.CardBanks, runbook.CardReach},
	New:        func() runbook.Body { return new(pollBody) },
})

type pollBody struct {
	Read    []string          `yaml:"read" jsonschema:"required" jsonschema_description:"Readings that are taken each time"`
	Every   source.Duration   `yaml:"every" jsonschema:"required" jsonschema_description:"How long between two"`
	Until   source.Expression `yaml:"until" jsonschema:"required" jsonschema_description:"What ends it"`
	Fail    source.Expression `yaml:"fail" jsonschema_description:"Gives up at once when this holds"`
	Message string            `yaml:"message" jsonschema_description:"What is said then; may hold ${…}"`
	Stalled *source.Duration  `yaml:"stalled" jsonschema_description:"Gives up when nothing changed for so long"`
	Shows   string            `yaml:"shows" jsonschema_description:"What is shown meanwhile; may hold ${…}"`
	File    string            `yaml:"file" jsonschema_description:"The file that is moved meanwhile: the expected time follows from it"`
}

type pollWork struct {
	pollBody
	every          time.Duration
	readings       []*dialect.CompiledReading
	until, giveUp  *expression.Guard
	message, shows *expression.Template
}

// Compile implements runbook.Body.
func (b *pollBody) Compile(c *runbook.Compiler) runbook.Work {
	w := &pollWork{pollBody: *b, every: time.Duration(b.Every)}
	switch {
	case len(b.Read) == 0:
		c.Complain("read", "a poll needs a reading to take (read: […])")
	case b.Every == 0:
		c.Complain("every", "say how often (every: 5s)")
	case b.Fail == "" && b.Message != "":
		c.Complain("message", "the message is said when fail holds, and there is no fail")
	}
	w.readings = c.Readings("read", b.Read)
	w.until, w.giveUp = c.Guard("until", b.Until), c.Guard("fail", b.Fail)
	w.message, w.shows = c.Template("message", b.Message), c.Template("shows", b.Shows)
	c.Image("file", b.File)
	return w
}

// Expects implements runbook.Expecter.
func (w *pollWork) Expects(p *runbook.Prepared, s *runbook.PreparedStep, _ int) time.Duration {
	if img := p.ImageOf(s, w.File); img != nil {
		return arithmetic.TransferTime(img.Size, p.Dialect.FetchRate())
	}
	return 0
}

// Types implements runbook.Typist.
func (w *pollWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) (typed []runbook.Typed) {
	for _, reading := range w.readings {
		for _, t := range p.Reading(reading) {
			t.Every = w.every
			typed = append(typed, t)
		}
	}
	return typed
}

// Summary implements runbook.Summarizer.
func (w *pollWork) Summary(*runbook.Planner, *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{Checks: []string{"until " + string(w.Until)}}
}

// Do implements engine.Doer.
func (w *pollWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	changed, last, missed := run.Console.Clock().Now(), "", false
	for {
		err := w.once(ctx, run, s)
		if err != nil {
			if missed || ctx.Err() != nil || !errors.Is(err, context.DeadlineExceeded) {
				return err
			}
			run.Console.Emit(event.Note{Level: event.Warning, Text: "one reading is left out: " + err.Error()})
		}
		if missed = err != nil; missed {
			if err := run.Console.Pause(ctx, w.every); err != nil {
				return err
			}
			continue
		}
		now := run.Console.Clock().Now()
		if state := readingsSay(run, w.readings); state != last {
			changed, last = now, state
		}
		done, err := w.ends(run)
		if err != nil || done {
			return err
		}
		if w.Stalled != nil && now.Sub(changed) >= time.Duration(*w.Stalled) {
			return fmt.Errorf("nothing changed for %s: %s", units.Text(now.Sub(changed)), w.words(run))
		}
		run.Now(s, run.Title(s),
			fmt.Sprintf("the next reading, every %s; the last: %s", units.Text(w.every), w.words(run)), s.Timeout)
		if err := run.Console.Pause(ctx, w.every); err != nil {
			return err
		}
	}
}

// once takes the readings once. Each has its own timeout here: a poll outlives one that does not come.
func (w *pollWork) once(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	for _, reading := range w.readings {
		limited, cancel := run.Console.Clock().WithTimeout(ctx, reading.Limit())
		err := run.Readings.Take(limited, s, reading)
		cancel()
		if err != nil {
			return err
		}
	}
	return nil
}

// readingsSay is all that readings say, to see whether anything changes.
func readingsSay(run *engine.Run, readings []*dialect.CompiledReading) string {
	var out strings.Builder
	for _, fact := range run.Console.Facts().All() {
		for _, reading := range readings {
			if reading.MakesFact(fact.Name) {
				fmt.Fprintf(&out, "%s=%s %v\n", fact.Name, fact.Text, fact.Value) // rows differ by their columns
			}
		}
	}
	return out.String()
}

func (w *pollWork) words(run *engine.Run) string {
	if text, err := fill(run, w.shows); err == nil && text != "" {
		return text
	}
	return "not there yet"
}

func (w *pollWork) ends(run *engine.Run) (done bool, err error) {
	env := run.Env()
	if done, err = w.until.Holds(env); err != nil || done || w.giveUp == nil {
		return done, err
	}
	failed, err := w.giveUp.Holds(env)
	if err != nil || !failed {
		return false, err
	}
	text, err := fill(run, w.message)
	if err != nil || text == "" {
		text = "this holds: " + w.giveUp.Text()
	}
	return false, errors.New(text)
}
