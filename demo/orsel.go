package demo

import (
	"net/netip"

	"pilotrix/bench"
	"pilotrix/bench/orsel"
)

var _ = add(Place{
	Name: "quay-wc1", Where: "Orsholm quay", Family: "Orsel C1", Dialect: "orsel-c1",
	About: "runs linnet 3.4 with a dozen access points; reached by its shell session only",
	build: func(lan *bench.LAN) bench.Device { return Controller(lan, "3.4") },
})

var _ = show(Scene{
	Name:    "controller",
	Shows:   "a controller and what hangs on it",
	Title:   "a wireless controller upgraded, then its access points followed one by one until the last is back",
	Place:   "quay-wc1",
	Runbook: "controller-and-points",
	Inputs:  map[string]string{"user": user, "password": password, "upgrade_paths": "orsel-c1"},
	files:   func(folder string) error { return ControllerShelf(folder, controllerSize) },
	place: map[string]func(string) string{
		"image": in("linnet-3.6.orl"),
		"into":  func(folder string) string { return folder },
	},
})

// controllerSize is the size of the controller's images, their heads left out.
const controllerSize = 4_194_304

var controllerAddress = netip.MustParsePrefix("192.0.2.70/24")

// accessPoints are those of the harbour: a dozen, of three models, of which the oldest has no firmware in newer
// releases.
func accessPoints(release string) (all []orsel.Point) {
	for _, p := range [][2]string{
		{"ap-quay-01", "P3"},
		{"ap-quay-02", "P3"},
		{"ap-quay-03", "P2"},
		{"ap-quay-04", "P2"},
		{"ap-shed-01", "P2"},
		{"ap-shed-02", "P1"},
		{"ap-ramp-01", "P3"},
		{"ap-ramp-02", "P3"},
		{"ap-hollow-01", "P2"},
		{"ap-tangle-01", "P2"},
		{"ap-tangle-02", "P3"},
		{"ap-mare-01", "P2"},
	} {
		all = append(all, orsel.Point{Name: p[0], Model: p[1], Release: release})
	}
	return all
}

func controllerLoad(release string) orsel.Load {
	l := orsel.Load{Release: release, Models: []string{"C1-12", "C1-48"}, Points: []string{"P1", "P2", "P3"}}
	switch release {
	case "3.6":
		l.Points, l.Least = []string{"P2", "P3"}, "3.4"
	case "3.4":
		l.Least = "3.2"
	}
	return l
}

// ControllerImage is an image for the controllers.
func ControllerImage(release string, size int) []byte {
	return orsel.MakeLoad(controllerLoad(release), size)
}

// Controller is the one on Orsholm quay as it stands when a scene begins, with that release on it and on its access
// points.
func Controller(lan *bench.LAN, release string) *orsel.Controller {
	c := orsel.New(orsel.Settings{
		Model:    "C1-12",
		HostName: "quay-wc1",
		Serial:   "OC1-000512",
		Login:    user,
		Word:     password,
		Address:  controllerAddress,
		Runs:     controllerLoad(release),
		Points:   accessPoints(release),
	}, lan)
	c.Warm()
	return c
}

// ControllerShelf makes the shelf of that controller's scene in a folder: the wanted image, the previous one it, and
// one for another model.
func ControllerShelf(folder string, size int) error {
	s := shelfIn(folder)
	for _, release := range []string{"3.4", "3.6"} {
		s.publish("linnet-"+release+".orl", ControllerImage(release, size))
	}
	s.put("linnet-3.6-c4.orl",
		orsel.MakeLoad(orsel.Load{Release: "3.6", Models: []string{"C4"}, Points: []string{"P3"}}, size/4))
	return s.with(sha256Sums)
}
