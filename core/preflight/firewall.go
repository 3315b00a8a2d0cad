package preflight

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os/exec"
	"slices"
	"strings"
	"time"
)

const firewallTime = 3 * time.Second

// packet is what the device is about to send to this laptop: the first of a fetch.
type packet struct {
	protocol string // tcp or udp
	port     uint16
	from, to netip.Addr // not valid where not known
}

// firewall reads the laptop's own packet filter, where there is one of the kernel's kind and this user
// may. What cannot be read is said, and held for open: the fetch above has shown that the server answers
// here.
func firewall(ctx context.Context, p packet) Result {
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
	return readFirewall(rules, p)
}

// filter is the part of nft's JSON (libnftables-json(5)) that matters: base chains at the input hook with
// their policy, and the rules of their table.
type filter struct {
	Objects []filterObject `json:"nftables"`
}

type filterObject struct {
	Chain *filterChain `json:"chain"`
	Rule  *struct {
		Family, Table, Chain string
		Expr                 []map[string]json.RawMessage `json:"expr"`
	} `json:"rule"`
}

type filterChain struct {
	Family, Table, Name, Hook, Policy string
	Prio                              int
}

func readFirewall(rules []byte, p packet) Result {
	var all filter
	if err := json.Unmarshal(rules, &all); err != nil {
		return Result{"firewall", true, "the laptop's packet filter could not be understood; whether it lets the device in shows when it fetches", ""}
	}
	what := fmt.Sprintf("%s port %d", p.protocol, p.port)
	var bases []filterChain
	for _, o := range all.Objects {
		if o.Chain != nil && o.Chain.Hook == "input" && slices.Contains([]string{"inet", familyOf(p)}, o.Chain.Family) {
			bases = append(bases, *o.Chain)
		}
	}
	slices.SortStableFunc(bases, func(a, b filterChain) int { return a.Prio - b.Prio })
	unsure := ""
	for _, base := range bases { // each has its say: what one lets through the next may drop
		way := walk{all: all.Objects, base: base, packet: p}
		ends := way.through(base.Name, 0)
		if ends&goesOn != 0 {
			ends = ends&^goesOn | verdicts[base.Policy]
		}
		switch {
		case ends == dropped:
			return Result{
				"firewall", false, fmt.Sprintf("this laptop's packet filter drops what comes in (table %s, chain %s), and no rule lets %s through", base.Table, base.Name, what),
				fmt.Sprintf("as root: nft insert rule %s %s %s %s dport %d accept", base.Family, base.Table, base.Name, p.protocol, p.port),
			}
		case ends&dropped != 0 && unsure == "":
			unsure = fmt.Sprintf("cannot tell whether this laptop's packet filter lets %s through (table %s, chain %s: %s); it shows when the device fetches", what, base.Table, base.Name, way.unsure)
		}
	}
	if unsure != "" {
		return Result{"firewall", true, unsure, ""}
	}
	return Result{"firewall", true, "the laptop's packet filter lets " + what + " through", ""}
}

func familyOf(p packet) string {
	if p.to.Is6() {
		return "ip6"
	}
	return "ip"
}

// ends are those that a packet can come to: where something cannot be told, several.
type ends int

const (
	accepted ends = 1 << iota
	dropped
	goesOn // behind the last rule, or by a return
)

var verdicts = map[string]ends{"accept": accepted, "drop": dropped, "reject": dropped, "": accepted, "return": goesOn}

// walk follows a new packet through the chains of one table.
type walk struct {
	all    []filterObject
	base   filterChain
	packet packet
	unsure string // what could not be told first
}

// through is what a chain comes to.
func (w *walk) through(chain string, depth int) (all ends) {
	const deepest = 16
	if depth > deepest {
		return accepted | dropped
	}
	for _, o := range w.all {
		if o.Rule == nil || o.Rule.Family != w.base.Family || o.Rule.Table != w.base.Table || o.Rule.Chain != chain {
			continue
		}
		holds, verdict := w.rule(o.Rule.Expr, depth)
		switch {
		case holds == no:
		case holds == yes && verdict != 0 && verdict&goesOn == 0:
			return all | verdict
		case holds == yes && isReturn(o.Rule.Expr):
			return all | goesOn
		default: // it may, or its own chain may not decide
			all |= verdict &^ goesOn
		}
	}
	return all | goesOn
}

func isReturn(expr []map[string]json.RawMessage) bool {
	return slices.ContainsFunc(expr, func(part map[string]json.RawMessage) bool { _, is := part["return"]; return is })
}

// rule tells whether a rule's matches hold, and what its verdict leads to; 0 where it has none.
func (w *walk) rule(expr []map[string]json.RawMessage, depth int) (holds answer, verdict ends) {
	holds = yes
	for _, part := range expr {
		for kind, raw := range part {
			switch kind {
			case "match":
				holds = min(holds, w.match(raw))
			case "accept", "drop", "reject":
				verdict = verdicts[kind]
			case "jump", "goto":
				var to struct{ Target string }
				if holds != no && json.Unmarshal(raw, &to) == nil {
					verdict = w.through(to.Target, depth+1)
				}
			case "counter", "log", "comment", "return", "continue":
			default: // a limit, a map of verdicts, something of another program
				holds = min(holds, w.cannotTell(kind))
				if kind == "vmap" {
					verdict |= accepted | dropped
				}
			}
		}
	}
	return holds, verdict
}

// answer is whether something is so.
type answer int

const (
	no answer = iota
	unknown
	yes
)

func (w *walk) cannotTell(what string) answer {
	if w.unsure == "" {
		w.unsure = "a rule with " + what
	}
	return unknown
}

