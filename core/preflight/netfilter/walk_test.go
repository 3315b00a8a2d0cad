package netfilter

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var between = Ends{netip.MustParseAddr("192.0.2.10"), netip.MustParseAddr("192.0.2.41"), "eth0"}

func object(kind, text string) string { return `{"` + kind + `":` + text + `}` }

func inChain(hook, policy string) string {
	return object("chain",
		fmt.Sprintf(`{"family":"inet","table":"f","name":"%s","type":"filter","hook":"%s","prio":0,"policy":"%s"}`,
			hook, hook, policy))
}

func inRule(chain, expr string) string {
	return object("rule", fmt.Sprintf(`{"family":"inet","table":"f","chain":"%s","handle":9,"expr":[%s]}`, chain, expr))
}

func field(protocol, name, right string) string {
	return object("match",
		fmt.Sprintf(`{"op":"==","left":{"payload":{"protocol":"%s","field":"%s"}},"right":%s}`, protocol, name, right))
}

func judged(t *testing.T, protocol string, objects ...string) Verdict {
	t.Helper()
	by := map[string]struct {
		talk Talk
		port uint16
	}{"tftp": {OwnPorts, 69}, "http": {OneConnection, 80}, "ftp": {DataEitherWay, 21}}[protocol]
	v, err := Judge([]byte(`{"nftables":[`+strings.Join(objects, ",")+`]}`),
		by.talk.Conversation(by.port, between, Ports{32768, 60999}))
	require.NoError(t, err)
	return v
}

const (
	accept = `{"accept":null}`
	drop   = `{"drop":null}`
)

func ctState(words string) string {
	return object("match", `{"op":"in","left":{"ct":{"key":"state"}},"right":`+words+`}`)
}

