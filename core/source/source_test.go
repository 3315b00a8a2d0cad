package source

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type document struct {
	Name string `yaml:"name"`
	List []struct {
		Of    string `yaml:"of"`
		Count int    `yaml:"count"`
	} `yaml:"list"`
}

func TestComplaintsPointAtTheValue(t *testing.T) {
	var doc document
	f, err := Decode("x.yaml", []byte("name: a\nlist:\n  - {of: nuts, count: 3}\n  - of: bolts\n    count: 4\n"), &doc)
	require.NoError(t, err)
	for path, want := range map[string][2]int{
		"name":           {1, 7},
		"list[0].count":  {3, 23},
		"list[1].of":     {4, 9},
		"list[1]":        {4, 5},
		"list[1].colour": {4, 5}, // missing: shown at what should hold it
		"nowhere":        {1, 1},
	} {
		var complaint *Error
		require.True(t, errors.As(f.Errorf(path, "bad"), &complaint))
		assert.Equal(t, want, [2]int{complaint.Line, complaint.Column}, path)
	}
	assert.Equal(t, "x.yaml:3:23: count 3 is odd\n    3 |   - {of: nuts, count: 3}\n      |                       ^", f.Errorf("list[0].count", "count %d is odd", 3).Error())
}

func TestDecodingComplaints(t *testing.T) {
	for text, says := range map[string]string{
		"name: [":                  "x.yaml:1:",
		"nam: a":                   "x.yaml:1:1:",
		"list:\n  - {count: many}": "x.yaml:2:13:",
		"":                         "the file is empty",
		"# nothing\n":              "the file is empty",
	} {
		var doc document
		_, err := Decode("x.yaml", []byte(text), &doc)
		assert.ErrorContains(t, err, says, "%q", text)
	}
	_, err := Read("/nowhere/x.yaml", &document{})
	assert.ErrorContains(t, err, "/nowhere/x.yaml")
}
