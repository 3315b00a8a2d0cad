package provision

import (
	"fmt"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhoIsMeantIsSaid(t *testing.T) {
	known, vendor, other := Client{
		MAC: "02:00:5e:10:00:01",
	}, Client{
		MAC:    "02:00:5e:10:00:02",
		Vendor: "Maskel S8",
	}, Client{
		MAC: "02:00:5e:10:00:03",
	}
	silent := Wanted{Only: []string{known.MAC}, Vendor: regexp.MustCompile("^Maskel")}
	assert.Equal(t, []Verdict{Served, Served, Ignored},
		[]Verdict{silent.Admit(known), silent.Admit(vendor), silent.Admit(other)})

	assert.Equal(t, Served, silent.Admit(Client{MAC: vendor.MAC}), "it leaves its class out of a later message")

	m := Wanted{Only: []string{known.MAC}, Ask: true}
	assert.Equal(t, Served, m.Admit(known))
	_, waits := m.Next()
	assert.False(t, waits, "nothing is asked about who is meant anyway")
	for range 3 { // it asks again and again, and is one
		assert.Equal(t, Undecided, m.Admit(vendor))
		assert.Equal(t, Undecided, m.Admit(other))
	}
	next, _ := m.Next()
	assert.Equal(t, vendor, next)
	m.Say(vendor, true)
	next, _ = m.Next()
	assert.Equal(t, other, next)
	m.Say(other, false)
	_, waits = m.Next()
	assert.False(t, waits)
	assert.Equal(t, Served, m.Admit(vendor))
	assert.Equal(t, Ignored, m.Admit(other))
}

func TestAFloodBuriesNoDeviceThatAsksOn(t *testing.T) {
	m := Wanted{Ask: true}
	device := Client{MAC: "02:00:5e:10:00:01"}
	for n := range 1000 {
		m.Admit(Client{MAC: fmt.Sprintf("02:00:5e:20:%02x:%02x", n/256, n%256)})
	}
	assert.Len(t, m.waits, maxWaiting)
	assert.Equal(t, Undecided, m.Admit(device))
	assert.Contains(t, m.waits, device)
	m.Say(device, true)
	assert.Equal(t, Served, m.Admit(device))
}
