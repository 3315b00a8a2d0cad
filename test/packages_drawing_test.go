package test

import (
	"bytes"
	"cmp"
	"encoding/json"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/evidence"
	"pilotrix/core/palette"
	"pilotrix/core/source/goldentest"
)

// room is the package that stands for one in the drawing: the views of tui and the families of the bench are one each.
func room(path string) string {
	name := strings.TrimPrefix(path, "pilotrix/")
	for _, whole := range []string{"tui", "bench", "cmd", "demo"} {
		if under(name, whole) {
			return whole
		}
	}
	return name
}

// roomImports are the packages that each package imports, tests left out, and what only tests import.
func roomImports(t *testing.T) map[string]map[string]bool {
	list := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	list.Dir = ".."
	out, err := list.Output()
	require.NoError(t, err)
	all := map[string]map[string]bool{}
	for decoder := json.NewDecoder(bytes.NewReader(out)); decoder.More(); {
		var p goPackage
		require.NoError(t, decoder.Decode(&p))
		from := room(p.ImportPath)
		if all[from] == nil {
			all[from] = map[string]bool{}
		}
		for _, to := range p.Imports {
			if to = room(to); strings.HasPrefix(to, "core/") || to == "tui" || to == "bench" || to == "demo" {
				all[from][to] = from != to || all[from][to]
			}
		}
		delete(all[from], from)
	}
	delete(all, "test")
	used := map[string]bool{"cmd": true}
	for _, imports := range all {
		maps.Copy(used, imports)
	}
	maps.DeleteFunc(all, func(name string, _ map[string]bool) bool { return !used[name] })
	return all
}

// reaches reports whether one package imports another by way of others.
func reaches(all map[string]map[string]bool, from, to string) bool {
	for via := range all[from] {
		if via != to && (all[via][to] || reaches(all, via, to)) {
			return true
		}
	}
	return false
}

// depth is how many packages stand below one, at most, on a way down.
func depth(all map[string]map[string]bool, name string, known map[string]int) int {
	if d, ok := known[name]; ok {
		return d
	}
	deepest := 0
	for below := range all[name] {
		deepest = max(deepest, depth(all, below, known)+1)
	}
	known[name] = deepest
	return deepest
}

// drawPackages lays the packages out in rows, each above all that it imports, with a line for each import that no other
// way shows.
func drawPackages(all map[string]map[string]bool) *evidence.Drawing {
	const width, height, gap, left = 100.0, 18.0, 34.0, 20.0
	depths, rows := map[string]int{}, map[int][]string{}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		d := depth(all, name, depths)
		rows[d] = append(rows[d], name)
	}
	top := len(rows) - 1
	x, y := map[string]float64{}, func(name string) float64 { return 50 + float64(top-depths[name])*(height+gap) }
	widest := 0
	for d := top; d >= 0; d-- { // each row in the order of those above it that import from it
		mean := func(name string) float64 {
			sum, n := 0.0, 0.0
			for _, above := range slices.Sorted(maps.Keys(all)) {
				if at, placed := x[above]; placed && all[above][name] {
					sum, n = sum+at, n+1
				}
			}
			return sum / max(n, 1)
		}
		order := map[string]float64{}
		for _, name := range rows[d] {
			order[name] = mean(name)
		}
		slices.SortStableFunc(rows[d], func(a, b string) int { return cmp.Compare(order[a], order[b]) })
		widest = max(widest, len(rows[d]))
		for i, name := range rows[d] {
			x[name] = float64(i) - float64(len(rows[d])-1)/2
		}
	}
	centre := left + float64(widest)*(width+10)/2
	for name := range x {
		x[name] = centre + x[name]*(width+10)
	}
	d := &evidence.Drawing{Title: "The packages of Pilotrix", Width: 2 * centre, Height: y(rows[0][0]) + 60}
	d.Strong(left, 24, 12, palette.Ink,
		"Packages and what they import, downwards; an import that another way shows is left out")
	for _, from := range slices.Sorted(maps.Keys(all)) {
		for _, to := range slices.Sorted(maps.Keys(all[from])) {
			if !reaches(all, from, to) {
				d.Line(x[from], y(from)+height, x[to], y(to), 0.6, palette.Faint)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		tone := palette.Quiet
		if !strings.HasPrefix(name, "core/") {
			tone = palette.Here
		}
		d.Box(x[name]-width/2, y(name), width, height, tone, false)
		d.Middle(x[name], y(name)+12, 8, palette.Ink, strings.TrimPrefix(name, "core/"))
	}
	return d
}

// TestTheDrawingOfThePackagesIsOfTheCode holds docs/packages.svg to the imports as they are. With -update it is drawn
// again.
func TestTheDrawingOfThePackagesIsOfTheCode(t *testing.T) {
	all := roomImports(t)
	require.Greater(t, len(all), 40)
	var svg bytes.Buffer
	require.NoError(t, drawPackages(all).SVG(&svg))
	const path = "../docs/packages.svg"
	if goldentest.Updating() {
		require.NoError(t, os.WriteFile(path, svg.Bytes(), 0o644))
	}
	kept, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(kept, svg.Bytes()),
		"docs/packages.svg is of other imports: go test ./test -run DrawingOfThePackages -update")
}
