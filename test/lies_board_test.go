package test

import (
	"bytes"
	"context"
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
	s := bench.NewShell(ctx, w)
	s.Prompt = func() string { return "=> " }
	load := func([]string) error { return b.load(s) }
	s.Text = []bench.Word{
		{Form: "version", Run: func([]string) error { s.Say("U-Boot 2023.01\r\n"); return nil }},
		{Form: "crc32 ADDRESS COUNT", Run: func(args []string) error { return b.sum(s, args) }},
		{Form: "loadx [ADDRESS]", Run: load},
		{Form: "loady [ADDRESS]", Run: load},
	}
	_ = s.Run()
}

func (b *board) load(s *bench.Shell) error {
	s.Say("## Ready for binary (xmodem) download to 0x40400000 at 115200 bps...\r\n")
	got := &sink{}
	if _, err := xmodem.Receive(s.Context(), bench.Port{Wire: s.Wire},
		func(xmodem.Header) (io.WriteCloser, error) { return got, nil },
		xmodem.Options{Clock: s.Wire.Clock()}); err != nil {
		return err
	}
	b.mu.Lock()
	b.memory = got.Bytes()
	b.mu.Unlock()
	s.Sayf("## Total Size      = 0x%08x = %d Bytes\r\n", got.Len(), got.Len())
	return nil
}

func (b *board) sum(s *bench.Shell, args []string) error {
	size, err := strconv.ParseInt(args[1], 16, 32)
	if err != nil {
		return err
	}
	b.mu.Lock()
	held := make([]byte, size)
	copy(held, b.memory)
	b.mu.Unlock()
	s.Sayf("CRC32 for 40400000 ... %x ==> %08x\r\n", 0x40400000+size-1, crc32.ChecksumIEEE(held))
	return nil
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
