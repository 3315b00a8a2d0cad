package test

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/device"
	"pilotrix/core/event"
	"pilotrix/core/runbook"
	"pilotrix/core/shipped"
	"pilotrix/core/units"
	"pilotrix/demo"
)

// reallyTyped are the lines that a run has typed, with a word for each secret one. Keys without a text before
// their Enter, such as those that wake a device, are left out.
func reallyTyped(events []event.Event) (lines []string) {
	var line bytes.Buffer
	for _, e := range events {
		out, ok := e.Body.(event.Out)
		if !ok || out.Who != event.Runbook {
			continue
		}
		if out.Secret > 0 { // reported with its Enter
			lines = append(lines, "[secret]")
		}
		for _, b := range out.Bytes {
			const interrupt, kill = 0x03, 0x15 // what stands on the line is taken back: its echo was spoilt
			if b == interrupt || b == kill {
				line.Reset()
				continue
			}
			if b != '\r' {
				line.WriteByte(b)
				continue
			}
			if text := strings.TrimSpace(line.String()); text != "" {
				lines = append(lines, text)
			}
			line.Reset()
		}
	}
	return lines
}

// knownBefore are the facts as they were first read, before anything was changed: what an operator could have
// given a plan.
func knownBefore(events []event.Event) *device.Facts {
	facts := &device.Facts{}
	for _, e := range events {
		fact, ok := e.Body.(event.Fact)
		if _, there := facts.Get(fact.Name); !ok || there || strings.HasPrefix(fact.Source, "computed") {
			continue
		}
		var value any = fact.Value
		if release, err := device.ParseRelease(fact.Value); err == nil && strings.HasSuffix(fact.Name, "release") {
			value = release
		}
		if n, err := units.ParseSize(fact.Value); err == nil &&
			(strings.HasSuffix(fact.Name, "free") || strings.HasSuffix(fact.Name, "room")) {
			value = n
		}
		if fact.Rows != nil {
			rows := []map[string]any{}
			for _, row := range fact.Rows {
				one := map[string]any{}
				for name, text := range row {
					one[name] = text
				}
				rows = append(rows, one)
			}
			value = rows
		}
		facts.Set(device.Fact{Name: fact.Name, Value: value, Text: fact.Value})
	}
	return facts
}

// holdToPlan holds what was typed to a plan: everything that was typed is in it, in its order, and what it types in
// any case was typed.
func holdToPlan(t *testing.T, plan runbook.Plan, typed []string) {
	t.Helper()
	type item struct {
		runbook.Typed
		step     runbook.PlanStep
		optional bool
	}
	var planned []item
	for _, s := range plan.Steps {
		for _, one := range slices.Concat(s.Reads, s.Types) {
			if !one.Key {
				planned = append(planned, item{one, s, one.When != "" || len(s.When) > 0 || s.For != ""})
			}
		}
	}
	like := func(text, line string) bool {
		var out strings.Builder
		for i, piece := range regexp.MustCompile(`\$\{[^}]*\}`).Split(text, -1) {
			if i > 0 {
				out.WriteString(`\S.*`)
			}
			out.WriteString(regexp.QuoteMeta(piece))
		}
		return regexp.MustCompile("^" + out.String() + "$").MatchString(line)
	}
	type place struct{ n, at int }
	tried, furthest := map[place]bool{}, place{}
	var follows func(n, at int) (end int, found bool)
	follows = func(n, at int) (end int, found bool) {
		if n == len(typed) {
			return at, true
		}
		here, line := place{n, at}, typed[n]
		if tried[here] {
			return 0, false
		}
		if tried[here] = true; n >= furthest.n {
			furthest = here
		}
		if at > 0 && planned[at-1].Every > 0 && like(planned[at-1].Text, line) { // it is read again and again
			if end, found = follows(n+1, at); found {
				return end, true
			}
		}
		next := at
		for next < len(planned) && !like(planned[next].Text, line) && planned[next].optional {
			next++
		}
		if next < len(planned) && like(planned[next].Text, line) {
			if end, found = follows(n+1, next+1); found {
				return end, true
			}
		}
		for _, one := range append(slices.Clone(plan.Answers), plan.Identity...) {
			if like(one.Text, line) {
				return follows(n+1, at)
			}
		}
		return 0, false
	}
	at, found := follows(0, 0)
	if !found {
		next := "nothing more"
		if furthest.at < len(planned) {
			next = planned[furthest.at].Text + " (" + planned[furthest.at].step.ID + ")"
		}
		require.Fail(t, "not as planned", "line %d, %q, is not what the plan types now: %s\n%s", furthest.n+1,
			typed[furthest.n], next, strings.Join(typed, "\n"))
	}
	for ; at < len(planned); at++ {
		assert.True(t, planned[at].optional, "the plan types %q in any case (%s), and it was not typed",
			planned[at].Text, planned[at].step.ID)
	}
}

