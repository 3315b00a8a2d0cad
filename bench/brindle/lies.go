package brindle

import "pilotrix/bench"

// Remember implements bench.Pretender.
func (r *Router) Remember() (restore func()) {
	files, baud := r.Store.Remember(), r.savedBaud
	return func() {
		files()
		r.savedBaud = baud
	}
}

// Fibs implements bench.Fibber: it starts what it ran before.
func (r *Router) Fibs(lie bench.Lie) bool {
	r.staysOld = r.staysOld || lie == bench.StaysOld
	return lie == bench.StaysOld
}
