package tftp

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/offer"
	"pilotrix/core/transfer"
	"pilotrix/core/transfer/places"
)

// Port is where a TFTP server listens, RFC 1350 §4.
const Port = 69

// DefaultRetries is how often something is sent again before a transfer is given up.
const DefaultRetries = 8

// UsualTimeLimit is longer than most flash memories take to be erased.
const UsualTimeLimit = transfer.Quiet

// Options is what a Server needs. Network and Stage have to be set.
type Options struct {
	Network network.Network
	Stage   *offer.Stage
	Clock   clock.Clock
	Watcher offer.Watcher // nil watches nothing
	Limits  Limits
	Retries int // 0 means DefaultRetries
	// TimeLimit is how long a device may be silent once a transfer is under way, 0 means UsualTimeLimit: it
	// may erase its flash meanwhile.
	TimeLimit time.Duration
	Places    places.Limits // 0 means usualPlaces
	Packets   bool          // say the Watcher every packet
}

// usualPlaces are many more than the devices that are provisioned at once; several may share an address, behind a
// gateway.
var usualPlaces = places.Limits{
	Settled: 256,
	New:     256,
	Each:    32,
	File:    16,
	Stale:   5 * time.Second,
	Long:    30 * time.Minute,
}

// Server serves what is staged, and nothing else.
type Server struct {
	opt  Options
	conn network.PacketConn
	at   netip.AddrPort
	// everybody are sockets that hear requests which a device sends to everybody: it does not know who has its file.
	everybody []network.PacketConn
	places    *places.Places

	count  atomic.Int64 // of transfers, to tell them apart
	mu     sync.Mutex
	active map[netip.AddrPort]*serving // by peer
	plain  map[netip.Addr]time.Time    // who has refused the answer to its options, and when
	group  sync.WaitGroup
}

// serving is one peer's transfer under way.
type serving struct {
	what   string                 // the request, in words
	heard  atomic.Int64           // when the peer was heard last, in nanoseconds; 0 before
	again  atomic.Pointer[func()] // sends our first answer again, nil before there is one
	over   chan struct{}
	cancel context.CancelCauseFunc
	guest  *places.Guest // its place

	reads  bool                    // it fetches a file
	rival  atomic.Pointer[serving] // the other one of two from one port, until the peer has answered one of them
	before *serving                // what it would take the place of; nil for nothing
	met    func()                  // called when the peer answers for the first time
	gone   bool                    // it has ended; under the server's lock
}

// hear notes that the peer goes on with this transfer, and so with no other one from the same port.
func (v *serving) hear(now time.Time) {
	if v.heard.Swap(now.UnixNano()) == 0 {
		v.guest.Settled()
		v.met()
	}
	v.guest.HeardAt(now)
	if other := v.rival.Swap(nil); other != nil {
		other.rival.Store(nil)
		other.cancel(errAgain)
	}
}

// stalled is how long a peer is not heard before the same request from it begins a new transfer. A copy
// of the request that the network made late comes sooner.
const stalled = time.Second

// repeats reports whether a request is a copy of the one that began this transfer.
func (v *serving) repeats(what string, now time.Time) bool {
	heard := v.heard.Load()
	return v.what == what && (heard == 0 || now.Sub(time.Unix(0, heard)) < stalled)
}

// answerAgain sends the first answer once more to a peer that repeats its request and was not heard since: that answer,
// or only the way to it, may be slow. Nothing else is sent: a peer that has got both of two different answers would
// read the blocks of the one by the terms of the other.
func (v *serving) answerAgain() {
	if again := v.again.Load(); again != nil && v.heard.Load() == 0 {
		(*again)()
	}
}

// errAgain ends a transfer whose peer began once more from the same port, as a device does that was
// restarted in the middle.
var errAgain = errors.New("the device asked for a file anew")

