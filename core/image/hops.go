package image

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/source"
)

// Paths is a file that says which releases lead to which.
type Paths struct {
	Paths string     `yaml:"paths" json:"paths" jsonschema:"required,description=The name it is chosen by"`
	About string     `yaml:"about" json:"about,omitempty"`
	Steps []PathStep `yaml:"steps" json:"steps"`
}

// PathStep is one allowed step. A release is given by its beginning: 7.4 means 7.4, 7.4.1, 7.4.2 and so
// on, not 7.40.
type PathStep struct {
	From      []string   `yaml:"from" json:"from" jsonschema:"description=Releases that this leads from, by their beginnings"`
	To        []string   `yaml:"to" json:"to" jsonschema:"description=Releases that this leads to, by their beginnings"`
	Before    []string   `yaml:"before" json:"before,omitempty" jsonschema:"description=What has to be done before, in words that a runbook asks for"`
	After     []string   `yaml:"after" json:"after,omitempty" jsonschema:"description=What has to be done afterwards"`
	Companion *Companion `yaml:"companion" json:"companion,omitempty" jsonschema:"description=A file that has to go along"`
}

// Companion is a file beside the image, such as a licence.
type Companion struct {
	Kind string `yaml:"kind" json:"kind"`
	For  string `yaml:"for" json:"for" jsonschema:"description=The release it has to be for"`
}

// LoadPaths reads such a file.
func LoadPaths(path string) (*Paths, error) {
	p := &Paths{}
	f, err := source.Read(path, p)
	if err != nil {
		return nil, err
	}
	return p, p.check(f)
}

// ParsePaths does the same with text at hand.
func ParsePaths(name string, data []byte) (*Paths, error) {
	p := &Paths{}
	f, err := source.Decode(name, data, p)
	if err != nil {
		return nil, err
	}
	return p, p.check(f)
}

func (p *Paths) check(f *source.File) error {
	if len(p.Steps) == 0 {
		return f.Errorf("steps", "the file allows no step")
	}
	for i, step := range p.Steps {
		for key, releases := range map[string][]string{"from": step.From, "to": step.To} {
			at := fmt.Sprintf("steps[%d].%s", i, key)
			if len(releases) == 0 {
				return f.Errorf(at, "the step says no release to come %s", map[string]string{"from": "from", "to": "to"}[key])
			}
			for j, release := range releases {
				if _, err := device.ParseRelease(release); err != nil {
					return f.Errorf(fmt.Sprintf("%s[%d]", at, j), "%v", err)
				}
			}
		}
	}
	return nil
}

// begins reports whether a release is a beginning's own or one below it.
func begins(release, beginning string) bool {
	r, b := strings.TrimPrefix(release, "v"), strings.TrimPrefix(beginning, "v")
	return r == b || strings.HasPrefix(r, b+".") || strings.HasPrefix(r, b+"-")
}

func anyBegins(release string, beginnings []string) bool {
	return slices.ContainsFunc(beginnings, func(b string) bool { return begins(release, b) })
}

func (p *Paths) step(from, to string) *PathStep {
	for i, step := range p.Steps {
		if anyBegins(from, step.From) && anyBegins(to, step.To) {
			return &p.Steps[i]
		}
	}
	return nil
}

// Hop is one step of a chain: an image to install, what has to be done before and after, and the file
// that goes along.
type Hop struct {
	From, Release string
	Item          Item
	Before, After []string
	Companion     *Item
}

// Tree lays the hop out for guards: the image's own tree with from, before, after and companion.
func (h Hop) Tree() map[string]any {
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
func (p *Paths) Plan(items []Item, facts *device.Facts, running string, wanted Item) ([]Hop, error) {
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
func (p *Paths) search(running string, wanted Item, usable []Item) []Hop {
	type state struct {
		release string
		chain   []Hop
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
			chain := append(slices.Clone(here.chain), Hop{From: here.release, Release: release, Item: item, Before: step.Before, After: step.After})
			if release == wanted.Says[SaysRelease] {
				return chain
			}
			queue = append(queue, state{release, chain})
		}
	}
	return nil
}

// withCompanions finds the files that have to go along.
func (p *Paths) withCompanions(chain []Hop, items []Item) ([]Hop, error) {
	for i := range chain {
		want := p.step(chain[i].From, chain[i].Release).Companion
		if want == nil {
			continue
		}
		at := slices.IndexFunc(items, func(item Item) bool {
			return strings.EqualFold(item.Says[SaysCompanion], want.Kind) && item.Says[SaysFor] == want.For && item.Problem == "" && !item.Broken()
		})
		if at < 0 {
			return nil, &NoChain{fmt.Sprintf("the step from %s to %s needs a %s for release %s, and none is on the shelf", chain[i].From, chain[i].Release, want.Kind, want.For)}
		}
		chain[i].Companion = &items[at]
	}
	return chain, nil
}

// explain says what is missing: a step that is allowed, or an image that the allowed steps lead over.
func (p *Paths) explain(running, to string, items []Item, facts *device.Facts) error {
	var over []string
	for _, step := range p.Steps {
		for _, via := range step.To {
			if anyBegins(running, step.From) && p.step(via, to) != nil {
				over = append(over, via)
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
		return &NoChain{fmt.Sprintf("%s says nothing of steps from release %s", p.Paths, running)}
	case !end:
		return &NoChain{fmt.Sprintf("%s knows no step that leads to release %s", p.Paths, to)}
	}
	return &NoChain{fmt.Sprintf("no allowed steps of %s join %s and %s over images on the shelf", p.Paths, running, to)}
}
