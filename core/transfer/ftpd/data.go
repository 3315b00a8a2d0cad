package ftpd

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	ftp "goftp.io/server/v2"

	"pilotrix/core/offer"
	"pilotrix/core/transfer"
)

// The commands that move data are ours: the library's take a data connection from whoever is first, and
// some orders of commands end them in a panic or in nothing at all. Each ends in a reply here.

const (
	dataWait  = 30 * time.Second // for a data connection
	dataQuiet = transfer.Quiet   // for a byte on one
	firstHigh = 1024
)

// data is what a session has arranged for its next transfer: where to listen for the device, or where to
// call it. It is kept with the session.
type data struct {
	listener net.Listener
	call     netip.AddrPort
	from     int64 // REST
	size     int64 // ALLO, 0 when it was not said
}

const dataKey = "data"

func dataOf(session *ftp.Session) *data {
	d, there := session.Data[dataKey].(*data)
	if !there {
		d = &data{}
		session.Data[dataKey] = d
	}
	return d
}

// arranged reports whether the device has said how its data is to move.
func (d *data) arranged() bool { return d.listener != nil || d.call.IsValid() }

// forget drops what was arranged: each transfer has a connection of its own.
func (d *data) forget() {
	if d.listener != nil {
		_ = d.listener.Close()
	}
	*d = data{}
}

// command is one that a device may use once it has logged in.
type command struct {
	param bool
	run   func(session *ftp.Session, param string)
}

// IsExtend implements ftp.Command.
func (command) IsExtend() bool { return false }

// RequireParam implements ftp.Command.
func (c command) RequireParam() bool { return c.param }

// RequireAuth implements ftp.Command.
func (command) RequireAuth() bool { return true }

// Execute implements ftp.Command.
func (c command) Execute(session *ftp.Session, param string) {
	c.run(session, strings.TrimSpace(param))
}

// dataCommands are RFC 959 §4.1.2 and 4.1.3, and RFC 2428.
func (s *Server) dataCommands() map[string]ftp.Command {
	return map[string]ftp.Command{
		"PASV": command{false, func(session *ftp.Session, _ string) { s.passive(session, false) }},
		"EPSV": command{false, func(session *ftp.Session, _ string) { s.passive(session, true) }},
		"PORT": command{true, func(session *ftp.Session, param string) { s.active(session, param, portOf) }},
		"EPRT": command{true, func(session *ftp.Session, param string) { s.active(session, param, extendedPortOf) }},
		"REST": command{true, s.restart},
		"ALLO": command{true, s.allocate},
		"ABOR": command{false, func(session *ftp.Session, _ string) {
			dataOf(session).forget()
			session.WriteMessage(226, "nothing is under way")
		}},
		"SIZE": command{true, s.size},
		"RETR": command{true, s.retrieve},
		"STOR": command{true, s.store},
		"LIST": command{false, func(session *ftp.Session, _ string) { s.list(session, true) }},
		"NLST": command{false, func(session *ftp.Session, _ string) { s.list(session, false) }},
	}
}

// passive listens where the device has reached us.
func (s *Server) passive(session *ftp.Session, extended bool) {
	d := dataOf(session)
	d.forget()
	at := s.at.Addr()
	if reached, known := s.listener.at(session.RemoteAddr()); known && at.IsUnspecified() {
		at = reached
	}
	if !extended && !at.Is4() {
		session.WriteMessage(522, "use EPSV")
		return
	}
	listener, err := s.opt.Network.Listen(netip.AddrPortFrom(at, 0))
	var bound netip.AddrPort
	if err == nil {
		bound, err = netip.ParseAddrPort(listener.Addr().String())
	}
	if err != nil {
		session.WriteMessage(425, "no port to be had")
		return
	}
	d.listener = listener
	if extended {
		session.WriteMessage(229, fmt.Sprintf("Entering Extended Passive Mode (|||%d|)", bound.Port()))
		return
	}
	four := at.As4()
	session.WriteMessage(227, fmt.Sprintf("Entering Passive Mode (%d,%d,%d,%d,%d,%d)", four[0], four[1], four[2], four[3], bound.Port()>>8, bound.Port()&0xff))
}

