package brindle

import (
	"bytes"
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
	*bench.Shell
	chosen *running
}

const (
	countdown  = 3
	noticeTime = 30 * time.Second
)

// run returns the image to start, or nil to restart.
func (m *monitor) run() *running {
	m.Wait(400 * time.Millisecond)
	m.Sayf("\r\n\r\nsill 1.3   Brindle %s   memory 128 MiB   store %d MiB\r\n", m.Model, storeSize>>20)
	first, why := m.begins()
	if first != "" && m.byItself && !m.stopped(first) && m.OK() {
		image, _ := m.begin(first)
		return image
	}
	m.Prompt = func() string { return "sill: " }
	m.Text = m.words()
	if first == "" {
		m.IdleAfter, m.Idle = noticeTime, func() { m.Say("\r\n" + why + "sill: ") }
		m.Say(why)
	}
	_ = m.Run()
	return m.chosen
}

const noImage = "no whole image in the store, staying here\r\n"

// stopped gives a few seconds in which a key keeps it here.
func (m *monitor) stopped(name string) bool {
	m.Sayf("starting %s by itself, a key stops it  ", name)
	for left := countdown; left > 0; left-- {
		m.Sayf("\b%d", left)
		if _, pressed := m.Key(time.Second); pressed {
			return m.Say("\r\n")
		}
	}
	m.Say("\b0\r\n")
	return false
}

func (m *monitor) words() []bench.Word {
	return []bench.Word{
		m.Help("words"),
		{Form: "about", About: "what this is", Run: m.about},
		{Form: "store", About: "list the store", Run: listStore(m.Shell, m.Router)},
		{Form: "store prepare", About: "make the store ready after it was emptied", Run: m.prepare},
		{Form: "store drop NAME", About: "remove one file", Run: drop(m.Shell, &m.Store), Grave: true},
		{Form: "store empty", About: "remove every file, the saved configuration too", Run: m.empty},
		{Form: "weigh NAME", About: "size and digests of a file", Run: weigh(m.Shell, &m.Store)},
		{Form: "rate SPEED", About: "change the console's speed now", Run: rate(m.Shell)},
		{Form: "setup", About: "ask for the settings that a restart takes", Run: m.setup},
		{Form: "take x NAME", About: "receive a file by XMODEM", Run: m.take, Grave: true},
		{Form: "start NAME", About: "start an image", Run: m.start, Grave: true},
		m.Leave("again"),
	}
}

func (m *monitor) about([]string) error {
	m.Fields("model", m.Model, "monitor", "sill 1.3", "architecture", Architecture, "memory", "128 MiB", "speed kept",
		m.savedBaud)
	return nil
}

// listStore is the word that lists the store.
func listStore(s *bench.Shell, r *Router) func([]string) error {
	return func([]string) error {
		files := r.Store.Files()
		for _, f := range files {
			state := "kept"
			if _, isImage := r.imageOf(f.Name); isImage == nil {
				state = "image"
			} else if f.Broken {
				state = "broken"
			}
			s.Sayf("  %-24s %12s B  %s\r\n", f.Name, bench.Commas(len(f.Data)), state)
		}
		if len(files) == 0 {
			s.Say("  (empty)\r\n")
		}
		s.Sayf("  free                     %12s B\r\n", bench.Commas(r.Store.Free()))
		return nil
	}
}

func (m *monitor) prepare([]string) error {
	if len(m.Store.Files()) > 0 {
		return errors.New("the store holds files and is ready")
	}
	m.Dots("  preparing ", 20, 4*time.Second, " ready\r\n")
	return nil
}

// drop is the word that removes one file of the store.
func drop(s *bench.Shell, store *bench.Store) func([]string) error {
	return func(args []string) error {
		if !store.Drop(args[0]) {
			return fmt.Errorf("no file %s", args[0])
		}
		s.Dots("  freeing ", 6, 1200*time.Millisecond, " "+args[0]+" is gone\r\n")
		return nil
	}
}

