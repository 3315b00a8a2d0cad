package brindle

import "pilotrix/bench"

// Remember implements bench.Pretender.
func (r *Router) Remember() (restore func()) {
	files, baud := r.Store.Remember(), r.savedBaud
	entry := r.entry
	return func() {
		files()
		r.savedBaud, r.entry = baud, entry
	}
}

// Fibs implements bench.Fibber.
func (r *Router) Fibs(lie bench.Lie) bool {
	return r.fibs.Report(lie, bench.StaysOld, bench.LosesChoice, bench.IsAnother)
}
