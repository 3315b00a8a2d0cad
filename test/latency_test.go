package test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/line"
	"pilotrix/core/logbook"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
	"pilotrix/tui/console"
	"pilotrix/tui/theme"
)

// wire is a line whose far end is the benchmark.
type wire struct {
	in *io.PipeReader

	got chan time.Time // when a key arrived
}

func (w *wire) Read(p []byte) (int, error) { return w.in.Read(p) }
func (w *wire) Close() error               { return w.in.Close() }

func (w *wire) Write(p []byte) (int, error) {
	w.got <- time.Now()
	return len(p), nil
}

// consoleRig is a whole console without a terminal: session, dialect, logbook, and the view of the console.
type consoleRig struct {
	session *session.Session
	wire    *wire
	says    *io.PipeWriter
	painted chan int64 // bytes drawn so far, at each paint
	end     func()
}

func newConsole(b *testing.B) *consoleRig {
	d, err := shipped.Dialect("cormel-g2")
	require.NoError(b, err)
	in, says := io.Pipe()
	r := &consoleRig{wire: &wire{in: in, got: make(chan time.Time, 1024)}, says: says, painted: make(chan int64, 1<<16)}
	opener := line.NewOpener(clock.Real())
	opener.Register(line.TCP, func(_ context.Context, t line.Target) (line.Line, error) {
		return line.NewStream(t, r.wire, clock.Real()), nil
	})
	r.session, err = session.Open(b.Context(),
		session.Options{Target: line.Target{Kind: line.TCP, Address: "x:1"}, Dialect: d, Opener: opener})
	require.NoError(b, err)
	book, err := logbook.Open(filepath.Join(b.TempDir(), "book.db"))
	require.NoError(b, err)
	keeper, err := book.Keep(r.session.Subscribe())
	require.NoError(b, err)
	feed := r.session.Subscribe()
	var viewed sync.WaitGroup
	viewed.Go(func() {
		view, dark, drawn := console.New(105, 33), theme.Dark(), int64(0)
		for {
			batch, err := feed.Some(context.Background(), 64<<10)
			if err != nil {
				return
			}
			for _, e := range batch {
				view.Apply(e)
				if in, ok := e.Body.(event.In); ok {
					drawn += int64(len(in.Bytes))
				}
			}
			for _, row := range view.Lines(dark) {
				_ = row.String()
			}
			select {
			case r.painted <- drawn:
			default:
			}
		}
	})
	r.session.Begin()
	r.end = func() {
		_ = says.Close()
		r.session.Close("measured")
		viewed.Wait()
		require.NoError(b, keeper.Wait())
		require.NoError(b, book.Close())
	}
	return r
}

// consoleLog is what a talkative device writes.
func consoleLog(size int) []byte {
	var out bytes.Buffer
	for n := 0; out.Len() < size; n++ {
		fmt.Fprintf(&out, "%06d  tide gauge at the quay reads %d mm, pump idle, door shut, \x1b[32mlamp on\x1b[0m\r\n",
			n, n*7%4000)
	}
	return out.Bytes()
}

// BenchmarkFlood has a device write as fast as the whole console takes it in: line, sense, events, logbook and
// the painted view. It prints MB/s, the share of the 10 MB/s wanted, and how many times as long as cat in a bare
// terminal it takes.
func BenchmarkFlood(b *testing.B) {
	text := consoleLog(32 << 20)
	var ours, bare time.Duration
	for b.Loop() {
		r := newConsole(b)
		begun := time.Now()
		go func() { _, _ = r.says.Write(text) }()
		for drawn := range r.painted {
			if drawn >= int64(len(text)) {
				break
			}
		}
		ours += time.Since(begun)
		r.end()
		bare += catInATerminal(b, text)
	}
	rate := float64(len(text)) * float64(b.N) / ours.Seconds() / 1e6
	b.ReportMetric(rate, "MB/s")
	b.ReportMetric(rate/10, "×wanted")
	b.ReportMetric(ours.Seconds()/bare.Seconds(), "×cat-in-a-bare-terminal")
}

// catInATerminal is how long tmux takes to show the text.
func catInATerminal(b *testing.B, text []byte) time.Duration {
	folder := b.TempDir()
	path, socket := filepath.Join(folder, "text"), filepath.Join(folder, "s")
	require.NoError(b, os.WriteFile(path, text, 0o600))
	script := fmt.Sprintf("stty raw; tmux -S %s wait-for begin; cat %s; tmux -S %s wait-for -S end; sleep 60", socket,
		path, socket)
	out, err := exec.Command("tmux", "-S", socket, "-f", "/dev/null", "new-session", "-d", "-x", "105", "-y", "33",
		script).
		CombinedOutput()
	require.NoError(b, err, string(out))
	defer func() { _ = exec.Command("tmux", "-S", socket, "kill-server").Run() }()
	begun := time.Now()
	require.NoError(b, exec.Command("tmux", "-S", socket, "wait-for", "-S", "begin").Run())
	require.NoError(b, exec.Command("tmux", "-S", socket, "wait-for", "end").Run())
	return time.Since(begun)
}

// late is the 99th percentile.
func late(all []time.Duration) time.Duration {
	slices.Sort(all)
	return all[len(all)*99/100]
}

// BenchmarkKeyToWire presses keys, on a quiet line and while 1 MB/s arrives, and prints after how long they are
// at the line's driver: the 99th percentile, and its share of the 1 and 25 ms allowed.
func BenchmarkKeyToWire(b *testing.B) { latencies(b, (*consoleRig).key) }

