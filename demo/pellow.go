package demo

import (
	"net/netip"

	"pilotrix/bench"
	"pilotrix/bench/pellow"
)

var _ = add(Place{
	Name: "ramp-br1", Where: "Tangle Ness", Family: "Pellow W3", Dialect: "pellow-w3",
	About: "its system was cut off while it was written: it restarts over and over",
	build: func(lan *bench.LAN) bench.Device { return Bridge(lan, bridgeSize, true) },
}, Place{
	Name: "mare-br1", Where: "Grey Mare", Family: "Pellow W3", Dialect: "pellow-w3",
	About: "runs skua 2.4 from its flash",
	build: func(lan *bench.LAN) bench.Device { return Bridge(lan, bridgeSize, false) },
})

var _ = show(Scene{
	Name:    "burn",
	Shows:   "memory first, then flash",
	Title:   "a wireless bridge that starts no more: a system tried from memory first, then burned into its flash",
	Place:   "ramp-br1",
	Runbook: "try-then-burn",
	Speed:   115200,
	Inputs:  map[string]string{"user": user, "password": password, "address": bridgeAddress.Addr().String()},
	files:   func(folder string) error { return BridgeShelf(folder, bridgeSize) },
	place:   map[string]func(string) string{"image": in("skua-2.6.pws")},
}, Scene{
	Name:    "over-the-shell",
	Shows:   "system written over a shell",
	Title:   "a wireless bridge that fetches its next system by HTTP and writes it over its shell",
	Place:   "mare-br1",
	Runbook: "write-over-the-shell",
	Speed:   115200,
	Inputs:  map[string]string{"user": user, "password": password, "address": bridgeAddress.Addr().String()},
	files:   func(folder string) error { return BridgeShelf(folder, bridgeSize) },
	place:   map[string]func(string) string{"image": in("skua-2.6.pws")},
}, Scene{
	Name:    "recovery-put",
	Shows:   "put into a recovery loader",
	Title:   "a wireless bridge whose recovery loader takes one file while its window is open",
	Place:   "ramp-br1",
	Runbook: "recovery-put",
	Speed:   115200,
	Inputs:  map[string]string{"user": user, "password": password, "address": bridgeAddress.Addr().String()},
	files:   func(folder string) error { return BridgeShelf(folder, bridgeSize) },
	place:   map[string]func(string) string{"image": in("skua-2.6.pws")},
})

// bridgeSize is the size of the bridges' systems, their heads left out.
const bridgeSize = 1_572_864

// bridgeSystem is a system for the bridges, by its release.
func bridgeSystem(release string) pellow.System {
	built := map[string]string{"2.4": "2026-02-11", "2.6": "2026-10-14"}[release]
	return pellow.System{Release: release, Models: []string{"W3"}, Built: built}
}

// BridgeSystem is an image for the bridges.
func BridgeSystem(release string, size int) []byte {
	return pellow.MakeSystem(bridgeSystem(release), size)
}

// Bridge is a wireless bridge as it stands when a scene begins: with 2.4 in its flash, whole and running, or cut off
// while it was written. Size is that of its systems.
func Bridge(lan *bench.LAN, size int, broken bool) *pellow.Bridge {
	name, serial := "mare-br1", "PW3-000218"
	if broken {
		name, serial = "ramp-br1", "PW3-000231"
	}
	b := pellow.New(pellow.Settings{
		Model:    "W3",
		HostName: name,
		Serial:   serial,
		Login:    user,
		Word:     password,
		Address:  bridgeAddress,
	}, lan)
	if err := b.Install(BridgeSystem("2.4", size), broken); err != nil {
		panic(err) // of whoever makes the scene
	}
	if !broken {
		b.Warm()
	}
	return b
}

// BridgeShelf makes the shelf of the bridges' scenes in a folder: the wanted system and the older one, each with the
// build description that is published beside it, one for another board, and one that is larger than the part that it
// goes to.
func BridgeShelf(folder string, size int) error {
	s := shelfIn(folder)
	for _, release := range []string{"2.6", "2.4"} {
		data, name := BridgeSystem(release, size), "skua-"+release+".pws"
		s.publish(name, data)
		s.put(name+".build", []byte(pellow.Describe(bridgeSystem(release), len(data))))
	}
	s.put("skua-2.6-w5.pws",
		pellow.MakeSystem(pellow.System{Release: "2.6", Models: []string{"W5"}, Built: "2026-10-14"}, size/4))
	s.put("skua-3.0.pws",
		pellow.MakeSystem(pellow.System{Release: "3.0", Models: []string{"W3"}, Built: "2026-11-02"}, 8<<20))
	return s.with(sha256Sums)
}

var bridgeAddress = netip.MustParsePrefix("192.0.2.45/24")
