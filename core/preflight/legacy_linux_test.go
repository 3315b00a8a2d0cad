package preflight

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/network/apart"
)

// TestTheOlderTablesAreLookedAt has a rule of theirs that nft does not print, in a network of its own.
func TestTheOlderTablesAreLookedAt(t *testing.T) {
	apart.Run(t, func(t *testing.T, _ apart.Elsewhere) {
		assert.Empty(t, legacyRule(t.Context()), "none is there")
		if out, err := exec.Command("iptables-legacy", "-L").CombinedOutput(); err != nil {
			t.Skipf("this kernel has no tables of that kind: %s", out)
		}
		assert.Empty(t, legacyRule(t.Context()), "they are there, and empty")
		apart.Says(t, "iptables-legacy", "-A", "INPUT", "-p", "udp", "--dport", "69", "-j", "DROP")
		assert.Equal(t, "-A INPUT -p udp -m udp --dport 69 -j DROP", legacyRule(t.Context()))
		apart.Says(t, "iptables-legacy", "-F")
		apart.Says(t, "iptables-legacy", "-P", "INPUT", "DROP")
		assert.Contains(t, legacyRule(t.Context()), ":INPUT DROP")
	}, apart.With{Tools: []string{"iptables-legacy"}})
}
