package cormel

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/jlaffaye/ftp"

	"pilotrix/core/clock"
	"pilotrix/core/transfer/tftp"
)

// haul is the download in the background.
type haul struct {
	number int
	file   string
	state  string // idle, preparing, fetching, checking, ready, failed
	got    int
	size   int
	reason string
	cancel context.CancelFunc
}

func (h haul) busy() bool {
	return h.state == "preparing" || h.state == "fetching" || h.state == "checking"
}

// fetch gets a file from a server; progress is told the size where the server says it.
type fetch func(ctx context.Context, to io.Writer, size func(int)) error

func serverAt(text string, port uint16) (netip.AddrPort, error) {
	addr, err := netip.ParseAddr(text)
	if err != nil {
		return netip.AddrPort{}, fmt.Errorf("%s is no address", text)
	}
	return netip.AddrPortFrom(addr, port), nil
}

// byTFTP asks for blocks of 1428 bytes in windows of 4, as this family does.
func (g *Gateway) byTFTP(c clock.Clock, address, name string) (fetch, error) {
	at, err := serverAt(address, tftp.Port)
	return func(ctx context.Context, to io.Writer, size func(int)) error {
		client := tftp.Client{Network: g.host, Clock: c, Block: 1428, Window: 4, Retries: 5, Agreed: func(t tftp.Terms) { size(int(t.Size)) }}
		_, err := client.Get(ctx, at, name, to)
		var refused *tftp.Refused
		switch {
		case errors.As(err, &refused):
			return errors.New("the server says: " + refused.Message)
		case errors.Is(err, tftp.ErrNoAnswer):
			return fmt.Errorf("no answer from %s", address)
		case err != nil && !errors.Is(err, errNoRoom):
			return fmt.Errorf("broken off: %w", err)
		}
		return err
	}, err
}

func (g *Gateway) byHTTP(address, path string) (fetch, error) {
	at, err := serverAt(address, 80)
	return func(ctx context.Context, to io.Writer, size func(int)) error {
		client := http.Client{Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext:       func(ctx context.Context, _, _ string) (net.Conn, error) { return g.host.Dial(ctx, at) },
		}}
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+address+path, nil)
		if err != nil {
			return err
		}
		response, err := client.Do(request)
		if err != nil {
			return fmt.Errorf("no answer from %s", address)
		}
		defer response.Body.Close()
		if response.StatusCode != http.StatusOK {
			return errors.New("the server says: " + response.Status)
		}
		size(int(response.ContentLength))
		_, err = io.Copy(to, response.Body)
		return err
	}, err
}

func (g *Gateway) byFTP(address, name, user, word string) (fetch, error) {
	at, err := serverAt(address, 21)
	return func(ctx context.Context, to io.Writer, size func(int)) error {
		conn, err := ftp.Dial(at.String(), ftp.DialWithContext(ctx), ftp.DialWithDialFunc(func(_, address string) (net.Conn, error) {
			to, err := netip.ParseAddrPort(address)
			if err != nil {
				return nil, err
			}
			return g.host.Dial(ctx, to)
		}))
		if err != nil {
			return fmt.Errorf("no answer from %s", address)
		}
		defer func() { _ = conn.Quit() }()
		if err := conn.Login(user, word); err != nil {
			return errors.New("the server says: " + err.Error())
		}
		if n, err := conn.FileSize(name); err == nil {
			size(int(n))
		}
		data, err := conn.Retr(name)
		if err != nil {
			return errors.New("the server says: " + err.Error())
		}
		_, err = io.Copy(to, data)
		return errors.Join(err, data.Close())
	}, err
}

var errNoRoom = errors.New("no room in the bank")

// stallAt is how far into a bank a slow flash comes before it takes its time, in bytes.
const stallAt = 100_000

// flash is a bank being written: at its pace, up to its room, and seen by whoever asks.
type flash struct {
	g     *Gateway
	clock clock.Clock
	ctx   context.Context
	data  bytes.Buffer
	owed  time.Duration
	stall func(context.Context) error // once, in the middle
}

func (f *flash) Write(p []byte) (int, error) {
	if f.data.Len()+len(p) > f.g.Room {
		return 0, errNoRoom
	}
	f.data.Write(p)
	f.g.mu.Lock()
	f.g.haul.got = f.data.Len()
	f.g.mu.Unlock()
	if f.stall != nil && f.data.Len() > stallAt {
		stall := f.stall
		f.stall = nil
		if err := stall(f.ctx); err != nil {
			return 0, err
		}
	}
	f.owed += time.Duration(float64(len(p)) / fetchRate * float64(time.Second))
	const step = 50 * time.Millisecond
	if f.owed < step {
		return len(p), nil
	}
	wait := f.owed
	f.owed = 0
	return len(p), f.clock.Wait(f.ctx, wait)
}

// startHaul begins a download into the bank that does not run.
func (l *lark) startHaul(file string, from fetch) error {
	g := l.Gateway
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.haul.busy() {
		return fmt.Errorf("haul %d is under way; haul off ends it", g.haul.number)
	}
	ctx, cancel := context.WithCancel(l.up)
	g.haul = haul{number: g.haul.number + 1, file: file, state: "preparing", cancel: cancel}
	target := g.standby()
	delete(g.banks, target)
	l.group.Go(func() {
		defer cancel()
		g.carryOut(ctx, l.Wire.Clock(), target, from, l.Stall)
	})
	return nil
}

func (g *Gateway) setState(state, reason string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.haul.state, g.haul.reason = state, reason
}

// carryOut empties the bank, fills it, and looks at what came.
func (g *Gateway) carryOut(ctx context.Context, c clock.Clock, target string, from fetch, stall func(context.Context) error) {
	g.mu.Lock()
	stuck := g.faults.StuckPreparing
	g.mu.Unlock()
	if stuck {
		<-ctx.Done()
		return
	}
	if c.Wait(ctx, prepareTime) != nil {
		return
	}
	g.setState("fetching", "")
	to := &flash{g: g, clock: c, ctx: ctx, stall: stall}
	err := from(ctx, to, func(size int) {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.haul.size = size
	})
	if err == nil {
		g.setState("checking", "")
		err = c.Wait(ctx, checkTime)
	}
	if ctx.Err() != nil {
		return
	}
	if err == nil {
		var cargo Cargo
		if cargo, err = readCargo(to.data.Bytes(), cargoMagic); err == nil {
			err = g.fits(cargo)
		}
	}
	if err != nil {
		g.setState("failed", err.Error())
		return
	}
	g.Install(target, to.data.Bytes())
	g.setState("ready", "")
}

// tellHaul is the answer to look haul.
func (g *Gateway) tellHaul() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	h := g.haul
	dash := func(text string) string {
		if text == "" {
			return "-"
		}
		return text
	}
	size := "?"
	if h.size > 0 {
		size = commas(h.size)
	}
	return fmt.Sprintf("  haul      %d\r\n  file      %s\r\n  state     %s\r\n  bytes     %s of %s\r\n  reason    %s\r\n",
		h.number, dash(h.file), h.state, commas(h.got), size, dash(strings.ReplaceAll(h.reason, "\n", " ")))
}