// Listen binds a server.
func Listen(at netip.AddrPort, opt Options) (*Server, error) {
	if opt.Watcher == nil {
		opt.Watcher = offer.NoWatcher{}
	}
	if opt.Retries == 0 {
		opt.Retries = DefaultRetries
	}
	if opt.TimeLimit == 0 {
		opt.TimeLimit = UsualTimeLimit
	}
	if opt.Places == (places.Limits{}) {
		opt.Places = usualPlaces
	}
	conn, err := opt.Network.ListenPacket(at)
	if err != nil {
		return nil, fmt.Errorf("TFTP server at %s: %w", at, err)
	}
	s := &Server{
		opt:    opt,
		conn:   conn,
		places: places.New(opt.Places, opt.Stage.Expects, opt.Clock.Now),
		active: map[netip.AddrPort]*serving{},
		plain:  map[netip.Addr]time.Time{},
	}
	if s.at, err = netip.ParseAddrPort(conn.LocalAddr().String()); err != nil {
		return nil, err
	}
	if net, can := opt.Network.(network.Overhearer); can {
		s.everybody = net.HearBroadcasts(s.at)
	}
	return s, nil
}

// Addr is where the server listens.
func (s *Server) Addr() netip.AddrPort { return s.at }

// Serve answers requests until ctx ends, then waits for the transfers under way to end.
func (s *Server) Serve(ctx context.Context) error {
	defer s.group.Wait()
	for _, conn := range s.everybody {
		s.group.Go(func() { _ = s.hear(ctx, conn, true) }) // a device that sends to us alone is served without it
	}
	return s.hear(ctx, s.conn, false)
}

// hear answers what comes to one socket until ctx ends.
func (s *Server) hear(ctx context.Context, conn network.PacketConn, everybody bool) error {
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	buffer := make([]byte, 2*maxRequest)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buffer)
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil && refusedPort(err):
			continue
		case err != nil:
			return fmt.Errorf("TFTP server at %s: %w", s.at, err)
		}
		from = network.Unmap(from)
		if everybody && !s.isOurs(buffer[:n], from) {
			continue
		}
		s.asked(ctx, buffer[:n], from)
	}
}

// isOurs reports whether what came to everybody asks for something that is here. Anything else is left to other
// servers: an answer that there is no such file would end what they send.
func (s *Server) isOurs(data []byte, from netip.AddrPort) bool {
	got, err := parse(data)
	if err != nil || got.op != opRead && got.op != opWrite {
		return false
	}
	_, _, err = s.opt.Stage.Find(got.request.name)
	if got.request.write && s.opt.Stage.Awaits(got.request.name) || !got.request.write && err == nil {
		return true
	}
	s.opt.Watcher.Said(offer.Rung{
		Protocol: "TFTP",
		Peer:     from,
		FromPeer: true,
		Kind:     "left to others",
		Text:     "everybody was asked for " + clean([]byte(got.request.name)) + ", which is not here",
	})
	return false
}

// asked handles one packet to the server's port. Whatever it is, the server goes on.
func (s *Server) asked(ctx context.Context, data []byte, from netip.AddrPort) {
	got, err := parse(data)
	switch {
	case err != nil:
		s.turnDown(from, "", CodeIllegal, "that packet is not understood: "+err.Error())
		return
	case got.op == opError:
		return // never answered: two servers could go on for ever
	case got.op != opRead && got.op != opWrite:
		s.turnDown(from, "", CodeUnknownID, "no transfer of yours is under way here")
		return
	}
	mine := &serving{
		what:  fmt.Sprint(got.request),
		over:  make(chan struct{}),
		reads: !got.request.write,
		met:   func() {},
	}
	ctx, mine.cancel = context.WithCancelCause(ctx)
	before, how := s.enter(from, got.request.name, mine)
	switch how {
	case copied: // it belongs to the transfer that is open
		before.answerAgain()
		mine.cancel(nil)
		return
	case turnedAway:
		mine.cancel(nil)
		return
	case restarted:
		before.cancel(errAgain)
	}
	s.group.Go(func() {
		defer mine.cancel(nil)
		defer close(mine.over)
		defer s.forget(from, mine)
		if how == restarted { // its slot is free again once it has ended
			<-before.over
		}
		s.transfer(ctx, got.request, from, mine)
	})
}

// entering says what a request is to the transfers that are under way.
type entering int

const (
	turnedAway entering = iota
	fresh
	copied    // a copy of the request that began one
	restarted // another one from the same port, in place of the previous one
	contested // another one from the same port: which of the two counts the peer will say
)

