package line

import (
	"bytes"
	"context"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
)

// sparing takes three bytes at a time.
type sparing struct {
	bytes.Buffer
	block chan struct{}
}

func (s *sparing) Read([]byte) (int, error)    { <-s.block; return 0, io.EOF }
func (s *sparing) Write(p []byte) (int, error) { return s.Buffer.Write(p[:min(3, len(p))]) }
func (s *sparing) Close() error                { close(s.block); return nil }

func TestShortWritesAreCompleted(t *testing.T) {
	s := &sparing{block: make(chan struct{})}
	l := NewStream(Target{Kind: Serial, Address: "sparing"}, s, clock.Real())
	require.NoError(t, l.Write(t.Context(), []byte("a whole command\r")))
	require.NoError(t, l.Close())
	assert.Equal(t, "a whole command\r", s.String())
}

// TestAWriteThatWasGivenUpKeepsNothingWaiting has a peer that takes nothing, and then does again.
func TestAWriteThatWasGivenUpKeepsNothingWaiting(t *testing.T) {
	ours, theirs := net.Pipe()
	l := NewStream(Target{Kind: TCP, Address: "held"}, ours, clock.Real())
	defer l.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, l.Write(ctx, []byte("a block that nobody takes")), context.DeadlineExceeded)
	got := make(chan string, 1)
	go func() {
		buffer := make([]byte, 16)
		n, _ := theirs.Read(buffer)
		got <- string(buffer[:n])
	}()
	require.NoError(t, l.Write(t.Context(), []byte("x")))
	assert.Equal(t, "x", <-got, "and nothing of the block")
}