// TestTheWholeConversationIsJudged has rules that let the first packet through, and something else not.
func TestTheWholeConversationIsJudged(t *testing.T) {
	request, established := field("udp", "dport", "69")+","+accept, ctState(`["established","related"]`)+","+accept
	for name, c := range map[string]struct {
		protocol, kind, what string
		objects              []string
	}{
		"no rule at all": {"tftp", Lets, "", nil},
		"the request alone": {"tftp", Drops, "its acknowledgements", []string{inChain("input",
			"drop"), inRule("input", request)}},
		"the request and what follows": {"tftp", Lets, "", []string{inChain("input",
			"drop"), inRule("input", request), inRule("input", established)}},
		"our blocks are of a new kind": {"tftp", Drops, "our blocks", []string{inChain("output",
			"drop"), inRule("output", established)}},
		"http's answers are not": {"http", Lets, "", []string{inChain("output",
			"drop"), inRule("output", established)}},
		"ftp both ways": {"ftp", Lets, "", []string{inChain("input",
			"drop"), inRule("input", field("tcp", "dport", `{"set":[21,{"range":[32768,60999]}]}`)+","+accept)}},
		"ftp one way only": {"ftp", Unsure, "its data connection", []string{inChain("input",
			"drop"), inRule("input", field("tcp", "dport", "21")+","+accept), inRule("input", established)}},
		"some of the high ports": {"tftp", Unsure, "its acknowledgements", []string{inChain("input",
			"drop"), inRule("input",
			request), inRule("input", field("udp", "dport", `{"range":[40000,50000]}`)+","+accept)}},
		"before the filter": {"tftp", Drops, "its request", []string{inChain("prerouting",
			"accept"), inRule("prerouting", field("udp", "dport", "69")+","+drop)}},
		"a goto comes back to the policy": {"tftp", Drops, "its request", []string{inChain("input",
			"drop"), inRule("input",
			`{"goto":{"target":"own"}}`), inRule("input",
			accept), inRule("own", field("udp", "dport", "53")+","+accept)}},
		"a jump comes back to the rules": {"tftp", Lets, "", []string{inChain("input",
			"drop"), inRule("input",
			`{"jump":{"target":"own"}}`), inRule("input",
			accept), inRule("own", field("udp", "dport", "53")+","+drop)}},
		"a return in the base chain": {"tftp", Drops, "its request", []string{inChain("input",
			"drop"), inRule("input", `{"return":null}`), inRule("input", accept)}},
		"a helper may know what follows": {"tftp", Unsure, "our blocks", []string{object("ct helper",
			`{"family":"inet","table":"f","name":"x"}`), inChain("output",
			"drop"), inRule("output", ctState(`["new"]`)+","+accept)}},
		"another address behind it": {"http", Unsure, "its connection", []string{object("chain",
			`{"family":"ip","table":"n","name":"pre","type":"nat","hook":"prerouting","prio":-100}`), object("rule",
			`{"family":"ip","table":"n","chain":"pre","expr":[`+field("tcp", "dport",
				"80")+`,{"redirect":{"port":8080}}]}`)}},
		"another port behind it": {"http", Lets, "", []string{object("chain",
			`{"family":"ip","table":"n","name":"pre","type":"nat","hook":"prerouting","prio":-100}`), object("rule",
			`{"family":"ip","table":"n","chain":"pre","expr":[`+field("tcp", "dport",
				"81")+`,{"redirect":{"port":8080}}]}`)}},
		"not seen by conntrack": {"http", Unsure, "its connection", []string{inChain("prerouting",
			"accept"), inRule("prerouting",
			`{"notrack":null}`), inChain("input",
			"drop"), inRule("input", ctState(`["new","established"]`)+","+accept)}},
		"another program's rule": {"tftp", Unsure, "its request", []string{inChain("input",
			"accept"), inRule("input", `{"xt":{"type":"target","name":"REJECT"}}`)}},
		"a kind that nobody knows": {"tftp", Unsure, "its request", []string{inChain("input",
			"accept"), inRule("input", `{"newfangled":{}},`+drop)}},
		"a set that changes": {"tftp", Unsure, "its request", []string{object("set",
			`{"family":"inet","table":"f","name":"s","flags":["dynamic"]}`), inChain("input",
			"drop"), inRule("input", field("ip", "saddr", `"@s"`)+","+accept)}},
		"a set that has it": {"tftp", Lets, "", []string{object("set",
			`{"family":"inet","table":"f","name":"s","elem":["192.0.2.9",{"prefix":{"addr":"192.0.2.40","len":30}}]}`), inChain("input", "drop"), inRule("input", field("ip", "saddr", `"@s"`)+","+accept)}},
		"a map that decides": {"tftp", Drops, "its request", []string{inChain("input",
			"accept"), inRule("input",
			`{"vmap":{"key":{"payload":{"protocol":"udp","field":"dport"}},"data":{"set":[[53,`+accept+`],[69,`+drop+`]]}}}`)}},
		"another interface": {"tftp", Lets, "", []string{inChain("input",
			"accept"), inRule("input",
			object("match", `{"op":"==","left":{"meta":{"key":"iifname"}},"right":"eth1"}`)+","+drop)}},
		"this interface, by a star": {"tftp", Drops, "its request", []string{inChain("input",
			"accept"), inRule("input",
			object("match", `{"op":"==","left":{"meta":{"key":"iifname"}},"right":"eth*"}`)+","+drop)}},
		"a filter of bridges": {"tftp", Unsure, "its request", []string{object("chain",
			`{"family":"bridge","table":"b","name":"in","type":"filter","hook":"input","prio":0,"policy":"drop"}`)}},
		"packets that pass by": {"tftp", Unsure, "its request", []string{object("flowtable",
			`{"family":"inet","table":"f","name":"fast"}`)}},
		"a limit that may let it through": {"tftp", Unsure, "its request", []string{inChain("input",
			"drop"), inRule("input", `{"limit":{"rate":1}},`+accept)}},
		"a limit, and it goes on as before": {"tftp", Lets, "", []string{inChain("input",
			"accept"), inRule("input", `{"limit":{"rate":1}},`+accept)}},
		"chains that lead to each other": {"tftp", Unsure, "its request", []string{inChain("input",
			"accept"), inRule("input", `{"jump":{"target":"own"}}`), inRule("own", `{"jump":{"target":"own"}}`)}},
	} {
		v := judged(t, c.protocol, c.objects...)
		assert.Equal(t, c.kind, v.Kind, "%s: %+v", name, v)
		assert.Equal(t, c.what, v.What, name)
		assert.Equal(t, c.kind == Unsure, v.Why != "", "%s: %+v", name, v)
	}
	unknown := between
	unknown.Device, unknown.Interface = netip.Addr{}, ""
	rules := `{"nftables":[` + inChain("input", "drop") + "," + inRule("input",
		field("ip", "saddr", `"192.0.2.41"`)+","+accept) + `]}`
	v, err := Judge([]byte(rules), OwnPorts.Conversation(69, unknown, Ports{32768, 60999}))
	require.NoError(t, err)
	assert.Equal(t, Unsure, v.Kind, "the device's address is not known")
}

// FuzzJudge looks for rules that make it fail, or say nothing.
func FuzzJudge(f *testing.F) {
	f.Add(`{"nftables":[` + inChain("input",
		"drop") + "," + inRule("input", field("udp", "dport", "69")+","+accept) + `]}`)
	f.Add(`{"nftables":[` + inChain("input",
		"drop") + "," + inRule("input", `{"vmap":{"key":{"ct":{"key":"state"}},"data":"@m"}}`) + `]}`)
	f.Fuzz(func(t *testing.T, rules string) {
		for _, talk := range []Talk{OwnPorts, DataEitherWay} {
			v, err := Judge([]byte(rules), talk.Conversation(69, between, Ports{32768, 60999}))
			if err == nil && v.Kind != Lets && v.Kind != Drops && v.Kind != Unsure {
				t.Fatalf("%+v", v)
			}
		}
	})
}
