package provision

import (
	"net/netip"
	"time"
)

// gives reports whether an address is one that a client may get: its own where one is kept for it, else one of the
// range that is kept for nobody.
func (s *Server) gives(addr netip.Addr, mac string) bool {
	if own, kept := s.opt.Reserved[mac]; kept {
		return addr == own
	}
	for _, kept := range s.opt.Reserved {
		if kept == addr {
			return false
		}
	}
	return s.inRange(addr)
}

func (s *Server) inRange(addr netip.Addr) bool {
	return addr.Is4() && !addr.Less(s.opt.First) && !s.opt.Last.Less(addr) && addr != s.opt.Own.Addr() &&
		addr != s.opt.Own.Masked().Addr() && addr != broadcastOf(s.opt.Own) && addr != s.opt.Router
}

// free reports whether an address can be given to a client now.
func (s *Server) free(addr netip.Addr, mac string, now time.Time) bool {
	if !s.gives(addr, mac) || now.Before(s.bad[addr]) {
		return false
	}
	holder := s.taken[addr]
	return holder == "" || holder == mac || s.over(holder, now)
}

// over reports whether a client's lease, or what it was offered, has run out.
func (s *Server) over(mac string, now time.Time) bool {
	lease := s.leases[mac]
	return lease == nil || !now.Before(lease.Until)
}

// choose finds an address for a client (RFC 2131 §4.3.1): what it has or had, what it wants, else the first that is
// free.
func (s *Server) choose(c Client, wants netip.Addr, now time.Time) netip.Addr {
	if own, kept := s.opt.Reserved[c.MAC]; kept {
		if s.free(own, c.MAC, now) {
			return own
		}
		return netip.Addr{}
	}
	if lease := s.leases[c.MAC]; lease != nil && s.free(lease.Addr, c.MAC, now) {
		return lease.Addr
	}
	if wants.IsValid() && s.free(wants, c.MAC, now) {
		return wants
	}
	var over netip.Addr
	for n := number(s.opt.First); n <= number(s.opt.Last); n++ {
		addr := addrOf(n)
		if !s.free(addr, c.MAC, now) {
			continue
		}
		if s.taken[addr] == "" {
			return addr
		}
		if !over.IsValid() { // somebody had it: only when there is no other one
			over = addr
		}
	}
	return over
}

// hold gives an address to a client until then. Who had it before has it no more.
func (s *Server) hold(c Client, addr netip.Addr, until time.Time, bound bool) {
	if before := s.taken[addr]; before != "" && before != c.MAC {
		delete(s.leases, before)
	}
	if lease := s.leases[c.MAC]; lease != nil {
		delete(s.taken, lease.Addr)
	}
	s.leases[c.MAC], s.taken[addr] = &Lease{c, addr, until, bound}, c.MAC
}

// release forgets a client's lease where it is such a one.
func (s *Server) release(c Client, such func(*Lease) bool) {
	if lease := s.leases[c.MAC]; lease != nil && such(lease) {
		delete(s.taken, lease.Addr)
		delete(s.leases, c.MAC)
	}
}

// UsualAddresses is how many are given where it is not said which.
const UsualAddresses = 20

// LastOf are the last addresses of a network that a host may have, as many as said or as there are: but the first one
// and the last one, which gateways usually have.
func LastOf(own netip.Prefix, count int) (first, last netip.Addr) {
	low, high := number(own.Masked().Addr())+1, number(broadcastOf(own))-1
	if high-low >= roomy {
		low, high = low+1, high-1
	}
	return addrOf(max(low, high-uint32(min(count, int(high-low)+1))+1)), addrOf(high)
}

// roomy is from how many hosts on the usual addresses of gateways are left out.
const roomy = 6
