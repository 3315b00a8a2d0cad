package shipped

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEverythingThatShipsLoads(t *testing.T) {
	for _, name := range DialectNames() {
		_, err := Dialect(name)
		require.NoError(t, err)
	}
	for _, name := range RunbookNames() {
		_, err := Runbook(name)
		require.NoError(t, err)
	}
	for _, name := range UpgradePathsNames() {
		_, err := UpgradePaths(name)
		require.NoError(t, err)
	}
}

func TestUnknownNamesListWhatThereIs(t *testing.T) {
	_, err := Dialect("nosuch")
	require.ErrorContains(t, err, "brindle-r40")
	_, err = Runbook("nosuch")
	require.ErrorContains(t, err, "rescue-over-serial")
	_, err = Dialect("no/such.yaml")
	require.ErrorContains(t, err, "no/such.yaml")
}
