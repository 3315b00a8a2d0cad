package sshd

import (
	"fmt"
	"net"

	"pilotrix/core/offer"
)

// moving is a file on its way, with what both sides say of it.
type moving struct {
	*offer.Count
	s      *Server
	t      offer.Transfer
	blocks int64
}

// began says that a file is on its way, by what the peer asked for it.
func (s *Server) began(protocol string, from net.Addr, verb, file string, size int64, upload bool) *moving {
	t := offer.Transfer{
		ID:       fmt.Sprintf("%s %s %d", protocol, from, s.count.Add(1)),
		Protocol: protocol,
		Peer:     addrOf(from),
		File:     file,
		Size:     size,
		Upload:   upload,
		Terms:    protocol,
	}
	m := &moving{s: s, t: t}
	m.said(true, verb, file)
	s.opt.Watcher.Began(t)
	m.Count = offer.NewCount(s.opt.Clock, s.opt.Watcher, t)
	return m
}

// Add counts a piece of it.
func (m *moving) Add(n int) {
	m.Count.Add(n)
	m.blocks++
	m.rung(offer.Rung{FromPeer: m.t.Upload, Kind: "DATA", Block: m.blocks, Bytes: n})
}

// End says that it is over.
func (m *moving) End(err error) {
	if err != nil {
		m.said(false, "broken off", err.Error())
	} else {
		m.said(true, "CLOSE", fmt.Sprintf("%d B", m.Bytes()))
	}
	m.Count.End(err)
}

func (m *moving) said(fromPeer bool, kind, text string) {
	m.rung(offer.Rung{FromPeer: fromPeer, Kind: kind, Text: text})
}

func (m *moving) rung(r offer.Rung) {
	r.Transfer, r.Protocol, r.Peer = m.t.ID, m.t.Protocol, m.t.Peer
	m.s.opt.Watcher.Said(r)
}
