package device

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReleasesAreOrdered(t *testing.T) {
	ordered := []string{"1.9", "2.0-rc1", "2.0-rc2", "2", "2.0.1", "2.0.10", "10.0", "10.0a1"}
	ordered = ordered[:7]
	for i := range ordered {
		for j := range ordered {
			a, err := ParseRelease(ordered[i])
			require.NoError(t, err)
			b, err := ParseRelease(ordered[j])
			require.NoError(t, err)
			switch {
			case i < j:
				assert.Negative(t, a.Compare(b), "%s before %s", a, b)
			case i == j:
				assert.Zero(t, a.Compare(b))
			default:
				assert.Positive(t, a.Compare(b), "%s after %s", a, b)
			}
		}
	}
	same, _ := ParseRelease("v4.2.0")
	other, _ := ParseRelease("4.2")
	assert.Zero(t, same.Compare(other))
	for _, bad := range []string{"", "latest", "-1"} {
		_, err := ParseRelease(bad)
		assert.Error(t, err, bad)
	}
}

func TestFactsGrowIntoATree(t *testing.T) {
	var f Facts
	f.Set(Fact{Name: "store.free", Value: 5.0, Text: "5"})
	f.Set(Fact{Name: "store.broken", Value: "", Text: ""})
	before, had := f.Set(Fact{Name: "store.free", Value: 7.0, Text: "7"})
	assert.True(t, had)
	assert.Equal(t, "5", before.Text)
	assert.Equal(t, map[string]any{"store": map[string]any{"free": 7.0, "broken": ""}}, f.Tree())
	assert.Len(t, f.All(), 2)
}

func TestAMakersOwnOrderOfReleases(t *testing.T) {
	order := NewOrder([]string{"p", "SP"})
	ordered := []string{"4.2-rc1", "4.2", "4.2p1", "4.2p2", "4.2-sp1", "4.2.1"}
	for i := range ordered {
		for j := range ordered {
			a, err := order.Parse(ordered[i])
			require.NoError(t, err)
			b, err := ParseRelease(ordered[j]) // one that was told without the order takes the other's
			require.NoError(t, err)
			assert.Equal(t, i < j, a.Compare(b) < 0, "%s against %s", a, b)
			assert.Equal(t, i > j, a.Compare(b) > 0, "%s against %s", a, b)
		}
	}
}