// enter finds a place for a request. One for which there is none gets no answer at all: an error would end it, and a
// client asks again by itself.
func (s *Server) enter(from netip.AddrPort, name string, mine *serving) (before *serving, how entering) {
	s.mu.Lock()
	defer s.mu.Unlock()
	before, known := s.active[from]
	switch {
	case known && before.repeats(mine.what, s.opt.Clock.Now()):
		return before, copied
	case known && mine.reads && before.reads:
		before, how = mine.contests(before), contested
	case known:
		before.guest.Leave()
		how = restarted
	default:
		how = fresh
	}
	guest, err := s.places.Enter(from.Addr(), name, mine.cancel)
	if err != nil {
		s.opt.Watcher.Said(offer.Rung{
			Protocol: "TFTP",
			Peer:     from,
			FromPeer: true,
			Kind:     "waits",
			Text:     "not answered for now, " + err.Error() + nameText(name),
		})
		return nil, turnedAway
	}
	mine.guest, s.active[from] = guest, mine
	return before, how
}

func (s *Server) forget(from netip.AddrPort, mine *serving) {
	s.mu.Lock()
	defer s.mu.Unlock()
	mine.gone = true
	mine.guest.Leave()
	switch {
	case s.active[from] != mine:
	case mine.before != nil && !mine.before.gone: // which goes on
		s.active[from] = mine.before
	default:
		delete(s.active, from)
	}
}

// contests begins a transfer beside one from the same port that is under way. The request may come from a device that
// was restarted, or be a copy of an old one that was very late: which of the two transfers the peer goes on with, it
// says by answering one of them.
func (v *serving) contests(before *serving) *serving {
	if older := before.rival.Load(); older != nil { // of two that were not answered the later one counts
		before.cancel(errAgain)
		before = older
	}
	v.before = before
	v.rival.Store(before)
	before.rival.Store(v)
	return before
}

// turnDown answers a request with an error and says so.
func (s *Server) turnDown(to netip.AddrPort, name string, code Code, message string) {
	s.opt.Watcher.Said(offer.Rung{Protocol: "TFTP", Peer: to, Kind: "ERROR", Text: message + nameText(name)})
	_, _ = s.conn.WriteToUDPAddrPort(putError(code, message), to)
}

func nameText(name string) string {
	if name == "" {
		return ""
	}
	return " (" + clean([]byte(name)) + ")"
}

// transfer serves one request from a socket of its own, whose port is the transfer's identity
// (RFC 1350 §4).
func (s *Server) transfer(ctx context.Context, req request, from netip.AddrPort, mine *serving) {
	conn, err := s.opt.Network.ListenPacket(netip.AddrPortFrom(s.at.Addr(), 0))
	if err != nil {
		s.turnDown(from, req.name, CodeOther, "no socket to be had")
		return
	}
	defer conn.Close()
	p := &peer{
		conn:      conn,
		addr:      from,
		clock:     s.opt.Clock,
		retries:   s.opt.Retries,
		timeLimit: s.opt.TimeLimit,
		id:        fmt.Sprintf("tftp %s %d", from, s.count.Add(1)),
		heard:     mine.hear,
		modest:    true,
	}
	if s.opt.Packets {
		p.said = s.opt.Watcher.Said
	}
	defer p.endWith(ctx)()
	defer s.opt.Watcher.Said(offer.Rung{Transfer: p.id, Protocol: "TFTP", Peer: from, Kind: offer.Over})
	p.message(true, requestKind(req), 0, 0, false, requestText(req))
	if !req.write {
		s.send(ctx, p, req, mine)
		return
	}
	if r := s.receive(ctx, p, req, mine); r != nil {
		s.forget(from, mine) // what lingers is over for everybody else
		r.linger(ctx)
	}
}

func requestKind(req request) string {
	if req.write {
		return "WRQ"
	}
	return "RRQ"
}

func requestText(req request) string {
	return clean([]byte(req.name)) + " " + req.mode + optionText(req.options)
}

func optionText(options []option) (words string) {
	for _, o := range options {
		words += " " + clean([]byte(o.name)) + "=" + clean([]byte(o.value))
	}
	return words
}

