package xmodem

import (
	"bytes"
	"context"
	"io"
	"runtime"
	"testing"
	"time"

	"pilotrix/core/arithmetic"
	"pilotrix/core/line"
	"pilotrix/core/transfer"
)

// paced is one end of a line that delivers each write when its last bit would be through. The last
// millisecond is waited for by spinning, since timers are late by about as much.
type paced struct {
	in   <-chan due
	out  chan<- due
	char time.Duration
	free time.Time
	rest []byte
}

type due struct {
	at   time.Time
	data []byte
}

func pacedPair(baud int) (*paced, *paced) {
	framing := line.Framing{DataBits: 8, Parity: 'N', StopBits: 1}
	char := time.Duration(float64(time.Second) / arithmetic.LineRate(baud, framing))
	there, back := make(chan due, 64), make(chan due, 64)
	return &paced{in: back, out: there, char: char}, &paced{in: there, out: back, char: char}
}

func (p *paced) Write(_ context.Context, data []byte) error {
	if now := time.Now(); p.free.Before(now) {
		p.free = now
	}
	p.free = p.free.Add(time.Duration(len(data)) * p.char)
	p.out <- due{p.free, bytes.Clone(data)}
	return nil
}

func (p *paced) Read(_ context.Context, out []byte, wait time.Duration) (int, error) {
	if len(p.rest) == 0 {
		timer := time.NewTimer(wait)
		defer timer.Stop()
		select {
		case next := <-p.in:
			const spin = 1500 * time.Microsecond
			time.Sleep(time.Until(next.at) - spin)
			for time.Now().Before(next.at) {
				runtime.Gosched()
			}
			p.rest = next.data
		case <-timer.C:
			return 0, transfer.ErrSilent
		}
	}
	n := copy(out, p.rest)
	p.rest = p.rest[n:]
	return n, nil
}

// BenchmarkPaced sends over a line paced at 115200 8N1 and prints the share of what the protocol
// allows on it, from the first block to the last answer.
func BenchmarkPaced(b *testing.B) {
	for _, variant := range []Variant{XMODEM, XMODEM1K} {
		b.Run(variant.String(), func(b *testing.B) {
			const baud = 115200
			size := 96 * variant.Block()
			data := payload(size)
			allowed := arithmetic.XMODEMRate(baud/10, variant.Block())
			var share float64
			for b.Loop() {
				sender, receiver := pacedPair(baud)
				done := make(chan error, 1)
				go func() {
					_, err := Receive(context.Background(), receiver,
						func(Header) (io.WriteCloser, error) { return &sink{}, nil }, Options{})
					done <- err
				}()
				var first, last time.Time
				_, err := Send(
					context.Background(),
					sender,
					one(data),
					Options{Variant: variant, Progress: func(p transfer.Progress) {
						if p.State == "sending" {
							last = time.Now()
							if first.IsZero() {
								first = last
							}
						}
					}},
				)
				if err != nil {
					b.Fatal(err)
				}
				if err := <-done; err != nil {
					b.Fatal(err)
				}
				rate := float64(size-variant.Block()) / last.Sub(first).Seconds()
				share += rate / allowed
			}
			b.ReportMetric(100*share/float64(b.N), "%of-allowed")
		})
	}
}
