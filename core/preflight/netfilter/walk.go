package netfilter

import (
	"encoding/json"
	"fmt"
	"slices"
)

// Verdicts on a conversation.
const (
	Lets   = "lets through"
	Drops  = "drops"
	Unsure = "cannot tell"
)

// Verdict is what becomes of a conversation.
type Verdict struct {
	Kind   string
	What   string // the packet that is dropped, or of which it cannot be reported
	Where  string // table and chain
	Why    string // what is not understood
	Remedy string // a command that lets it through, empty for none
}

// Judge follows a conversation through a ruleset. An error is one of the ruleset, which is not understood at all then.
func Judge(data []byte, c Conversation) (Verdict, error) {
	r, err := parse(data)
	if err != nil {
		return Verdict{}, err
	}
	var all []Verdict
	for _, way := range c.Ways {
		all = append(all, r.way(c.Ends, way))
	}
	first := all[0]
	for _, v := range all[1:] {
		if v.Kind == first.Kind {
			continue
		}
		unsure := first // one way is open, another one is not: which of them the device takes is not known
		if unsure.Kind == Lets {
			unsure = v
		}
		return Verdict{Kind: Unsure, What: unsure.What, Where: unsure.Where, Why: "another way is open"}, nil
	}
	return first, nil
}

// way follows one packet after the other. What is dropped for certain is, whatever else is not known.
func (r *ruleset) way(ends Ends, packets []Packet) Verdict {
	verdict := Verdict{Kind: Lets}
	if r.flags {
		verdict = Verdict{
			Kind:  Unsure,
			What:  packets[0].What,
			Where: "a flowtable",
			Why:   "packets that pass by the chains",
		}
	}
	tracked := yes
	for _, p := range packets {
		for _, base := range r.bases {
			if !base.sees(p, ends) {
				continue
			}
			w := &walk{ruleset: r, base: base, packet: p, ends: ends, tracked: tracked}
			got := w.verdict()
			tracked = min(tracked, w.tracked)
			switch {
			case got.Kind == Drops:
				return got
			case got.Kind == Unsure && verdict.Kind == Lets:
				verdict = got
			}
		}
	}
	return verdict
}

// sees reports whether a packet comes by a chain's hook.
func (c chain) sees(p Packet, ends Ends) bool {
	family := "ip"
	if ends.Here.Is6() {
		family = "ip6"
	}
	hooks := []string{"output", "postrouting", "egress"}
	if p.In {
		hooks = []string{"ingress", "prerouting", "input"}
	}
	switch {
	case c.Family == "arp" || c.Family == "bridge": // what they see is judged as a whole
		return p.New && (c.Hook == "input" || c.Hook == "prerouting" || c.Hook == "output")
	case c.Family != "inet" && c.Family != "netdev" && c.Family != family:
		return false
	case c.Type == "nat" && !p.New:
		return false
	}
	return slices.Contains(hooks, c.Hook)
}

// ends are those that a packet can come to in a chain: where something cannot be reported, several.
type fate int

const (
	accepted fate = 1 << iota
	dropped
	goesOn  // after the last rule, or by a return
	altered // it goes on as another packet, or to somewhere else
)

// walk follows a packet through the chains of one base chain.
type walk struct {
	*ruleset
	base    chain
	packet  Packet
	ends    Ends
	tracked answer // whether conntrack sees it
	unsure  string // what could not be reported first
	marks   bool   // a mark may have been written
	steps   int    // rules that were looked at
}

// verdict is what a base chain does with the packet.
func (w *walk) verdict() Verdict {
	at := fmt.Sprintf("table %s %s, chain %s", w.base.Family, w.base.Table, w.base.Name)
	on := w.base.on(w.ends.Interface)
	if on == no {
		return Verdict{Kind: Lets}
	}
	fates := w.through(w.base.Name, 0)
	if fates&goesOn != 0 {
		fates &^= goesOn
		if w.base.Policy == "drop" {
			fates |= dropped
		} else {
			fates |= accepted
		}
	}
	if on == unknown && fates != accepted {
		w.note("the interface that it belongs to", 0)
		fates |= accepted | dropped
	}
	if (w.base.Family == "arp" || w.base.Family == "bridge") && fates != accepted {
		w.note("a filter of "+w.base.Family, 0)
		fates |= accepted | dropped
	}
	switch {
	case fates == accepted:
		return Verdict{Kind: Lets}
	case fates == dropped:
		return Verdict{Kind: Drops, What: w.packet.What, Where: at, Remedy: w.remedy()}
	}
	return Verdict{Kind: Unsure, What: w.packet.What, Where: at, Why: w.unsure}
}

// remedy is the rule that would let the packet through.
func (w *walk) remedy() string {
	if w.base.Family == "arp" || w.base.Family == "bridge" || w.base.Family == "netdev" {
		return ""
	}
	side, ports := "sport", w.packet.From
	if w.packet.In {
		side, ports = "dport", w.packet.To
	}
	return fmt.Sprintf("nft insert rule %s %s %s %s %s %s accept", w.base.Family, w.base.Table, w.base.Name,
		w.packet.Protocol, side, ports)
}

