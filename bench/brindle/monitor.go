package brindle

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"pilotrix/bench"
	"pilotrix/core/transfer/xmodem"
)

// monitor is sill, what runs before an operating system does.
type monitor struct {
	*Router
	bench.Shell
	chosen *running
}

const (
	countdown  = 3
	noticeTime = 30 * time.Second
)

// run returns the image to start, or nil to restart.
func (m *monitor) run(ctx context.Context) (*running, error) {
	if err := m.Wire.Clock().Wait(ctx, 400*time.Millisecond); err != nil {
		return nil, err
	}
	err := m.Sayf(ctx, "\r\n\r\nsill 1.3   Brindle %s   memory 128 MiB   store %d MiB\r\n", m.Model, storeSize>>20)
	if err != nil {
		return nil, err
	}
	found := m.bootable()
	if len(found) > 0 && m.byItself {
		stopped, err := m.count(ctx, found[0])
		if err != nil {
			return nil, err
		}
		if !stopped {
			return m.begin(ctx, found[0])
		}
	}
	m.Prompt = func() string { return "sill: " }
	m.Words = m.words()
	if len(found) == 0 {
		m.IdleAfter, m.Idle = noticeTime, func(ctx context.Context) error { return m.Say(ctx, "\r\n"+noImage+"sill: ") }
		if err := m.Say(ctx, noImage); err != nil {
			return nil, err
		}
	}
	err = m.Shell.Run(ctx)
	return m.chosen, ignoreLeave(err)
}

const noImage = "no whole image in the store, staying here\r\n"

func ignoreLeave(err error) error {
	if errors.Is(err, bench.ErrLeave) {
		return nil
	}
	return err
}

// count gives a few seconds in which a key keeps it here.
func (m *monitor) count(ctx context.Context, name string) (stopped bool, err error) {
	if err := m.Sayf(ctx, "starting %s by itself, a key stops it  ", name); err != nil {
		return false, err
	}
	for left := countdown; left > 0; left-- {
		if err := m.Sayf(ctx, "\b%d", left); err != nil {
			return false, err
		}
		_, pressed, err := m.Key(ctx, time.Second)
		if err != nil || pressed {
			return pressed, errors.Join(err, m.Say(ctx, "\r\n"))
		}
	}
	return false, m.Say(ctx, "\b0\r\n")
}

func (m *monitor) words() []bench.Word {
	return []bench.Word{
		{Name: "words", About: "list these", Run: func(ctx context.Context, _ []string) error { return m.Help(ctx) }},
		{Name: "about", About: "what this is", Run: m.about},
		{Name: "store", About: "list the store", Run: m.list},
		{Name: "store prepare", About: "make the store ready after it was emptied", Run: m.prepare},
		{Name: "store drop", Usage: "NAME", About: "remove one file", Run: m.drop, Grave: true},
		{Name: "store empty", About: "remove every file, the saved configuration too", Run: m.empty},
		{Name: "weigh", Usage: "NAME", About: "size and digests of a file", Run: m.weigh},
		{Name: "rate", Usage: "SPEED", About: "change the console's speed now", Run: m.rate},
		{Name: "setup", About: "ask for the settings that a restart takes", Run: m.setup},
		{Name: "take x", Usage: "NAME", About: "receive a file by XMODEM", Run: m.take, Grave: true},
		{Name: "start", Usage: "NAME", About: "start an image", Run: m.startWord, Grave: true},
		{Name: "again", About: "restart", Run: func(context.Context, []string) error { return bench.ErrLeave }},
	}
}

func (m *monitor) about(ctx context.Context, _ []string) error {
	return m.Sayf(ctx, "  model         %s\r\n  monitor       sill 1.3\r\n  architecture  %s\r\n  memory        128 MiB\r\n  speed kept    %d\r\n", m.Model, Architecture, m.savedBaud)
}

func (m *monitor) list(ctx context.Context, _ []string) error {
	files := m.Store.Files()
	for _, f := range files {
		state := "kept"
		if _, isImage := m.imageOf(f.Name); isImage == nil {
			state = "image"
		} else if f.Broken {
			state = "broken"
		}
		if err := m.Sayf(ctx, "  %-24s %12s B  %s\r\n", f.Name, commas(len(f.Data)), state); err != nil {
			return err
		}
	}
	if len(files) == 0 {
		if err := m.Say(ctx, "  (empty)\r\n"); err != nil {
			return err
		}
	}
	return m.Sayf(ctx, "  free                     %12s B\r\n", commas(m.Store.Free()))
}

func (m *monitor) prepare(ctx context.Context, _ []string) error {
	if len(m.Store.Files()) > 0 {
		return fmt.Errorf("the store holds files and is ready")
	}
	return m.Dots(ctx, "  preparing ", 20, 4*time.Second, " ready\r\n")
}

func (m *monitor) drop(ctx context.Context, rest []string) error {
	if len(rest) != 1 {
		return errors.New("drop which file?")
	}
	if !m.Store.Drop(rest[0]) {
		return fmt.Errorf("no file %s", rest[0])
	}
	return m.Dots(ctx, "  freeing ", 6, 1200*time.Millisecond, " "+rest[0]+" is gone\r\n")
}

