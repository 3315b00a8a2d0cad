package session

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/line"
)

// TestAPlainConnectionThatSpeaksTelnetIsSaid greets with what servers negotiate, and with what is none.
func TestAPlainConnectionThatSpeaksTelnetIsSaid(t *testing.T) {
	for greeting, telnet := range map[string]bool{
		"\xff\xfb\x01\xff\xfb\x03\xff\xfd\x18": true, "\r\n\xff\xfd\x1flogin: ": true, "\xff\xfe\x22": true,
		"sill: ": false, "\xff\xd8\xff\xe0 a picture": false, "\xff\xff\xff\xff": false, strings.Repeat("x", 2000) + "\xff\xfb\x01": false,
	} {
		synctest.Test(t, func(t *testing.T) {
			l := newFakeLine()
			opener := line.NewOpener(clock.Real())
			opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return l, nil })
			s, err := Open(t.Context(), Options{Target: l.Target(), Opener: opener})
			require.NoError(t, err)
			feed := s.Subscribe()
			s.Begin()
			l.says(greeting)
			l.says(greeting)
			time.Sleep(time.Second)
			var said []string
			for _, note := range collect[event.Note](t, feed) {
				said = append(said, note.Text)
			}
			if telnet {
				assert.Equal(t, []string{"this is telnet: open telnet://x:1 instead of tcp:x:1"}, said, "%q", greeting)
			} else {
				assert.Empty(t, said, "%q", greeting)
			}
			s.Close("the test ends")
		})
	}
}
