package engine

// Kept is what the steps of a verb keep for later ones: in each run a value of its own, which begins as its zero.
type Kept[T any] struct {
	_ byte // two of them have to be told apart by their addresses
}

// Of is the value of a run.
func (k *Kept[T]) Of(e *Run) *T {
	kept, ok := e.kept[k].(*T)
	if !ok {
		kept = new(T)
		e.kept[k] = kept
	}
	return kept
}
