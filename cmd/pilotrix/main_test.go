package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestAwkwardStandsAloneOrBeforeItsSwitches keeps what follows the flag from being taken for its value.
func TestAwkwardStandsAloneOrBeforeItsSwitches(t *testing.T) {
	for given, want := range map[string]string{
		"demo --awkward":                       "demo --awkward",
		"demo --awkward bank-upgrade":          "demo --awkward bank-upgrade",
		"demo --awkward --headless":            "demo --awkward --headless",
		"bench hollow-rtr1 --awkward noise":    "bench hollow-rtr1 --awkward=noise",
		"bench x --awkward noise,pager --seed": "bench x --awkward=noise,pager --seed",
		"bench x --awkward noise,pagr":         "bench x --awkward=noise,pagr",
		"bench x --awkward=pager y":            "bench x --awkward=pager y",
	} {
		assert.Equal(t, want, strings.Join(joinAwkward(strings.Fields(given)), " "))
	}
}
