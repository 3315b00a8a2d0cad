// Package device holds what was learnt of the device: facts, each with the time and the command it
// came from. Nothing is in here that was not read.
package device

import (
	"slices"
	"strings"
	"sync"
	"time"
)

// Fact is one value learnt. Value is a string, a float64 (sizes in bytes, numbers), a Release, or a
// []map[string]any for rows.
type Fact struct {
	Name   string
	Value  any
	Text   string // as the device wrote it
	Source string // the command
	At     time.Time

	Reading string // that made it
	Changes int    // of the device that were known of when it was read; see Facts.Change
}

// Facts are the facts of one device by name, such as store.free. The zero value is ready to use;
// it may be used by several goroutines.
type Facts struct {
	mu      sync.Mutex
	byName  map[string]Fact
	changes int
}

// Change notes that the device was changed, or may have been: what was read before is old from here on.
func (f *Facts) Change() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.changes++
}

// Changes is how many changes are known of.
func (f *Facts) Changes() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.changes
}

// Old reports whether the device was changed since a fact was read.
func (f *Facts) Old(fact Fact) bool { return fact.Changes < f.Changes() }

// Set keeps a fact and returns the one it replaces, if there was one.
func (f *Facts) Set(fact Fact) (before Fact, had bool) { return f.SetAsOf(fact, f.Changes()) }

// SetAsOf is Set of one that was read when so many changes were known of.
func (f *Facts) SetAsOf(fact Fact, changes int) (before Fact, had bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.byName == nil {
		f.byName = map[string]Fact{}
	}
	before, had = f.byName[fact.Name]
	fact.Changes = changes
	f.byName[fact.Name] = fact
	return before, had
}

// Get finds a fact.
func (f *Facts) Get(name string) (Fact, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	fact, found := f.byName[name]
	return fact, found
}

// All lists the facts by name.
func (f *Facts) All() []Fact {
	f.mu.Lock()
	defer f.mu.Unlock()
	all := make([]Fact, 0, len(f.byName))
	for _, fact := range f.byName {
		all = append(all, fact)
	}
	slices.SortFunc(all, func(a, b Fact) int { return strings.Compare(a.Name, b.Name) })
	return all
}

// Tree lays the facts out as nested maps, store.free as tree["store"]["free"], for guards.
func (f *Facts) Tree() map[string]any {
	tree := map[string]any{}
	for _, fact := range f.All() {
		Plant(tree, fact.Name, fact.Value)
	}
	return tree
}

// Clone is a copy as things stand.
func (f *Facts) Clone() *Facts {
	clone := &Facts{}
	clone.changes = f.Changes()
	clone.byName = map[string]Fact{}
	for _, fact := range f.All() {
		clone.byName[fact.Name] = fact
	}
	return clone
}

// Plant sets a dotted name in nested maps.
func Plant(tree map[string]any, name string, value any) {
	parts := strings.Split(name, ".")
	for _, part := range parts[:len(parts)-1] {
		inner, ok := tree[part].(map[string]any)
		if !ok {
			inner = map[string]any{}
			tree[part] = inner
		}
		tree = inner
	}
	tree[parts[len(parts)-1]] = value
}
