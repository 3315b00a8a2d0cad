// Package demo is the scenario: the Orsholm harbour authority's devices, the dialects and runbooks
// that ship with the program, and the images, made on the spot.
package demo

import (
	"cmp"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"pilotrix/bench"
	"pilotrix/bench/brindle"
	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/runbook"
)

//go:embed dialects/*.yaml runbooks/*.yaml
var files embed.FS

// DialectText is the text of a dialect that ships with the program.
func DialectText(name string) ([]byte, error) { return read("dialects", name) }

// RunbookText is the text of a runbook that ships with the program.
func RunbookText(name string) ([]byte, error) { return read("runbooks", name) }

func read(folder, name string) ([]byte, error) {
	data, err := files.ReadFile(path.Join(folder, name+".yaml"))
	if err != nil {
		return nil, fmt.Errorf("no file %s and none of that name ships with the program; there are %s", name, strings.Join(names(folder), ", "))
	}
	return data, nil
}

func names(folder string) (all []string) {
	entries, _ := fs.ReadDir(files, folder)
	for _, e := range entries {
		all = append(all, strings.TrimSuffix(e.Name(), ".yaml"))
	}
	return all
}

// Dialects lists the dialects that ship with the program.
func Dialects() []string { return names("dialects") }

// Runbooks lists the runbooks that ship with the program.
func Runbooks() []string { return names("runbooks") }

// LoadDialect finds a dialect: a file by its path, or one that ships with the program.
func LoadDialect(name string) (*dialect.Dialect, error) {
	if isPath(name) {
		return dialect.Load(name)
	}
	data, err := DialectText(name)
	if err != nil {
		return nil, err
	}
	return dialect.Parse(name+".yaml", data)
}

// LoadRunbook finds a runbook: a file by its path, or one that ships with the program.
func LoadRunbook(name string) (*runbook.Runbook, error) {
	if isPath(name) {
		return runbook.Load(name)
	}
	data, err := RunbookText(name)
	if err != nil {
		return nil, err
	}
	return runbook.Parse(name+".yaml", data)
}

func isPath(name string) bool {
	return strings.ContainsAny(name, `/\`) || strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml")
}

// Place is a device of the scenario as it stands when the scene begins.
type Place struct {
	Name    string // of the device
	Where   string
	Family  string
	Dialect string
	About   string
	build   func() bench.Device
}

// Words are family and place, as the header shows them.
func (p Place) Words() string {
	if p.Family == "" {
		return ""
	}
	return p.Family + " · " + p.Where
}

// The demo's account on its devices. Everything about it is made up and on show.
const (
	user     = "harbour"
	password = "lamp-and-tide"
)

// Release and size of the image that the rescue sends.
const (
	rescueRelease = "4.2.1"
	rescueSize    = 1_310_720
)

func rescueImage() []byte {
	return brindle.MakeImage(rescueRelease, []string{"R40-1", "R40-2"}, rescueSize)
}

// places are the devices that the bench can bring up, by name.
var places = map[string]Place{
	"hollow-rtr1": {
		Name: "hollow-rtr1", Where: "Hollow Skerry", Family: "Brindle R40", Dialect: "brindle-r40",
		About: "lost its image in a power cut, waits in its boot monitor",
		build: func() bench.Device {
			r := brindle.New("R40-2", "hollow-rtr1", user, password)
			r.SaveConfiguration("2026-03-02")
			r.Install("tern-4.0.7.brm", brindle.MakeImage("4.0.7", []string{"R40-1", "R40-2"}, 1_150_976), true)
			return r
		},
	},
	"mare-rtr1": {
		Name: "mare-rtr1", Where: "Grey Mare", Family: "Brindle R40", Dialect: "brindle-r40",
		About: "runs tern 4.0.7 and is well",
		build: func() bench.Device {
			r := brindle.New("R40-1", "mare-rtr1", user, password)
			r.SaveConfiguration("2026-05-19")
			r.Install("tern-4.0.7.brm", brindle.MakeImage("4.0.7", []string{"R40-1", "R40-2"}, 1_150_976), false)
			r.Ran("4.0.7")
			return r
		},
	},
}

// Places lists the devices of the scenario by name.
func Places() []Place {
	var all []Place
	for _, p := range places {
		all = append(all, p)
	}
	slices.SortFunc(all, func(a, b Place) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// Machine brings a device of the scenario up, without power.
func Machine(name string, c clock.Clock, memory bool) (*bench.Machine, Place, error) {
	place, known := places[name]
	if !known {
		var all []string
		for _, p := range Places() {
			all = append(all, p.Name)
		}
		return nil, Place{}, fmt.Errorf("no device %q on the bench; there are %s", name, strings.Join(all, ", "))
	}
	return bench.New(name, place.build(), c, memory), place, nil
}

// Scene is a demo: a device, a runbook, and what the runbook is told.
type Scene struct {
	Name    string
	Title   string
	Place   string
	Runbook string
	Speed   int // what our end was left at, in baud
	Inputs  map[string]string
	images  map[string]func() ([]byte, string)
}

var scenes = map[string]Scene{
	"rescue": {
		Name: "rescue", Title: "a router without an image, rescued over its console", Place: "hollow-rtr1",
		Runbook: "rescue-over-serial", Speed: 38400,
		Inputs: map[string]string{"user": user, "password": password},
		images: map[string]func() ([]byte, string){"image": func() ([]byte, string) { return rescueImage(), "tern-" + rescueRelease + ".brm" }},
	},
}

// Scenes lists the demos by name.
func Scenes() []Scene {
	var all []Scene
	for _, s := range scenes {
		all = append(all, s)
	}
	slices.SortFunc(all, func(a, b Scene) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// FindScene finds a demo and makes its images in a folder.
func FindScene(name, folder string) (Scene, error) {
	scene, known := scenes[name]
	if !known {
		var all []string
		for _, s := range Scenes() {
			all = append(all, s.Name)
		}
		return Scene{}, fmt.Errorf("no demo %q; there are %s", name, strings.Join(all, ", "))
	}
	inputs := map[string]string{}
	for key, value := range scene.Inputs {
		inputs[key] = value
	}
	for input, make := range scene.images {
		data, file := make()
		where := filepath.Join(folder, file)
		if err := os.WriteFile(where, data, 0o600); err != nil {
			return Scene{}, err
		}
		inputs[input] = where
	}
	scene.Inputs = inputs
	return scene, nil
}
