package image

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/source"
)

// UpgradePaths is a file that says which releases lead to which.
type UpgradePaths struct {
	UpgradePaths string        `yaml:"upgrade-paths" jsonschema:"required" jsonschema_description:"The name it is chosen by"`
	About        string        `yaml:"about"`
	Steps        []AllowedStep `yaml:"steps" jsonschema:"required" jsonschema_description:"The steps that are allowed"`
}

// AllowedStep is one allowed step. A release is given by its beginning: 7.4 means 7.4, 7.4.1, 7.4.2 and so
// on, not 7.40.
type AllowedStep struct {
	From      []source.Text `yaml:"from" jsonschema:"required" jsonschema_description:"Releases that this leads from, by their beginnings"`
	To        []source.Text `yaml:"to" jsonschema:"required" jsonschema_description:"Releases that this leads to, by their beginnings"`
	Before    []string      `yaml:"before" jsonschema_description:"What has to be done before, in words that a runbook asks for"`
	After     []string      `yaml:"after" jsonschema_description:"What has to be done afterwards"`
	Companion *Companion    `yaml:"companion" jsonschema_description:"A file that has to go along"`
}

// Companion is a file beside the image, such as a licence.
type Companion struct {
	Kind string      `yaml:"kind" jsonschema:"required"`
	For  source.Text `yaml:"for" jsonschema:"required" jsonschema_description:"The release it has to be for"`
}

// LoadUpgradePaths reads such a file.
func LoadUpgradePaths(path string) (*UpgradePaths, error) {
	p := &UpgradePaths{}
	f, err := source.Read(path, p)
	if err != nil {
		return nil, err
	}
	p.check(f)
	return p, f.Err()
}

// ParseUpgradePaths does the same with text at hand.
func ParseUpgradePaths(name string, data []byte) (*UpgradePaths, error) {
	p := &UpgradePaths{}
	f, err := source.Decode(name, data, p)
	if err != nil {
		return nil, err
	}
	p.check(f)
	return p, f.Err()
}

func (p *UpgradePaths) check(f *source.File) {
	if len(p.Steps) == 0 {
		f.Complain("steps", "the file allows no step")
	}
	for i, step := range p.Steps {
		checkReleases(f, fmt.Sprintf("steps[%d].from", i), "from", step.From)
		checkReleases(f, fmt.Sprintf("steps[%d].to", i), "to", step.To)
	}
}

func checkReleases(f *source.File, path, way string, releases []source.Text) {
	if len(releases) == 0 {
		f.Complain(path, "the step says no release to come %s", way)
	}
	for i, release := range releases {
		if _, err := device.ParseRelease(string(release)); err != nil {
			f.Complain(fmt.Sprintf("%s[%d]", path, i), "%v", err)
		}
	}
}

// begins reports whether a release is a beginning's own or one below it.
func begins(release, beginning string) bool {
	r, b := strings.TrimPrefix(release, "v"), strings.TrimPrefix(beginning, "v")
	return r == b || strings.HasPrefix(r, b+".") || strings.HasPrefix(r, b+"-")
}

func anyBegins[S ~string](release string, beginnings []S) bool {
	return slices.ContainsFunc(beginnings, func(b S) bool { return begins(release, string(b)) })
}

func (p *UpgradePaths) step(from, to string) *AllowedStep {
	for i, step := range p.Steps {
		if anyBegins(from, step.From) && anyBegins(to, step.To) {
			return &p.Steps[i]
		}
	}
	return nil
}

// UpgradeStep is one step of a chain: an image to install, what has to be done before and after, and the file
// that goes along.
type UpgradeStep struct {
	From, Release string
	Item          Item
	Before, After []string
	Companion     *Item
}

// Tree lays the upgrade out for guards: the image's own tree with from, before, after and companion.
func (h UpgradeStep) Tree() map[string]any {
	tree := h.Item.Tree()
	tree["from"], tree["release"] = h.From, h.Release
	tree["before"], tree["after"] = h.Before, h.After
	companion := map[string]any{}
	if h.Companion != nil {
		companion = h.Companion.Tree()
	}
	tree["companion"] = companion
	return tree
}

// NoChain tells why no chain of releases was found.
type NoChain struct{ text string }

func (e *NoChain) Error() string { return e.text }