// active takes note of where to call the device. It may name only its own address: another one would make
// this server knock at a stranger's door (RFC 2577 §3).
func (s *Server) active(session *ftp.Session, param string, read func(string) (netip.AddrPort, bool)) {
	d := dataOf(session)
	d.forget()
	asked, ok := read(param)
	if !ok || asked.Addr().Unmap() != peerOf(session).Addr() || asked.Port() < firstHigh {
		session.WriteMessage(504, "data connections go to your own address only")
		return
	}
	d.call = asked
	session.WriteMessage(200, "that is where data will go")
}

func (s *Server) restart(session *ftp.Session, param string) {
	from, err := strconv.ParseInt(param, 10, 64)
	if err != nil || from < 0 {
		session.WriteMessage(501, "REST wants a number of bytes")
		return
	}
	dataOf(session).from = from
	session.WriteMessage(350, fmt.Sprintf("the next transfer begins at %d", from))
}

func (s *Server) allocate(session *ftp.Session, param string) {
	text, _, _ := strings.Cut(param, " ")
	size, err := strconv.ParseInt(text, 10, 64)
	if err != nil || size < 0 {
		session.WriteMessage(501, "ALLO wants a number of bytes")
		return
	}
	dataOf(session).size = size
	session.WriteMessage(200, fmt.Sprintf("%d bytes are expected", size))
}

// find finds a staged file, and tells when there is none.
func (s *Server) find(session *ftp.Session, param string) (offer.File, error) {
	staged, remark, err := s.opt.Stage.Find(strings.TrimPrefix(session.BuildPath(param), "/"))
	switch {
	case err != nil:
		s.say(session, true, "refused", err.Error())
		session.WriteMessage(550, err.Error())
	case remark != "":
		s.say(session, true, "remark", staged.Name+" was "+remark)
	}
	return staged, err
}

func (s *Server) size(session *ftp.Session, param string) {
	if staged, err := s.find(session, param); err == nil {
		session.WriteMessage(213, strconv.FormatInt(staged.Size, 10))
	}
}

var errNoData = errors.New("no data connection: PASV, EPSV, PORT or EPRT comes first")

// connect makes the data connection: with the peer of the control connection, and nobody else.
func (s *Server) connect(session *ftp.Session) (net.Conn, error) {
	d, peer := dataOf(session), peerOf(session)
	ctx, cancel := context.WithTimeout(context.Background(), dataWait)
	defer cancel()
	switch {
	case d.call.IsValid():
		return s.opt.Network.Dial(ctx, d.call)
	case d.listener == nil:
		return nil, errNoData
	}
	stop := context.AfterFunc(ctx, func() { _ = d.listener.Close() })
	defer stop()
	for {
		conn, err := d.listener.Accept()
		if err != nil {
			return nil, errors.New("the data connection did not come")
		}
		from, err := netip.ParseAddrPort(conn.RemoteAddr().String())
		if err == nil && from.Addr().Unmap() == peer.Addr() {
			return conn, nil
		}
		_ = conn.Close()
		s.say(session, true, "refused", "a data connection from "+from.Addr().String()+", which is not this device")
	}
}

// quietly ends a connection on which nothing moves for long.
type quietly struct{ net.Conn }

func (q quietly) Read(p []byte) (int, error) {
	_ = q.SetReadDeadline(time.Now().Add(dataQuiet))
	return q.Conn.Read(p)
}

func (q quietly) Write(p []byte) (int, error) {
	_ = q.SetWriteDeadline(time.Now().Add(dataQuiet))
	return q.Conn.Write(p)
}

// over ends a transfer with a reply.
func (s *Server) over(session *ftp.Session, err error, done string) {
	switch {
	case errors.Is(err, errNoData):
		session.WriteMessage(425, err.Error())
	case err != nil:
		session.WriteMessage(426, "broken off: "+err.Error())
	default:
		session.WriteMessage(226, done)
	}
}

func (s *Server) transfer(session *ftp.Session, verb, name string, size int64, upload bool) offer.Transfer {
	peer := peerOf(session)
	t := offer.Transfer{ID: fmt.Sprintf("ftp %s %d", peer, s.count.Add(1)), Protocol: "FTP", Peer: peer, File: name, Size: size, Upload: upload, Terms: "FTP"}
	s.opt.Watcher.Said(offer.Rung{Transfer: t.ID, Protocol: "FTP", Peer: peer, FromPeer: true, Kind: verb, Text: name})
	s.opt.Watcher.Began(t)
	return t
}