// note keeps what cannot be reported first, with its rule.
func (w *walk) note(what string, handle int) answer {
	if w.unsure == "" {
		w.unsure = what
		if handle > 0 {
			w.unsure += fmt.Sprintf(", handle %d", handle)
		}
	}
	return unknown
}

const (
	deepest  = 16
	maxSteps = 100_000
)

// through is what a chain comes to.
func (w *walk) through(name string, depth int) (all fate) {
	if depth > deepest {
		w.note("chains that lead to each other too deeply", 0)
		return accepted | dropped
	}
	for _, one := range w.rules[where{w.base.Family, w.base.Table, name}] {
		if w.steps++; w.steps > maxSteps {
			w.note("more rules than are looked at", 0)
			return accepted | dropped
		}
		holds, does, over := w.rule(one, depth)
		if holds == no {
			continue
		}
		all |= does &^ goesOn
		if over && does&goesOn != 0 { // a return, or the end of a chain that this one went to for good
			all |= goesOn
		}
		if holds == yes && over {
			return all
		}
	}
	return all | goesOn
}

// rule says whether a rule's matches hold, what it does with the packet, and whether the chain is over with that: not
// so after a jump that came back, or where there is no verdict.
func (w *walk) rule(r rule, depth int) (holds answer, does fate, over bool) {
	holds = yes
	for _, part := range r.Expr {
		for kind, raw := range part {
			switch kind {
			case "match":
				holds = min(holds, w.match(raw, r.Handle))
			case "accept", "drop", "reject", "return", "jump", "goto":
				if holds == no {
					return no, 0, false
				}
				does, over = w.outcome(kind, raw, depth)
			case "vmap":
				if holds == no {
					return no, 0, false
				}
				var decided answer
				decided, does, over = w.vmap(raw, r.Handle, depth)
				holds = min(holds, decided)
			case "dnat", "snat", "redirect", "masquerade", "tproxy", "queue", "fwd", "synproxy":
				if holds != no {
					w.note("a rule with "+kind, r.Handle)
					does, over = accepted|altered, true
				}
			case "notrack":
				if holds != no {
					w.tracked = unknown
				}
			case "mangle":
				if holds != no {
					w.mangle(raw, r.Handle)
				}
			case "counter",
				"log",
				"comment",
				"continue",
				"set",
				"ct helper",
				"dup",
				"last",
				"ct timeout",
				"ct expectation":
			default: // a limit, a quota, something of another program
				if holds != no {
					holds = min(holds, w.note("a rule with "+kind, r.Handle))
				}
			}
		}
	}
	if does == 0 && holds != no &&
		slices.ContainsFunc(r.Expr, func(part map[string]json.RawMessage) bool { return part["xt"] != nil }) {
		return unknown, accepted | dropped, true // a target of iptables may be hidden in it
	}
	return holds, does, over
}

// outcome is what one verdict does.
func (w *walk) outcome(kind string, raw json.RawMessage, depth int) (does fate, over bool) {
	switch kind {
	case "accept":
		return accepted, true
	case "drop", "reject":
		return dropped, true
	case "return":
		return goesOn, true
	}
	var to struct{ Target string }
	if json.Unmarshal(raw, &to) != nil {
		w.note("a jump", 0)
		return accepted | dropped, true
	}
	does = w.through(to.Target, depth+1)
	// A goto comes back to whoever jumped here; a jump goes on after it, unless every way there ends.
	return does, kind == "goto" || does&goesOn == 0
}

// mangle is a packet that is changed on its way: marks are not known from there on, and what it changes of addresses
// and ports makes it another packet.
func (w *walk) mangle(raw json.RawMessage, handle int) {
	w.marks = true
	var m struct {
		Key struct {
			Payload *struct{ Protocol, Field string } `json:"payload"`
		} `json:"key"`
	}
	if json.Unmarshal(raw, &m) == nil && m.Key.Payload != nil &&
		slices.Contains([]string{"saddr", "daddr", "sport", "dport", "protocol"}, m.Key.Payload.Field) {
		w.packet.Protocol = "" // nothing is known of it
		w.note("a rule that changes "+m.Key.Payload.Field, handle)
	}
}

// vmap is a map from values to verdicts.
func (w *walk) vmap(raw json.RawMessage, handle, depth int) (holds answer, does fate, over bool) {
	var m struct {
		Key  json.RawMessage
		Data json.RawMessage
	}
	if json.Unmarshal(raw, &m) != nil {
		return w.note("a map", handle), accepted | dropped, true
	}
	elements, known := w.members(m.Data)
	if !known {
		return w.note("a map", handle), accepted | dropped, true
	}
	over = true
	for _, element := range elements {
		var pair []json.RawMessage
		var verdict map[string]json.RawMessage
		if json.Unmarshal(element, &pair) != nil || len(pair) != 2 || json.Unmarshal(pair[1], &verdict) != nil {
			return w.note("a map", handle), accepted | dropped, true
		}
		ok := w.compare(m.Key, pair[0], handle)
		if ok == no {
			continue
		}
		holds = max(holds, ok)
		for kind, target := range verdict {
			if kind == "continue" {
				over = false
				continue
			}
			one, ends := w.outcome(kind, target, depth)
			does |= one
			over = over && ends
		}
		if ok == yes {
			return yes, does, over
		}
	}
	return holds, does, over
}
