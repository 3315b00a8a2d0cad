package demo

import (
	"net/netip"

	"pilotrix/bench"
	"pilotrix/bench/brindle"
)

var _ = add(Place{
	Name: "hollow-rtr1", Where: "Hollow Skerry", Family: "Brindle R40", Dialect: "brindle-r40",
	About: "lost its image in a power cut, waits in its boot monitor",
	build: func(*bench.LAN) bench.Device {
		r := brindle.New("R40-2", "hollow-rtr1", user, password)
		r.SaveConfiguration("2026-03-02")
		r.Install("tern-4.0.7.brm", brindle.MakeImage("4.0.7", []string{"R40-1", "R40-2"}, 1_150_976), true)
		return r
	},
}, Place{
	Name: "mare-rtr1", Where: "Grey Mare", Family: "Brindle R40", Dialect: "brindle-r40",
	About: "runs tern 4.0.7; its one store holds that and an older release",
	build: func(lan *bench.LAN) bench.Device { return Router(lan, routerSize) },
})

var _ = show(Scene{
	Name:    "one-store",
	Shows:   "one store",
	Title:   "a router whose next image has to find room in the one store beside the running one",
	Place:   "mare-rtr1",
	Runbook: "one-store-upgrade",
	Speed:   9600,
	Inputs:  map[string]string{"user": user, "password": password, "tidy": "yes"},
	files:   func(folder string) error { return RouterShelf(folder, routerSize) },
	place: map[string]func(string) string{
		"image": in("tern-4.2.1.brm"),
		"into":  func(folder string) string { return folder },
	},
}, Scene{
	Name:    "rescue",
	Shows:   "lost image",
	Title:   "a router without an image, rescued over its console",
	Place:   "hollow-rtr1",
	Runbook: "rescue-over-serial",
	Speed:   38400,
	Inputs:  map[string]string{"user": user, "password": password},
	files: func(folder string) error {
		s := shelfIn(folder)
		s.put("tern-"+rescueRelease+".brm", rescueImage())
		return s.err
	},
	place: map[string]func(string) string{"image": in("tern-" + rescueRelease + ".brm")},
})

// routerSize is the size of the routers' images on Grey Mare, their heads left out.
const routerSize = 1_150_976

// RouterImage is an image for the routers with one store.
func RouterImage(release string, size int) []byte {
	return brindle.MakeImage(release, []string{"R40-1", "R40-2"}, size)
}

// Router is the router on Grey Mare as it stands when a scene begins: it runs 4.0.7, and its store holds 3.9.4 besides,
// which leaves less room than another image of the size needs.
func Router(lan *bench.LAN, size int) *brindle.Router {
	r := brindle.New("R40-1", "mare-rtr1", user, password)
	r.Store.Capacity = 2*size + size/2
	r.Begin("2026-05-19", "tern-4.0.7.brm")
	r.Install("tern-3.9.4.brm", RouterImage("3.9.4", size), false)
	r.Install("tern-4.0.7.brm", RouterImage("4.0.7", size), false)
	r.Ran("4.0.7")
	r.Join(lan, routerAddress)
	r.Warm()
	return r
}

// RouterShelf makes the shelf of that router's scene in a folder: the wanted image, the one that runs, and one for
// another model.
func RouterShelf(folder string, size int) error {
	s := shelfIn(folder)
	for _, release := range []string{"4.2.1", "4.0.7"} {
		s.publish("tern-"+release+".brm", RouterImage(release, size))
	}
	s.put("tern-4.2.1-r40-16.brm", brindle.MakeImage("4.2.1", []string{"R40-16"}, size/4))
	return s.with(sha256Sums)
}

// Release and size of the image that the rescue sends.
const (
	rescueRelease = "4.2.1"
	rescueSize    = 1_310_720
)

func rescueImage() []byte {
	return brindle.MakeImage(rescueRelease, []string{"R40-1", "R40-2"}, rescueSize)
}

var routerAddress = netip.MustParsePrefix("192.0.2.31/24")
