package verbs

import (
	"context"
	"time"

	"pilotrix/core/carrier"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name:    "slot",
	Does:    "lets one file be left on this laptop, says what the device needs for it, and waits until it is here whole; the operator has the device leave it",
	Timeout: 12 * time.Hour, Learns: true,
	Makes: append(receiveMakes, serveMakes...),
	Cards: []string{runbook.CardTransfer},
	New:   func() runbook.Body { return new(slotOnlyBody) },
})

var _ = done(ByHand{
	Name: "slot", Menu: Offering, Rank: 2, Key: "l",
	Does: "let a file be left here", Title: "Let the device leave a file here",
	Make: func(at Place) (*runbook.Runbook, error) {
		body := servingBody(at, "as", "${as}")
		body["into"] = "${into}"
		return oneStep("slot", "Let ${as} be left here", "Takes one file that the device leaves at a server of this laptop's.",
			"slot", body, append([]map[string]any{
				input("as", runbook.KindText, "the name that the device leaves it under"),
				input("into", runbook.KindFolder, "the folder that it is put into; nothing there is written over",
					"default", at.Folder),
			}, servingInputs("by which it is left", "that it is left at")...)...)
	},
})

type slotOnlyBody struct {
	slotBody `yaml:",inline"`
	lasting  `yaml:",inline"`
}

// slotOnlyWork lets one file in that the operator has the device leave.
type slotOnlyWork struct {
	slotWork
	lasts
}

// Compile implements runbook.Body.
func (b *slotOnlyBody) Compile(c *runbook.Compiler) runbook.Work {
	w := slotOnlyWork{b.slotBody.compile(c), b.lasting.compile(c)}
	c.Makes(receiveMakes...)
	return w
}

// Do implements engine.Doer.
func (w slotOnlyWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	open, err := w.open(run, s)
	if err != nil {
		return err
	}
	defer open.close()
	at := run.Made["serve"].(served)
	by, err := carrier.Named(at.protocol)
	if err != nil {
		return err
	}
	run.Advise(by.Instructions(at.place, at.name))
	return w.wait(ctx, run, s, "Awaits "+at.name+" by "+by.Title(), "that it is left here", open.upload)
}
