package runbook

import (
	"cmp"
	"slices"
	"strings"
)

// What a step does with names, in its order. From these the checker knows before a run whether each name is
// read on every way to where it is used, and whether it is read again after a change before it proves one.
type op struct {
	kind  opKind
	name  string
	path  string
	proof bool
}

type opKind int

const (
	opUse opKind = iota
	opMake
	opChange
)

// provenance is what is known of a name at some point of a run: whether it was made whatever happens, or under
// which conditions, and since which step it is old.
type provenance struct {
	always bool
	when   [][]string
	stale  string // the step that changed the device since
}

// flow is one walk through the steps.
type flow struct {
	c     *Compiler
	known map[string]provenance
	seen  map[string]map[string]provenance // snapshots: what was known then
	loop  string

	changedBy string // the first step that changes the device
}

// flow walks through the course, then through the rollback as it stands at the first change.
func (c *Compiler) flow(p *Prepared) {
	f := &flow{c: c, known: map[string]provenance{}, seen: map[string]map[string]provenance{}}
	var atFirstChange map[string]provenance
	for i := 0; i < len(p.Steps); {
		end := i + 1
		for p.Steps[i].loop != nil && end < len(p.Steps) && p.Steps[end].loop == p.Steps[i].loop {
			end++
		}
		rounds := 1
		if p.Steps[i].loop != nil {
			rounds = 2 // what one round leaves old, the next one meets
		}
		for range rounds {
			for j := i; j < end; j++ {
				if atFirstChange == nil && changes(p.Steps[j].ops) {
					atFirstChange = cloneProvenance(f.known)
				}
				f.step(&p.Steps[j])
			}
		}
		i = end
	}
	if atFirstChange != nil {
		f.known = atFirstChange
	}
	for j := range p.Rollback {
		f.step(&p.Rollback[j])
	}
}

func changes(ops []op) bool {
	return slices.ContainsFunc(ops, func(o op) bool { return o.kind == opChange })
}

func cloneProvenance(known map[string]provenance) map[string]provenance {
	clone := map[string]provenance{}
	for name, l := range known {
		l.when = slices.Clone(l.when)
		clone[name] = l
	}
	return clone
}

// conditions are those under which a step is carried out at all.
func conditions(s *PreparedStep) (all []string) {
	if s.loop != nil {
		all = append(all, "for each "+s.loop.Each+" in "+string(s.loop.In))
	}
	for _, g := range s.Guards {
		all = append(all, g.Text())
	}
	return all
}

func (f *flow) step(s *PreparedStep) {
	under := conditions(s)
	f.loop = ""
	if s.loop != nil {
		f.loop = s.loop.Each
	}
	own := map[string]bool{}
	for _, o := range s.ops {
		switch o.kind {
		case opChange:
			f.changedBy = cmp.Or(f.changedBy, s.Step)
			for name, l := range f.known {
				if l.stale == "" && !f.derived(name) {
					l.stale = s.Step
					f.known[name] = l
				}
			}
		case opMake:
			own[o.name] = true
			f.make(o.name, s, under)
		case opUse:
			f.use(o, s, under, own)
		}
	}
	if s.Verb != nil && s.Verb.First && f.changedBy != "" {
		f.c.file.Complain(s.path, "“%s” changes the device before this: it is not so already then", f.changedBy)
	}
	if work, ok := s.Work.(Keeper); ok {
		for name := range cloneProvenance(f.known) {
			f.make(work.Keeps()+"."+name, s, under)
		}
		f.make(work.Keeps(), s, under)
	}
}

// derived reports names that are no readings of the device: they do not grow old by a change.
func (f *flow) derived(name string) bool { return !f.c.names.d.Knows(name) }

func (f *flow) make(name string, s *PreparedStep, under []string) {
	l := f.known[name]
	l.stale = ""
	switch {
	case s.Failure.Do == "go-on" || s.Failure == (OnFailure{}) && f.c.names.r.OnFailure.Do == "go-on":
		l.when = append(l.when, append(slices.Clone(under), "“"+s.Step+"” succeeded"))
	case len(under) == 0:
		l.always = true
	default:
		l.when = append(l.when, under)
	}
	f.known[name] = l
}

func (f *flow) use(o op, s *PreparedStep, under []string, own map[string]bool) {
	n := f.c.names
	n.loop = f.loop
	if n.always(o.name) {
		return
	}
	found, some := provenance{}, false
	for name, l := range f.known {
		if name != o.name && !strings.HasPrefix(name, o.name+".") && !strings.HasPrefix(o.name, name+".") {
			continue
		}
		if own[name] || l.always ||
			slices.ContainsFunc(l.when, func(when []string) bool { return within(when, under) }) {
			if o.proof && l.stale != "" {
				f.c.file.Complain(o.path,
					"%s was read before “%s” changed the device: read it again before it proves anything", o.name,
					l.stale)
			}
			return
		}
		found, some = l, true
	}
	if !some {
		f.c.file.Complain(o.path, "%s is not known here yet: put %s before this step", o.name, f.maker(o.name))
		return
	}
	f.c.file.Complain(o.path,
		"%s is known here only if this held: %s. Put %s before this step in any case, or give this step the same when",
		o.name, strings.Join(missing(found.when[0], under), " and "), f.maker(o.name))
}

// within reports whether all conditions of one set are in another.
func within(when, under []string) bool { return len(missing(when, under)) == 0 }

func missing(when, under []string) (out []string) {
	for _, condition := range when {
		if !slices.Contains(under, condition) {
			out = append(out, condition)
		}
	}
	return out
}

// maker says how a name comes to be known.
func (f *flow) maker(name string) string {
	for _, reading := range f.c.names.d.ReadingNames() {
		for _, made := range f.c.names.d.Reading(reading).Makes() {
			if made == name || strings.HasPrefix(name, made+".") || strings.HasPrefix(made, name+".") {
				return "read: [" + reading + "]"
			}
		}
	}
	first, _, _ := strings.Cut(name, ".")
	if verbNamed(first) != nil {
		return first + ": …"
	}
	for _, verb := range Verbs() {
		if slices.ContainsFunc(verb.Makes,
			func(m string) bool { return m == name || strings.HasPrefix(m, first+".") || m == first }) {
			return verb.Name + ": …"
		}
	}
	return "make it"
}
