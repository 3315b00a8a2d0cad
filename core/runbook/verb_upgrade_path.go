package runbook

import (
	"context"
	"fmt"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/image"
)

var _ = register(Verb{
	Name: "upgrade-path", Does: "plans the releases from the running one to an image's, by a file of allowed steps",
	Timeout: time.Minute, Repeatable: true, Learns: true, Makes: []string{"upgrades"},
	New: func() Body { return new(upgradeBody) },
})

type upgradeBody struct {
	To      string `yaml:"to" jsonschema:"required" jsonschema_description:"An input of kind image"`
	Allowed string `yaml:"allowed" jsonschema:"required" jsonschema_description:"The file of allowed steps: a name that ships with the program or a path; may hold ${…}"`
}

type upgradeWork struct {
	to      string
	allowed *expression.Template
}

// Compile implements Body.
func (b *upgradeBody) Compile(c *Compiler) Work {
	c.Image("to", b.To)
	w := &upgradeWork{b.To, c.Template("allowed", b.Allowed)}
	c.Makes("upgrades")
	return w
}

// Tells implements teller.
func (w *upgradeWork) Tells(p *planner, _ *PreparedStep) Told {
	return Told{Does: []string{"plans the releases to ${" + w.to + "} by " + w.allowed.Shown(p.env)}}
}

// Do implements Work.
func (w *upgradeWork) Do(_ context.Context, e *Engine, _ *PreparedStep) error {
	name, err := w.allowed.Render(e.env())
	if err != nil {
		return err
	}
	upgrades, err := e.p.chain(name, w.to, e.facts)
	if err != nil {
		return err
	}
	e.upgrades = upgrades
	e.made["upgrades"] = upgradeTrees(upgrades)
	e.console.Emit(upgradeEvent(e.facts, e.p.Images[w.to], upgrades))
	return nil
}

// upgradeEvent tells a chain of releases.
func upgradeEvent(facts *device.Facts, wanted *image.Image, upgrades []image.UpgradeStep) event.UpgradePath {
	running, _ := facts.Get(image.FactRelease)
	told := event.UpgradePath{From: running.Text, To: wanted.Says[image.SaysRelease]}
	for _, upgrade := range upgrades {
		plan := event.UpgradeStep{From: upgrade.From, Release: upgrade.Release, Image: upgrade.Item.Name, Size: upgrade.Item.Size, Before: upgrade.Before, After: upgrade.After}
		if upgrade.Companion != nil {
			plan.Companion = upgrade.Companion.Name
		}
		told.Steps = append(told.Steps, plan)
	}
	return told
}

// chain plans the releases between what runs and an image.
func (p *Prepared) chain(paths, to string, facts *device.Facts) ([]image.UpgradeStep, error) {
	if p.Kit.Shelf == nil || p.Kit.UpgradePaths == nil {
		return nil, fmt.Errorf("no shelf is at hand to plan upgrades over: give its folder with --shelf")
	}
	allowed, err := p.Kit.UpgradePaths(paths)
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

func upgradeTrees(upgrades []image.UpgradeStep) []map[string]any {
	trees := make([]map[string]any, len(upgrades))
	for i, upgrade := range upgrades {
		trees[i] = upgrade.Tree()
	}
	return trees
}
