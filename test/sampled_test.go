package test

// sampled reports whether the nth of many like cases is tried: all of them, or one in twenty-four where the race detector watches.
func sampled(n int) bool {
	const one = 24
	return !underRace || n%one == 0
}
