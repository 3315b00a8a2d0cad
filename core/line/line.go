// Package line is the wire to the device: a serial port, a socket, a program on a pseudo-terminal.
//
// Bytes are stamped once, at arrival. Whatever a kind of line can do besides carrying bytes (set a
// speed, send a break, be resized) is found by type assertion. No call hangs: a write ends with its
// context, a close ends within CloseLimit even when the driver does not.
package line

import (
	"context"
	"time"
)

// Chunk is bytes as they arrived in one piece, with the time of their arrival.
type Chunk struct {
	At    time.Time
	Bytes []byte
}

// Line carries bytes to and from one device.
type Line interface {
	// Chunks delivers what arrives. It is closed when the line ends; Err then says why.
	Chunks() <-chan Chunk
	// Write sends all of p or returns an error; it gives up when ctx ends.
	Write(ctx context.Context, p []byte) error
	// Close ends the line. It never blocks longer than CloseLimit.
	Close() error
	// Err is why Chunks was closed: nil after Close, an *Error otherwise.
	Err() error
	// Target is what was opened.
	Target() Target
}

// Speeder is a line whose speed can be set, in baud.
type Speeder interface {
	Speed() int
	SetSpeed(ctx context.Context, baud int) error
}

// Breaker is a line that can send a break.
type Breaker interface {
	SendBreak(ctx context.Context) error
}

// ModemControl is a line with the two modem signals that we drive.
type ModemControl interface {
	SetDTR(on bool) error
	SetRTS(on bool) error
}

// Resizer is a line whose far end wants to know the size of the screen.
type Resizer interface {
	Resize(cols, rows int) error
}

// CloseLimit is the longest that Close waits for a driver.
const CloseLimit = time.Second
