package test

import (
	"flag"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/dialect"
)

var everyList = flag.Bool("lists.all", false, "spoil each list at every command that tells it, and not at some")

// spoilt is a way in which a list that was told is not the one that there is. It is given the row's places in the answer, at least one.
type spoilt struct {
	name           string
	twice, another bool // what it makes of a row
	least          int  // rows that it needs
	spoil          func(answer string, rows [][]int, key []int) string
}

// in puts text in place of a span.
func in(answer string, span []int, text string) string {
	return answer[:span[0]] + text + answer[span[1]:]
}

var spoilts = []spoilt{
	{"a row stands in another's place", true, false, 2, func(answer string, rows [][]int, _ []int) string {
		first, last := rows[0], rows[len(rows)-1]
		return in(answer, last, answer[first[0]:first[1]])
	}},
	{"a row is drawn anew", true, false, 1, func(answer string, rows [][]int, _ []int) string {
		last := rows[len(rows)-1]
		return in(answer, last, answer[last[0]:last[1]]+"\n"+answer[last[0]:last[1]])
	}},
	{"a row is missing", false, false, 2, func(answer string, rows [][]int, _ []int) string {
		last := rows[len(rows)-1]
		return in(answer, []int{last[0], min(len(answer), last[1]+1)}, "")
	}},
	{"a row is another's", false, true, 1, func(answer string, _ [][]int, key []int) string {
		name := []byte(answer[key[0]:key[1]])
		switch last := &name[len(name)-1]; {
		case *last >= '0' && *last < '9':
			*last = '9'
		case *last == '9':
			*last = '8'
		case *last == 'B':
			*last = 'C'
		default:
			*last = 'q'
		}
		return in(answer, key, string(name))
	}},
}

// listOf is a list that a command tells: how its rows are found, and by which column they are known.
type listOf struct {
	name    string
	pattern *regexp.Regexp
	key     int // the group
}

// listsTold are those that a command's answer has.
func listsTold(d *dialect.Dialect, command string) (lists []listOf) {
	for _, reading := range d.Readings {
		if reading.Command != command {
			continue
		}
		for _, row := range reading.Rows {
			pattern := row.Pattern.RE()
			for _, column := range append(slices.Clone(row.Key), row.Join, "unit", "name") {
				if key := pattern.SubexpIndex(column); column != "" && key > 0 {
					lists = append(lists, listOf{row.List, pattern, key})
					break
				}
			}
		}
	}
	return lists
}

// retelling spoils a list in an answer, where it has rows enough. Did is set once that was so.
func retelling(list listOf, how spoilt, did *atomic.Bool) func(answer string) string {
	return func(answer string) string {
		text := strings.ReplaceAll(answer, "\r\n", "\n")
		matches := list.pattern.FindAllStringSubmatchIndex(text, -1)
		if len(matches) < how.least {
			return answer
		}
		var rows [][]int
		for _, match := range matches {
			rows = append(rows, match[:2])
		}
		last := matches[len(matches)-1]
		did.Store(true)
		return strings.ReplaceAll(how.spoil(text, rows, last[2*list.key:2*list.key+2]), "\n", "\r\n")
	}
}

// TestNoListIsBelievedThatIsNotTheOneThereIs has the device tell each list of each runbook in another way than it is, from each time on
// that it is asked for it: no row counts twice, and none for another.
func TestNoListIsBelievedThatIsNotTheOneThereIs(t *testing.T) {
	t.Parallel()
	for _, one := range liables {
		t.Run(one.runbook, func(t *testing.T) {
			t.Parallel()
			told, _ := learn(t, one)
			var d *dialect.Dialect
			synctest.Test(t, func(t *testing.T) {
				l := one.device(t)
				d = l.book.Dialect
				l.close()
			})
			for i, command := range told {
				for _, list := range listsTold(d, command) {
					for n, how := range spoilts {
						if !*everyList && i%len(spoilts) != n && n > 1 {
							continue
						}
						t.Run(fmt.Sprintf("%d %s %s: %s", i, command, list.name, how.name), func(t *testing.T) {
							t.Parallel()
							synctest.Test(t, func(t *testing.T) { spoiltAt(t, one, i, command, list, how, slices.Contains(told[:i], command)) })
						})
					}
				}
			}
		})
	}
}

func spoiltAt(t *testing.T, one liable, at int, command string, list listOf, how spoilt, known bool) {
	l := one.device(t)
	defer l.close()
	var begun, did atomic.Bool
	n := 0
	l.machine.Retell(func(now string) func(string) string {
		if n == at && now == command {
			begun.Store(true)
		}
		n++
		if begun.Load() && now == command {
			return retelling(list, how, &did)
		}
		return nil
	})
	result := l.run()
	if !did.Load() {
		t.Skip("it never had so many rows from there on")
	}
	if !result.Outcome.Good() {
		return
	}
	said := fmt.Sprintf("%s: %s\n%s", result.Outcome, result.Message, l.story())
	assert.False(t, how.twice, "a row that stands there twice is noticed: %s", said)
	if known { // what was never told otherwise cannot be known
		assert.False(t, how.another && l.book.Dialect.Steady(list.name), "nothing has become another: %s", said)
		assert.NoError(t, one.truth(l), "what could have been left out was done: %s", said)
	}
}
