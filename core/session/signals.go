package session

import (
	"context"
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/line"
)

// signalsEvery is how often the wires of a serial line are looked at: nobody says when one changes.
const signalsEvery = time.Second

// watchSignals says when what the other end of a serial line shows changes, until ctx ends. An adapter may be slow to
// say, so that it is not asked in the loop.
func (s *Session) watchSignals(ctx context.Context) {
	var last event.Signals
	var report []string
	for s.opt.Clock.Wait(ctx, signalsEvery) == nil {
		var wire line.Line
		if !s.do(func() { wire = s.wire.line }) {
			return
		}
		now := event.Signals{}
		if signaller, can := wire.(line.Signaller); can {
			on, known := signaller.Signals()
			now = event.Signals{Known: known, CTS: on.CTS, DSR: on.DSR, DCD: on.DCD, RI: on.RI}
		}
		if now != last {
			last = now
			s.hub.Emit(now)
		}
		if troubled, can := wire.(line.Troubled); can {
			report = s.reportTroubles(troubled.Troubles(), report)
		}
	}
}

// reportTroubles says of errors that are not reported already; what goes on is reported once.
func (s *Session) reportTroubles(now, report []string) []string {
	if len(now) > 0 && !slices.Equal(now, report) {
		s.hub.Emit(event.Note{
			Level: event.Warning,
			Text:  "the console server tells of " + strings.Join(now, ", ") + " on the line",
		})
	}
	if len(now) == 0 {
		return report
	}
	return now
}
