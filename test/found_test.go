package test

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/bench/brindle"
	"pilotrix/core/clock"
	"pilotrix/core/event"
	"pilotrix/demo"
)

// typed is all that went to the device.
func (r *rig) typed() string {
	var all strings.Builder
	for _, out := range find[event.Out](r) {
		all.Write(out.Bytes)
	}
	return all.String()
}

// fetched are the files that were moved.
func (r *rig) fetched() (files []string) {
	for _, begin := range find[event.TransferBegin](r) {
		files = append(files, begin.File)
	}
	return files
}

// lastHeld is what was reported last of the files of the device.
func (r *rig) lastHeld() []event.HeldFile {
	all := find[event.Shelf](r)
	if len(all) == 0 || len(all[len(all)-1].Held) == 0 {
		return nil
	}
	return all[len(all)-1].Held[0].Files
}

// TestWhatIsOnTheStickIsNotTransferred has an image of the way on a stick, under another name than the shelf has.
func TestWhatIsOnTheStickIsNotTransferred(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{}, func(t *testing.T, g *gateway) {
		require.NoError(t,
			g.device.PlugStick(bench.File{Name: "OLDER.BIN", Data: demo.GatewayImage("7.6.1", smallImage)},
				bench.File{Name: "notes.txt", Data: []byte("tide tables")}))
		result := g.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
		assert.Contains(t, g.typed(), "haul stick OLDER.BIN")
		assert.NotContains(t, g.fetched(), "lark-7.6.1.cgo")
		assert.Contains(t, g.fetched(), "lark-8.1.0.cgo", "this one was not there")
		assert.Contains(t, result.Proved, "lark 7.6.1 runs from bank B")
		held := g.lastHeld()
		require.Len(t, held, 2)
		assert.Equal(t, event.HeldFile{
			Name:   "OLDER.BIN",
			Size:   held[0].Size,
			Digest: held[0].Digest,
			Image:  "lark-7.6.1.cgo",
			By:     "digest",
		}, held[0])
		assert.Empty(t, held[1].Image)
	})
}

// TestAnotherFileOfTheSameNameAndSizeIsNotTaken puts a file on the stick that only looks like the image.
func TestAnotherFileOfTheSameNameAndSizeIsNotTaken(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{}, func(t *testing.T, g *gateway) {
		other := demo.GatewayImage("7.6.1", smallImage)
		other[len(other)-1] ^= 1
		require.NoError(t, g.device.PlugStick(bench.File{Name: "lark-7.6.1.cgo", Data: other}))
		result := g.run()
		require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, g.story())
		assert.Contains(t, g.fetched(), "lark-7.6.1.cgo")
		assert.NotContains(t, g.typed(), "haul stick lark-7.6.1.cgo")
	})
}

// TestAStickThatIsPulledOut ends the copy in its middle.
func TestAStickThatIsPulledOut(t *testing.T) {
	t.Parallel()
	inGateway(t, gatewayOptions{on: func(g *gateway, e event.Event) {
		if fact, ok := e.Body.(event.Fact); ok && fact.Name == "haul.state" && fact.Value == "fetching" {
			assert.NoError(g.t, g.device.PlugStick())
		}
	}}, func(t *testing.T, g *gateway) {
		require.NoError(t,
			g.device.PlugStick(bench.File{Name: "lark-7.6.1.cgo", Data: demo.GatewayImage("7.6.1", smallImage)}))
		result := g.run()
		require.Equal(t, event.Failed, result.Outcome, "%s", g.story())
		assert.Contains(t, result.Message, "the download failed: the stick was pulled out")
		assert.Contains(t, result.Message, "goes on running 7.4.2 from bank A")
		g.stillRuns(t)
	})
}

// TestARescueThatWasCutOffSendsNothingTwice has the image whole in the store, under its own name or broken.
func TestARescueThatWasCutOffSendsNothingTwice(t *testing.T) {
	t.Parallel()
	whole := brindle.MakeImage("4.2.1", []string{"R40-1", "R40-2"}, 300_000)
	for name, c := range map[string]struct {
		data []byte
		sent bool
	}{"whole": {whole, false}, "another of its size": {slices.Concat(whole[:len(whole)-9],
		bytes.Repeat([]byte{1}, 9)), true}} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := newRig(t, "R40-2", 9600, approveAll, nil)
				defer r.close()
				r.router.Install("tern-4.2.1.brm", c.data, false)
				result := r.run()
				require.Equal(t, event.Done, result.Outcome, "%s\n%s", result.Message, r.story())
				assert.Equal(t, c.sent, len(r.fetched()) > 0, r.story())
				assert.Contains(t, result.Proved, "what runs is the image that was sent")
			})
		})
	}
}

// TestTheStickOfTheBench is reached through the demo's own folders.
func TestTheStickOfTheBench(t *testing.T) {
	folder := tempDir(t)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "a.cgo"), []byte("a"), 0o600))
	lan := bench.NewLAN(true, 1)
	machine := bench.New("mare-gw1", demo.Gateway(lan, smallImage), clock.Real(), true)
	require.NoError(t, machine.Stick(folder))
	assert.ErrorContains(t, machine.Stick(filepath.Join(folder, "none")), "the stick: open ")
	other := bench.New("hollow-rtr1", brindle.New("R40-2", "hollow-rtr1", "a", "b"), clock.Real(), true)
	assert.ErrorContains(t, other.Stick(folder), "hollow-rtr1 has no port for a stick")
}
