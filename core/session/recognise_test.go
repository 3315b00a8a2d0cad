package session

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/line"
)

// TestHowADeviceTalksIsLearntOnTheWay opens a line without a dialect, has known ones weighed by what came, and takes
// one: the prompt that stands there is known at once, and so are the dangers.
func TestHowADeviceTalksIsLearntOnTheWay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := newFakeLine()
		opener := line.NewOpener(clock.Real())
		opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return l, nil })
		s, err := Open(t.Context(), Options{Target: l.Target(), Opener: opener})
		require.NoError(t, err)
		feed := s.Subscribe()
		s.Begin()
		l.says("working\r\n")
		typeKeys(s, "\r")
		l.says("\x1b[1m\r\n> ")
		time.Sleep(time.Minute)
		assert.Equal(t, []string{"working", "", "> "}, s.Heard())

		two, err := dialect.Parse("two.yaml", []byte(twoModes))
		require.NoError(t, err)
		risky, err := dialect.Parse("dangerous.yaml", []byte(dangerous))
		require.NoError(t, err)
		likely := dialect.Weigh([]*dialect.Dialect{risky, two}, s.Heard())
		require.NotEmpty(t, likely)
		assert.Equal(t, "two", likely[0].Dialect.Dialect)
		assert.Equal(t, []string{"“working” (mode busy)", "“>” (prompt ready)"}, likely[0].Reasons)

		require.NoError(t, s.Learn(risky))
		time.Sleep(50 * time.Millisecond)
		assert.True(t, s.run().Device().AtPrompt)
		assert.Empty(t, s.Heard(), "what was kept for it is gone")
		typeKeys(s, "wipe bank B\r")
		assert.Equal(t, []string{"held wipe bank B"}, states(t, feed))
		s.Close("the test ends")
	})
}
