package test

import "iter"

// sampled reports whether the nth of many like cases is tried: all of them, or one in twenty-four where the race detector
// watches.
func sampled(n int) bool {
	const one = 24
	return !underRace || n%one == 0
}

// some are the cases of a table that are tried: all of them, or any one where the race detector watches.
func some[C any](cases map[string]C) iter.Seq2[string, C] {
	return func(yield func(string, C) bool) {
		n := 0
		for name, one := range cases {
			if sampled(n) && !yield(name, one) {
				return
			}
			n++
		}
	}
}
