package device

import (
	"cmp"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// ordered are releases as makers write them, each line one train, the earliest first; those in one cell are the same.
var ordered = [][]string{
	{"1.9 v1.9 1.9.0 1.09", "1.10", "2.0-dev3", "2.0-alpha", "2.0-beta1", "2.0b-rc1 2.0.0b-rc1", "2.0b"},
	{
		"2.0-rc1 2.0.0-rc1 v2.0rc1", "2.0-rc2", "2.0-rc10", "2 2.0 2.0.0", "2.0-17",
		"2.0-18 2.0+18 2.0_18 2.0-build18 2.0 build 18", "2.0a", "2.0b", "2.0.0.5", "2.0.1", "2.0.10", "10.0",
	},
	{"7.4.2 v7.4.2 7.4.2.0 V7.4.2", "7.4.2-S2", "7.4.2-S10", "7.4.2.1", "7.4.3-rc1", "7.4.3"},
	{"4.2.1-rc2", "4.2.1", "4.2.1a", "4.2.1b", "4.2.1.1", "4.2.2"},
	{"12.3", "12.3(4)", "12.3(4)B5", "12.3(4)B12", "12.3(4)C", "12.3(5)", "12.4"},
	{"5.1", "5.1-hotfix1", "5.1SP1 5.1 SP1 5.1-sp1", "5.1SP2", "5.2"},
	{"Q.15.08", "Q.15.09", "Q.15.10", "Q.16"},
	{"X80.40", "X80.41", "X81"},
	{"2026.03", "2026.10", "20260301123456789012345678901", "20260301123456789012345678902"},
	{"0 0.0", "0.1", "0.1.1"},
}

func release(t require.TestingT, text string) Release {
	r, err := ParseRelease(text)
	require.NoError(t, err)
	return r
}

func sign(n int) int { return max(-1, min(1, n)) }

func TestReleasesAreOrderedAsTheTradeWritesThem(t *testing.T) {
	for _, train := range ordered {
		var all []Release
		var place []int
		for n, same := range train {
			for _, text := range strings.Split(strings.ReplaceAll(strings.ReplaceAll(same, " build ", "~build~"), " SP",
				"~SP"), " ") {
				all, place = append(all, release(t, strings.ReplaceAll(text, "~", " "))), append(place, n)
			}
		}
		for i := range all {
			for j := range all {
				assert.Equal(t, cmp.Compare(place[i], place[j]), sign(all[i].Compare(all[j])), "%s against %s", all[i],
					all[j])
			}
		}
	}
	for _, bad := range []string{"", "latest", "-1", ".1", "release", "verylongtrain1.2", strings.Repeat("1.", 100)} {
		_, err := ParseRelease(bad)
		assert.Error(t, err, bad)
	}
	for text, pre := range map[string]bool{"2.0-rc1": true, "2.0beta": true, "2.0": false, "2.0a": false, "2.0-17": false, "2.0-S2": false} {
		assert.Equal(t, pre, release(t, text).Pre(), text)
	}
}

// TestTheOrderOfReleasesIsTotal draws releases of all kinds of parts: of any three, none lies before and behind
// another.
func TestTheOrderOfReleasesIsTotal(t *testing.T) {
	part := rapid.SampledFrom([]string{
		"0", "1", "2", "10", "00", ".", "-", "(", ")", "+", " ", "_", "a", "b", "rc", "beta", "dev", "SP", "build",
		"hotfix", "x",
	})
	text := rapid.Custom(func(t *rapid.T) string {
		return rapid.SampledFrom([]string{"", "v", "Q.", "X"}).
			Draw(t, "train") +
			"1" + strings.Join(rapid.SliceOfN(part, 0, 8).Draw(t, "parts"), "")
	})
	rapid.Check(t, func(t *rapid.T) {
		a, b, c := release(t, text.Draw(t, "a")), release(t, text.Draw(t, "b")), release(t, text.Draw(t, "c"))
		require.Zero(t, a.Compare(a))
		require.Equal(t, -sign(a.Compare(b)), sign(b.Compare(a)), "%s and %s", a, b)
		if a.Compare(b) <= 0 && b.Compare(c) <= 0 {
			require.LessOrEqual(t, a.Compare(c), 0, "%s ≤ %s ≤ %s", a, b, c)
		}
		if a.Compare(b) == 0 {
			require.Equal(t, sign(a.Compare(c)), sign(b.Compare(c)), "%s is %s, against %s", a, b, c)
		}
	})
}

func FuzzRelease(f *testing.F) {
	for _, train := range ordered {
		for _, same := range train {
			f.Add(same, train[0])
		}
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		x, err := ParseRelease(a)
		y, bad := ParseRelease(b)
		if err == nil && bad == nil && sign(x.Compare(y)) != -sign(y.Compare(x)) {
			t.Fatalf("%q and %q are each before the other", a, b)
		}
	})
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
	for name, c := range map[string]struct {
		order   *Order
		ordered []string
	}{
		"words": {NewOrder([]string{"EA"}, []string{"pre", "SP"},
			nil), []string{"4.2-ea1", "4.2-rc1", "4.2", "4.2pre1", "4.2pre2", "4.2-sp1", "4.2.1"}},
		"pattern": {NewOrder(nil, nil, regexp.MustCompile(`^\w+-(.+)$`)), []string{"b9-1.9", "a1-1.10", "c0-2.0"}},
	} {
		for i := range c.ordered {
			for j := range c.ordered {
				a, err := c.order.Parse(c.ordered[i])
				require.NoError(t, err, name)
				b, err := c.order.Parse(c.ordered[j])
				require.NoError(t, err, name)
				assert.Equal(t, sign(i-j), sign(a.Compare(b)), "%s against %s", a, b)
			}
		}
	}
	order := NewOrder([]string{"ea"}, nil, nil)
	early, err := order.Parse("4.2-ea1")
	require.NoError(t, err)
	assert.Positive(t, release(t, "4.2").Compare(early), "one that was told without the order takes the other's")
	_, err = NewOrder(nil, nil, regexp.MustCompile(`^tern-(.+)$`)).Parse("lark-1.2")
	assert.ErrorContains(t, err, `want one that ^tern-(.+)$ finds`)
}
