package ftpd

import (
	"context"
	"fmt"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/transfer"
)

// TestAFileThatChangedIsTheReasonWhoeverEndsIt: a device that got too little of it hangs up at once.
func TestAFileThatChangedIsTheReasonWhoeverEndsIt(t *testing.T) {
	ended, end := context.WithCancel(t.Context())
	end()
	changed := fmt.Errorf("it ends early: %w", transfer.ErrChanged)
	assert.ErrorIs(t, brokenOff(ended, changed), transfer.ErrChanged)
	assert.ErrorIs(t, brokenOff(ended, net.ErrClosed), errBrokenOff)
	assert.ErrorIs(t, brokenOff(t.Context(), net.ErrClosed), net.ErrClosed)
	assert.NoError(t, brokenOff(ended, nil))
}
