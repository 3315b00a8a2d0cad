// Package reckon does the arithmetic of the job: what a line carries, how long a transfer takes.
package reckon

import (
	"time"

	"pilotrix/core/line"
)

// LineRate is how many characters a second a serial line carries each way.
func LineRate(baud int, framing line.Framing) float64 {
	return float64(baud) / float64(framing.Bits())
}

// XMODEMOverhead is what a block costs besides its data: header byte, number and its complement,
// two bytes of CRC, and the one byte that answers.
const XMODEMOverhead = 6

// XMODEMRate is the most data a second that XMODEM moves over a line of that rate: it stops and
// waits, so the answer's one character counts too.
func XMODEMRate(lineRate float64, block int) float64 {
	return lineRate * float64(block) / float64(block+XMODEMOverhead)
}

// TransferTime is how long size bytes take at rate bytes a second.
func TransferTime(size int64, rate float64) time.Duration {
	if rate <= 0 {
		return 0
	}
	return time.Duration(float64(size) / rate * float64(time.Second))
}
