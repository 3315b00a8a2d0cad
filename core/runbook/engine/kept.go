package engine

// Kept is what the steps of a verb keep for later ones: in each run a value of its own, which begins as its zero.
type Kept[T any] struct {
	_ byte // two of them have to be told apart by their addresses
}

// Of is the value of a run.
func (k *Kept[T]) Of(run *Run) *T {
	kept, ok := run.kept[k].(*T)
	if !ok {
		kept = new(T)
		run.kept[k] = kept
	}
	return kept
}
