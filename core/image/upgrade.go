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
	Never        []source.Text `yaml:"never" jsonschema_description:"Releases that are never gone over, by their beginnings; to one that is wanted itself the way is planned"`
	Prefer       []source.Text `yaml:"prefer" jsonschema_description:"Releases that are gone over rather than others, by their beginnings"`
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
	Prefer    bool          `yaml:"prefer" jsonschema_description:"It is gone rather than others, where the way is not longer by it"`
	Never     string        `yaml:"never" jsonschema_description:"Why this step must not be gone, though another row allows it; such a row allows nothing"`
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

// ParseUpgradePaths does the same with text available.
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
	checkBeginnings(f, "never", p.Never)
	checkBeginnings(f, "prefer", p.Prefer)
	for i, step := range p.Steps {
		checkReleases(f, fmt.Sprintf("steps[%d].from", i), "from", step.From)
		checkReleases(f, fmt.Sprintf("steps[%d].to", i), "to", step.To)
	}
}

func checkReleases(f *source.File, path, way string, releases []source.Text) {
	if len(releases) == 0 {
		f.Complain(path, "the step says no release to come %s", way)
	}
	checkBeginnings(f, path, releases)
}

func checkBeginnings(f *source.File, path string, releases []source.Text) {
	for i, release := range releases {
		if _, err := device.ParseRelease(string(release)); err != nil {
			f.Complain(fmt.Sprintf("%s[%d]", path, i), "%v", err)
		}
	}
}

// begins reports whether a release is a beginning's own, however it is written, or one below it.
func begins(release, beginning string) bool {
	r, err := device.ParseRelease(release)
	b, bad := device.ParseRelease(beginning)
	if err != nil || bad != nil {
		return release == beginning
	}
	return below(r, b)
}

func below(r, b device.Release) bool {
	rest, ok := strings.CutPrefix(strings.ToLower(r.String()), strings.ToLower(b.String()))
	return ok && rest != "" && strings.ContainsAny(rest[:1], ".-+_( ") || r.Compare(b) == 0
}

func anyBegins[S ~string](release string, beginnings []S) bool {
	return slices.ContainsFunc(beginnings, func(b S) bool { return begins(release, string(b)) })
}

// step is the row that allows a step, nil where none does or one forbids it.
func (p *UpgradePaths) step(from, to string) (allowed *AllowedStep) {
	for i, step := range p.Steps {
		if !anyBegins(from, step.From) || !anyBegins(to, step.To) {
			continue
		}
		if step.Never != "" {
			return nil
		}
		if allowed == nil {
			allowed = &p.Steps[i]
		}
	}
	return allowed
}

// forbids says why a step must not be gone, empty where no row forbids it.
func (p *UpgradePaths) forbids(from, to string) string {
	for _, step := range p.Steps {
		if step.Never != "" && anyBegins(from, step.From) && anyBegins(to, step.To) {
			return step.Never
		}
	}
	return ""
}

// UpgradeStep is one step of a chain: an image to install, what has to be done before and after, and the file
// that goes along.
type UpgradeStep struct {
	From, Release string
	Item          Item
	Before, After []string
	Companion     *Item
	row           *AllowedStep
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

// NoChain says why no chain of releases was found.
type NoChain struct{ text string }

func (e *NoChain) Error() string { return e.text }

// withCompanions finds the files that have to go along.
func (p *UpgradePaths) withCompanions(chain []UpgradeStep, items []Item) ([]UpgradeStep, error) {
	for i := range chain {
		want := chain[i].row.Companion
		if want == nil {
			continue
		}
		at := slices.IndexFunc(items, func(item Item) bool {
			return strings.EqualFold(item.Says[SaysCompanion], want.Kind) && item.Says[SaysFor] == string(want.For) &&
				item.Problem == "" &&
				!item.Broken()
		})
		if at < 0 {
			return nil, &NoChain{
				fmt.Sprintf("the step from %s to %s needs a %s for release %s, and none is on the shelf", chain[i].From,
					chain[i].Release, want.Kind, want.For),
			}
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
			if step.Never == "" && anyBegins(running, step.From) && p.step(string(via), to) != nil {
				over = append(over, string(via))
			}
		}
	}
	if len(over) > 0 {
		text := fmt.Sprintf("%s leads to %s only by way of %s, and no image of that is on the shelf that fits", running,
			to, strings.Join(over, " or "))
		for _, item := range items {
			if anyBegins(item.Says[SaysRelease], over) {
				text += fmt.Sprintf("; %s does not: %s", item.Name, item.FitTo(facts).Text())
			}
		}
		return &NoChain{text}
	}
	if why := p.forbids(running, to); why != "" {
		return &NoChain{fmt.Sprintf("%s forbids the step from %s to %s: %s", p.UpgradePaths, running, to, why)}
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
	return &NoChain{
		fmt.Sprintf("no allowed steps of %s join %s and %s over images on the shelf", p.UpgradePaths, running, to),
	}
}
