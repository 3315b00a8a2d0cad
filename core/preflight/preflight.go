// Package preflight looks, before a device is asked to fetch a file, at what would keep it from getting
// one: the address it will use, the network between, the server, the file, the port, a firewall. Every
// failure says what to do.
package preflight

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"strings"
	"syscall"
	"time"

	"pilotrix/core/carrier"
	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/offer"
)

// Result is one thing looked at. A remedy says what to do when it did not hold.
type Result struct {
	What   string
	Held   bool
	Text   string
	Remedy string
}

// Plan is what is about to be fetched, and from where.
type Plan struct {
	Network network.Network
	Clock   clock.Clock
	Carrier *carrier.Carrier
	At      netip.AddrPort
	Path    string // see carrier.Endpoint
	Offer   offer.File
	// Said says that the operator has said the address: a device on another network is then one behind a
	// gateway, which is reported and goes on.
	Said bool
	By   Switches
	// Device is the device's own address with its network's length, the zero value when not known.
	Device netip.Prefix
}

// Run looks at everything, in the order in which one failure explains the next.
func Run(ctx context.Context, p Plan) []Result {
	results := []Result{p.address(), p.route()}
	results = append(results, p.file(), p.fetch(ctx), p.firewall(ctx))
	held := results[:0]
	for _, r := range results {
		if r.What != "" {
			held = append(held, r)
		}
	}
	return held
}

// Failed is the first result that did not hold, if there is one.
func Failed(results []Result) (Result, bool) {
	for _, r := range results {
		if !r.Held {
			return r, true
		}
	}
	return Result{}, false
}

// Switches are how an operator says another address or port where something was started, in words.
type Switches struct{ Address, Port string }

// or is a remedy with the switch that says something else, and nothing where there is none.
func or(before, by, after string) string {
	if by == "" {
		return ""
	}
	return before + by + after
}

// Choose is the laptop's address on the device's own network. Without a device's address it is the only
// one that is not for this machine alone.
func Choose(n network.Network, device netip.Prefix, by Switches) (netip.Addr, error) {
	all, err := n.Interfaces()
	if err != nil {
		return netip.Addr{}, err
	}
	var outward []network.Interface
	for _, one := range all {
		if device.IsValid() && one.Reaches(device.Addr()) {
			return one.Prefix.Addr(), nil
		}
		if addr := one.Prefix.Addr(); addr.Is4() && !addr.IsLoopback() && !addr.IsLinkLocalUnicast() {
			outward = append(outward, one)
		}
	}
	switch {
	case device.IsValid():
		return netip.Addr{}, fmt.Errorf(
			"this laptop has no address on the device's network %s; it has %s: give it one%s", device.Masked(),
			interfaceText(all), or(", or say with ", by.Address, " which one the device is to use"))
	case len(outward) == 1:
		return outward[0].Prefix.Addr(), nil
	}
	return netip.Addr{}, fmt.Errorf("which of this laptop's addresses is the device to use? It has %s%s",
		interfaceText(all), or(": say with ", by.Address, ""))
}

func interfaceText(all []network.Interface) string {
	if len(all) == 0 {
		return "none"
	}
	words := make([]string, len(all))
	for i, one := range all {
		words[i] = one.Prefix.String() + " on " + one.Name
	}
	return strings.Join(words, ", ")
}

// address holds that the laptop has the address that the device will use.
func (p Plan) address() Result {
	all, err := p.Network.Interfaces()
	if err != nil {
		return Result{
			"address",
			false,
			"this laptop's addresses could not be read: " + err.Error(),
			"look at them by hand",
		}
	}
	for _, one := range all {
		if one.Prefix.Addr() == p.At.Addr() {
			return Result{"address", true, fmt.Sprintf("%s is this laptop's, on %s", p.At.Addr(), one.Name), ""}
		}
	}
	return Result{
		"address",
		false,
		fmt.Sprintf("%s is no address of this laptop; it has %s", p.At.Addr(), interfaceText(all)),
		"give the interface that address" + or(", or choose another with ", p.By.Address, ""),
	}
}

// route holds that the device is on the network of that address.
func (p Plan) route() Result {
	if !p.Device.IsValid() {
		return Result{
			"network", true,
			"the device's own address is not known; whether it reaches this laptop shows when it fetches", "",
		}
	}
	all, err := p.Network.Interfaces()
	if err != nil {
		return Result{}
	}
	for _, one := range all {
		if one.Prefix.Addr() == p.At.Addr() && one.Reaches(p.Device.Addr()) {
			return Result{"network", true, fmt.Sprintf("the device's %s is on the same network", p.Device.Addr()), ""}
		}
	}
	if p.Device.Masked().Contains(p.At.Addr()) {
		return Result{"network", true, fmt.Sprintf("%s is on the device's network", p.At.Addr()), ""}
	}
	return Result{
		"network",
		p.Said,
		fmt.Sprintf("the device's %s and this laptop's %s are on different networks", p.Device, p.At.Addr()),
		"put both on one network" + or("; where a gateway joins them, say the address with ", p.By.Address, ""),
	}
}

