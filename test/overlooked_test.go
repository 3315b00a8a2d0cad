package test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
	"pilotrix/core/shipped"
)

// TestARowThatIsNotUnderstoodIsNotOverlooked has devices say a word in their tables that nobody foresaw: a check that
// none is so would hold without that row.
func TestARowThatIsNotUnderstoodIsNotOverlooked(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ dialect, reading, head, good, bad string }{
		"a verdict of a dry run": {
			"tamsin-e8", "dry-run", "  part          effect         seconds  verdict  reason\n",
			"  system        is replaced    70       goes     -\n",
			"  uplink        restarts       35       forbids  -\n",
		},
		"a state of a unit": {
			"maskel-s24", "units", "  unit  model  ports  role  release  boot  state\n",
			"  1     S24    24     lead  3.2      2.1   here\n", "  2     S24    24     next  3.2      2.1   ailing\n",
		},
		"a bank without a release": {
			"cormel-g2", "banks", "  bank  state    release  bytes  next  stowed\n  room in the standby bank 100 B\n",
			"  A     running  7.4.2    1,000  yes   yes\n  B     standby  7.2.0    1,000  no    no\n",
			"  C     burnt    -        0      no    no\n",
		},
		"a card": {
			"cormel-g2", "cards", "  slot  card   firmware\n", "  1     trunk  3.1\n  2     line   -\n",
			"  3     line   ?\n",
		},
		"a layer": {
			"dunlin-n1", "layers", "  layer   release  state  brings\n",
			"  core    6.4      runs   -\n  board   2.1      runs   6.4\n  board takes 6.0 at the next restart\n",
			"  maps    -        torn   -\n",
		},
		"a system": {
			"tamsin-e8", "systems", "  release  packed  unpacked  running  lasting\n  trial: none\n",
			"  5.2      yes     yes       yes      yes\n", "  5.4      yes     half      no       no\n",
		},
		"an access point": {
			"orsel-c1", "points", "  point           model  release  state    percent  reason\n  2 points\n",
			"  ap-shed-01      P2     3.4      here     0        -\n  ap-shed-02      P2     3.4      here     0        -\n",
			"  ap-shed-03      P2     3.4      lost     0        -\n",
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d, err := shipped.Dialect(c.dialect)
			require.NoError(t, err)
			parse := func(output string) error {
				_, err := d.Reading(c.reading).Parse(output, "the command", time.Now(), &device.Facts{})
				return err
			}
			require.NoError(t, parse(c.head+c.good))
			assert.ErrorContains(t, parse(c.head+c.good+c.bad), "a line is no row that is understood: “")
		})
	}
}
