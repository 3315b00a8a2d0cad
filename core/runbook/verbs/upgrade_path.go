package verbs

import (
	"context"
	"fmt"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name: "upgrade-path", Does: "plans the releases from the running one to an image's, by a file of allowed steps",
	Timeout: time.Minute, Repeatable: true, Learns: true, Makes: []string{"upgrades"},
	New: func() runbook.Body { return new(upgradeBody) },
})

type upgradeBody struct {
	To      string `yaml:"to" jsonschema:"required" jsonschema_description:"An input of kind image"`
	Allowed string `yaml:"allowed" jsonschema:"required" jsonschema_description:"The file of allowed steps: a name that ships with the program or a path; may hold ${…}"`
}

type upgradeWork struct {
	to      string
	allowed *expression.Template
}

// Compile implements runbook.Body.
func (b *upgradeBody) Compile(c *runbook.Compiler) runbook.Work {
	c.Image("to", b.To)
	w := &upgradeWork{b.To, c.Template("allowed", b.Allowed)}
	c.Makes("upgrades")
	return w
}

// Summary implements runbook.Summarizer.
func (w *upgradeWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{Does: []string{"plans the releases to ${" + w.to + "} by " + w.allowed.Shown(p.Known)}}
}

// Do implements engine.Doer.
func (w *upgradeWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	name, err := w.allowed.Render(run.Env())
	if err != nil {
		return err
	}
	path, err := chain(run.Prepared, name, w.to, run.Console.Facts())
	if err != nil {
		return err
	}
	run.Made["upgrades"] = upgrades(path.Steps)
	run.Console.Emit(upgradeEvent(run.Prepared, run.Console.Facts(), run.Prepared.Images[w.to], path))
	if path.Downgrade {
		return askDowngrade(run, ctx, s, run.Prepared.Images[w.to])
	}
	return nil
}

// askDowngrade holds before a way that leads back: what a newer release has converted, the older one may not read.
func askDowngrade(run *engine.Run, ctx context.Context, s *runbook.PreparedStep, wanted *image.Image) error {
	running, _ := run.Console.Facts().Get(image.FactRelease)
	answer, err := run.Console.Ask(ctx, event.Ask{
		Form:    event.FormHold,
		Step:    s.ID,
		Title:   run.Title(s),
		Answers: []string{engine.Approve, engine.StopHere},
		Changed: run.MayHaveChanged(),
		Pending: run.PendingText(),
		Now:     run.Console.Present(),
		Text: fmt.Sprintf("This is a downgrade: %s runs, %s is older. What the newer release has converted, the older one may not read.",
			running.Text, wanted.Says[image.SaysRelease]),
	})
	if err == nil && answer != engine.Approve {
		err = fmt.Errorf("%w before a downgrade", engine.ErrStopped)
	}
	return err
}

// upgradeEvent says the way of releases, and what other ways there are.
func upgradeEvent(p *runbook.Prepared, facts *device.Facts, wanted *image.Image, path image.Path) event.UpgradePath {
	running, _ := facts.Get(image.FactRelease)
	report := event.UpgradePath{
		From:      running.Text,
		To:        wanted.Says[image.SaysRelease],
		Downgrade: path.Downgrade,
		Takes:     p.LoopsTake("upgrades", upgrades(path.Steps)),
	}
	for _, upgrade := range path.Steps {
		plan := event.UpgradeStep{
			From:    upgrade.From,
			Release: upgrade.Release,
			Image:   upgrade.Item.Name,
			Size:    upgrade.Item.Size,
			Before:  upgrade.Before,
			After:   upgrade.After,
		}
		if upgrade.Companion != nil {
			plan.Companion = upgrade.Companion.Name
		}
		report.Steps = append(report.Steps, plan)
	}
	for _, steps := range path.Others {
		other := event.OtherPath{Takes: p.LoopsTake("upgrades", upgrades(steps))}
		for _, step := range steps {
			other.Releases = append(other.Releases, step.Release)
		}
		report.Others = append(report.Others, other)
	}
	return report
}

// chain plans the releases between what runs and an image.
func chain(p *runbook.Prepared, paths, to string, facts *device.Facts) (path image.Path, err error) {
	if p.Kit.Shelf == nil || p.Kit.UpgradePaths == nil {
		return path, fmt.Errorf("no shelf is at hand to plan upgrades over: give its folder with --shelf")
	}
	allowed, err := p.Kit.UpgradePaths(paths)
	if err != nil {
		return path, err
	}
	running, _ := facts.Get(image.FactRelease)
	wanted := image.Item{Image: p.Images[to]}
	for _, item := range p.Kit.Shelf.Items() {
		if item.SHA256 == wanted.SHA256 {
			wanted = item
		}
	}
	return allowed.Plan(p.Kit.Shelf.Items(), facts, running.Text, wanted)
}

// Gathers implements runbook.Gatherer.
func (w *upgradeWork) Gathers(p *runbook.Planner) runbook.Made {
	paths, err := w.allowed.Render(p.Known)
	if err != nil {
		return nil
	}
	path, err := chain(p.Prepared, paths, w.to, p.Facts)
	if err != nil {
		return nil
	}
	return runbook.Made{"upgrades": upgrades(path.Steps)}
}

// upgrades are the releases between the running one and the one that is wanted.
type upgrades []image.UpgradeStep

// Tree implements runbook.Value.
func (u upgrades) Tree() any {
	trees := make([]map[string]any, len(u))
	for i, upgrade := range u {
		trees[i] = upgrade.Tree()
	}
	return trees
}

// Files implements runbook.Shelved.
func (u upgrades) Files(row map[string]any) map[string]*image.Image {
	images := map[string]*image.Image{}
	for _, upgrade := range u {
		if row["release"] != upgrade.Release || row["from"] != upgrade.From {
			continue
		}
		images[""] = upgrade.Item.Image
		if upgrade.Companion != nil {
			images[".companion"] = upgrade.Companion.Image
		}
	}
	return images
}
