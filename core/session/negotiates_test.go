package session

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/event"
)

// TestAPlainConnectionThatSpeaksTelnetIsSaid greets with what servers negotiate, and with what is none.
func TestAPlainConnectionThatSpeaksTelnetIsSaid(t *testing.T) {
	for greeting, telnet := range map[string]bool{
		"\xff\xfb\x01\xff\xfb\x03\xff\xfd\x18": true, "\r\n\xff\xfd\x1flogin: ": true, "\xff\xfe\x22": true,
		"sill: ": false, "\xff\xd8\xff\xe0 a picture": false, "\xff\xff\xff\xff": false, strings.Repeat("x",
			2000) + "\xff\xfb\x01": false,
	} {
		overFake(t, Options{}, func(t *testing.T, _ *Session, l *fakeLine, feed *event.Feed) {
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
		})
	}
}
