package dialect

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/expression"
	"pilotrix/core/plain"
	"pilotrix/core/units"
)

// CompiledReading is a reading with its patterns ready.
type CompiledReading struct {
	Reading
	Type   *expression.Template
	Where  string // its timeout is set, as file:line
	facts  []compiledFact
	rows   []compiledRow
	fail   *Matcher
	echoes []compiledEcho
	values values
}

type compiledFact struct {
	FactPattern
	pattern *regexp.Regexp
}

type compiledRow struct {
	RowPattern
	pattern *regexp.Regexp
	key     []string
}

// Limit is how long the reading's command may take.
func (r *CompiledReading) Limit() time.Duration {
	if r.Timeout != nil {
		return time.Duration(*r.Timeout)
	}
	return DefaultTimeout
}

// usuallyGood is how long a reading is a picture of the present when it does not say.
const usuallyGood = time.Minute

// Good is how long what the reading says may stand in a hold before it is read again.
func (r *CompiledReading) Good() time.Duration {
	if r.GoodFor != nil {
		return time.Duration(*r.GoodFor)
	}
	return usuallyGood
}

// Makes are the names of the facts that the reading makes.
func (r *CompiledReading) Makes() (names []string) {
	for _, fact := range r.facts {
		names = append(names, fact.Fact)
	}
	for _, row := range r.rows {
		names = append(names, row.List)
	}
	return names
}

// MakesFact reports whether the reading makes a fact of that name.
func (r *CompiledReading) MakesFact(name string) bool { return slices.Contains(r.Makes(), name) }

// Parse parses the output of the reading's command. Rows that are joined to those of another reading find
// them in what is known.
func (r *CompiledReading) Parse(output, command string, at time.Time, known *device.Facts) ([]device.Fact, error) {
	if found := r.fail.Find(output); found != "" {
		return nil, fmt.Errorf("%s answered: %s", command, found)
	}
	var facts []device.Fact
	for _, fact := range r.facts {
		text, found := fact.find(output)
		if !found {
			return nil, fmt.Errorf("%s: the answer says no %s (looked for %s in %s)", command, fact.Fact,
				fact.FactPattern.Pattern, units.Many(len(output), "character"))
		}
		value, err := r.values.convert(fact.Value, text)
		if err != nil {
			return nil, fmt.Errorf("%s: %s: %w", command, fact.Fact, err)
		}
		facts = append(facts, device.Fact{
			Name:    fact.Fact,
			Value:   value,
			Text:    strings.TrimSpace(fact.Value.word(text) + " " + fact.Unit),
			Source:  command,
			At:      at,
			Reading: r.Reading.Reading,
		})
	}
	for _, row := range r.rows {
		list, err := row.find(output, r.values)
		if err != nil {
			return nil, fmt.Errorf("%s: %s: %w", command, row.List, err)
		}
		if len(list) == 0 && !row.Empty {
			return nil, fmt.Errorf("%s: the answer has no row of %s (looked for %s in %s)", command, row.List,
				row.RowPattern.Pattern, units.Many(len(output), "character"))
		}
		if err := cmp.Or(counted(row, len(list), facts), row.distinct(list)); err != nil {
			return nil, fmt.Errorf("%s: %w", command, err)
		}
		if before, ok := known.Get(row.List); row.Join != "" && ok {
			list = join(before.Value, list, row.Join)
		}
		facts = append(facts, device.Fact{
			Name:    row.List,
			Value:   list,
			Text:    rowsText(len(list)),
			Source:  command,
			At:      at,
			Reading: r.Reading.Reading,
		})
	}
	return facts, nil
}

// counted holds the number of rows against what the device says that there are: a lost byte may have cost one.
func counted(row compiledRow, rows int, facts []device.Fact) error {
	if row.Count == "" {
		return nil
	}
	for _, fact := range facts {
		if n, ok := fact.Value.(float64); fact.Name == row.Count && ok && int(n) != rows {
			return fmt.Errorf("the answer has %s of %s, and says that there are %d", units.Many(rows, "row"), row.List,
				int(n))
		}
	}
	return nil
}

func rowsText(n int) string {
	if n == 1 {
		return "1 row"
	}
	return units.Many(n, "row")
}