// BenchmarkKeyToWireWhileParsing presses keys while an answer of a megabyte, which was asked for by hand, is read for
// its facts: rows that are no bank's beside those that are. Beside it stands the same answer to a command that nothing
// is read from.
func BenchmarkKeyToWireWhileParsing(b *testing.B) {
	for name, command := range map[string]string{"read": "look banks", "not-read": "look log"} {
		b.Run(name, func(b *testing.B) { keysBehind(b, command) })
	}
}

func keysBehind(b *testing.B, command string) {
	r := newConsole(b)
	defer r.end()
	answer := strings.Repeat(
		"  A     running  7.4.2     5,243,086    yes   yes\r\n  and so on, with yes and no in it  yes\r\n", 10_000)
	answered := make(chan struct{}, 16)
	feed := r.session.Subscribe()
	go func() {
		for {
			batch, err := feed.Next(context.Background())
			if err != nil {
				return
			}
			for _, e := range batch {
				if _, ok := e.Body.(event.Answered); ok {
					answered <- struct{}{}
				}
			}
		}
	}()
	_, _ = r.says.Write([]byte("\r\nmare-gw1 / "))
	time.Sleep(100 * time.Millisecond)
	var all []time.Duration
	for b.Loop() {
		r.session.Press([]byte(command + "\r"))
		_, _ = r.says.Write([]byte(command + "\r\n" + answer + "mare-gw1 / "))
		<-answered
		for range 50 {
			all = append(all, r.key(nil))
			time.Sleep(time.Millisecond)
		}
		r.session.Press([]byte("\x15"))
		_, _ = r.says.Write([]byte("\r\nmare-gw1 / "))
		time.Sleep(100 * time.Millisecond)
	}
	b.ReportMetric(float64(late(all).Microseconds())/1000, "ms-p99")
	b.ReportMetric(float64(late(all))/float64(time.Millisecond), "×allowed")
}

// BenchmarkExchangesOpen reads a record of 100,000 exchanges.
func BenchmarkExchangesOpen(b *testing.B) {
	var events []event.Event
	at := time.Now()
	for n := range 100_000 {
		for _, body := range []event.Body{
			event.In{Bytes: event.Text("look banks\r\n")},
			event.Asked{Number: n, Who: event.Hand, Prompt: "gw // ", Text: "look banks", Seen: event.SeenDrawn},
			event.In{Bytes: event.Text("  A     running  7.4.2\r\n  B     standby  7.2.0\r\ngw // ")},
			event.Answered{Number: n, Rows: 2, End: event.EndPrompt},
		} {
			events = append(events, event.Event{At: at, Body: body})
		}
	}
	var took time.Duration
	for b.Loop() {
		begun, rows := time.Now(), 0
		reader := exchange.NewReader(func(x exchange.Recorded) { rows += len(x.Answer) }, func(string) {})
		for _, e := range events {
			reader.Event(e)
		}
		reader.End()
		require.Equal(b, 200_000, rows)
		took += time.Since(begun)
	}
	b.ReportMetric(took.Seconds()/float64(b.N), "s-for-100,000")
	b.ReportMetric(took.Seconds()/float64(b.N), "×allowed")
}

// BenchmarkByteToCell has the device write a line, on a quiet line and while 1 MB/s arrives, and prints after
// how long the view has painted it.
func BenchmarkByteToCell(b *testing.B) { latencies(b, (*consoleRig).cell) }

func latencies(b *testing.B, once func(*consoleRig, *int64) time.Duration) {
	for name, flood := range map[string]bool{"quiet": false, "1MBps": true} {
		b.Run(name, func(b *testing.B) {
			r := newConsole(b)
			defer r.end()
			var mu sync.Mutex // one writer at a time
			var written int64
			stop, stopped := make(chan struct{}), make(chan struct{})
			close(stopped)
			if flood {
				stopped = make(chan struct{})
				go r.flood(&mu, &written, stop, stopped)
			}
			var all []time.Duration
			for b.Loop() {
				for range 200 {
					mu.Lock()
					took := once(r, &written)
					mu.Unlock()
					all = append(all, took)
					time.Sleep(2 * time.Millisecond)
				}
			}
			close(stop)
			<-stopped
			allowed := time.Millisecond
			if flood {
				allowed = 25 * time.Millisecond
			}
			b.ReportMetric(float64(late(all).Microseconds())/1000, "ms-p99")
			b.ReportMetric(float64(late(all))/float64(allowed), "×allowed")
		})
	}
}

// flood writes 10 kB every 10 ms.
func (r *consoleRig) flood(mu *sync.Mutex, written *int64, stop, stopped chan struct{}) {
	defer close(stopped)
	piece := consoleLog(10_000)
	for tick := time.NewTicker(10 * time.Millisecond); ; {
		select {
		case <-stop:
			tick.Stop()
			return
		case <-tick.C:
			mu.Lock()
			_, _ = r.says.Write(piece)
			*written += int64(len(piece))
			mu.Unlock()
		}
	}
}

func (r *consoleRig) key(*int64) time.Duration {
	for len(r.wire.got) > 0 {
		<-r.wire.got
	}
	begun := time.Now()
	r.session.Press([]byte("x"))
	return (<-r.wire.got).Sub(begun)
}

func (r *consoleRig) cell(written *int64) time.Duration {
	text := strings.Repeat("o", 20) + "\r\n"
	begun := time.Now()
	_, _ = r.says.Write([]byte(text))
	*written += int64(len(text))
	for drawn := range r.painted {
		if drawn >= *written {
			break
		}
	}
	return time.Since(begun)
}
