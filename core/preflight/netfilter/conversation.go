// Package netfilter judges whether a Linux kernel's packet filter lets a whole conversation through: the first packet
// of a device, our answers, and the data that follows. It reads what nft prints of its rules (libnftables-json(5)) and
// follows each packet through the hooks as the kernel does. What it does not understand is no verdict: it says which
// rule that is.
//
// conversation.go has the packets; ruleset.go the rules; walk.go follows a packet through chains; values.go compares.
package netfilter

import (
	"fmt"
	"net/netip"
)

// Ports are some of them, the first and the last.
type Ports struct{ First, Last uint16 }

// Port is one.
func Port(n uint16) Ports { return Ports{n, n} }

// Any are all that a program may send from.
var Any = Ports{1, 65535}

func (p Ports) String() string {
	if p.First == p.Last {
		return fmt.Sprint(p.First)
	}
	return fmt.Sprintf("%d-%d", p.First, p.Last)
}

// Packet is one of a conversation, as this machine's filter sees it.
type Packet struct {
	What     string // in words
	In       bool   // it comes here
	Protocol string // tcp or udp
	From, To Ports
	New      bool // it is the first of its kind that conntrack sees
	Reply    bool // it goes against the direction in which that began
	Follows  bool // it belongs to a conversation that began with another one, which a helper of the kernel may know
}

// Ends are where the packets go between.
type Ends struct {
	Here, Device netip.Addr // Device is not valid where it is not known
	Interface    string     // by which they reach each other, empty where that is not known
}

// Conversation is what has to go through: each packet of one of the ways.
type Conversation struct {
	Ends
	Ways [][]Packet
}

// Talk is how a protocol uses ports.
type Talk int

// The ways of talking.
const (
	OneConnection Talk = iota // of TCP, to the server's port
	OwnPorts                  // datagrams: a request to the server's port, and each transfer at a port of its own here (RFC 1350 §4)
	DataEitherWay             // a connection to the server's port, and data over another one that either side opens (RFC 959 §3.2)
)

// Layer is what the server's port is one of: tcp or udp.
func (t Talk) Layer() string {
	if t == OwnPorts {
		return "udp"
	}
	return "tcp"
}

// Conversation is that of a fetch from the server's port. High are the ports that this machine sends from where it
// chooses one by itself.
func (t Talk) Conversation(port uint16, ends Ends, high Ports) Conversation {
	one := func(what string, in, fresh, reply, follows bool, layer string, here Ports) Packet {
		p := Packet{What: what, In: in, Protocol: layer, New: fresh, Reply: reply, Follows: follows}
		if in {
			p.From, p.To = Any, here
		} else {
			p.From, p.To = here, Any
		}
		return p
	}
	both := func(what string, here Ports) []Packet { // a connection that the device opens
		return []Packet{
			one(what, true, true, false, false, "tcp", here),
			one("our answers to "+what, false, false, true, false, "tcp", here),
			one("what follows "+what, true, false, false, false, "tcp", here),
		}
	}
	switch t {
	case OwnPorts: // our answer is the first of a conversation of its own
		return Conversation{ends, [][]Packet{{
			one("its request", true, true, false, false, "udp", Port(port)),
			one("our blocks", false, true, false, true, "udp", high),
			one("its acknowledgements", true, false, true, true, "udp", high),
		}}}
	case DataEitherWay:
		control := both("its control connection", Port(port))
		passive := both("its data connection", high)
		active := []Packet{
			one("our data connection", false, true, false, true, "tcp", high),
			one("its answers to our data connection", true, false, true, true, "tcp", high),
			one("our data", false, false, false, true, "tcp", high),
		}
		for i := range passive {
			passive[i].Follows = true
		}
		return Conversation{
			ends,
			[][]Packet{
				append(append([]Packet{}, control...), passive...),
				append(append([]Packet{}, control...), active...),
			},
		}
	}
	return Conversation{ends, [][]Packet{both("its connection", Port(port))}}
}
