package demo

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/runbook"
)

func TestEverythingThatShipsLoads(t *testing.T) {
	for _, name := range Dialects() {
		_, err := LoadDialect(name)
		require.NoError(t, err)
	}
	for _, name := range Runbooks() {
		_, err := LoadRunbook(name)
		require.NoError(t, err)
	}
	for _, scene := range Scenes() {
		scene, err := FindScene(scene.Name, t.TempDir())
		require.NoError(t, err)
		book, err := LoadRunbook(scene.Runbook)
		require.NoError(t, err)
		d, err := LoadDialect(places[scene.Place].Dialect)
		require.NoError(t, err)
		prepared, err := book.Prepare(d, scene.Inputs, runbook.Kit{})
		require.NoError(t, err)
		require.NotEmpty(t, prepared.Plan(&device.Facts{}).Steps)
	}
}

func TestUnknownNamesListWhatThereIs(t *testing.T) {
	_, err := LoadDialect("nosuch")
	require.ErrorContains(t, err, "brindle-r40")
	_, err = FindScene("nosuch", t.TempDir())
	require.ErrorContains(t, err, "rescue")
	_, _, err = Machine("nosuch", clock.Real(), true, nil, nil)
	require.ErrorContains(t, err, "hollow-rtr1")
}
