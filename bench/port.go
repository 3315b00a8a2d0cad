package bench

import (
	"bytes"
	"context"
	"errors"
	"io"
	"time"

	"pilotrix/core/transfer"
)

// Port lets a transfer of the program's own kind run on the device.
type Port struct{ *Wire }

// Read implements transfer.Duplex.
func (p Port) Read(ctx context.Context, out []byte, wait time.Duration) (int, error) {
	n, err := p.Wire.Read(ctx, out, wait)
	if errors.Is(err, io.ErrNoProgress) {
		err = transfer.ErrSilent
	}
	return n, err
}

// Unread implements transfer.Unreader: what follows a transfer is for the shell.
func (p Port) Unread(data []byte) {
	p.rest = append(bytes.Clone(data), p.rest...)
	p.unread.Add(int64(len(data)))
}
