package session

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
	"pilotrix/core/event"
)

const busily = dangerous + `
readings: [{reading: haul, command: look, facts: [{fact: haul.state, pattern: '(\w+)'}]}]
busy: [{while: 'haul.state == "fetching"', says: bank A is being written}]
`

// TestADangerIsReportedWithThePresent has a transfer under way, a bank being written and a trial that runs out.
func TestADangerIsReportedWithThePresent(t *testing.T) {
	lockedBy(t, busily, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		typeKeys(s, "wipe bank B\r")
		held := collect[event.Interlock](t, feed)
		require.Len(t, held, 1)
		assert.Empty(t, held[0].Now)

		typeKeys(s, "\x15try 8.1\r")
		s.facts.Set(device.Fact{Name: "haul.state", Value: "fetching", At: s.opt.Clock.Now()})
		s.run().Emit(event.TransferBegin{ID: "a", File: "lark.cgo", Protocol: "TFTP"})
		time.Sleep(110 * time.Second)
		l.prompt()
		typeKeys(s, "wipe bank B\r")
		held = collect[event.Interlock](t, feed)
		require.NotEmpty(t, held)
		assert.Equal(t, []string{
			"lark.cgo is being moved by TFTP",
			"bank A is being written, as read 1 min 50 s ago",
			"the old release comes back, in 03:10",
		}, held[len(held)-1].Now)
		s.run().Emit(event.TransferEnd{ID: "a"})
		assert.NotContains(t, s.run().Present(), "lark.cgo is being moved by TFTP")
	})
}

// TestAnAnswerToAQuestionIsNoDoubt types one behind a question that stands below a command.
func TestAnAnswerToAQuestionIsNoDoubt(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		typeKeys(s, "stow\r")
		l.says("stow\r\n  write over what was stowed before? (y/n) ")
		time.Sleep(time.Second)
		typeKeys(s, "y")
		l.says("y")
		time.Sleep(time.Second)
		s.Press([]byte("\r"))
		assert.Empty(t, collect[event.Interlock](t, feed))
		assert.Equal(t, "stow\ry\r", l.got())
	})
}

// TestALineThatShowsSomethingElseIsHeld loses a letter on the way to the device, and on the way back.
func TestALineThatShowsSomethingElseIsHeld(t *testing.T) {
	for shows, doubt := range map[string]bool{"look": false, "loo": false, "": false, "lok": true, "look x": true, "lo\xf8k": true} {
		locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
			typeKeys(s, "look")
			l.says(shows)
			time.Sleep(50 * time.Millisecond)
			s.Press([]byte("\r"))
			held := collect[event.Interlock](t, feed)
			assert.Equal(t, doubt, len(held) == 1, "%q", shows)
			if doubt {
				assert.Contains(t, held[0].Says, "the line shows")
				assert.True(t, s.SendHeld(), "it is the operator's to send")
			}
			assert.Contains(t, l.got(), "\r")
		})
	}
}
