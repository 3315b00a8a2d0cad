package line

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
)

// TestNoLineIsSilent opens one for a device that is dealt with over the network alone: nothing can be typed, and it ends when it is closed.
func TestNoLineIsSilent(t *testing.T) {
	target, err := ParseTarget("none:tangle-sw2")
	require.NoError(t, err)
	assert.Equal(t, "none:tangle-sw2", target.String())
	_, err = ParseTarget("none:")
	require.Error(t, err)
	wire := newSilence()
	_, err = wire.Write([]byte("x"))
	require.ErrorContains(t, err, "nothing can be typed")
	l, err := NewOpener(clock.Real()).Open(t.Context(), target)
	require.NoError(t, err)
	require.NoError(t, l.Close())
}
