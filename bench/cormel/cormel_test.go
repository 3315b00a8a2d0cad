package cormel

import (
	"bytes"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
)

func gateway(t *testing.T) *Gateway {
	t.Helper()
	g := New(Settings{
		Model:    "G2-4",
		HostName: "mare-gw1",
		Serial:   "CG2-1",
		Boot:     "2.1",
		Address:  netip.MustParsePrefix("192.0.2.41/24"),
	}, bench.NewLAN(true, 1))
	return g
}

func cargoOf(change func(*Cargo)) []byte {
	c := Cargo{Release: "7.6.1", Models: []string{"G2-4"}, Boot: "2.0", Licence: "7"}
	if change != nil {
		change(&c)
	}
	return MakeCargo(c, 5000)
}

// TestABankStartsOnlyWhatFits tries what a bank may hold.
func TestABankStartsOnlyWhatFits(t *testing.T) {
	flipped := cargoOf(nil)
	flipped[len(flipped)-1] ^= 1
	for name, c := range map[string]struct {
		data []byte
		why  string
	}{
		"nothing":             {nil, "empty"},
		"noise":               {[]byte("noise"), "not of this family"},
		"a flipped bit":       {flipped, "its digest does not match"},
		"half of it":          {cargoOf(nil)[:3000], "cut short"},
		"another model's":     {cargoOf(func(c *Cargo) { c.Models = []string{"G2-16"} }), "made for G2-16, this is G2-4"},
		"newer boot firmware": {cargoOf(func(c *Cargo) { c.Boot = "2.2" }), "wants boot firmware 2.2, this has 2.1"},
		"another licence":     {cargoOf(func(c *Cargo) { c.Licence = "8" }), "wants a licence for release 8"},
		"data it cannot read": {cargoOf(func(c *Cargo) { c.Release = "8.1.0" }), "cannot read data of form 1"},
		"what fits":           {cargoOf(nil), ""},
	} {
		g := gateway(t)
		g.Install("B", c.data)
		cargo, err := g.startable("B")
		if c.why == "" {
			require.NoError(t, err, name)
			assert.True(t, g.takeOver("B", cargo), "7.6 converts the data")
			assert.False(t, g.takeOver("B", cargo), "once")
			g.Install("A", cargoOf(func(c *Cargo) { c.Release = "8.1.0" }))
			_, err = g.startable("A")
			assert.NoError(t, err, "and 8 can read them then")
			continue
		}
		assert.ErrorContains(t, err, c.why, name)
	}
}

func TestLicencesAreForOneDevice(t *testing.T) {
	release, err := readLicence(MakeLicence("8", "CG2-1"), "CG2-1")
	require.NoError(t, err)
	assert.Equal(t, "8", release)
	_, err = readLicence(MakeLicence("8", "CG2-1"), "CG2-2")
	assert.ErrorContains(t, err, "it is for serial CG2-1")
	_, err = readLicence(bytes.Replace(MakeLicence("8", "CG2-1"), []byte("release: 8"), []byte("release: 9"), 1),
		"CG2-1")
	assert.ErrorContains(t, err, "its seal is broken")
	_, err = readLicence([]byte("hello"), "CG2-1")
	assert.ErrorContains(t, err, "not a licence")
}

func TestImagesAreTheSameEachTime(t *testing.T) {
	assert.Equal(t, cargoOf(nil), cargoOf(nil))
	assert.NotEqual(t, cargoOf(nil), cargoOf(func(c *Cargo) { c.Release = "7.6.2" }))
	c, err := readCargo(MakeCargo(Cargo{Release: "3.4", Card: "line"}, 100), cardMagic)
	require.NoError(t, err)
	assert.Equal(t, "line", c.Card)
	_, err = readCargo(cargoOf(nil), cardMagic)
	assert.Error(t, err, "an image is no card's firmware")
}
