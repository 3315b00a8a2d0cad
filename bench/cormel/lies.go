package cormel

import (
	"maps"
	"slices"

	"pilotrix/bench"
)

// Remember implements bench.Pretender.
func (g *Gateway) Remember() (restore func()) {
	g.Mu.Lock()
	defer g.Mu.Unlock()
	banks, cards, passes := maps.Clone(g.banks), maps.Clone(g.cards), slices.Clone(g.passes)
	keptNext, next, haul, indexed := g.keptNext, g.next, g.haul.Remember(), g.indexed
	return func() {
		haul()
		g.Mu.Lock()
		defer g.Mu.Unlock()
		g.banks, g.cards, g.passes, g.keptNext, g.next = banks, cards, passes, keptNext, next
		g.indexed = indexed
	}
}

// Fibs implements bench.Fibber: the choice is lost, so that what ran before runs again; or it comes back as another
// one.
func (g *Gateway) Fibs(lie bench.Lie) bool {
	g.Mu.Lock()
	defer g.Mu.Unlock()
	return g.Lying.Report(lie, bench.StaysOld, bench.LosesChoice, bench.IsAnother)
}

// comeTrue makes the lies true, when it starts.
func (g *Gateway) comeTrue() {
	if (g.Lying.StaysOld || g.Lying.LosesChoice) && g.running != "" {
		g.keptNext = g.running
	}
	if g.Lying.IsAnother {
		g.Serial = "CG2-009999"
	}
	g.Lying = bench.Fibs{}
}
