package ftpd

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"pilotrix/core/offer"
	"pilotrix/core/transfer"
	"pilotrix/core/transfer/places"
)

const (
	dataWait  = 30 * time.Second // for a data connection
	dataQuiet = transfer.Quiet   // for a byte on one
	firstHigh = 1024
)

// arranged reports whether the device has said how its data is to move.
func (v *session) arranged() bool { return v.listener != nil || v.call.IsValid() }

// disarrange forgets it: each transfer has a connection of its own.
func (v *session) disarrange() {
	if v.listener != nil {
		_ = v.listener.Close()
	}
	v.listener, v.call = nil, netip.AddrPort{}
}

// here is our address as the device has reached it.
func (v *session) here() netip.Addr {
	if at := v.s.at.Addr(); !at.IsUnspecified() {
		return at
	}
	return places.PeerOf(v.conn.LocalAddr()).Addr()
}

// passive listens where the device has reached us.
func (v *session) passive(extended bool) {
	v.disarrange()
	at := v.here()
	if !extended && !at.Is4() {
		v.reply(522, "use EPSV")
		return
	}
	listener, err := v.s.opt.Network.Listen(netip.AddrPortFrom(at, 0))
	if err != nil {
		v.reply(425, "no port to be had")
		return
	}
	v.listener = listener
	port := places.PeerOf(listener.Addr()).Port()
	if extended {
		v.reply(229, fmt.Sprintf("Entering Extended Passive Mode (|||%d|)", port))
		return
	}
	four := at.As4()
	v.reply(227,
		fmt.Sprintf("Entering Passive Mode (%d,%d,%d,%d,%d,%d)", four[0], four[1], four[2], four[3], port>>8,
			port&0xff))
}

// extendedPassive is RFC 2428 section 3, with the network that may be asked for.
func (v *session) extendedPassive(param string) {
	ours := "1"
	if v.here().Is6() {
		ours = "2"
	}
	switch {
	case strings.EqualFold(param, "ALL"):
		v.reply(200, "EPSV it is")
	case param != "" && param != ours:
		v.reply(522, "that network is not served, use ("+ours+")")
	default:
		v.passive(true)
	}
}

// active takes note of where to call the device. It may name only its own address: another one would make
// this server knock at a stranger's door (RFC 2577 section 3).
func (v *session) active(param string, read func(string) (netip.AddrPort, bool)) {
	v.disarrange()
	asked, ok := read(param)
	switch {
	case !ok:
		v.reply(501, "that is no address and port")
	case asked.Addr().Unmap() != v.peer.Addr() || asked.Port() < firstHigh:
		v.reply(504, "data connections go to your own address only")
	default:
		v.call = asked
		v.reply(200, "that is where data will go")
	}
}

// portOf reads h1,h2,h3,h4,p1,p2 (RFC 959 section 4.1.2).
func portOf(param string) (netip.AddrPort, bool) {
	parts := strings.Split(strings.TrimSpace(param), ",")
	if len(parts) != 6 {
		return netip.AddrPort{}, false
	}
	var n [6]byte
	for i, part := range parts {
		value, err := strconv.ParseUint(strings.TrimSpace(part), 10, 8)
		if err != nil {
			return netip.AddrPort{}, false
		}
		n[i] = byte(value)
	}
	return netip.AddrPortFrom(netip.AddrFrom4([4]byte(n[:4])), uint16(n[4])<<8|uint16(n[5])), true
}

// extendedPortOf reads |1|192.0.2.1|1234| (RFC 2428 section 2).
func extendedPortOf(param string) (netip.AddrPort, bool) {
	if len(param) < 2 {
		return netip.AddrPort{}, false
	}
	parts := strings.Split(param, param[:1])
	if len(parts) != 5 {
		return netip.AddrPort{}, false
	}
	addr, err := netip.ParseAddr(parts[2])
	port, errPort := strconv.ParseUint(parts[3], 10, 16)
	return netip.AddrPortFrom(addr, uint16(port)), err == nil && errPort == nil
}

// moving is what moves on a data connection, in a goroutine of its own.
type moving struct {
	file   string
	bytes  atomic.Int64
	cancel context.CancelFunc
	done   chan outcome
}

// outcome is how it ended.
type outcome struct {
	err  error
	done string // in words, when it went well
}

var (
	errNoData = errors.New("no data connection: PASV, EPSV, PORT or EPRT comes first")
	errNoCall = errors.New("the data connection was not to be had")
)

