package test

import (
	"flag"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
)

var everyList = flag.Bool("lists.all", false, "spoil each list at every command that prints it, and not at some")

// spoilt is a way in which a list that was printed is not the one that there is. It is given the row's places in the
// answer, at least one.
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
	{"a row is drawn again", true, false, 1, func(answer string, rows [][]int, _ []int) string {
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

// listOf is a list that a command prints: how its rows are found, and by which column they are known.
type listOf struct {
	name    string
	pattern *regexp.Regexp
	key     int // the group
}

// listsReported are those that a command's answer has.
func listsReported(d *dialect.Dialect, command string) (lists []listOf) {
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

// repeating spoils a list in an answer, where it has rows enough. Did is set once that was so.
func repeating(list listOf, how spoilt, did *atomic.Bool) func(answer string) string {
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

// TestNoListIsBelievedThatIsNotTheOneThereIs has the device print each list of each runbook in another way than it is,
// from each time on that it is asked for it: no row counts twice, and none for another.
func TestNoListIsBelievedThatIsNotTheOneThereIs(t *testing.T) {
	t.Parallel()
	for _, one := range liables {
		t.Run(one.runbook, func(t *testing.T) {
			t.Parallel()
			commands, _ := learn(t, one)
			var d *dialect.Dialect
			synctest.Test(t, func(t *testing.T) {
				l := one.device(t)
				d = l.book.Dialect
				l.close()
			})
			for i, command := range commands {
				if !sampled(i) {
					continue
				}
				for _, list := range listsReported(d, command) {
					for n, how := range spoilts {
						if !*everyList && i%len(spoilts) != n && n > 1 {
							continue
						}
						t.Run(fmt.Sprintf("%d %s %s: %s", i, command, list.name, how.name), func(t *testing.T) {
							t.Parallel()
							synctest.Test(t,
								func(t *testing.T) {
									spoiltAt(t, one, i, command, list, how,
										slices.Contains(commands[:i], command))
								})
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
	l.machine.Repeat(func(now string) func(string) string {
		if n == at && now == command {
			begun.Store(true)
		}
		n++
		if begun.Load() && now == command {
			return repeating(list, how, &did)
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
	if known { // what was never reported otherwise cannot be known
		assert.False(t, how.another && l.book.Dialect.Steady(list.name), "nothing has become another: %s", said)
		assert.NoError(t, one.truth(l), "what could have been left out was done: %s", said)
	}
}

// saidOtherwise are what else an answer may say than it did before, or than it was asked.
var saidOtherwise = []struct {
	name, command string // the command's beginning
	now           *regexp.Regexp
	other         func(found string) string
}{
	{
		"the part has moved",
		"mtdparts",
		regexp.MustCompile(`system\s+0x[0-9a-f]{8}\s+0x[0-9a-f]{8}`),
		func(row string) string {
			at := strings.LastIndex(row, "0x")
			n, _ := strconv.ParseInt(row[at+2:], 16, 64)
			return fmt.Sprintf("%s0x%08x", row[:at], n+0x10000)
		},
	},
	{"the part is smaller", "mtdparts", regexp.MustCompile(`system\s+0x[0-9a-f]{8}`), func(row string) string {
		at := strings.LastIndex(row, "0x")
		n, _ := strconv.ParseInt(row[at+2:], 16, 64)
		return fmt.Sprintf("%s0x%08x", row[:at], n-0x10000)
	}},
	{"another part is named so", "mtdparts", regexp.MustCompile(`(?s)system(.*)settings`), func(rows string) string {
		return "settings" + rows[len("system"):len(rows)-len("settings")] + "system"
	}},
	{
		"the checksum is of another place",
		"crc32 ",
		regexp.MustCompile(`for [0-9a-f]`),
		func(string) string { return "for 7" },
	},
	{
		"the checksum does not say of what",
		"crc32 ",
		regexp.MustCompile(`crc32 for [0-9a-f]+ \.\.\. [0-9a-f]+ `),
		func(string) string { return "" },
	},
	{
		"other sectors were erased",
		"erase ",
		regexp.MustCompile(`Erased \d+`),
		func(string) string { return "Erased 3" },
	},
	{
		"other sectors were opened",
		"protect off",
		regexp.MustCompile(`Un-Protected \d+`),
		func(string) string { return "Un-Protected 3" },
	},
	{
		"the digest is of another file",
		"sha256sum",
		regexp.MustCompile(`/tmp/\S+`),
		func(string) string { return "/tmp/other" },
	},
}

// TestNothingIsBurnedByAMapThatMoved has the map, or what an answer repeats of its command, said otherwise from each
// time on.
func TestNothingIsBurnedByAMapThatMoved(t *testing.T) {
	t.Parallel()
	tried := map[string]bool{}
	for _, one := range liables {
		if !slices.Contains([]string{"try-then-burn", "recovery-put", "write-over-the-shell"}, one.runbook) {
			continue
		}
		commands, _ := learn(t, one)
		for i, command := range commands {
			for _, how := range saidOtherwise {
				if !strings.HasPrefix(command, how.command) || !sampled(i) {
					continue
				}
				tried[how.name] = true
				t.Run(fmt.Sprintf("%s %d %s: %s", one.runbook, i, command, how.name), func(t *testing.T) {
					t.Parallel()
					synctest.Test(t, func(t *testing.T) {
						l := one.device(t)
						defer l.close()
						var begun, did atomic.Bool
						n := 0
						l.machine.Repeat(func(now string) func(string) string {
							begun.Store(begun.Load() || n == i)
							n++
							if !begun.Load() || !strings.HasPrefix(now, how.command) {
								return nil
							}
							return func(answer string) string {
								did.Store(did.Load() || how.now.MatchString(answer))
								return how.now.ReplaceAllStringFunc(answer, how.other)
							}
						})
						result := l.run()
						require.True(t, did.Load(), "%s\n%s", result.Message, l.story())
						if strings.HasPrefix(how.command, "mtdparts") && !slices.Contains(commands[:i], command) &&
							result.Outcome.Good() {
							return // it was never said otherwise: the burn went where the device said
						}
						assert.False(t, result.Outcome.Good(), "%s: %s\n%s", result.Outcome, result.Message, l.story())
						if how.command == "mtdparts" {
							for _, change := range find[event.Change](l.rig) {
								assert.NotContains(t, change.Command, "erase", "%s\n%s", result.Message, l.story())
							}
						}
					})
				})
			}
		}
	}
	if !underRace {
		for _, how := range saidOtherwise {
			assert.True(t, tried[how.name], "%s was not tried", how.name)
		}
	}
}
