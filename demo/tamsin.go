package demo

import (
	"net/netip"

	"pilotrix/bench"
	"pilotrix/bench/tamsin"
)

var _ = add(Place{
	Name: "quay-er1", Where: "Orsholm quay", Family: "Tamsin E8", Dialect: "tamsin-e8",
	About: "runs marl 5.2, which lasts; a new system runs on trial there",
	build: func(lan *bench.LAN) bench.Device { return Edge(lan, edgeSize) },
})

var _ = show(Scene{
	Name:    "trial",
	Shows:   "on trial",
	Title:   "an edge router's new release installed, run on trial, confirmed in time and made lasting",
	Place:   "quay-er1",
	Runbook: "install-and-confirm",
	Speed:   115200,
	Inputs:  map[string]string{"user": user, "password": password, "minutes": "15"},
	files:   func(folder string) error { return EdgeShelf(folder, edgeSize) },
	stick:   func(folder string) error { return write(folder, "marl-5.4.tms", EdgeImage("5.4", edgeSize)) },
	place: map[string]func(string) string{
		"image": in("marl-5.4.tms"),
		"into":  func(folder string) string { return folder },
	},
})

// edgeSize is the size of the edge router's images, their heads left out.
const edgeSize = 3_145_728

// Edge is the edge router on Orsholm quay as it stands when a scene begins. Size is that of its images.
func Edge(lan *bench.LAN, size int) *tamsin.Router {
	r := tamsin.New(tamsin.Settings{
		Model:    "E8-1",
		HostName: "quay-er1",
		Serial:   "TE8-000417",
		Login:    user,
		Code:     password,
		Address:  edgeAddress,
		Setup: []string{
			"name quay-er1", "lan 192.0.2.21/24", "uplink from harbour-core", "tide gauges read every 60 s",
			"ramp lights by gauge",
		},
		Room: 9 * size,
	}, lan)
	r.Install(EdgeImage("5.2", size))
	r.Warm()
	return r
}

// EdgeImage is an image for the edge routers. What newer ones drop of a setup is not what this one's has.
func EdgeImage(release string, size int) []byte {
	return tamsin.MakeParcel(
		tamsin.Parcel{Release: release, Models: []string{"E8-1", "E8-2"}, Least: "5.0", Drops: []string{"old gauges"}},
		size)
}

// EdgeShelf makes the shelf of the edge router's scene in a folder: the wanted image, one for another model, and one
// that wants a later release to come from.
func EdgeShelf(folder string, size int) error {
	wanted := EdgeImage("5.4", size)
	larger := tamsin.MakeParcel(tamsin.Parcel{Release: "5.4", Models: []string{"E8-16"}}, size/4)
	later := tamsin.MakeParcel(
		tamsin.Parcel{Release: "6.0", Models: []string{"E8-1", "E8-2"}, Least: "5.4", Drops: []string{"tide gauges"}},
		size)
	s := shelfIn(folder)
	s.put("marl-5.4.tms", wanted)
	s.put("marl-5.4-e8-16.tms", larger)
	s.put("marl-6.0.tms", later)
	s.lists512("marl-5.4.tms", wanted)
	s.lists512("marl-6.0.tms", later)
	return s.with("SHA512SUMS")
}

var edgeAddress = netip.MustParsePrefix("192.0.2.21/24")
