package test

import (
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/shipped"
)

// TestEverySingleActionOfTheShippedDialects makes a runbook of each action: it is one that the dialect can carry out,
// or it is said in words why it is none.
func TestEverySingleActionOfTheShippedDialects(t *testing.T) {
	reasons := map[string]bool{}
	for _, name := range shipped.DialectNames() {
		d, err := shipped.Dialect(name)
		require.NoError(t, err)
		for _, action := range d.ActionNames() {
			for _, by := range append(d.Action(action).WayNames(), "") {
				book, err := verbs.Single(d, action, by)
				if err != nil {
					reasons[err.Error()] = true
					continue
				}
				assert.Empty(t, book.WhyNot(d), "%s %s by %s", name, action, by)
			}
		}
	}
	assert.Equal(t, map[string]bool{
		"it moves a file over the line, which takes a runbook": true,
		"it types burn.…, which a runbook has to make":         true,
	}, reasons)
}

// TestASingleActionHoldsAndAsksForWhatItTakes looks at one that erases, behind a login.
func TestASingleActionHoldsAndAsksForWhatItTakes(t *testing.T) {
	d, err := shipped.Dialect("brindle-r40")
	require.NoError(t, err)
	book, err := verbs.Single(d, "remove-file", "")
	require.NoError(t, err)
	p, err := book.Prepare(d, map[string]string{"name": "tern-4.0.7.brm"}, runbook.Kit{})
	require.NoError(t, err)
	plan := p.Plan(&device.Facts{})
	step := plan.Steps[len(plan.Steps)-1]
	assert.Contains(t, step.Hold, "removes one file for good")
	assert.Equal(t, "store drop tern-4.0.7.brm", step.Types[0].Text)

	gateway, err := shipped.Dialect("cormel-g2")
	require.NoError(t, err)
	book, err = verbs.Single(gateway, "choose-bank", "")
	require.NoError(t, err)
	kinds := map[string]string{}
	for _, input := range book.Inputs {
		kinds[input.Input] = input.Kind
	}
	assert.Equal(t, runbook.KindSecret, kinds["password"], "what answers a question for a secret is one")
	assert.Equal(t, runbook.KindText, kinds["user"])

	from := map[string]map[string]string{}
	for _, one := range []struct{ action, by string }{{"card-firmware", ""}, {"fetch", "local"}} {
		book, err = verbs.Single(gateway, one.action, one.by)
		require.NoError(t, err)
		from[one.action] = map[string]string{}
		for _, input := range book.Inputs {
			from[one.action][input.Input] = input.From
		}
	}
	assert.Equal(t, runbook.FromLaptop, from["card-firmware"]["server"])
	assert.Empty(t, from["card-firmware"]["name"], "it is a name of this laptop's, not of the device's")
	assert.Contains(t, from["fetch"]["name"], ".name", "it is one of the device's")
	assert.Equal(t, "Starts it, by TFTP", verbs.WayTitle("Starts it", "tftp"))
	assert.Equal(t, "Starts it, local", verbs.WayTitle("Starts it", "local"))

	book, err = verbs.Readings(d, "monitor")
	require.NoError(t, err)
	var steps []string
	for _, s := range book.Phases[0].Steps {
		steps = append(steps, s.Step)
	}
	assert.Equal(t, []string{"Read about", "Read store"}, steps, "what takes an image's name is left out")
	book, err = verbs.Readings(d, "booting")
	require.NoError(t, err)
	assert.Nil(t, book)
}

// TestASingleActionStagesWhatItFetches asks only for the file, and serves it until the device has fetched it whole, by
// the ways by which a gateway fetches that are carried out in a time of our own.
func TestASingleActionStagesWhatItFetches(t *testing.T) {
	t.Parallel()
	for _, by := range []string{"tftp", "http"} {
		inGateway(t, gatewayOptions{approve: func(ask event.Ask) string { return engine.Approve }}, func(t *testing.T, g *gateway) {
			d, err := shipped.Dialect("cormel-g2")
			require.NoError(t, err)
			book, err := verbs.Single(d, "fetch", by)
			require.NoError(t, err)
			var asked []string
			for _, input := range book.Inputs {
				asked = append(asked, input.Input)
			}
			assert.Equal(t, []string{"file", "address", "user", "password"}, asked, by)
			p, err := book.Prepare(d, map[string]string{"file": "lark-7.6.1.cgo", "user": "harbour", "password": "lamp-and-tide"}, g.kit)
			require.NoError(t, err)
			result, err := g.session.Run(t.Context(), p)
			require.NoError(t, err)
			assert.Equal(t, event.Done, result.Outcome, "%s: %s", by, result.Message)
			synctest.Wait() // what has happened is collected beside
			whole := 0
			for _, e := range g.events {
				if end, ok := e.Body.(event.TransferEnd); ok && end.Outcome == event.Done {
					whole++
				}
			}
			assert.Positive(t, whole, by)
		})
	}
}