type match struct {
	Op   string `json:"op"`
	Left struct {
		Payload *struct{ Protocol, Field string } `json:"payload"`
		Meta    *struct{ Key string }             `json:"meta"`
		CT      *struct{ Key string }             `json:"ct"`
	} `json:"left"`
	Right json.RawMessage `json:"right"`
}

func (w *walk) match(raw json.RawMessage) answer {
	var m match
	if json.Unmarshal(raw, &m) != nil {
		return w.cannotTell("an expression")
	}
	is := w.holds(m)
	switch m.Op {
	case "", "==", "in":
		return is
	case "!=":
		return yes - is
	}
	return w.cannotTell(m.Op)
}

// holds tells whether what is on the left of a match is what is on its right.
func (w *walk) holds(m match) answer {
	p := w.packet
	switch {
	case m.Left.Payload != nil:
		return w.payload(m.Left.Payload.Protocol, m.Left.Payload.Field, m.Right)
	case m.Left.CT != nil && m.Left.CT.Key == "state": // a fetch begins with a packet of its own
		return w.one(m.Right, func(word string) answer { return told(word == "new") })
	case m.Left.Meta == nil:
	case m.Left.Meta.Key == "l4proto":
		number := map[string]string{"udp": "17", "tcp": "6"}[p.protocol]
		return w.one(m.Right, func(word string) answer { return told(word == p.protocol || word == number) })
	case m.Left.Meta.Key == "nfproto":
		family := map[bool]string{true: "ipv6", false: "ipv4"}[p.to.Is6()]
		return w.one(m.Right, func(word string) answer { return told(word == family) })
	case m.Left.Meta.Key == "iifname" || m.Left.Meta.Key == "iif":
		return w.one(m.Right, func(word string) answer {
			if word == "lo" {
				return told(p.to.IsLoopback())
			}
			return w.cannotTell("the interface " + word)
		})
	}
	return w.cannotTell("something else than ports and addresses")
}

func told(is bool) answer {
	if is {
		return yes
	}
	return no
}

func (w *walk) payload(protocol, field string, right json.RawMessage) answer {
	p := w.packet
	switch {
	case protocol == "udp" && p.protocol == "tcp", protocol == "tcp" && p.protocol == "udp", protocol == "icmp", protocol == "icmpv6":
		return no
	case field == "dport" && slices.Contains([]string{p.protocol, "th"}, protocol):
		return w.number(right, int(p.port))
	case protocol == "ip6" && !p.to.Is6(), protocol == "ip" && p.to.Is6():
		return no
	case field == "saddr":
		return w.address(right, p.from)
	case field == "daddr":
		return w.address(right, p.to)
	case field == "protocol" || field == "nexthdr":
		return w.one(right, func(word string) answer { return told(word == p.protocol) })
	}
	return w.cannotTell(protocol + " " + field)
}

// parts are what a right side can be: itself, or the members of a set.
func parts(right json.RawMessage) []json.RawMessage {
	var list []json.RawMessage
	if json.Unmarshal(right, &list) == nil {
		return list
	}
	var set struct {
		Set json.RawMessage `json:"set"`
	}
	if json.Unmarshal(right, &set) == nil && set.Set != nil {
		return parts(set.Set)
	}
	return []json.RawMessage{right}
}

// anyOf is yes where one part is, and unknown where one may be.
func anyOf(right json.RawMessage, is func(json.RawMessage) answer) (best answer) {
	for _, part := range parts(right) {
		best = max(best, is(part))
	}
	return best
}

func (w *walk) one(right json.RawMessage, is func(string) answer) answer {
	return anyOf(right, func(part json.RawMessage) answer {
		var word string
		var number json.Number
		switch {
		case json.Unmarshal(part, &word) == nil && strings.HasPrefix(word, "@"):
			return w.cannotTell("the set " + word)
		case json.Unmarshal(part, &word) == nil:
			return is(word)
		case json.Unmarshal(part, &number) == nil:
			return is(number.String())
		}
		return w.cannotTell("an expression")
	})
}

func (w *walk) number(right json.RawMessage, have int) answer {
	return anyOf(right, func(part json.RawMessage) answer {
		var one int
		var shape struct{ Range []int }
		switch {
		case json.Unmarshal(part, &one) == nil:
			return told(one == have)
		case json.Unmarshal(part, &shape) == nil && len(shape.Range) == 2:
			return told(shape.Range[0] <= have && have <= shape.Range[1])
		}
		return w.cannotTell("a named set of ports")
	})
}

func (w *walk) address(right json.RawMessage, have netip.Addr) answer {
	if !have.IsValid() {
		return w.cannotTell("an address")
	}
	return anyOf(right, func(part json.RawMessage) answer {
		var text string
		var shape struct {
			Prefix *struct {
				Addr string
				Len  int
			}
			Range []string
		}
		if json.Unmarshal(part, &text) == nil {
			if one, err := netip.ParseAddr(text); err == nil {
				return told(one == have)
			}
			return w.cannotTell("the set " + text)
		}
		if json.Unmarshal(part, &shape) != nil {
			return w.cannotTell("an address")
		}
		if shape.Prefix != nil {
			if base, err := netip.ParseAddr(shape.Prefix.Addr); err == nil {
				return told(netip.PrefixFrom(base, shape.Prefix.Len).Contains(have))
			}
		}
		if len(shape.Range) == 2 {
			low, err := netip.ParseAddr(shape.Range[0])
			high, bad := netip.ParseAddr(shape.Range[1])
			if err == nil && bad == nil {
				return told(low.Compare(have) <= 0 && have.Compare(high) <= 0)
			}
		}
		return w.cannotTell("an address")
	})
}
