package source

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type part struct {
	Of    string   `yaml:"of" jsonschema:"required" jsonschema_description:"What they are; shown"`
	Count int      `yaml:"count" jsonschema:"minimum=1"`
	Kind  string   `yaml:"kind" jsonschema:"enum=steel,enum=brass"`
	Sizes []string `yaml:"sizes"`
}

type shared struct {
	About string `yaml:"about"`
}

type document struct {
	Name    string `yaml:"name"`
	shared  `yaml:",inline"`
	List    []part          `yaml:"list"`
	With    map[string]Text `yaml:"with"`
	By      map[string]part `yaml:"by"`
	Wait    *Duration       `yaml:"wait"`
	Matches Pattern         `yaml:"matches"`
	When    Expression      `yaml:"when"`
	Own     own             `yaml:"own"`
	On      bool            `yaml:"on"`
}

// own is a mapping that reads its keys itself.
type own struct{ left, right string }

func (o *own) Keys() []string              { return []string{"left", "right"} }
func (o *own) Required() map[string]string { return map[string]string{"left": "the left one"} }
func (o *own) Field(key string) (any, Rules) {
	return map[string]any{"left": &o.left, "right": &o.right}[key], Rules{}
}

func decode(t *testing.T, text string) (doc document, f *File) {
	t.Helper()
	f, err := Decode("x.yaml", []byte(text), &doc)
	require.NoError(t, err)
	return doc, f
}

func TestWhatIsRightIsTaken(t *testing.T) {
	doc, f := decode(t, `
name: a
about: b
list:
  - &nuts {of: nuts, count: 3, kind: brass, sizes: [m4, m5]}
  - *nuts
with: {slot: 3, release: 7.10, name: x}
by: {sea: {of: salt}}
wait: 1m30s
matches: '^x(\d+)$'
when: 3
own: {left: l}
on: true
`)
	require.NoError(t, f.Err())
	assert.Equal(t, "b", doc.About)
	assert.Equal(t, doc.List[0], doc.List[1])
	assert.Equal(t, map[string]Text{"slot": "3", "release": "7.10", "name": "x"}, doc.With, "as it is written")
	assert.Equal(t, "salt", doc.By["sea"].Of)
	assert.Equal(t, 90*time.Second, time.Duration(*doc.Wait))
	assert.Equal(t, "l", doc.Own.left)
	assert.True(t, doc.On)
}

func TestComplaintsPointAtTheValue(t *testing.T) {
	_, f := decode(t, "name: a\nlist:\n  - {of: nuts, count: 3}\n  - of: bolts\n    count: 4\n")
	for path, want := range map[string][2]int{
		"name":           {1, 7},
		"list[0].count":  {3, 23},
		"list[1].of":     {4, 9},
		"list[1]":        {4, 5},
		"list[1].colour": {4, 5}, // missing: shown at what should hold it
		"nowhere":        {1, 1},
	} {
		c := f.remark(path, "bad")
		assert.Equal(t, want, [2]int{c.Line, c.Column}, path)
	}
	f.Complain("list[0].count", "count %d is odd", 3)
	assert.Equal(t, "x.yaml:3:23: count 3 is odd\n    3 |   - {of: nuts, count: 3}\n      |                       ^",
		f.Err().Error())
}

