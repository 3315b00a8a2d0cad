package image

import (
	"cmp"
	"fmt"
	"slices"

	"pilotrix/core/device"
	"pilotrix/core/source"
)

// Path leads from the running release to a wanted one. Without steps the wanted release runs already.
type Path struct {
	Steps     []UpgradeStep
	Downgrade bool            // the wanted release is older than the running one
	Others    [][]UpgradeStep // other ways that there are, the shortest first
}

// maxOthers is how many other ways are reported.
const maxOthers = 3

// Plan finds the way with the fewest steps from the running release to the wanted image, over images of the shelf that
// fit the device. Of ways with as many steps the one over preferred steps and releases is taken, then the one with the
// newest releases; of images of one release the one whose published digest was seen to hold. A release that comes
// before the one it is called after, such as a candidate, is gone over only when it is wanted itself.
func (p *UpgradePaths) Plan(items []Item, facts *device.Facts, running string, wanted Item) (path Path, err error) {
	order := orderOf(facts)
	to, said := wanted.Release(order)
	if !said {
		return path, &NoChain{fmt.Sprintf("%s does not say its release, so no way to it can be planned", wanted.Name)}
	}
	if running == "" {
		return path, &NoChain{"the running release is not known: read it from the device first"}
	}
	from, err := order.Parse(running)
	if err != nil {
		return path, &NoChain{fmt.Sprintf("the running release is not known: %v", err)}
	}
	path.Downgrade = to.Compare(from) < 0
	if to.Compare(from) == 0 {
		return path, nil
	}
	if fit := wanted.FitTo(facts); fit.Verdict == No {
		return path, &NoChain{fmt.Sprintf("%s does not fit this device: %s", wanted.Name, fit.Text())}
	}
	s := p.newSearch(items, facts, from, to, wanted)
	outside := s.outside()
	best := s.way(outside)
	if best == nil {
		outside = nil
		best = s.way(nil) // it has to be gone farther than wanted, and back
	}
	if best == nil {
		return path, p.explain(running, to.String(), items, facts)
	}
	if path.Steps, err = p.withCompanions(s.steps(best), items); err != nil {
		return path, err
	}
	for _, other := range s.others(best, outside) {
		if steps, err := p.withCompanions(s.steps(other), items); err == nil {
			path.Others = append(path.Others, steps)
		}
	}
	return path, nil
}

// search is over the releases available, the one that is liked best first: each once, however it is written.
type search struct {
	paths    *UpgradePaths
	running  candidate
	releases []candidate
	wanted   int
}

// candidate is a release with its image.
type candidate struct {
	device.Release
	item      Item
	preferred bool
	leaves    []bool // by row: it leads from here
	comes     []bool // by row: it leads here
}

func (p *UpgradePaths) newSearch(items []Item, facts *device.Facts, from, to device.Release, wanted Item) *search {
	rows := p.parsed()
	s := &search{
		paths:    p,
		running:  candidate{Release: from, leaves: rows.leave(from)},
		releases: []candidate{{Release: to, item: wanted, preferred: true}},
	}
	for _, item := range items {
		release, said := item.Release(from.Order())
		if !said || item.Says[SaysCompanion] != "" || release.Pre() || rows.never.any(release) ||
			release.Compare(from) == 0 || release.Compare(to) == 0 || item.FitTo(facts).Verdict == No {
			continue
		}
		s.releases = append(s.releases, candidate{Release: release, item: item, preferred: rows.prefer.any(release)})
	}
	slices.SortStableFunc(s.releases, func(a, b candidate) int {
		return cmp.Or(likes(b.preferred)-likes(a.preferred), b.Compare(a.Release),
			likes(b.item.Proved())-likes(a.item.Proved()), likes(b.item.Kind == "")-likes(a.item.Kind == ""))
	})
	s.releases = slices.CompactFunc(s.releases, func(a, b candidate) bool { return a.Compare(b.Release) == 0 })
	for i, one := range s.releases {
		s.releases[i].leaves, s.releases[i].comes = rows.leave(one.Release), rows.come(one.Release)
	}
	s.wanted = slices.IndexFunc(s.releases, func(c candidate) bool { return c.Compare(to) == 0 })
	return s
}

func likes(so bool) int {
	if so {
		return 1
	}
	return 0
}

// outside are the releases that do not lie between the running and the wanted one.
func (s *search) outside() (all []int) {
	to := s.releases[s.wanted].Release
	least, most := s.running.Release, to
	if most.Compare(least) < 0 {
		least, most = most, least
	}
	for i, one := range s.releases {
		if one.Compare(least) < 0 || one.Compare(most) > 0 {
			all = append(all, i)
		}
	}
	return all
}