// holdsToItsPlan runs a runbook and holds what was really typed to its plan, made with what could be known before and
// with nothing.
func holdsToItsPlan(t *testing.T, x underRunbook) {
	t.Helper()
	result, r := x.run(), x.under()
	require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
	typed := reallyTyped(r.kept())
	holdToPlan(t, r.book.Plan(knownBefore(r.kept())), typed)
	holdToPlan(t, r.book.Plan(&device.Facts{}), typed)
}

// TestAPlanIsWhatARunTypes runs every shipped runbook of the bench and holds what was really typed to its plan,
// made before with what could be known, and to one made with nothing known at all.
func TestAPlanIsWhatARunTypes(t *testing.T) {
	t.Parallel()
	card := func(folder string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, "card.cgo"), demo.CardFirmware("line", "3.4"), 0o600))
	}
	for name, opt := range map[string]gatewayOptions{
		"standby-bank-upgrade":   {},
		"back-to-the-other-bank": {inputs: map[string]string{}},
		"keep-configuration":     {inputs: map[string]string{"into": tempDir(t)}},
		"module-firmware":        {inputs: map[string]string{"firmware": "card.cgo"}, shelf: card},
	} {
		t.Run(name, func(t *testing.T) {
			text, err := shipped.RunbookText(name)
			require.NoError(t, err)
			opt.book = string(text)
			inGateway(t, opt, func(t *testing.T, g *gateway) {
				result := g.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
				typed := reallyTyped(g.kept())
				assert.Greater(t, len(typed), 4)
				holdToPlan(t, g.book.Plan(knownBefore(g.kept())), typed)
			})
		})
	}
	for name, opt := range map[string]edgeOptions{
		"install-and-confirm":   {lanOptions: lanOptions{inputs: map[string]string{"into": ".", "tidy": "yes"}}},
		"back-to-the-previous":  {lanOptions: lanOptions{book: "back-to-the-previous"}, device: newer},
		"let-the-trial-run-out": {lanOptions: lanOptions{book: "let-the-trial-run-out"}, device: onTrial(12)},
	} {
		t.Run(name, func(t *testing.T) {
			inEdge(t, opt, func(t *testing.T, x *edge) {
				result := x.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
				typed := reallyTyped(x.kept())
				assert.Greater(t, len(typed), 4)
				holdToPlan(t, x.book.Plan(knownBefore(x.kept())), typed)
				holdToPlan(t, x.book.Plan(&device.Facts{}), typed)
			})
		})
	}
	for name, opt := range map[string]stackOptions{
		"stack-upgrade":        {},
		"stack-upgrade, later": {lanOptions: lanOptions{inputs: map[string]string{"minutes": "5"}}},
		"stack-one-unit":       {lanOptions: oneUnit, made: replaced},
	} {
		t.Run(name, func(t *testing.T) {
			inStack(t, opt, func(t *testing.T, x *stack) {
				result := x.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, x.story())
				typed := reallyTyped(x.kept())
				holdToPlan(t, x.book.Plan(knownBefore(x.kept())), typed)
				holdToPlan(t, x.book.Plan(&device.Facts{}), typed)
			})
		})
	}
	t.Run("one-store-upgrade", func(t *testing.T) {
		inStore(t, storeOptions{lanOptions: lanOptions{inputs: map[string]string{"into": ".", "tidy": "yes"}}},
			func(t *testing.T, x *store) { holdsToItsPlan(t, x) })
	})
	t.Run("rescue-over-serial", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			r := newRig(t, "R40-2", 9600, approveAll, nil)
			defer r.close()
			result := r.run()
			require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
			typed := reallyTyped(r.kept())
			assert.Greater(t, len(typed), 10)
			holdToPlan(t, r.book.Plan(knownBefore(r.kept())), typed)
			holdToPlan(t, r.book.Plan(&device.Facts{}), typed)
		})
	})
}
