package test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"strconv"
	"sync"

	"pilotrix/bench"
	"pilotrix/core/image"
	"pilotrix/core/transfer/xmodem"
)

// board is a board with a bootloader that takes a file into memory: the few public commands of U-Boot that
// prove-in-memory types.
type board struct {
	mu     sync.Mutex
	memory []byte
}

func (b *board) Baud() int { return 115200 }

func (b *board) PowerOn(ctx context.Context, w *bench.Wire) {
	s := &bench.Shell{Wire: w, Prompt: func() string { return "=> " }}
	load := func(ctx context.Context, _ []string) error { return b.load(ctx, s) }
	s.Words = []bench.Word{
		{Name: "version", Run: func(ctx context.Context, _ []string) error { return s.Say(ctx, "U-Boot 2023.01\r\n") }},
		{Name: "crc32", Run: func(ctx context.Context, rest []string) error { return b.sum(ctx, s, rest) }},
		{Name: "loadx", Run: load},
		{Name: "loady", Run: load},
	}
	_ = s.Run(ctx)
}

func (b *board) load(ctx context.Context, s *bench.Shell) error {
	if err := s.Say(ctx, "## Ready for binary (xmodem) download to 0x40400000 at 115200 bps...\r\n"); err != nil {
		return err
	}
	got := &sink{}
	if _, err := xmodem.Receive(ctx, bench.Port{Wire: s.Wire}, func(xmodem.Header) (io.WriteCloser, error) { return got, nil }, xmodem.Options{Clock: s.Wire.Clock()}); err != nil {
		return err
	}
	b.mu.Lock()
	b.memory = got.Bytes()
	b.mu.Unlock()
	return s.Sayf(ctx, "## Total Size      = 0x%08x = %d Bytes\r\n", got.Len(), got.Len())
}

func (b *board) sum(ctx context.Context, s *bench.Shell, rest []string) error {
	if len(rest) != 2 {
		return errors.New("Usage: crc32 address count")
	}
	size, err := strconv.ParseInt(rest[1], 16, 32)
	if err != nil {
		return err
	}
	b.mu.Lock()
	held := make([]byte, size)
	copy(held, b.memory)
	b.mu.Unlock()
	return s.Sayf(ctx, "CRC32 for 40400000 ... %x ==> %08x\r\n", 0x40400000+size-1, crc32.ChecksumIEEE(held))
}

// Remember implements bench.Pretender.
func (b *board) Remember() (restore func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	memory := b.memory
	return func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.memory = memory
	}
}

// holds reports why the memory does not hold a file.
func (b *board) holds(img *image.Image) error {
	file, err := img.Reader()
	if err != nil {
		return err
	}
	defer file.Close()
	want, err := io.ReadAll(file)
	b.mu.Lock()
	defer b.mu.Unlock()
	if err == nil && !bytes.HasPrefix(b.memory, want) {
		err = fmt.Errorf("the memory holds %d B of something else", len(b.memory))
	}
	return err
}

type sink struct{ bytes.Buffer }

func (s *sink) Close() error { return nil }
