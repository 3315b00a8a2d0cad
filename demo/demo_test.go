package demo

import (
	"testing"

	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/runbook"
	"pilotrix/core/shipped"
)

func TestEverySceneLoads(t *testing.T) {
	for _, scene := range Scenes() {
		scene, err := FindScene(scene.Name, t.TempDir())
		require.NoError(t, err)
		book, err := shipped.Runbook(scene.Runbook)
		require.NoError(t, err)
		d, err := shipped.Dialect(places[scene.Place].Dialect)
		require.NoError(t, err)
		prepared, err := book.Prepare(d, scene.Inputs, runbook.Kit{})
		require.NoError(t, err)
		require.NotEmpty(t, prepared.Plan(&device.Facts{}).Steps)
	}
}

func TestUnknownNamesListWhatThereIs(t *testing.T) {
	_, err := FindScene("nosuch", t.TempDir())
	require.ErrorContains(t, err, "rescue")
	_, _, err = Machine("nosuch", clock.Real(), true, nil, nil)
	require.ErrorContains(t, err, "hollow-rtr1")
}
