package verbs

import (
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"

	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

// works are what the steps of each verb compile to.
var works = []any{
	&actWork{}, &agreeWork{}, &alreadyWork{}, &catchWork{}, &checkWork{}, &computeWork{}, &describeWork{}, &eraseWork{},
	&findWork{}, &followWork{}, &gatherWork{}, &handOverWork{}, &noteWork{},
	offerWork{},
	&carryWork{},
	&operatorWork{}, &pageWork{}, &pollWork{},
	&provisionWork{}, &readWork{}, &receiveWork{}, &restartWork{}, &sendWork{}, &serveWork{}, &snapshotWork{}, &speedWork{},
	&upgradeWork{}, &waitOutWork{}, &waitWork{}, &watchWork{}, &writeWork{},
	compareWork{},
	letWork{},
	fetchedWork{},
	slotOnlyWork{},
	&takeWork{}, &repeatWork{}, &expectWork{}, &interruptWork{},
}

// TestWhatAWorkHasIsAskedOfIt: the language and the engine ask for interfaces, which a method of another form would
// silently not be.
func TestWhatAWorkHasIsAskedOfIt(t *testing.T) {
	assert.Len(t, works, len(runbook.Verbs()), "each verb has one")
	asked := map[string]reflect.Type{
		"Do":       reflect.TypeFor[engine.Doer](),
		"Types":    reflect.TypeFor[runbook.Typist](),
		"Summary":  reflect.TypeFor[runbook.Summarizer](),
		"Foresees": reflect.TypeFor[runbook.Foreseer](),
		"Gathers":  reflect.TypeFor[runbook.Gatherer](),
		"Expects":  reflect.TypeFor[runbook.Expecter](),
		"Pace":     reflect.TypeFor[runbook.Pacer](),
		"Keeps":    reflect.TypeFor[runbook.Keeper](),
		"WaitsOut": reflect.TypeFor[runbook.Outwaiter](),
	}
	for _, work := range works {
		of := reflect.TypeOf(work)
		assert.True(t, of.Implements(asked["Do"]), "%s is carried out", of)
		for name, one := range asked {
			if _, has := of.MethodByName(name); has {
				assert.True(t, of.Implements(one), "%s has %s, and not as %s", of, name, one)
			}
		}
	}
}

// What the language asks of values that steps make.
var (
	_ runbook.Masks   = served{}
	_ runbook.Shelved = gathered(nil)
	_ runbook.Shelved = upgrades(nil)
)
