package netfilter

import (
	"encoding/json"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// answer is whether something is so.
type answer int

const (
	no answer = iota
	unknown
	yes
)

func answerOf(ok bool) answer {
	if ok {
		return yes
	}
	return no
}

type match struct {
	Op          string
	Left, Right json.RawMessage
}

func (w *walk) match(raw json.RawMessage, handle int) answer {
	var m match
	if json.Unmarshal(raw, &m) != nil {
		return w.note("an expression", handle)
	}
	if w.value(m.Left).kind == ofNothing { // a rule that speaks of another kind of packet is none for this one, whatever it says of it
		return no
	}
	switch m.Op {
	case "", "==", "in":
		return w.compare(m.Left, m.Right, handle)
	case "!=":
		return yes - w.compare(m.Left, m.Right, handle)
	case "<", ">", "<=", ">=":
		if v := w.value(m.Left); v.kind == ofPorts {
			return w.ordered(m.Op, v.ports, m.Right, handle)
		}
	}
	return w.note("a comparison by "+m.Op, handle)
}

// value is what a packet has at the left of a comparison.
type value struct {
	kind  int
	words []string // any of these names is it; none where it has no such thing
	ports Ports
	addr  netip.Addr
	what  string // in words, where it is not known
}

const (
	notKnown = iota
	ofText
	ofPorts
	ofAddress
	ofNothing // the packet has no such thing: nothing is it
)

func words(all ...string) value { return value{kind: ofText, words: all} }

// left is the left side of a comparison, or the key of a map.
type left struct {
	Payload *struct{ Protocol, Field string } `json:"payload"`
	Meta    *struct{ Key string }             `json:"meta"`
	CT      *struct{ Key, Dir string }        `json:"ct"`
	Fib     *struct {
		Result string
		Flags  json.RawMessage
	} `json:"fib"`
}

func (w *walk) value(raw json.RawMessage) value {
	var l left
	if json.Unmarshal(raw, &l) != nil {
		return value{what: "an expression"}
	}
	p := w.packet
	if p.Protocol == "" {
		return value{what: "a packet that was changed before"}
	}
	switch {
	case l.Payload != nil:
		return w.payload(l.Payload.Protocol, l.Payload.Field)
	case l.Meta != nil:
		return w.meta(l.Meta.Key)
	case l.CT != nil && l.CT.Dir == "":
		return w.conntrack(l.CT.Key)
	case l.Fib != nil && l.Fib.Result == "type" && p.In && flagsAre(l.Fib.Flags, "daddr"):
		return words("local", "2")
	}
	return value{what: "something else than ports, addresses, interfaces and states"}
}

func flagsAre(raw json.RawMessage, want string) bool {
	var one string
	var many []string
	return json.Unmarshal(raw, &one) == nil && one == want ||
		json.Unmarshal(raw, &many) == nil && len(many) == 1 && many[0] == want
}

func (w *walk) payload(protocol, field string) value {
	p := w.packet
	transport := protocol == "th" || protocol == p.Protocol
	from, to := w.ends.Device, w.ends.Here
	if !p.In {
		from, to = to, from
	}
	six := w.ends.Here.Is6()
	switch {
	case slices.Contains(
		[]string{"tcp", "udp", "udplite", "sctp", "dccp", "icmp", "icmpv6", "igmp", "esp", "ah", "comp"},
		protocol) && protocol != p.Protocol:
		return value{kind: ofNothing}
	case protocol == "ip" && six || protocol == "ip6" && !six || protocol == "arp":
		return value{kind: ofNothing}
	case transport && field == "dport":
		return value{kind: ofPorts, ports: p.To}
	case transport && field == "sport":
		return value{kind: ofPorts, ports: p.From}
	case field == "saddr" && (protocol == "ip" || protocol == "ip6"):
		return value{kind: ofAddress, addr: from, what: "the device's address"}
	case field == "daddr" && (protocol == "ip" || protocol == "ip6"):
		return value{kind: ofAddress, addr: to, what: "the device's address"}
	case field == "protocol" && protocol == "ip", field == "nexthdr" && protocol == "ip6":
		return words(p.Protocol, numbers[p.Protocol])
	}
	return value{what: protocol + " " + field}
}

var numbers = map[string]string{"udp": "17", "tcp": "6"}

func (w *walk) meta(key string) value {
	p, six := w.packet, w.ends.Here.Is6()
	here := func(mine bool) value {
		switch {
		case !mine:
			return words("")
		case w.ends.Interface == "":
			return value{what: "the interface"}
		}
		return words(w.ends.Interface)
	}
	pick := func(ok bool, four, other []string) value {
		if ok {
			return words(other...)
		}
		return words(four...)
	}
	switch key {
	case "l4proto":
		return words(p.Protocol, numbers[p.Protocol])
	case "nfproto":
		return pick(six, []string{"ipv4", "2"}, []string{"ipv6", "10"})
	case "protocol":
		return pick(six, []string{"ip", "2048", "0x0800"}, []string{"ip6", "34525", "0x86dd"})
	case "iifname", "iif":
		return here(p.In)
	case "oifname", "oif":
		return here(!p.In)
	case "mark":
		if !w.ruleset.marks && !w.marks {
			return words("0", "0x0", "0x00000000")
		}
	case "pkttype":
		if p.In {
			return words("host", "unicast")
		}
	}
	return value{what: "meta " + key}
}

func (w *walk) conntrack(key string) value {
	p := w.packet
	switch {
	case w.tracked != yes:
		return value{what: "what conntrack does not see"}
	case key == "state" && p.Follows && w.helpers:
		return value{what: "what a helper of conntrack knows"}
	case key == "state" && p.New:
		return words("new")
	case key == "state":
		return words("established")
	case key == "direction" && p.Reply:
		return words("reply", "1")
	case key == "direction":
		return words("original", "0")
	}
	return value{what: "ct " + key}
}

// members are the elements of a set or map that stands here or has a name. Known is false where the kernel may have
// others.
func (w *walk) members(raw json.RawMessage) (all []json.RawMessage, known bool) {
	var name string
	if json.Unmarshal(raw, &name) == nil && strings.HasPrefix(name, "@") {
		set, there := w.sets[where{w.base.Family, w.base.Table, name[1:]}]
		dynamic := slices.ContainsFunc(set.Flags,
			func(flag string) bool { return flag == "dynamic" || flag == "timeout" })
		return set.Elem, there && !dynamic
	}
	if json.Unmarshal(raw, &all) == nil {
		return all, true
	}
	var set struct{ Set json.RawMessage }
	if json.Unmarshal(raw, &set) == nil && set.Set != nil {
		return w.members(set.Set)
	}
	return []json.RawMessage{raw}, true
}

// compare says whether what is on the left is one of what is on the right.
func (w *walk) compare(leftSide, right json.RawMessage, handle int) answer {
	v := w.value(leftSide)
	switch {
	case v.kind == ofNothing:
		return no
	case v.kind == notKnown, v.kind == ofAddress && !v.addr.IsValid():
		return w.note(v.what, handle)
	}
	elements, known := w.members(right)
	if !known {
		return w.note("a set that changes", handle)
	}
	best := no
	for _, element := range elements {
		var wrapped struct {
			Elem *struct{ Val json.RawMessage }
		}
		if json.Unmarshal(element, &wrapped) == nil && wrapped.Elem != nil {
			element = wrapped.Elem.Val
		}
		best = max(best, w.is(v, element, handle))
	}
	return best
}

// is says whether a value is one element.
func (w *walk) is(v value, element json.RawMessage, handle int) answer {
	var shape struct {
		Range  []json.RawMessage
		Prefix *struct {
			Addr string
			Len  int
		}
	}
	_ = json.Unmarshal(element, &shape)
	text, plain := plainText(element)
	switch {
	case plain && text == "*" && v.kind != ofText:
		return yes
	case v.kind == ofText && plain:
		return answerOf(slices.ContainsFunc(v.words, func(word string) bool { return wordIs(text, word) }))
	case v.kind == ofPorts && plain:
		if port, err := strconv.ParseUint(text, 10, 16); err == nil {
			return w.some(v.ports.within(uint16(port), uint16(port)), v, handle)
		}
	case v.kind == ofPorts && len(shape.Range) == 2:
		low, lowOK := plainText(shape.Range[0])
		high, highOK := plainText(shape.Range[1])
		first, err := strconv.ParseUint(low, 10, 16)
		last, bad := strconv.ParseUint(high, 10, 16)
		if lowOK && highOK && err == nil && bad == nil {
			return w.some(v.ports.within(uint16(first), uint16(last)), v, handle)
		}
	case v.kind == ofAddress && plain:
		if one, err := netip.ParseAddr(text); err == nil {
			return answerOf(one == v.addr)
		}
	case v.kind == ofAddress && shape.Prefix != nil:
		if base, err := netip.ParseAddr(shape.Prefix.Addr); err == nil {
			return answerOf(netip.PrefixFrom(base, shape.Prefix.Len).Masked().Contains(v.addr))
		}
	case v.kind == ofAddress && len(shape.Range) == 2:
		low, _ := plainText(shape.Range[0])
		high, _ := plainText(shape.Range[1])
		first, err := netip.ParseAddr(low)
		last, bad := netip.ParseAddr(high)
		if err == nil && bad == nil {
			return answerOf(first.Compare(v.addr) <= 0 && v.addr.Compare(last) <= 0)
		}
	}
	return w.note("an expression", handle)
}

// some notes that only some of the ports are meant.
func (w *walk) some(ok answer, v value, handle int) answer {
	if ok == unknown {
		w.note("a rule for some of the ports "+v.ports.String(), handle)
	}
	return ok
}

// wordIs holds a word to one of a rule, which may end in a star that stands for anything.
func wordIs(pattern, word string) bool {
	if start, ok := strings.CutSuffix(pattern, "*"); ok && !strings.HasSuffix(start, `\`) {
		return strings.HasPrefix(word, start)
	}
	return pattern == word
}

func plainText(raw json.RawMessage) (string, bool) {
	var text string
	if json.Unmarshal(raw, &text) == nil {
		return text, true
	}
	var number json.Number
	if json.Unmarshal(raw, &number) == nil {
		return number.String(), true
	}
	return "", false
}

// within says whether each of the ports, none, or some of them are among others.
func (p Ports) within(first, last uint16) answer {
	switch {
	case first <= p.First && p.Last <= last:
		return yes
	case last < p.First || p.Last < first:
		return no
	}
	return unknown
}

func (w *walk) ordered(op string, p Ports, right json.RawMessage, handle int) answer {
	text, plain := plainText(right)
	n, err := strconv.ParseUint(text, 10, 16)
	if !plain || err != nil {
		return w.note("a comparison by "+op, handle)
	}
	port := uint16(n)
	switch {
	case op == "<" && port == 0, op == ">" && port == 65535:
		return no
	}
	low, high := uint16(0), uint16(65535)
	switch op {
	case "<":
		high = port - 1
	case "<=":
		high = port
	case ">":
		low = port + 1
	default:
		low = port
	}
	return w.some(p.within(low, high), value{ports: p}, handle)
}
