package verbs

import (
	"context"
	"time"

	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name: "snapshot", Does: "keeps all facts under a name, to compare with them later",
	Timeout: time.Second, Repeatable: true, Learns: true,
	New: func() runbook.Body { return new(snapshotBody) },
})

type snapshotBody string

type snapshotWork struct{ name string }

// Keeps implements runbook.Keeper.
func (b *snapshotBody) Keeps() string { return string(*b) }

// Keeps implements runbook.Keeper.
func (w *snapshotWork) Keeps() string { return w.name }

// Compile implements runbook.Body.
func (b *snapshotBody) Compile(c *runbook.Compiler) runbook.Work {
	name := string(*b)
	if name == "" {
		c.Complain("", "say what the snapshot is called")
	}
	c.Name("", name)
	return &snapshotWork{name}
}

// Do implements engine.Doer.
func (w *snapshotWork) Do(_ context.Context, run *engine.Run, _ *runbook.PreparedStep) error {
	run.Made[w.name] = runbook.Plain(run.Console.Facts().Tree())
	return nil
}
