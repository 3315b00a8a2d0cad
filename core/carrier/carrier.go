// Package carrier is the protocols by which this laptop serves files to a device: all that the rest of the program has
// to know of one, a file each. What owns the line itself (XMODEM, YMODEM, a paste) is none of them.
package carrier

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"pilotrix/core/arithmetic"
	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/offer"
	"pilotrix/core/preflight/netfilter"
)

// Carrier is one protocol.
type Carrier struct {
	Name string // as it is written, such as tftp
	Rank int    // its place where all are listed
	Port uint16 // the usual one
	With string // the carrier whose server it shares, empty for one of its own
	Talk netfilter.Talk
	// Listen starts a server. Nil where it shares another's.
	Listen func(at netip.AddrPort, s offer.Serving) (Server, Endpoint, error)
	// Boot is what a device is told to fetch when it gets its address, nil where that cannot name this carrier.
	Boot func(e Endpoint, name string) string
	// Text is what a device has to be told besides where the server is, empty for nothing.
	Text func(e Endpoint) string
	// Estimates is how long it takes for a file of a size, in bytes; nil where another stands for it.
	Estimates func(size int64, w arithmetic.Way) []arithmetic.Estimate
	// Probe asks the server for the beginning of the file, FirstBytes of it. Where that would take a login it only sees
	// the server greet, and got is nil.
	Probe func(ctx context.Context, p Probe) (got []byte, err error)
	// Runs are the kinds of its messages that are drawn as one rung for many.
	Runs []string
}

// Server is what every server that listens has.
type Server interface {
	Addr() netip.AddrPort
	Serve(ctx context.Context) error
}

// Endpoint is where a server listens, and what a device has to be told to use it.
type Endpoint struct {
	Protocol       string
	At             netip.AddrPort
	User, Password string
	Key            []byte // the private key that may log in besides, with SFTP and SCP
	Fingerprint    string // of the host key there
	path           func(name string) string
}

// Path is the path of a staged file, with HTTP; with the others it is its name.
func (e Endpoint) Path(name string) string {
	if e.path == nil {
		return name
	}
	return e.path(name)
}

// Probe is what is asked of a server before a device is.
type Probe struct {
	Network network.Network
	Clock   clock.Clock
	At      netip.AddrPort
	Name    string // of the file
	Path    string // see Endpoint.Path
}

var registry = map[string]*Carrier{}

// Register declares a carrier. It is called while the program starts, once by each carrier's file.
func Register(c Carrier) *Carrier {
	if registry[c.Name] != nil {
		panic("the carrier " + c.Name + " is declared twice")
	}
	registry[c.Name] = &c
	return &c
}

// All lists the carriers in their order.
func All() []*Carrier {
	all := make([]*Carrier, 0, len(registry))
	for _, c := range registry {
		all = append(all, c)
	}
	slices.SortFunc(all, func(a, b *Carrier) int { return cmp.Or(a.Rank-b.Rank, strings.Compare(a.Name, b.Name)) })
	return all
}

// Names lists them, with a word before the last, such as " or ".
func Names(last string) string { return list(All(), last) }

// BootNames lists those that a device can be told to fetch by when it gets its address, in words.
func BootNames() string {
	return list(slices.DeleteFunc(All(), func(c *Carrier) bool { return c.Boot == nil }), " or ")
}

func list(all []*Carrier, last string) string {
	names := make([]string, len(all))
	for i, c := range all {
		names[i] = c.Name
	}
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:len(names)-1], ", ") + last + names[len(names)-1]
}

// Named finds a carrier.
func Named(name string) (*Carrier, error) {
	if c := registry[name]; c != nil {
		return c, nil
	}
	return nil, fmt.Errorf("no protocol %q to serve by; there are %s", name, Names(" and "))
}

// Instructions are all that a device needs to fetch a file, in words.
func (c *Carrier) Instructions(e Endpoint, name string) string {
	text := strings.ToUpper(c.Name) + ", " + e.At.Addr().String()
	if e.At.Port() != c.Port {
		text += " port " + strconv.Itoa(int(e.At.Port()))
	}
	if e.User != "" {
		text += ", user " + e.User + ", password " + e.Password
	}
	return text + ", " + e.Path(name)
}

// Server is the carrier whose server it uses: itself, or the one that it shares.
func (c *Carrier) Server() *Carrier {
	if c.With == "" {
		return c
	}
	return registry[c.With]
}

// Title is the name as it is shown: TFTP.
func (c *Carrier) Title() string { return strings.ToUpper(c.Name) }

// InRuns reports whether messages of a kind are drawn as one rung for many, by the carrier's title.
func InRuns(title, kind string) bool {
	c := registry[strings.ToLower(title)]
	return c != nil && slices.Contains(c.Runs, kind)
}

// Estimates is what a file of a size takes by every protocol that the way allows, in a fixed order: over the line, then
// by each carrier, none faster than the device itself.
func Estimates(size int64, w arithmetic.Way) []arithmetic.Estimate {
	all := arithmetic.OverLine(size, w)
	if w.Link <= 0 {
		return all
	}
	for _, c := range All() {
		if c.Estimates != nil {
			for _, e := range c.Estimates(size, w) {
				e.Protocol = c.Name
				all = append(all, e.AtMost(w.Device, size))
			}
		}
	}
	return all
}
