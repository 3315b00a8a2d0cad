package provision

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/adrg/xdg"

	"pilotrix/core/network"
	"pilotrix/core/ownfile"
	"pilotrix/core/reach"
)

// ParseRange reads the addresses that are given, FIRST-LAST; for an empty text they are the last of the network, enough
// for that many devices.
func ParseRange(text string, own netip.Prefix, devices int) (first, last netip.Addr, err error) {
	if text == "" {
		first, last = LastOf(own, max(UsualAddresses, 2*devices)) // some may be somebody's already
		return first, last, nil
	}
	from, to, found := strings.Cut(text, "-")
	first, firstErr := netip.ParseAddr(strings.TrimSpace(from))
	last, lastErr := netip.ParseAddr(strings.TrimSpace(to))
	if !found || firstErr != nil || lastErr != nil {
		return first, last, fmt.Errorf("--range %q: want two addresses, such as 192.0.2.100-192.0.2.119", text)
	}
	return first, last, nil
}

// ParseProof reads how a device proves that it is up.
func ParseProof(text string) (func(context.Context, Course) error, error) {
	const wait = 5 * time.Second
	host := reach.NewHost()
	kind, rest, _ := strings.Cut(text, ":")
	port, portErr := strconv.ParseUint(rest, 10, 16)
	switch {
	case text == "":
		return nil, nil
	case text == "ping":
		return func(ctx context.Context, c Course) error {
			ctx, cancel := context.WithTimeout(ctx, wait)
			defer cancel()
			if _, err := host.Ping(ctx, c.Addr); err != nil {
				return fmt.Errorf("it does not answer a ping at %s", c.Addr)
			}
			return nil
		}, nil
	case kind == "tcp" && portErr == nil && port > 0:
		return func(ctx context.Context, c Course) error {
			ctx, cancel := context.WithTimeout(ctx, wait)
			defer cancel()
			conn, err := host.Dial(ctx, netip.AddrPortFrom(c.Addr, uint16(port)))
			if err != nil {
				return fmt.Errorf("it does not answer at TCP port %d: %w", port, err)
			}
			return conn.Close()
		}, nil
	case kind == reach.HTTP && strings.HasPrefix(rest, "/"):
		return func(ctx context.Context, c Course) error {
			ctx, cancel := context.WithTimeout(ctx, wait)
			defer cancel()
			page, err := reach.GetPage(ctx, host, fmt.Sprintf("http://%s%s", c.Addr, rest))
			if err == nil && page.Status >= 400 {
				err = fmt.Errorf("its page %s answers %d", rest, page.Status)
			}
			return err
		}, nil
	}
	return nil, fmt.Errorf("--proof %q: want ping, tcp:PORT or http:/PATH", text)
}

// LeaseFile is where the leases of a network are kept.
func LeaseFile(on network.Interface) string {
	name := strings.NewReplacer("/", "-", ":", "-").Replace(on.Prefix.Masked().String())
	return filepath.Join(xdg.StateHome, "pilotrix", "leases-"+name+".json")
}

// LoadLeases reads those that were kept; a file that cannot be read is as good as none: devices ask again.
func LoadLeases(path string) (all []Lease) {
	data, err := ownfile.Read(path)
	if err != nil || json.Unmarshal(data, &all) != nil {
		return nil
	}
	return all
}

// SaveLeases keeps them, whole or not at all.
func SaveLeases(path string, all []Lease) error {
	data, err := json.MarshalIndent(all, "", "  ")
	if err == nil {
		err = ownfile.Replace(path, data)
	}
	if err != nil {
		return fmt.Errorf("the leases are not kept: %w", err)
	}
	return nil
}