// reached is a release that the search has come to.
type reached struct {
	at    int // of the releases
	by    *reached
	liked int // steps and releases on the way that are preferred
}

// way goes level by level, so that the first way found has the fewest steps; of one level those that are liked more go
// first. Without are releases that it does not go over. Where the same rows lead from two releases, only the first one
// is looked at: whatever the other leads to is no closer.
func (s *search) way(without []int) []int {
	open := slices.Repeat([]bool{true}, len(s.releases))
	for _, i := range without {
		open[i] = false
	}
	looked := map[string]bool{}
	for level := []*reached{{at: -1}}; len(level) > 0; {
		var next []*reached
		for _, here := range level {
			if rows := fmt.Sprint(s.at(here.at).leaves); !looked[rows] {
				looked[rows] = true
				next = append(next, s.leads(here, open)...)
			}
		}
		slices.SortStableFunc(next, func(a, b *reached) int { return b.liked - a.liked })
		level = nil
		for _, one := range next { // the one that is liked most comes first
			if !open[one.at] {
				continue
			}
			open[one.at] = false
			if one.at == s.wanted {
				return one.way()
			}
			level = append(level, one)
		}
	}
	return nil
}

func (s *search) at(at int) candidate {
	if at < 0 {
		return s.running
	}
	return s.releases[at]
}

func (r *reached) way() (way []int) {
	for ; r.at >= 0; r = r.by {
		way = append(way, r.at)
	}
	slices.Reverse(way)
	return way
}

// leads are the releases that one step leads to.
func (s *search) leads(here *reached, open []bool) (next []*reached) {
	leaves := s.at(here.at).leaves
	if !slices.Contains(leaves, true) {
		return nil
	}
	for at, to := range s.releases {
		if !open[at] {
			continue
		}
		if row := s.paths.row(leaves, to.comes); row != nil {
			next = append(next, &reached{at, here, here.liked + likes(row.Prefer) + likes(to.preferred)})
		}
	}
	return next
}

// row is the one that allows a step, by the rows that lead from its release and those that lead to its other one.
func (p *UpgradePaths) row(leaves, comes []bool) (allowed *AllowedStep) {
	for i := range p.Steps {
		switch {
		case !leaves[i] || !comes[i]:
		case p.Steps[i].Never != "":
			return nil
		case allowed == nil:
			allowed = &p.Steps[i]
		}
	}
	return allowed
}

// beginnings are releases by which others are named.
type beginnings []device.Release

func (b beginnings) any(r device.Release) bool {
	return slices.ContainsFunc(b, func(one device.Release) bool { return below(r, one) })
}

// parsedRows are a file's releases, which are compared often.
type parsedRows struct {
	never, prefer beginnings
	from, to      []beginnings
}

func (p *UpgradePaths) parsed() (rows parsedRows) {
	parse := func(texts []source.Text) (all beginnings) {
		for _, text := range texts {
			if r, err := device.ParseRelease(string(text)); err == nil { // the file was checked
				all = append(all, r)
			}
		}
		return all
	}
	rows.never, rows.prefer = parse(p.Never), parse(p.Prefer)
	for _, step := range p.Steps {
		rows.from, rows.to = append(rows.from, parse(step.From)), append(rows.to, parse(step.To))
	}
	return rows
}

func (r parsedRows) leave(release device.Release) []bool { return matches(r.from, release) }
func (r parsedRows) come(release device.Release) []bool  { return matches(r.to, release) }

func matches(rows []beginnings, release device.Release) []bool {
	found := make([]bool, len(rows))
	for i, row := range rows {
		found[i] = row.any(release)
	}
	return found
}

// others are ways that leave out one of the releases that the best one goes over.
func (s *search) others(best, without []int) (all [][]int) {
	for _, over := range best[:len(best)-1] {
		way := s.way(append(slices.Clone(without), over))
		if way != nil && !slices.ContainsFunc(all, func(other []int) bool { return slices.Equal(other, way) }) {
			all = append(all, way)
		}
	}
	slices.SortStableFunc(all, func(a, b []int) int { return len(a) - len(b) })
	return all[:min(len(all), maxOthers)]
}

// steps are those of a way.
func (s *search) steps(way []int) (steps []UpgradeStep) {
	from := s.running
	for _, at := range way {
		to := s.releases[at]
		row := s.paths.row(from.leaves, to.comes)
		steps = append(steps, UpgradeStep{
			From:    from.String(),
			Release: to.item.Says[SaysRelease],
			Item:    to.item,
			Before:  row.Before,
			After:   row.After,
			row:     row,
		})
		from = to
	}
	return steps
}
