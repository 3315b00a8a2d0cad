package event

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestAnEndSaysItsOutcomeOnce puts messages of all kinds after each outcome.
func TestAnEndSaysItsOutcomeOnce(t *testing.T) {
	for want, end := range map[string]RunEnd{
		"done":                                  {Outcome: Done, Message: "done"},
		"done; by hand: “Raise”":                {Outcome: Done, Message: "done; by hand: “Raise”"},
		"done, but this failed: “Raise”":        {Outcome: DoneBut, Message: "done, but this failed: “Raise”"},
		"done but for 3":                        {Outcome: DoneBut, Message: "done but for 3"},
		"rolled back: “Raise”: no":              {Outcome: RolledBack, Message: "“Raise”: no"},
		"failed: failed units: 3":               {Outcome: Failed, Message: "failed units: 3"},
		"rolled back, but not all: “Raise”: no": {Outcome: RolledBackBut, Message: "“Raise”: no"},
		"stopped": {Outcome: Stopped},
		"done: rehearsed: what follows was not done": {Outcome: Done, Message: "rehearsed: what follows was not done"},
	} {
		assert.Equal(t, want, end.Text())
	}
}
