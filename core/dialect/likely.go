package dialect

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Likely is how well a dialect fits what a device has written.
type Likely struct {
	Dialect *Dialect
	Score   int
	Reasons []string // what speaks for it, the most telling first
}

// What each kind of match speaks for a dialect. Each counts once, however often it is seen: a device repeats itself.
var weights = map[string]int{
	"mode":     5,
	"prompt":   4,
	"question": 3,
	"reading":  3,
	"action":   2,
	"noise":    2,
	"pager":    1,
	"refused":  1,
	"secret":   1,
}

// Weigh holds dialects against the lines that a device has written, the last of which it waits with: the most likely
// first, and only those for which something speaks.
func Weigh(all []*Dialect, lines []string) (likely []Likely) {
	for _, d := range all {
		if one := d.weigh(lines); one.Score > 0 {
			likely = append(likely, one)
		}
	}
	slices.SortStableFunc(likely, func(a, b Likely) int {
		return cmp.Or(b.Score-a.Score, strings.Compare(a.Dialect.Dialect, b.Dialect.Dialect))
	})
	return likely
}

func (d *Dialect) weigh(lines []string) Likely {
	trial := d.NewTrial()
	for _, line := range lines {
		trial.Line(line)
	}
	tried, _ := trial.Result()
	type reason struct {
		weight int
		text   string
	}
	var reasons []reason
	seen := map[string]bool{}
	one := Likely{Dialect: d}
	for _, line := range slices.Backward(tried) { // what it wrote last is the most telling
		for _, match := range line.Matches {
			kind, _, _ := strings.Cut(match, " ")
			if weights[kind] == 0 || seen[match] {
				continue
			}
			seen[match] = true
			one.Score += weights[kind]
			reasons = append(reasons,
				reason{weights[kind], fmt.Sprintf("“%s” (%s)", strings.TrimSpace(line.Line), match)})
		}
	}
	slices.SortStableFunc(reasons, func(a, b reason) int { return b.weight - a.weight })
	for _, r := range reasons {
		one.Reasons = append(one.Reasons, r.text)
	}
	return one
}

// Sure reports whether the first of some is clearly the likeliest: it fits well, and no other nearly as well.
func Sure(likely []Likely) bool {
	const enough = 4
	return len(likely) > 0 && likely[0].Score >= enough && (len(likely) == 1 || likely[0].Score >= 2*likely[1].Score)
}
