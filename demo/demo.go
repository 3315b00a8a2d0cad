// Package demo is the scenario: the Orsholm harbour authority's devices, the scenes that are played on them, and the
// images, made on the spot.
package demo

import (
	"cmp"
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"

	"pilotrix/bench"
	"pilotrix/core/clock"
)

// Place is a device of the scenario as it stands when the scene begins.
type Place struct {
	Name    string // of the device
	Where   string
	Family  string
	Dialect string
	About   string
	build   func(*bench.LAN) bench.Device
}

// Text are family and place, as the header shows them.
func (p Place) Text() string {
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

// places are the devices that the bench can bring up, by name. Each family's file adds its own.
var places = map[string]Place{}

func add(all ...Place) bool {
	for _, one := range all {
		places[one.Name] = one
	}
	return true
}

// LaptopAddress is where the laptop is; the devices have theirs beside them. All are from the range for documentation
// (RFC 5737).
var LaptopAddress = netip.MustParsePrefix("192.0.2.10/24")

// Places lists the devices of the scenario by name.
func Places() []Place {
	var all []Place
	for _, p := range places {
		all = append(all, p)
	}
	slices.SortFunc(all, func(a, b Place) int { return cmp.Compare(a.Name, b.Name) })
	return all
}

// PlaceNamed is one of them.
func PlaceNamed(name string) Place { return places[name] }

// Laptop is the laptop's place on a bench's LAN.
func Laptop(lan *bench.LAN) bench.LANHost { return lan.Host("eth0", LaptopAddress) }

// Machine brings a device of the scenario up, without power.
func Machine(
	name string, c clock.Clock, memory bool, lan *bench.LAN, awkward bench.Awkward,
) (*bench.Machine, Place, error) {
	place, known := places[name]
	if !known {
		var all []string
		for _, p := range Places() {
			all = append(all, p.Name)
		}
		return nil, Place{}, fmt.Errorf("no device %q on the bench; there are %s", name, strings.Join(all, ", "))
	}
	machine := bench.New(name, place.build(lan), c, memory)
	machine.Be(awkward, 1)
	return machine, place, nil
}

// Scene is a demo: a device, a runbook, and what the runbook is reported.
type Scene struct {
	Name    string
	Title   string
	Shows   string // the kind of change, in a few words
	Place   string
	Runbook string
	Speed   int // what our end was left at, in baud
	Inputs  map[string]string
	Shelf   string                         // a folder, empty when the scene needs none
	Stick   string                         // a folder for a stick in the device's port, empty where it has none
	files   func(folder string) error      // made on the spot
	stick   func(folder string) error      // what is on the stick
	place   map[string]func(string) string // inputs that are files, or folders, of the scene's folder
}

// scenes are the demos, by name. Each family's file adds those that are played on its devices.
var scenes = map[string]Scene{}

func show(all ...Scene) bool {
	for _, one := range all {
		scenes[one.Name] = one
	}
	return true
}

func in(name string) func(string) string {
	return func(folder string) string { return filepath.Join(folder, "shelf", name) }
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
	if err := scene.files(folder); err != nil {
		return Scene{}, err
	}
	for input, place := range scene.place {
		inputs[input] = place(folder)
	}
	scene.Inputs, scene.Shelf = inputs, filepath.Join(folder, "shelf")
	if scene.stick != nil {
		scene.Stick = filepath.Join(folder, "stick")
		if err := scene.stick(scene.Stick); err != nil {
			return Scene{}, err
		}
	}
	return scene, nil
}