// Plan finds the shortest chain of releases from the running one to the wanted image, over images of the
// shelf that fit the device. Of several equally short ones it takes the one with the newest releases. An
// empty chain means that the wanted release runs already.
func (p *UpgradePaths) Plan(items []Item, facts *device.Facts, running string, wanted Item) ([]UpgradeStep, error) {
	to, said := wanted.Says[SaysRelease]
	if !said {
		return nil, &NoChain{fmt.Sprintf("%s does not say its release, so no way to it can be planned", wanted.Name)}
	}
	if running == to {
		return nil, nil
	}
	if fit := wanted.FitTo(facts); fit.Verdict == No {
		return nil, &NoChain{fmt.Sprintf("%s does not fit this device: %s", wanted.Name, fit.Words())}
	}
	usable := []Item{wanted}
	for _, item := range items {
		release, said := item.Release()
		if said && release.String() != to && item.Says[SaysCompanion] == "" && item.FitTo(facts).Verdict != No {
			usable = append(usable, item)
		}
	}
	slices.SortStableFunc(usable, newestFirst)
	chain := p.search(running, wanted, usable)
	if chain == nil {
		return nil, p.explain(running, to, items, facts)
	}
	return p.withCompanions(chain, items)
}

// search goes breadth first, so that the first chain found is the shortest.
func (p *UpgradePaths) search(running string, wanted Item, usable []Item) []UpgradeStep {
	type state struct {
		release string
		chain   []UpgradeStep
	}
	seen := map[string]bool{running: true}
	for queue := []state{{release: running}}; len(queue) > 0; queue = queue[1:] {
		here := queue[0]
		for _, item := range usable {
			release := item.Says[SaysRelease]
			step := p.step(here.release, release)
			if step == nil || seen[release] {
				continue
			}
			seen[release] = true
			chain := append(slices.Clone(here.chain), UpgradeStep{From: here.release, Release: release, Item: item, Before: step.Before, After: step.After})
			if release == wanted.Says[SaysRelease] {
				return chain
			}
			queue = append(queue, state{release, chain})
		}
	}
	return nil
}

// withCompanions finds the files that have to go along.
func (p *UpgradePaths) withCompanions(chain []UpgradeStep, items []Item) ([]UpgradeStep, error) {
	for i := range chain {
		want := p.step(chain[i].From, chain[i].Release).Companion
		if want == nil {
			continue
		}
		at := slices.IndexFunc(items, func(item Item) bool {
			return strings.EqualFold(item.Says[SaysCompanion], want.Kind) && item.Says[SaysFor] == string(want.For) && item.Problem == "" && !item.Broken()
		})
		if at < 0 {
			return nil, &NoChain{fmt.Sprintf("the step from %s to %s needs a %s for release %s, and none is on the shelf", chain[i].From, chain[i].Release, want.Kind, want.For)}
		}
		chain[i].Companion = &items[at]
	}
	return chain, nil
}

// explain says what is missing: a step that is allowed, or an image that the allowed steps lead over.
func (p *UpgradePaths) explain(running, to string, items []Item, facts *device.Facts) error {
	var over []string
	for _, step := range p.Steps {
		for _, via := range step.To {
			if anyBegins(running, step.From) && p.step(string(via), to) != nil {
				over = append(over, string(via))
			}
		}
	}
	if len(over) > 0 {
		text := fmt.Sprintf("%s leads to %s only by way of %s, and no image of that is on the shelf that fits", running, to, strings.Join(over, " or "))
		for _, item := range items {
			if anyBegins(item.Says[SaysRelease], over) {
				text += fmt.Sprintf("; %s does not: %s", item.Name, item.FitTo(facts).Words())
			}
		}
		return &NoChain{text}
	}
	var begin, end bool
	for _, step := range p.Steps {
		begin = begin || anyBegins(running, step.From)
		end = end || anyBegins(to, step.To)
	}
	switch {
	case !begin:
		return &NoChain{fmt.Sprintf("%s says nothing of steps from release %s", p.UpgradePaths, running)}
	case !end:
		return &NoChain{fmt.Sprintf("%s knows no step that leads to release %s", p.UpgradePaths, to)}
	}
	return &NoChain{fmt.Sprintf("no allowed steps of %s join %s and %s over images on the shelf", p.UpgradePaths, running, to)}
}