// move has something moved on the data connection that was arranged, and says so before.
func (v *session) move(
	file, before string, run func(ctx context.Context, connect func() (net.Conn, error), m *moving) outcome,
) {
	ctx, cancel := context.WithCancel(v.ctx)
	m := &moving{file: file, cancel: cancel, done: make(chan outcome, 1)}
	listener, call := v.listener, v.call
	v.listener, v.call = nil, netip.AddrPort{}
	v.moving = m
	v.reply(150, before)
	go func() {
		defer cancel()
		connect := func() (net.Conn, error) { return v.connect(ctx, listener, call) }
		end := run(ctx, connect, m)
		if listener != nil {
			_ = listener.Close()
		}
		m.done <- end
	}()
}

// moved tells the device how its transfer ended.
func (v *session) moved(end outcome) {
	v.moving = nil
	switch {
	case errors.Is(end.err, errNoCall):
		v.reply(425, end.err.Error())
	case end.err != nil:
		v.reply(426, "broken off: "+end.err.Error())
	default:
		v.reply(226, end.done)
	}
}

// connect makes the data connection: with the peer of the control connection, and nobody else. It ends with ctx.
func (v *session) connect(ctx context.Context, listener net.Listener, call netip.AddrPort) (net.Conn, error) {
	within, cancel := context.WithTimeout(ctx, dataWait)
	defer cancel()
	if listener == nil {
		conn, err := v.s.opt.Network.Dial(within, call)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", errNoCall, err)
		}
		return endWith(ctx, conn), nil
	}
	defer context.AfterFunc(within, func() { _ = listener.Close() })()
	for {
		conn, err := listener.Accept()
		if err != nil {
			return nil, fmt.Errorf("%w: it did not come", errNoCall)
		}
		from := places.PeerOf(conn.RemoteAddr()).Addr()
		if from == v.peer.Addr() {
			return endWith(ctx, conn), nil
		}
		_ = conn.Close()
		v.say(true, "refused", "a data connection from "+from.String()+", which is not this device")
	}
}

// quietly ends a connection on which nothing moves for long, or whose transfer is broken off.
type quietly struct {
	net.Conn
	stop func() bool
}

func endWith(ctx context.Context, conn net.Conn) net.Conn {
	return quietly{conn, context.AfterFunc(ctx, func() { _ = conn.Close() })}
}

func (q quietly) Read(p []byte) (int, error) {
	_ = q.SetReadDeadline(time.Now().Add(dataQuiet))
	return q.Conn.Read(p)
}

func (q quietly) Write(p []byte) (int, error) {
	_ = q.SetWriteDeadline(time.Now().Add(dataQuiet))
	return q.Conn.Write(p)
}

func (q quietly) Close() error {
	q.stop()
	return q.Conn.Close()
}

var errBrokenOff = errors.New("the device said so")

// brokenOff is why a transfer that failed has done so, where it was ended on purpose. A device that saw its file end
// too soon may say so before that is known here to be the reason.
func brokenOff(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil && !errors.Is(err, transfer.ErrChanged) {
		return errBrokenOff
	}
	return err
}

func (v *session) transfer(verb, name string, size int64, upload bool) *offer.Count {
	t := offer.Transfer{
		ID:       fmt.Sprintf("ftp %s %d", v.peer, v.s.count.Add(1)),
		Protocol: "FTP",
		Peer:     v.peer,
		File:     name,
		Size:     size,
		Upload:   upload,
		Terms:    "FTP",
	}
	v.s.opt.Watcher.Said(
		offer.Rung{Transfer: t.ID, Protocol: "FTP", Peer: v.peer, FromPeer: true, Kind: verb, Text: name})
	v.s.opt.Watcher.Began(t)
	return offer.NewCount(v.s.opt.Clock, v.s.opt.Watcher, t)
}

// next takes what was said of the next transfer.
func (v *session) next() (from, size int64) {
	from, size = v.from, v.size
	v.from, v.size = 0, 0
	return from, size
}

// retrieve sends a staged file, from where the device asked for it on.
func (v *session) retrieve(param string) {
	from, _ := v.next()
	staged, ok := v.find(param)
	switch {
	case !ok:
		v.disarrange()
		return
	case from > staged.Size:
		v.disarrange()
		v.reply(554, fmt.Sprintf("%s has %d B, %d were asked for", staged.Name, staged.Size, from))
		return
	case from > 0 && v.text:
		v.disarrange()
		v.reply(554, "only a file as it is can be begun in the middle; say TYPE I")
		return
	case !v.arranged():
		v.reply(425, errNoData.Error())
		return
	}
	file, err := staged.Open()
	if err != nil {
		v.disarrange()
		v.say(false, "refused", err.Error())
		v.reply(550, "the file cannot be read")
		return
	}
	text, left := v.text, staged.Size-from
	count := v.transfer("RETR", staged.Name, staged.Size, false)
	if from > 0 {
		count.Part(from, left)
	}
	v.move(
		staged.Name,
		fmt.Sprintf("%d B follow", left),
		func(ctx context.Context, connect func() (net.Conn, error), m *moving) outcome {
			defer file.Close()
			err := brokenOff(ctx, sendFile(connect, file, from, left, text, counted{count, m}))
			count.End(err)
			return outcome{err, "sent whole"}
		},
	)
}

