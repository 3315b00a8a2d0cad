package dialect

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/expression"
)

// Who the rows of a list are: a row that stands there twice, or one that was not there before, has been lost, redrawn
// or made up on the way, and what is counted over such rows proves nothing.

// keyed are the columns by which a row is known, none where the list has no such.
func (row RowPattern) keyed() []string {
	if len(row.Key) > 0 {
		return row.Key
	}
	for _, column := range []string{row.Join, "unit", "name"} {
		if column != "" && slices.Contains(row.Pattern.Groups(), column) {
			return []string{column}
		}
	}
	return nil
}

// called is what a row is called: unit 2, or unit 2, bank A.
func (row compiledRow) called(one map[string]any) string {
	words := make([]string, len(row.key))
	for i, column := range row.key {
		words[i] = column + " " + expression.Format(one[column])
	}
	return strings.Join(words, ", ")
}

// distinct holds that no row stands in an answer twice.
func (row compiledRow) distinct(list []map[string]any) error {
	if len(row.key) == 0 {
		return nil
	}
	seen := map[string]bool{}
	for _, one := range list {
		name := row.called(one)
		if seen[name] {
			return fmt.Errorf("%s has %s twice: one of them is another row, or a line was drawn again", row.List, name)
		}
		seen[name] = true
	}
	return nil
}

// Steady reports whether a list has the same rows throughout a run.
func (d *Dialect) Steady(list string) bool {
	return slices.ContainsFunc(d.Readings, func(r Reading) bool {
		return slices.ContainsFunc(r.Rows, func(row RowPattern) bool { return row.List == list && row.Steady })
	})
}

// Same holds that the rows of steady lists are those that were there before, as far as they are there. Began are the
// lists as they were first read, by name.
func (r *CompiledReading) Same(began map[string][]map[string]any, now map[string][]map[string]any) error {
	for _, row := range r.rows {
		first, known := began[row.List]
		if !row.Steady || !known {
			continue
		}
		names := make([]string, len(first))
		for i, one := range first {
			names[i] = row.called(one)
		}
		for _, one := range now[row.List] {
			if name := row.called(one); !slices.Contains(names, name) {
				return fmt.Errorf("%s has %s, which was not there when it was first read: %s", row.List, name,
					strings.Join(names, "; "))
			}
		}
	}
	return nil
}