// TestEveryFaultIsReportedInOurText has one fault in each text.
func TestEveryFaultIsReportedInOurText(t *testing.T) {
	for text, says := range map[string]string{
		"nam: a":                             `x.yaml:1:1: no key "nam" here; did you mean name?`,
		"colour: a":                          `no key "colour" here; there are about, by, list`,
		"list:\n  - {count: many, of: x}":    `x.yaml:2:13: "many" is no whole number`,
		"list: [{of: x, count: 0}]":          `x.yaml:1:23: 0 is too small: want 1 or more`,
		"list: [{count: 3}]":                 "of is missing: what they are",
		"list: [{of: ''}]":                   "this is empty",
		"list: [{of: x, kind: gold}]":        `"gold" is none of steel, brass`,
		"list: nuts":                         `this wants a list, such as [nuts], and "nuts" stands here`,
		"list: [nuts]":                       `this wants keys and values (count, kind, of, sizes), and "nuts" stands here`,
		"list: [{of: x, sizes: {a: b}}]":     "this wants a list, such as […], and a set of keys stands here",
		"name: [a]":                          "this wants one value, and a list stands here",
		"name:":                              "nothing is said here",
		"on: maybe":                          `"maybe" is neither true nor false`,
		"wait: 10":                           "10 of what? Write 10s for seconds, 10m for minutes",
		"wait: -5s":                          `"-5s" is below zero`,
		"wait: soon":                         `"soon" is no time`,
		"matches: '(x'":                      "bad pattern: missing closing ): `(x`",
		"matches: ''":                        "the pattern is empty",
		"matches: 'x*'":                      "matches an empty text, and so everything",
		"when: ''":                           "the expression is empty",
		"own: {right: r}":                    "left is missing: the left one",
		"own: {middle: r, left: l}":          `no key "middle" here; there are left, right`,
		"with: 7":                            "this wants names and values, such as {name: 7}",
		"name: a\nname: b":                   "name",
		"name: *lost":                        "nothing before this is called &lost",
		"name: !!str a":                      "tags such as !!str are not used here",
		"list:\n  - {<<: {of: a}, count: 1}": "<<",
		"name: a\n---\nname: b":              "one file holds one document",
	} {
		var doc document
		f, err := Decode("x.yaml", []byte(text), &doc)
		if err == nil {
			err = f.Err()
		}
		require.Error(t, err, "%q", text)
		assert.Contains(t, err.Error(), says, "%q", text)
		var one *Complaint
		require.True(t, errors.As(err, &one), "%q", text)
		assert.NotZero(t, one.Line, "%q", text)
	}
}

func TestAllFaultsOfAFileAreReported(t *testing.T) {
	_, f := decode(t, "nam: a\nwait: 10\nlist:\n  - {of: x, count: 0, kind: gold}\n")
	f.Complain("wait", "what follows from a fault is no second one")
	f.Complain("list[0].count.more", "nor this")
	f.Warn("list[0].of", "an odd thing")
	var all Complaints
	require.ErrorAs(t, f.Err(), &all)
	lines := []int{}
	for _, c := range all {
		lines = append(lines, c.Line)
	}
	assert.Equal(t, []int{1, 2, 4, 4}, lines, "in the order of the file")
	require.Len(t, f.Warnings(), 1)
	assert.True(t, f.Complained("list[0].count"))
	assert.False(t, f.Complained("list[0].of"))
}

func TestWhatIsNoYAML(t *testing.T) {
	for text, says := range map[string]string{"name: [": "x.yaml:1:", "": "the file is empty", "# nothing\n": "the file is empty"} {
		var doc document
		_, err := Decode("x.yaml", []byte(text), &doc)
		assert.ErrorContains(t, err, says, "%q", text)
	}
	_, err := Read("/nowhere/x.yaml", &document{})
	assert.ErrorContains(t, err, "/nowhere/x.yaml")
}

// TestAHostileFileIsNoLongWait has texts that the YAML package takes minutes or hours for.
func TestAHostileFileIsNoLongWait(t *testing.T) {
	indented := ""
	for i := range 1000 {
		indented += strings.Repeat(" ", i) + "a:\n"
	}
	for name, text := range map[string]string{
		"lists": "name: " + strings.Repeat("[",
			1_000_000), "sets": strings.Repeat("{a: ",
			100_000), "indented": indented, "long": "name: " + strings.Repeat("a", 5<<20),
	} {
		var doc document
		_, err := Decode("x.yaml", []byte(text), &doc)
		assert.ErrorContains(t, err, "nested too deeply, or too long", name)
	}
	_, f := decode(t, "with: &a {x: 1}\nlist: &b [*a, *a, *a]\nby: {a: *b, b: *b}\n")
	assert.Error(t, f.Err(), "what is called again and again is taken as often as it is asked for, and no oftener")
}

func FuzzDecode(f *testing.F) {
	for _, text := range []string{"name: &a [*a]", "list: [{of: x}]", "with: {a: {b: c}}", "name: |\n  x\n", "? a\n: b"} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var doc document
		file, err := Decode("x.yaml", data, &doc)
		if err == nil && file.Err() != nil {
			assert.True(t, strings.HasPrefix(file.Err().Error(), "x.yaml"))
		}
	})
}