// send serves a read request.
func (s *Server) send(ctx context.Context, p *peer, req request, mine *serving) {
	staged, remark, err := s.opt.Stage.Find(req.name)
	if err != nil {
		p.refuse(codeOf(err), err.Error())
		s.opt.Watcher.Said(
			offer.Rung{Protocol: "TFTP", Peer: p.addr, FromPeer: true, Kind: "refused", Text: err.Error()})
		return
	}
	if remark != "" {
		s.opt.Watcher.Said(offer.Rung{
			Transfer: p.id,
			Protocol: "TFTP",
			Peer:     p.addr,
			FromPeer: true,
			Kind:     "remark",
			Text:     staged.Name + " was " + remark,
		})
	}
	file, err := staged.Open()
	if err != nil {
		p.refuse(CodeOther, "the file cannot be read")
		s.opt.Watcher.Said(offer.Rung{Protocol: "TFTP", Peer: p.addr, Kind: "refused", Text: err.Error()})
		return
	}
	defer file.Close()
	source, size := transfer.Whole(file, staged.Size), staged.Size
	if req.mode == Netascii {
		source, size = &toNetascii{source: source}, -1 // its size would be that of the encoded text
	}
	answer, terms := agree(s.options(req, p.addr), s.opt.Limits, size, false)
	p.room(terms)
	if terms.Block < readAhead/16 {
		source = bufio.NewReaderSize(source, readAhead)
	}
	t := offer.Transfer{
		ID:       p.id,
		Protocol: "TFTP",
		Peer:     p.addr,
		File:     staged.Name,
		Size:     staged.Size,
		Terms:    terms.String(),
		Window:   terms.Window,
	}
	meter := newReport(s.opt, t, mine)
	if len(answer) > 0 {
		err = p.offerTerms(ctx, answer, mine)
		s.refusesOptions(p.addr, err)
	}
	if err == nil {
		sender := newSender(p, terms, source, meter.moved)
		sender.began = mine.firstAnswer(p)
		err = sender.run(ctx)
	}
	meter.end(p.cancelled(ctx, err, mine))
}

// readAhead is how much is read from a file at once when its blocks are small.
const readAhead = 64 << 10

// receive serves a write request, for which a step has to have opened a slot. It returns the receiver of
// a file that was kept, and nil otherwise.
func (s *Server) receive(ctx context.Context, p *peer, req request, mine *serving) *receiver {
	size := int64(-1)
	if text, said := req.option(optSize); said {
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			size = n
		}
	}
	upload, err := s.opt.Stage.Receive(req.name, p.addr.Addr(), size)
	if err != nil {
		p.refuse(codeOf(err), err.Error())
		s.opt.Watcher.Said(
			offer.Rung{Protocol: "TFTP", Peer: p.addr, FromPeer: true, Kind: "refused", Text: err.Error()},
		)
		return nil
	}
	answer, terms := agree(s.options(req, p.addr), s.opt.Limits, -1, true)
	p.room(terms)
	t := offer.Transfer{
		ID:       p.id,
		Protocol: "TFTP",
		Peer:     p.addr,
		File:     upload.Name,
		Size:     terms.Size,
		Upload:   true,
		Terms:    terms.String(),
		Window:   terms.Window,
	}
	meter := newReport(s.opt, t, mine)
	var sink io.Writer = upload
	text := &fromNetascii{sink: upload}
	if req.mode == Netascii {
		sink = text
	}
	r := newReceiver(p, terms, sink, meter.moved)
	if req.mode == Netascii {
		r.size = 0 // that of the text here is another
	}
	if len(answer) > 0 {
		r.hello = putOptions(answer)
		p.message(false, "OACK", 0, 0, false, optionText(answer)[1:])
		err = p.write(r.hello)
		mine.firstAnswer(p)(r.hello)
	} else {
		err = r.acknowledge() // of block 0: go ahead
		mine.firstAnswer(p)([]byte{0, opAck, 0, 0})
	}
	if err == nil {
		err = r.run(ctx, packet{})
	}
	s.refusesOptions(p.addr, err)
	if err == nil {
		err = text.end()
	}
	if err != nil {
		err = p.cancelled(ctx, err, mine)
		upload.Drop()
		meter.end(err)
		return nil
	}
	err = upload.Keep()
	meter.end(err)
	return r
}

// room makes the buffer fit for the largest packet that may come, and one byte more to notice larger ones.
func (p *peer) room(terms Terms) {
	p.buffer = make([]byte, headSize+max(terms.Block, maxRequest)+1)
}

// firstAnswer takes our first answer to a peer's request, which is the answer to each copy of that request, too.
func (v *serving) firstAnswer(p *peer) func(packet []byte) {
	return func(packet []byte) {
		first, again := bytes.Clone(packet), func() {}
		again = func() { _ = p.write(first) }
		v.again.CompareAndSwap(nil, &again)
	}
}