// counted is a piece of a file that moves, counted by both who watch.
type counted struct {
	count *offer.Count
	m     *moving
}

func (c counted) add(n int) {
	c.count.Add(n)
	c.m.bytes.Add(int64(n))
}

func sendFile(connect func() (net.Conn, error), file io.ReadSeeker, from, size int64, text bool, c counted) error {
	if _, err := file.Seek(from, io.SeekStart); err != nil {
		return err
	}
	conn, err := connect()
	if err != nil {
		return err
	}
	var source io.Reader = countReader{transfer.Whole(file, size), c}
	if text {
		source = &toText{source: bufio.NewReader(source)}
	}
	_, err = io.Copy(conn, source)
	return errors.Join(err, conn.Close())
}

type countReader struct {
	io.Reader
	c counted
}

func (r countReader) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	r.c.add(n)
	return n, err
}

// store takes the file for which a step has opened a slot.
func (v *session) store(param string) {
	from, allocated := v.next()
	switch {
	case !v.arranged():
		v.reply(425, errNoData.Error())
		return
	case from > 0:
		v.disarrange()
		v.reply(554, "uploads begin at their beginning here")
		return
	}
	size := int64(-1)
	if allocated > 0 {
		size = allocated
	}
	upload, err := v.s.opt.Stage.Receive(param, v.peer.Addr(), size)
	if err != nil {
		v.disarrange()
		v.say(true, "refused", err.Error())
		v.reply(553, err.Error())
		return
	}
	text := v.text
	count := v.transfer("STOR", upload.Name, size, true)
	v.move(upload.Name, "go ahead", func(ctx context.Context, connect func() (net.Conn, error), m *moving) outcome {
		err := brokenOff(ctx, takeFile(connect, upload, size, text, counted{count, m}))
		if err != nil {
			upload.Drop()
		} else {
			err = upload.Keep()
		}
		count.End(err)
		return outcome{err, fmt.Sprintf("%d B are here", count.Bytes())}
	})
}

func takeFile(connect func() (net.Conn, error), upload io.Writer, size int64, text bool, c counted) error {
	conn, err := connect()
	if err != nil {
		return err
	}
	defer conn.Close()
	var source io.Reader = countReader{conn, c}
	if text {
		source = &fromText{source: bufio.NewReader(source)}
	}
	got, err := io.Copy(upload, source)
	if err == nil && size >= 0 && got != size && !text {
		err = fmt.Errorf("%d of the %d B that were said came", got, size)
	}
	return err
}

// list says what is staged, a line each.
func (v *session) list(verb string, line func(offer.File) string) {
	if !v.arranged() {
		v.reply(425, errNoData.Error())
		return
	}
	var out bytes.Buffer
	for _, staged := range v.s.opt.Stage.Offers() {
		out.WriteString(line(staged) + "\r\n")
	}
	v.move(verb, "here it comes", func(ctx context.Context, connect func() (net.Conn, error), _ *moving) outcome {
		conn, err := connect()
		if err == nil {
			_, err = out.WriteTo(conn)
			err = errors.Join(err, conn.Close())
		}
		return outcome{brokenOff(ctx, err), "that is all"}
	})
}

// toText ends each line with CR LF (RFC 959 section 3.1.1.1).
type toText struct {
	source *bufio.Reader
	feed   bool // a line feed is owed
}

func (t *toText) Read(p []byte) (n int, err error) {
	for n < len(p) {
		if t.feed {
			p[n], t.feed = '\n', false
			n++
			continue
		}
		b, err := t.source.ReadByte()
		if err != nil {
			return n, err
		}
		if b == '\n' {
			b, t.feed = '\r', true
		}
		p[n] = b
		n++
	}
	return n, nil
}

// fromText ends each line as this system does.
type fromText struct{ source *bufio.Reader }

func (t *fromText) Read(p []byte) (n int, err error) {
	for n < len(p) {
		b, err := t.source.ReadByte()
		if err != nil {
			return n, err
		}
		if next, _ := t.source.Peek(1); b == '\r' && len(next) == 1 && next[0] == '\n' {
			continue
		}
		p[n] = b
		n++
	}
	return n, nil
}
