package engine

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/dialect"
)

func TestProgressIsReadFromTheScreen(t *testing.T) {
	d, err := dialect.Parse("p.yaml",
		[]byte("dialect: p\nmodes: [{mode: ready, prompt: '^> $'}]\nactions:\n  - {action: a, command: a, done: a, progress: '(\\d+) ?%'}\n  - {action: b, command: b, done: b, progress: 'drawing (\\d+) of (\\d+)'}\n"))
	require.NoError(t, err)
	for _, c := range []struct {
		action, output string
		part           float64
		known          bool
	}{
		{"a", "5 %\n55 %", 0.55, true},
		{"a", "working", 0, false},
		{"a", "140 %", 1, true},
		{"b", "drawing 1 of 100\ndrawing 55 of 100", 0.55, true},
		{"b", "drawing 5 of 0", 0, false},
	} {
		part, known := partDone(d.Action(c.action).Progress, c.output)
		assert.Equal(t, c.known, known, c.output)
		assert.InDelta(t, c.part, part, 1e-9, c.output)
	}
}
