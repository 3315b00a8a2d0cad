package verbs

import (
	"context"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name:    "write",
	Does:    "writes a file into a part of the flash, by an action of the dialect that types the addresses reckoned as burn.…, then holds the device's own checksum of it against the file's",
	Timeout: 10 * time.Minute,
	Makes:   burnMakes,
	Cards:   []string{runbook.CardFlash},
	New:     func() runbook.Body { return new(writeBody) },
})

type writeBody struct {
	Burning      `yaml:",inline"`
	runbook.Call `yaml:",inline"`
	Verify       *Verify `yaml:"verify" jsonschema:"required" jsonschema_description:"How it is seen that the flash holds the file: no loader's done is enough"`
}

// Verify is how what was written is compared with the file.
type Verify struct {
	Read    []string `yaml:"read" jsonschema:"required" jsonschema_description:"Readings that have the device compute a checksum of what it wrote, by burn.write_from and burn.size"`
	Compare `yaml:",inline"`
}

type writeWork struct {
	burning
	*runbook.CompiledCall
	readings []*dialect.CompiledReading
	same     comparison
}

// Compile implements runbook.Body.
func (b *writeBody) Compile(c *runbook.Compiler) runbook.Work {
	burning := b.Burning.compile(c)
	w := &writeWork{burning: burning, CompiledCall: b.Call.CompileBy(c, "")}
	if b.Verify == nil {
		return w
	}
	w.readings = c.Readings("verify.read", b.Verify.Read)
	w.same = comparison{
		b.Verify.Compare, c.Guard("verify.want", b.Verify.Want), c.Proof("verify.got", b.Verify.Got),
		c.Template("verify.what", b.Verify.What), c.Template("verify.proves", b.Verify.Proves),
	}
	return w
}

// Summary implements runbook.Summarizer.
func (w *writeWork) Summary(p *runbook.Planner, s *runbook.PreparedStep) runbook.Summary {
	t := w.describes(p, s)
	t.Checks = compareWork{w.same}.Summary(p, s).Checks
	return t
}

// Types implements runbook.Typist.
func (w *writeWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) []runbook.Typed {
	typed := w.Commands(p)
	for _, reading := range w.readings {
		typed = append(typed, p.Reading(reading)...)
	}
	return typed
}

// Approved implements approved: it writes what was approved when its place was erased, and nothing but that is lost by
// it.
func (w *writeWork) Approved(run *engine.Run) bool {
	burn := burns.Of(run)
	return burn.erased != nil && sameBurn(*burn.erased, burn.now)
}

// Do implements engine.Doer.
func (w *writeWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	err := flashing(run, ctx, s, w.CompiledCall, w.burning, event.FlashWriting, event.FlashWritten)
	if err == nil {
		err = run.Readings.TakeAll(ctx, s, w.readings)
	}
	if err == nil {
		err = compare(run, s, w.same)
	}
	if err != nil {
		reportFlash(run, event.FlashDoubtful)
		return err
	}
	got, err := w.same.got.Value(run.Env())
	burns.Of(run).now.Checksum = expression.Format(got)
	reportFlash(run, event.FlashVerified)
	return err
}