func (m *monitor) empty([]string) error {
	if !m.Yes("  every file goes, the saved configuration too. Sure?") {
		return errors.New("nothing done")
	}
	m.Store.Empty()
	m.Dots("  emptying ", 20, 6*time.Second, " empty\r\n")
	return nil
}

// weigh is the word that hashes a file of the store.
func weigh(s *bench.Shell, store *bench.Store) func([]string) error {
	return func(args []string) error {
		f, found := store.Get(args[0])
		if !found {
			return fmt.Errorf("no file %s", args[0])
		}
		s.Dots("  weighing ", 8, 1600*time.Millisecond, "\r\n")
		s.Fields("size", len(f.Data), "crc32", fmt.Sprintf("%08x", crc32.ChecksumIEEE(f.Data)), "sha256",
			fmt.Sprintf("%x", sha256.Sum256(f.Data)))
		return nil
	}
}

// rate is the word that changes the console's speed now.
func rate(s *bench.Shell) func([]string) error {
	return func(args []string) error {
		baud, err := parseBaud(args[0])
		if err == nil && s.Sayf("  moving to %d now\r\n", baud) {
			s.Wire.Retune(baud)
		}
		return err
	}
}

func parseBaud(text string) (int, error) {
	if baud, err := strconv.Atoi(text); err == nil && slices.Contains(bauds, baud) {
		return baud, nil
	}
	return 0, fmt.Errorf("speeds are %s", strings.Trim(fmt.Sprint(bauds), "[]"))
}

// setup is the questionnaire. An empty answer keeps what is.
func (m *monitor) setup([]string) (err error) {
	baud := m.savedBaud
	if speed := m.Ask(fmt.Sprintf("  console speed [%d]? ", m.savedBaud)); speed != "" {
		if baud, err = parseBaud(speed); err != nil {
			return err
		}
	}
	byItself := m.Ask(fmt.Sprintf("  start by itself [%s]? ", bench.YesNo(m.byItself)))
	if !m.OK() {
		return nil
	}
	m.savedBaud = baud
	if byItself != "" {
		m.byItself = byItself == "yes"
	}
	m.Say("  kept; the next restart takes it\r\n")
	return nil
}

// take receives into memory, looks at what came, and only then writes to the store.
func (m *monitor) take(args []string) error {
	if !m.Say("  waiting for the file, 60 s\r\n") {
		return nil
	}
	var got memory
	_, err := xmodem.Receive(m.Context(), bench.Port{Wire: m.Wire},
		func(xmodem.Header) (io.WriteCloser, error) { return &got, nil },
		xmodem.Options{Clock: m.Wire.Clock(), Retries: 20})
	m.Wait(100 * time.Millisecond)
	var whole []byte
	if err == nil {
		_, whole, err = parseImage(got.Bytes())
	}
	if err != nil {
		m.Sayf("\r\n  nothing kept: %v\r\n", err)
		return nil
	}
	m.Sayf("\r\n  got %s B\r\n", bench.Commas(len(whole)))
	if err := m.Keep(&m.Store, bench.File{Name: args[0], Data: bytes.Clone(whole)}, writeRate); err != nil {
		return err
	}
	m.Sayf("kept %s\r\n", args[0])
	return nil
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

func (m *monitor) start(args []string) (err error) {
	if m.chosen, err = m.begin(args[0]); err != nil {
		return err
	}
	return bench.ErrLeave
}

// begin checks an image and announces it; the line goes to its kept speed with it.
func (m *monitor) begin(name string) (*running, error) {
	image, err := m.imageOf(name)
	if err != nil {
		return nil, err
	}
	m.Sayf("  starting %s at %d\r\n", name, m.savedBaud)
	if m.Wait(300 * time.Millisecond) {
		m.Wire.Retune(m.savedBaud)
	}
	return image, nil
}