// options are those of a request, none from a device that has just refused the answer to them (RFC 2347: ERROR 8): it
// may ask with the same ones once more.
func (s *Server) options(req request, from netip.AddrPort) []option {
	s.mu.Lock()
	defer s.mu.Unlock()
	if at, refused := s.plain[from.Addr()]; refused && s.opt.Clock.Since(at) < plainFor {
		return nil
	}
	return req.options
}

// plainFor is how long a device that has refused the answer to its options is served without; so many are remembered.
const (
	plainFor = time.Minute
	maxPlain = 256
)

func (s *Server) refusesOptions(from netip.AddrPort, err error) {
	var refused *Refused
	if !errors.As(err, &refused) || refused.Code != CodeOptions {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.plain) >= maxPlain {
		clear(s.plain)
	}
	s.plain[from.Addr()] = s.opt.Clock.Now()
}

// offerTerms sends an OACK until it is acknowledged as block 0 (RFC 2347).
func (p *peer) offerTerms(ctx context.Context, answer []option, mine *serving) error {
	out := putOptions(answer)
	mine.firstAnswer(p)(out)
	wait := pace{}
	for try := 0; try <= p.retries; try++ {
		if !p.holdsBack(try) {
			p.message(false, "OACK", 0, 0, try > 0, optionText(answer)[1:])
			if err := p.write(out); err != nil {
				return err
			}
		}
		deadline := p.within(wait.wait())
		for {
			got, err := p.read(ctx, deadline)
			if errors.Is(err, errSilent) {
				break
			}
			if err != nil {
				return err
			}
			if got.op == opAck && got.block == 0 {
				p.message(true, "ACK", 0, 0, false, "")
				return nil
			}
		}
		wait.backOff++
	}
	return fmt.Errorf("%w: the agreed options were not acknowledged; a device that does not know that answer has to ask without options",
		transfer.ErrGaveUp)
}

// cancelled says the other side when we end the transfer, and says so. One that has never answered may not be there at
// all, and is reported nothing.
func (p *peer) cancelled(ctx context.Context, err error, mine *serving) error {
	if err == nil || ctx.Err() == nil {
		return err
	}
	cause := context.Cause(ctx)
	var gaveWay *places.GaveWay
	switch {
	case errors.Is(cause, errAgain): // an error would end the new one
	case errors.As(cause, &gaveWay):
		if mine.heard.Load() != 0 {
			p.refuse(CodeOther, cause.Error())
		}
	default:
		p.refuse(CodeOther, "the server is being closed")
	}
	return cause
}

// String says the terms as an operator reads them.
func (t Terms) String() string {
	words := fmt.Sprintf("blocks of %d B", t.Block)
	if t.Window > 1 {
		words += fmt.Sprintf(", windows of %d", t.Window)
	}
	return words
}

// report turns counts into what the Watcher is reported, a few times a second. A transfer is reported of once the peer
// has answered for the first time: before, anybody may have sent the request in its name.
type report struct {
	opt   Options
	t     offer.Transfer
	meter *transfer.Meter
	p     transfer.Progress
	thin  *transfer.Thin
	shown bool
	of    *serving
}

func newReport(opt Options, t offer.Transfer, of *serving) *report {
	r := &report{
		opt:   opt,
		t:     t,
		meter: transfer.NewMeter(opt.Clock),
		p:     transfer.Progress{File: t.File, Size: max(t.Size, 0)},
		thin:  transfer.NewThin(opt.Clock),
		of:    of,
	}
	r.meter.Start()
	if of != nil {
		of.met = func() {
			r.shown = true
			opt.Watcher.Began(t)
		}
	}
	return r
}

func (r *report) moved(blocks, bytes int64, again int) {
	r.p.Blocks, r.p.Bytes, r.p.Resent = int(blocks), bytes, again
	if r.thin.Due() {
		r.meter.Fill(&r.p)
		r.opt.Watcher.Moved(r.t, r.p)
	}
}

func (r *report) end(err error) {
	if !r.shown {
		if err != nil && r.of != nil && !errors.Is(err, errAgain) {
			r.opt.Watcher.Said(offer.Rung{
				Transfer: r.t.ID,
				Protocol: "TFTP",
				Peer:     r.t.Peer,
				Kind:     "unanswered",
				Text:     r.t.File + ": " + err.Error(),
			})
		}
		return
	}
	r.meter.Fill(&r.p)
	r.p.Left = 0
	r.opt.Watcher.Ended(r.t, r.p, err)
}
