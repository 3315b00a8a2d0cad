package preflight

import (
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"slices"
	"time"
)

const firewallTime = 3 * time.Second

// firewall reads the laptop's own packet filter, where there is one of the kernel's kind and this user
// may. What cannot be read is said, and held for open: the fetch above has shown that the server answers
// here.
func firewall(ctx context.Context, carrierName string, port uint16) Result {
	protocol := "tcp"
	if carrierName == "tftp" {
		protocol = "udp"
	}
	nft, err := exec.LookPath("nft")
	if err != nil {
		return Result{}
	}
	limited, cancel := context.WithTimeout(ctx, firewallTime)
	defer cancel()
	rules, err := exec.CommandContext(limited, nft, "-j", "list", "ruleset").Output()
	if err != nil {
		return Result{"firewall", true, "this user may not read the laptop's packet filter; whether it lets the device in shows when it fetches", ""}
	}
	return readFirewall(rules, protocol, port)
}

// filter is the part of nft's JSON (libnftables-json(5)) that matters: base chains at the input hook with
// their policy, and rules that accept a port.
type filter struct {
	Objects []filterObject `json:"nftables"`
}

type filterObject struct {
	Chain *struct {
		Family, Table, Name, Hook, Policy string
	} `json:"chain"`
	Rule *struct {
		Family, Table, Chain string
		Expr                 []map[string]json.RawMessage `json:"expr"`
	} `json:"rule"`
}

type match struct {
	Left struct {
		Payload struct{ Protocol, Field string } `json:"payload"`
	} `json:"left"`
	Right json.RawMessage `json:"right"`
}

func readFirewall(rules []byte, protocol string, port uint16) Result {
	var all filter
	if err := json.Unmarshal(rules, &all); err != nil {
		return Result{"firewall", true, "the laptop's packet filter could not be understood; whether it lets the device in shows when it fetches", ""}
	}
	for _, object := range all.Objects {
		c := object.Chain
		if c == nil || c.Hook != "input" || c.Policy != "drop" {
			continue
		}
		open := slices.ContainsFunc(all.Objects, func(o filterObject) bool {
			return o.Rule != nil && o.Rule.Table == c.Table && o.Rule.Family == c.Family && accepts(o.Rule.Expr, protocol, port)
		})
		if !open {
			return Result{
				"firewall", false, fmt.Sprintf("this laptop's packet filter drops what comes in (table %s, chain %s), and no rule lets %s port %d through", c.Table, c.Name, protocol, port),
				fmt.Sprintf("as root: nft insert rule %s %s %s %s dport %d accept", c.Family, c.Table, c.Name, protocol, port),
			}
		}
	}
	return Result{"firewall", true, fmt.Sprintf("the laptop's packet filter lets %s port %d through", protocol, port), ""}
}

// accepts reports whether a rule accepts a port: by a match on it, alone, in a set or in a range, or
// without any match at all.
func accepts(expr []map[string]json.RawMessage, protocol string, port uint16) bool {
	accept, narrowed, named := false, false, false
	for _, part := range expr {
		if _, is := part["accept"]; is {
			accept = true
		}
		raw, is := part["match"]
		if !is {
			continue
		}
		var m match
		if json.Unmarshal(raw, &m) == nil && m.Left.Payload.Protocol == protocol && m.Left.Payload.Field == "dport" {
			named = holdsPort(m.Right, port)
			narrowed = narrowed || !named
			continue
		}
		narrowed = true
	}
	return accept && (named || !narrowed)
}

func holdsPort(raw json.RawMessage, port uint16) bool {
	var one uint16
	if json.Unmarshal(raw, &one) == nil {
		return one == port
	}
	var shape struct {
		Set   []json.RawMessage `json:"set"`
		Range []uint16          `json:"range"`
	}
	if json.Unmarshal(raw, &shape) != nil {
		return false
	}
	if len(shape.Range) == 2 {
		return shape.Range[0] <= port && port <= shape.Range[1]
	}
	return slices.ContainsFunc(shape.Set, func(part json.RawMessage) bool { return holdsPort(part, port) })
}