// retrieve sends a staged file, from where the device asked for it on.
func (s *Server) retrieve(session *ftp.Session, param string) {
	d := dataOf(session)
	defer d.forget()
	staged, err := s.find(session, param)
	if err != nil {
		return
	}
	if d.from > staged.Size {
		session.WriteMessage(554, fmt.Sprintf("%s has %d B, %d were asked for", staged.Name, staged.Size, d.from))
		return
	}
	if !d.arranged() {
		s.over(session, errNoData, "")
		return
	}
	file, err := staged.Open()
	if err != nil {
		session.WriteMessage(550, "the file cannot be read")
		s.say(session, false, "refused", err.Error())
		return
	}
	defer file.Close()
	session.WriteMessage(150, fmt.Sprintf("%d B follow", staged.Size-d.from))
	count := offer.NewCount(s.opt.Clock, s.opt.Watcher, s.transfer(session, "RETR", staged.Name, staged.Size, false))
	if d.from > 0 {
		count.Part(d.from, staged.Size-d.from)
	}
	err = s.sendFile(session, file, d.from, staged.Size-d.from, count)
	count.End(err)
	s.over(session, err, "sent whole")
}

func (s *Server) sendFile(session *ftp.Session, file io.ReadSeeker, from, size int64, count *offer.Count) error {
	if _, err := file.Seek(from, io.SeekStart); err != nil {
		return err
	}
	conn, err := s.connect(session)
	if err != nil {
		return err
	}
	sent, err := io.Copy(quietly{conn}, countReader{transfer.Whole(file, size), count})
	if err == nil && sent < size {
		err = fmt.Errorf("the device hung up with %d B to go", size-sent)
	}
	return errors.Join(err, conn.Close())
}

// store takes the file for which a step has opened a slot.
func (s *Server) store(session *ftp.Session, param string) {
	d := dataOf(session)
	defer d.forget()
	switch {
	case !d.arranged():
		s.over(session, errNoData, "")
		return
	case d.from > 0:
		session.WriteMessage(554, "uploads begin at their beginning here")
		return
	}
	size := int64(-1)
	if d.size > 0 {
		size = d.size
	}
	upload, err := s.opt.Stage.Receive(strings.TrimPrefix(session.BuildPath(param), "/"), size)
	if err != nil {
		s.say(session, true, "refused", err.Error())
		session.WriteMessage(553, err.Error())
		return
	}
	session.WriteMessage(150, "go ahead")
	count := offer.NewCount(s.opt.Clock, s.opt.Watcher, s.transfer(session, "STOR", upload.Name, size, true))
	err = s.takeFile(session, upload, size, count)
	if err != nil {
		upload.Drop()
	} else {
		err = upload.Keep()
	}
	count.End(err)
	s.over(session, err, fmt.Sprintf("%d B are here", count.Bytes()))
}

func (s *Server) takeFile(session *ftp.Session, upload io.Writer, size int64, count *offer.Count) error {
	conn, err := s.connect(session)
	if err != nil {
		return err
	}
	got, err := io.Copy(upload, countReader{quietly{conn}, count})
	if err == nil && size >= 0 && got != size {
		err = fmt.Errorf("%d of the %d B that were said came", got, size)
	}
	_ = conn.Close()
	return err
}

type countReader struct {
	io.Reader
	count *offer.Count
}

func (c countReader) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.count.Add(n)
	return n, err
}

// list tells what is staged.
func (s *Server) list(session *ftp.Session, long bool) {
	d := dataOf(session)
	defer d.forget()
	if !d.arranged() {
		s.over(session, errNoData, "")
		return
	}
	session.WriteMessage(150, "here it comes")
	conn, err := s.connect(session)
	if err == nil {
		var out strings.Builder
		for _, staged := range s.opt.Stage.Offers() {
			if long {
				fmt.Fprintf(&out, "-r--r--r-- 1 staged staged %12d Jan 01 00:00 ", staged.Size)
			}
			out.WriteString(staged.Name + "\r\n")
		}
		_, err = io.WriteString(quietly{conn}, out.String())
		err = errors.Join(err, conn.Close())
	}
	s.over(session, err, "that is all")
}