func (m *monitor) empty(ctx context.Context, _ []string) error {
	answer, err := m.Ask(ctx, "  every file goes, the saved configuration too. Sure? (y/n) ")
	if err != nil {
		return err
	}
	if answer != "y" {
		return errors.New("nothing done")
	}
	m.Store.Empty()
	return m.Dots(ctx, "  emptying ", 20, 6*time.Second, " empty\r\n")
}

func (m *monitor) weigh(ctx context.Context, rest []string) error {
	if len(rest) != 1 {
		return errors.New("weigh which file?")
	}
	f, found := m.Store.Get(rest[0])
	if !found {
		return fmt.Errorf("no file %s", rest[0])
	}
	if err := m.Dots(ctx, "  weighing ", 8, 1600*time.Millisecond, "\r\n"); err != nil {
		return err
	}
	return m.Sayf(ctx, "  size    %d\r\n  crc32   %08x\r\n  sha256  %x\r\n", len(f.Data), crc32.ChecksumIEEE(f.Data), sha256.Sum256(f.Data))
}

func (m *monitor) rate(ctx context.Context, rest []string) error {
	baud, err := parseBaud(rest)
	if err != nil {
		return err
	}
	if err := m.Sayf(ctx, "  moving to %d now\r\n", baud); err != nil {
		return err
	}
	m.Wire.Retune(baud)
	return nil
}

func parseBaud(rest []string) (int, error) {
	if len(rest) == 1 {
		if baud, err := strconv.Atoi(rest[0]); err == nil && slices.Contains(bauds, baud) {
			return baud, nil
		}
	}
	return 0, fmt.Errorf("speeds are %s", strings.Trim(fmt.Sprint(bauds), "[]"))
}

// setup is the questionnaire. An empty answer keeps what is.
func (m *monitor) setup(ctx context.Context, _ []string) error {
	speed, err := m.Ask(ctx, fmt.Sprintf("  console speed [%d]? ", m.savedBaud))
	if err != nil {
		return err
	}
	baud := m.savedBaud
	if speed != "" {
		if baud, err = parseBaud([]string{speed}); err != nil {
			return err
		}
	}
	byItself, err := m.Ask(ctx, fmt.Sprintf("  start by itself [%s]? ", yesNo(m.byItself)))
	if err != nil {
		return err
	}
	m.savedBaud = baud
	if byItself != "" {
		m.byItself = byItself == "yes"
	}
	return m.Say(ctx, "  kept; the next restart takes it\r\n")
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// take receives into memory, looks at what came, and only then writes to the store.
func (m *monitor) take(ctx context.Context, rest []string) error {
	if len(rest) != 1 {
		return errors.New("take it under which name?")
	}
	if err := m.Say(ctx, "  waiting for the file, 60 s\r\n"); err != nil {
		return err
	}
	var got memory
	_, err := xmodem.Receive(ctx, bench.Port{Wire: m.Wire}, func(xmodem.Header) (io.WriteCloser, error) { return &got, nil },
		xmodem.Options{Clock: m.Wire.Clock(), Retries: 20})
	if err := m.Wire.Clock().Wait(ctx, 100*time.Millisecond); err != nil {
		return err
	}
	if err != nil {
		return m.refuse(ctx, err)
	}
	_, whole, err := parseImage(got.Bytes())
	if err != nil {
		return m.refuse(ctx, err)
	}
	if err := m.Sayf(ctx, "\r\n  got %s B\r\n", commas(len(whole))); err != nil {
		return err
	}
	if err := m.keep(ctx, &m.Shell, rest[0], bytes.Clone(whole)); err != nil {
		return err
	}
	return m.Sayf(ctx, "kept %s\r\n", rest[0])
}

// refuse says why nothing was kept.
func (m *monitor) refuse(ctx context.Context, why error) error {
	return m.Sayf(ctx, "\r\n  nothing kept: %v\r\n", why)
}

// memory is the part of the router's memory that a transfer may fill.
type memory struct{ bytes.Buffer }

func (m *memory) Write(p []byte) (int, error) {
	if m.Len()+len(p) > memorySize {
		return 0, errors.New("more than the memory holds")
	}
	return m.Buffer.Write(p)
}

func (m *memory) Close() error { return nil }

func (m *monitor) startWord(ctx context.Context, rest []string) error {
	if len(rest) != 1 {
		return errors.New("start which image?")
	}
	image, err := m.begin(ctx, rest[0])
	if err != nil {
		return err
	}
	m.chosen = image
	return bench.ErrLeave
}

// begin checks an image and announces it; the line goes to its kept speed with it.
func (m *monitor) begin(ctx context.Context, name string) (*running, error) {
	image, err := m.imageOf(name)
	if err != nil {
		return nil, err
	}
	if err := m.Sayf(ctx, "  starting %s at %d\r\n", name, m.savedBaud); err != nil {
		return nil, err
	}
	if err := m.Wire.Clock().Wait(ctx, 300*time.Millisecond); err != nil {
		return nil, err
	}
	m.Wire.Retune(m.savedBaud)
	return image, nil
}
