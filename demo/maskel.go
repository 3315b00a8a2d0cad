package demo

import (
	"net/netip"

	"pilotrix/bench"
	"pilotrix/bench/maskel"
)

var _ = add(Place{
	Name: "tangle-sw1", Where: "Tangle Ness", Family: "Maskel S24", Dialect: "maskel-s24",
	About: "a stack of three that runs strand 3.1; all units have to get the same release",
	build: func(lan *bench.LAN) bench.Device { return Switches(lan, StackSettings()) },
}, Place{
	Name: "tangle-sw2", Where: "Tangle Ness", Family: "Maskel S8", Dialect: "maskel-s8",
	About: "came out of its box just now: it asks for an address, and has no setup",
	build: func(lan *bench.LAN) bench.Device { return NewSwitch(lan) },
})

var _ = show(Scene{
	Name:    "first-boot",
	Shows:   "a new device provisions itself",
	Title:   "a new switch given an address, its image and its configuration, and followed from its first question to its web page",
	Place:   "tangle-sw2",
	Runbook: "first-boot",
	Speed:   38400,
	Inputs: map[string]string{
		"user":     user,
		"password": password,
		"name":     "tangle-sw2",
		"model":    "S8",
		"console":  "yes",
	},
	files: func(folder string) error { return NewSwitchShelf(folder, newSwitchSize) },
	place: map[string]func(string) string{"image": in("strand-s8-3.2.msl"), "configuration": in("tangle-sw2.setup")},
}, Scene{
	Name:    "stack",
	Shows:   "many as one",
	Title:   "a stack of three switches upgraded as one: every unit filled, then restarted, each proved",
	Place:   "tangle-sw1",
	Runbook: "stack-upgrade",
	Speed:   38400,
	Inputs:  map[string]string{"user": user, "password": password},
	files:   func(folder string) error { return StackShelf(folder, stackSize) },
	stick: func(folder string) error {
		return write(folder, "strand-3.2.msl", StackImage("3.2", stackSize))
	},
	place: map[string]func(string) string{
		"image": in("strand-3.2.msl"),
		"into":  func(folder string) string { return folder },
	},
})

// newSwitchSize is the size of the new switch's images, their heads left out.
const newSwitchSize = 1_572_864

// NewSwitch is a switch as it comes, for Tangle Ness: without a setup, with an old release.
func NewSwitch(lan *bench.LAN) *maskel.NewSwitch {
	return maskel.NewOne(
		maskel.NewSettings{Model: "S8", Serial: "MS8-000104", MAC: [6]byte{2, 0, 0x5e, 0x10, 0, 1}, Runs: "2.8"}, lan)
}

// NewSwitchImage is an image for the new switches.
func NewSwitchImage(release string, size int) []byte {
	return maskel.MakeLoad(maskel.Load{Release: release, Models: []string{"S8", "S16"}, Boot: "1.0"}, size)
}

// NewSwitchSetup is the setup that was made for the new switch.
func NewSwitchSetup() []byte {
	return []byte("# setup of tangle-sw2, made on 2026-11-20\nname tangle-sw2\n" + maskel.UserLine(user,
		password) + "port 1 to 6 tide gauges\nport 7 to 8 uplink\n")
}

// NewSwitchShelf makes the shelf of that switch's scene in a folder: the wanted image, its setup, one whose name lies
// about its release, and one for another model.
func NewSwitchShelf(folder string, size int) error {
	s := shelfIn(folder)
	s.publish("strand-s8-3.2.msl", NewSwitchImage("3.2", size))
	s.publish("tangle-sw2.setup", NewSwitchSetup())
	s.put("strand-s8-3.3.msl", NewSwitchImage("3.1", size/4))
	s.put("strand-3.2-s24.msl", stackLoad("3.2", size/4, "1.4", "S24"))
	return s.with(sha256Sums)
}

// stackSize is the size of the stack's images, their heads left out.
const stackSize = 2_097_152

// StackSettings are those of the stack on Tangle Ness as it stands when a scene begins.
func StackSettings() maskel.Settings {
	unit := func(model string, ports int, serial string) maskel.Unit {
		return maskel.Unit{Model: model, Ports: ports, Serial: serial, Boot: "1.6"}
	}
	return maskel.Settings{
		HostName: "tangle-sw1",
		Login:    user,
		Word:     password,
		Address:  stackAddress,
		Release:  "3.1",
		Old:      "2.8",
		Units: []maskel.Unit{
			unit("S24", 24, "MS24-000711"),
			unit("S24-48", 48, "MS24-000712"),
			unit("S24", 24, "MS24-000713"),
		},
	}
}

// Switches is a stack of the scenario.
func Switches(lan *bench.LAN, s maskel.Settings) *maskel.Stack {
	t := maskel.New(s, lan)
	t.Warm()
	return t
}

// StackImage is an image for the stack.
func StackImage(release string, size int) []byte {
	return stackLoad(release, size, "1.4", "S24", "S24-48")
}

func stackLoad(release string, size int, boot string, models ...string) []byte {
	return maskel.MakeLoad(maskel.Load{Release: release, Models: models, Boot: boot}, size)
}

// StackShelf makes the shelf of the stack's scene in a folder: the wanted image, the one that runs, one that is not for
// every unit, and one that wants newer boot firmware.
func StackShelf(folder string, size int) error {
	s := shelfIn(folder)
	s.publish("strand-3.2.msl", StackImage("3.2", size))
	s.publish("strand-3.1.msl", StackImage("3.1", size))
	s.put("strand-3.2-s24.msl", stackLoad("3.2", size/4, "1.4", "S24"))
	s.put("strand-4.0.msl", stackLoad("4.0", size/4, "2.0", "S24", "S24-48"))
	return s.with(sha256Sums)
}

var stackAddress = netip.MustParsePrefix("192.0.2.60/24")