// find is the value that a fact's pattern finds, or its default.
func (f compiledFact) find(output string) (text string, found bool) {
	switch at := f.pattern.FindStringSubmatchIndex(output); {
	case at != nil && at[2] >= 0: // a group that took no part says nothing
		return strings.TrimSpace(output[at[2]:at[3]]), true
	case f.Default != nil:
		return string(*f.Default), true
	}
	return "", false
}

func (row compiledRow) find(output string, v values) ([]map[string]any, error) {
	list := []map[string]any{}
	names := row.pattern.SubexpNames()
	matches := row.pattern.FindAllStringSubmatchIndex(output, -1)
	if line := row.overlooked(output, matches); line != "" {
		return nil, fmt.Errorf("a line is no row that is understood: “%s”", plain.Clip(line, maxOfLine))
	}
	for _, match := range matches {
		one := map[string]any{}
		for i, name := range names {
			if name == "" {
				continue
			}
			text := ""
			if from, to := match[2*i], match[2*i+1]; from >= 0 { // a group that took no part says nothing
				text = strings.TrimSpace(output[from:to])
			}
			value, err := v.convert(row.Columns[name], text)
			if err != nil {
				return nil, fmt.Errorf("row %d: %s: %w", len(list)+1, name, err)
			}
			one[name] = value
		}
		list = append(list, one)
	}
	return list, nil
}

// maxOfLine is how much is shown of a line that is not understood, in bytes.
const maxOfLine = 120

// overlooked is the first line that looks like a row and has no part in a match, empty where there is none: a word that
// nobody foresaw, or a byte that the line has lost.
func (row compiledRow) overlooked(output string, matches [][]int) string {
	if row.Lines == "" {
		return ""
	}
	at := 0
	for line := range strings.Lines(output) {
		begins, ends := at, at+len(line)
		at = ends
		inside := func(span []int) bool { return span[0] < ends && span[1] > begins }
		if text := strings.TrimRight(line, "\r\n"); row.Lines.RE().MatchString(text) &&
			!slices.ContainsFunc(matches, inside) {
			return strings.TrimSpace(text)
		}
	}
	return ""
}

// join adds the columns of rows to those with the same value in a column. A row that has none stays by
// itself.
func join(before any, rows []map[string]any, by string) []map[string]any {
	old, _ := before.([]map[string]any)
	joined := []map[string]any{}
	taken := map[int]bool{}
	for _, was := range old {
		one := map[string]any{}
		for name, value := range was {
			one[name] = value
		}
		for i, row := range rows {
			if !taken[i] && expression.Format(row[by]) == expression.Format(was[by]) {
				taken[i] = true
				for name, value := range row {
					one[name] = value
				}
				break
			}
		}
		joined = append(joined, one)
	}
	for i, row := range rows {
		if !taken[i] {
			joined = append(joined, row)
		}
	}
	return joined
}

// TextRows are the rows of a list as text, for those who are reported of a fact.
func TextRows(value any) []map[string]string {
	rows, ok := value.([]map[string]any)
	if !ok {
		return nil
	}
	out := make([]map[string]string, len(rows))
	for i, row := range rows {
		out[i] = map[string]string{}
		for name, value := range row {
			out[i][name] = expression.Format(value)
		}
	}
	return out
}

// values gives texts of the device their kinds; releases in the dialect's order.
type values struct{ order *device.Order }

// word is ours for a word of the device.
func (v Value) word(text string) string {
	if ours, known := v.Text[text]; known {
		return ours
	}
	return text
}

// convert gives a value its kind. A digest loses its case and its separators.
func (k values) convert(v Value, text string) (any, error) {
	text = v.word(text)
	if text == "" {
		return "", nil
	}
	switch v.As {
	case "size":
		return units.ParseSize(text + v.Unit)
	case "number":
		return units.ParseNumber(text)
	case "hex":
		n, err := strconv.ParseUint(strings.TrimPrefix(strings.ToLower(text), "0x"), 16, 53)
		if err != nil {
			return nil, fmt.Errorf("%q is no hexadecimal number", text)
		}
		return float64(n), nil
	case "release":
		return k.order.Parse(text)
	case "digest":
		return strings.ToLower(strings.NewReplacer(" ", "", ":", "", "-", "").Replace(text)), nil
	}
	return text, nil
}