// file holds that what is staged is still what was checked.
func (p Plan) file() Result {
	if p.Offer.Open == nil {
		return Result{}
	}
	file, err := p.Offer.Open()
	if err != nil {
		return Result{
			"file",
			false,
			fmt.Sprintf("%s cannot be read: %v", p.Offer.Name, err),
			"put it back, or choose another image",
		}
	}
	defer file.Close()
	h := sha256.New()
	n, err := io.Copy(h, file)
	switch sum := fmt.Sprintf("%x", h.Sum(nil)); {
	case err != nil:
		return Result{"file", false, fmt.Sprintf("%s cannot be read whole: %v", p.Offer.Name, err), "copy it anew"}
	case p.Offer.SHA256 != "" && sum != p.Offer.SHA256:
		return Result{
			"file",
			false,
			fmt.Sprintf("%s changed since it was checked (sha256 %.12s…, was %.12s…)", p.Offer.Name, sum,
				p.Offer.SHA256),
			"find out who changed it, then begin anew",
		}
	default:
		return Result{"file", true, fmt.Sprintf("%s, %d B, sha256 %.8s…", p.Offer.Name, n, sum), ""}
	}
}

const fetchTime = 8 * time.Second

// fetch asks the server for the file's beginning, on the address that the device will use.
func (p Plan) fetch(ctx context.Context) Result {
	if p.Offer.Open == nil {
		return Result{}
	}
	limited, cancel := p.Clock.WithTimeout(ctx, fetchTime)
	defer cancel()
	got, err := p.Carrier.Probe(limited,
		carrier.Probe{Network: p.Network, Clock: p.Clock, At: p.At, Name: p.Offer.Name, Path: p.Path})
	what := p.Carrier.Title()
	if err != nil {
		return Result{
			"server",
			false,
			fmt.Sprintf("%s at %s does not hand the file out: %v", what, p.At, err),
			"see whether something else answers there, or a firewall drops what comes in",
		}
	}
	if got == nil {
		return Result{"server", true, fmt.Sprintf("%s at %s answers", what, p.At), ""}
	}
	file, err := p.Offer.Open()
	if err != nil {
		return Result{"server", false, err.Error(), "put the file back"}
	}
	defer file.Close()
	want := make([]byte, carrier.FirstBytes)
	n, _ := io.ReadFull(file, want)
	if !bytes.Equal(got, want[:n]) {
		return Result{
			"server",
			false,
			fmt.Sprintf("%s at %s hands out another file under the name %s", what, p.At, p.Offer.Name),
			"another server answers there: end it, or choose another port",
		}
	}
	return Result{"server", true, fmt.Sprintf("%s at %s hands %s out", what, p.At, p.Offer.Name), ""}
}

// ListenText puts the failure to bind a port into words with a remedy: who holds it, or what is missing
// to be allowed to.
func ListenText(c *carrier.Carrier, at netip.AddrPort, err error, by Switches) Result {
	layer := c.Talk.Layer()
	port := fmt.Sprintf("%s port %d", strings.ToUpper(layer), at.Port())
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		text := port + " is held by another program"
		if who := network.Holder(layer, at.Port()); who != "" {
			text = port + " is held by " + who
		}
		return Result{
			"port",
			false,
			text,
			"end that program" + or(", or choose another port with ", by.Port, " where the device can be told one"),
		}
	case errors.Is(err, syscall.EACCES) || errors.Is(err, os.ErrPermission):
		return Result{
			"port",
			false,
			port + " needs a right that this user does not have",
			"as root: sysctl net.ipv4.ip_unprivileged_port_start=" + fmt.Sprint(at.Port()) + ", or setcap cap_net_bind_service=+ep on the program" + or("; or choose a port above 1023 with ",
				by.Port, " where the device can be told one"),
		}
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return Result{
			"address",
			false,
			fmt.Sprintf("%s is no address of this laptop", at.Addr()),
			"give the interface that address" + or(", or choose another with ", by.Address, ""),
		}
	}
	return Result{"port", false, fmt.Sprintf("%s could not be opened: %v", port, err), "look at what the system says"}
}
