package demo

import (
	"fmt"
	"net/netip"

	"pilotrix/bench"
	"pilotrix/bench/dunlin"
)

var _ = add(Place{
	Name: "ness-rt1", Where: "Tangle Ness", Family: "Dunlin N1", Dialect: "dunlin-n1",
	About: "runs reed 6.4 in three packages on a board with firmware of its own; reached by its shell session only",
	build: func(lan *bench.LAN) bench.Device { return Packages(lan) },
})

var _ = show(Scene{
	Name:    "downgrade",
	Shows:   "two layers, and down",
	Title:   "a router's packages, then its board's firmware, brought down to an older release until all layers agree",
	Place:   "ness-rt1",
	Runbook: "packages-and-board",
	Inputs:  map[string]string{"user": user, "password": password},
	files:   func(folder string) error { return PackagesShelf(folder, packagesSize) },
	place: map[string]func(string) string{
		"image": in(PackageName("core", "6.2", "oak64")),
		"into":  func(folder string) string { return folder },
	},
})

// packagesSize is the size of the core's package on Tangle Ness, its head left out; those of other parts have a
// quarter.
const packagesSize = 1_310_720

var packagesAddress = netip.MustParsePrefix("192.0.2.51/24")

// Packages is the small router on Tangle Ness as it stands when a scene begins: reed 6.4 on all its layers, with two
// parts besides the core.
func Packages(lan *bench.LAN) *dunlin.Router {
	r := dunlin.New(dunlin.Settings{
		Model:        "N1-2",
		HostName:     "ness-rt1",
		Serial:       "DN1-000903",
		Architecture: "oak64",
		Login:        user,
		Word:         password,
		Address:      packagesAddress,
		Parts: []dunlin.Part{
			{Name: "core", Release: "6.4"},
			{Name: "gauges", Release: "6.4"},
			{Name: "mesh", Release: "6.4"},
		},
		Board: "6.4",
		Uses:  []string{"two-uplinks", "fast-lanes"},
	}, lan)
	r.Warm()
	return r
}

// Package is one for the small routers.
func Package(part, release, architecture string, size int) []byte {
	if part != "core" {
		size /= 4
	}
	return dunlin.MakePackage(dunlin.Package{Part: part, Release: release, Architecture: architecture}, size)
}

// PackageName is what it is called.
func PackageName(part, release, architecture string) string {
	return fmt.Sprintf("reed-%s-%s-%s.dnp", part, release, architecture)
}

// PackagesShelf makes the shelf of that router's scene in a folder: all parts of the lower release, those of the
// running one, the core for another architecture, and a release whose mesh is only there for that.
func PackagesShelf(folder string, size int) error {
	s := shelfIn(folder)
	add := func(part, release, architecture string) {
		s.publish(PackageName(part, release, architecture), Package(part, release, architecture, size))
	}
	for _, part := range []string{"core", "gauges", "mesh"} {
		add(part, "6.2", "oak64")
		add(part, "6.4", "oak64")
	}
	add("core", "6.2", "elm32")
	add("core", "6.3", "oak64")
	add("gauges", "6.3", "oak64")
	add("mesh", "6.3", "elm32")
	return s.with(sha256Sums)
}
