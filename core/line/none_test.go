package line

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
)

// TestNoLineIsSilent opens one for a device that is dealt with over the network alone: nothing can be typed, and it
// ends when it is closed.
func TestNoLineIsSilent(t *testing.T) {
	target, err := ParseTarget("none:tangle-sw2")
	require.NoError(t, err)
	assert.Equal(t, "none:tangle-sw2", target.String())
	_, err = ParseTarget("none:")
	require.Error(t, err)
	l, err := NewOpener(clock.Real()).Open(t.Context(), target)
	require.NoError(t, err)
	err = l.Write(t.Context(), []byte("x"))
	require.ErrorIs(t, err, ErrCannot)
	require.ErrorContains(t, err,
		"none:tangle-sw2 cannot do that: the device has no line here, so that nothing can be typed")
	require.NoError(t, l.Close())
}
