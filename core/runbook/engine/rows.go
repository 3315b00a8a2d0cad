package engine

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/expression"
	"pilotrix/core/runbook"
)

// Every verb that goes over rows keeps to the names that the run began with: a row that stands there twice, one that is
// missing and one that was not there before are named, and prove nothing.

// listsOf are the lists among facts.
func listsOf(facts []device.Fact) map[string][]map[string]any {
	lists := map[string][]map[string]any{}
	for _, fact := range facts {
		if rows, ok := fact.Value.([]map[string]any); ok {
			lists[fact.Name] = rows
		}
	}
	return lists
}

// known are the facts of a reading whose rows are those that the run began with, which are remembered once.
func (rd *readings) known(reading *dialect.CompiledReading, facts []device.Fact) error {
	now := listsOf(facts)
	if err := reading.Same(rd.began, now); err != nil {
		return err
	}
	for name, rows := range now {
		if _, there := rd.began[name]; !there {
			rd.began[name] = rows
		}
	}
	return nil
}

// Roll is who the rows are that an expression goes over, by the column that names one.
type Roll struct {
	began  []string // all that the lists after it had at first, in their order
	Absent []string // those of them that the expression has gone over then, and that are not listed now
}

func (rd *readings) RollOf(in *expression.Guard, column string) (r Roll) {
	then, now := rd.run.Console.Facts(), []string{}
	for _, fact := range rd.factsOf(in.Uses()) {
		rows, _ := fact.Value.([]map[string]any)
		began, known := rd.began[fact.Name]
		if !known {
			continue
		}
		now = append(now, namesIn(rows, column)...)
		r.began = append(r.began, namesIn(began, column)...)
		fact.Value = began
		then.Set(fact)
	}
	for name, rows := range rd.began { // who is there stands in more than one list
		if names := namesIn(rows, column); len(names) > 0 && rd.run.Prepared.Dialect.Steady(name) && len(r.began) > 0 {
			r.began = slices.DeleteFunc(r.began, func(one string) bool { return !slices.Contains(names, one) })
		}
	}
	gone, err := runbook.RowsOf(in, in.Text(), rd.run.envOf(then))
	if err != nil || len(r.began) == 0 {
		return r // what it goes over was read for the first time
	}
	for _, name := range namesIn(gone, column) {
		if !slices.Contains(now, name) && slices.Contains(r.began, name) {
			r.Absent = append(r.Absent, name)
		}
	}
	return r
}

// namesIn are the names of the rows that have one.
func namesIn(rows []map[string]any, column string) (names []string) {
	for _, row := range rows {
		if value, there := row[column]; there {
			names = append(names, expression.Format(value))
		}
	}
	return names
}

// Split are the rows that count, and what is wrong with the others, in words.
func (r Roll) Split(rows []map[string]any, column string) (good []map[string]any, odd []string) {
	seen := map[string]int{}
	for _, row := range rows {
		name := expression.Format(row[column])
		switch seen[name]++; {
		case seen[name] == 2:
			odd = append(odd, fmt.Sprintf("%s %s is listed twice", column, name))
		case seen[name] > 2:
		case len(r.began) > 0 && !slices.Contains(r.began, name):
			odd = append(odd,
				fmt.Sprintf("%s %s is none of those that were there when the run began: %s", column, name,
					strings.Join(slices.Compact(slices.Clone(r.began)), ", ")))
		default:
			good = append(good, row)
		}
	}
	return good, odd
}

// MissingText names those that are not listed any more.
func (r Roll) MissingText(column string) string {
	if len(r.Absent) == 0 {
		return ""
	}
	return fmt.Sprintf("%s %s is not listed any more", column, strings.Join(r.Absent, ", "))
}
