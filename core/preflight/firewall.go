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
func firewall(ctx context.Context, protocol string, port uint16) Result {
	layer := "tcp"
	if protocol == "tftp" {
		layer = "udp"
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
	return readFirewall(rules, layer, port)
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
		if c == nil || c.Hook != "input" {
			continue
		}
		in := path{all: all.Objects, family: c.Family, table: c.Table, protocol: protocol, port: port}
		verdict := in.through(c.Name, 0)
		if verdict == "" {
			verdict = c.Policy
		}
		if verdict == "drop" || verdict == "reject" {
			return Result{
				"firewall", false, fmt.Sprintf("this laptop's packet filter drops what comes in (table %s, chain %s), and no rule lets %s port %d through", c.Table, c.Name, protocol, port),
				fmt.Sprintf("as root: nft insert rule %s %s %s %s dport %d accept", c.Family, c.Table, c.Name, protocol, port),
			}
		}
	}
	return Result{"firewall", true, fmt.Sprintf("the laptop's packet filter lets %s port %d through", protocol, port), ""}
}

// path follows a new packet to a port through the chains of one table.
type path struct {
	all           []filterObject
	family, table string
	protocol      string
	port          uint16
}

// through is the verdict of a chain's rules, in their order: accept, drop or reject, empty when none decides.
func (p path) through(chain string, depth int) string {
	const deepest = 16
	for _, o := range p.all {
		if o.Rule == nil || o.Rule.Family != p.family || o.Rule.Table != p.table || o.Rule.Chain != chain || depth > deepest {
			continue
		}
		if accepts(o.Rule.Expr, p.protocol, p.port) {
			return "accept"
		}
		narrowed := slices.ContainsFunc(o.Rule.Expr, func(part map[string]json.RawMessage) bool { _, is := part["match"]; return is })
		for _, part := range o.Rule.Expr {
			for _, verb := range []string{"jump", "goto"} {
				var to struct{ Target string }
				if raw, is := part[verb]; is && json.Unmarshal(raw, &to) == nil {
					if verdict := p.through(to.Target, depth+1); verdict == "accept" || verdict != "" && !narrowed {
						return verdict
					}
				}
			}
			for _, verb := range []string{"drop", "reject"} {
				if _, is := part[verb]; is && !narrowed {
					return verb
				}
			}
		}
	}
	return ""
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
