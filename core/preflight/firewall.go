package preflight

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"pilotrix/core/plain"
	"pilotrix/core/preflight/netfilter"
)

const firewallTime = 3 * time.Second

// firewall reads the laptop's own packet filter, where there is one of Linux and this user may, and judges the whole
// conversation. What cannot be read or reported is said, and held for open: the fetch before has shown that the server
// answers here.
func (p Plan) firewall(ctx context.Context) Result {
	limited, cancel := context.WithTimeout(ctx, firewallTime)
	defer cancel()
	nft, err := exec.LookPath("nft")
	if err != nil {
		if legacy := legacyRule(limited); legacy != "" {
			return unreadTables(legacy)
		}
		return Result{}
	}
	rules, err := exec.CommandContext(limited, nft, "-j", "list", "ruleset").Output()
	if err != nil {
		return Result{
			"firewall", true,
			"this user may not read the laptop's packet filter; whether it lets the device in shows when it fetches",
			"",
		}
	}
	return readFirewall(rules, p.conversation(), legacyRule(limited))
}

// conversation is what goes back and forward when the device fetches.
func (p Plan) conversation() netfilter.Conversation {
	ends := netfilter.Ends{Here: p.At.Addr(), Device: p.Device.Addr()}
	if all, err := p.Network.Interfaces(); err == nil {
		for _, one := range all {
			if one.Prefix.Addr() == ends.Here {
				ends.Interface = one.Name
			}
		}
	}
	return p.Carrier.Talk.Conversation(p.At.Port(), ends, highPorts())
}

// highPorts are those from which the system lets programs send that name none (ip(7)).
func highPorts() netfilter.Ports {
	high := netfilter.Ports{First: 32768, Last: 60999}
	if data, err := os.ReadFile("/proc/sys/net/ipv4/ip_local_port_range"); err == nil {
		_, _ = fmt.Sscan(string(data), &high.First, &high.Last)
	}
	return high
}

// legacyRule is the first rule, or policy, of the older kind of tables that may keep something away; empty for none.
// These are no part of what nft prints.
func legacyRule(ctx context.Context) string {
	for _, names := range []struct{ list, tool string }{{"/proc/net/ip_tables_names", "iptables-legacy-save"}, {"/proc/net/ip6_tables_names", "ip6tables-legacy-save"}} {
		tables, err := os.ReadFile(names.list)
		if err != nil || len(strings.TrimSpace(string(tables))) == 0 {
			continue
		}
		out, err := exec.CommandContext(ctx, names.tool).Output()
		if err != nil {
			return "tables " + strings.Join(strings.Fields(string(tables)), ", ") + ", which cannot be read"
		}
		for line := range strings.Lines(string(out)) {
			line = strings.TrimSpace(line)
			if strings.HasPrefix(line, "-A ") || strings.HasPrefix(line, ":") && strings.Contains(line, " DROP ") {
				return plain.Clip(line, maxRule)
			}
		}
	}
	return ""
}

const maxRule = 100 // bytes of a rule that are shown

func readFirewall(rules []byte, c netfilter.Conversation, legacy string) Result {
	verdict, err := netfilter.Judge(rules, c)
	switch {
	case err != nil:
		return Result{
			"firewall", true,
			"the laptop's packet filter could not be understood; whether it lets the device in shows when it fetches",
			"",
		}
	case verdict.Kind == netfilter.Drops:
		remedy := "change that rule, or its policy, for the time of the transfer"
		if verdict.Remedy != "" {
			remedy = "as root: " + verdict.Remedy
		}
		return Result{
			"firewall",
			false,
			fmt.Sprintf("this laptop's packet filter drops %s (%s)", verdict.What, verdict.Where),
			remedy,
		}
	case verdict.Kind == netfilter.Unsure:
		return Result{
			"firewall",
			true,
			fmt.Sprintf("cannot tell whether this laptop's packet filter lets %s through (%s: %s); it shows when the device fetches",
				verdict.What, verdict.Where, plain.Text(verdict.Why)),
			"",
		}
	case legacy != "":
		return unreadTables(legacy)
	}
	return Result{
		"firewall",
		true,
		"the laptop's packet filter lets the whole conversation through: " + packetsOf(c),
		"",
	}
}

func unreadTables(rule string) Result {
	return Result{
		"firewall",
		true,
		"cannot tell whether this laptop's packet filter lets the device in: tables of the older kind (iptables-legacy) have rules: " + rule + "; it shows when the device fetches",
		"",
	}
}

// packetsOf are the packets of a conversation in words.
func packetsOf(c netfilter.Conversation) string {
	var all []string
	for _, way := range c.Ways {
		for _, p := range way {
			if !strings.Contains(strings.Join(all, "\n")+"\n", p.What+"\n") {
				all = append(all, p.What)
			}
		}
	}
	return strings.Join(all, ", ")
}
