// Package demo is the scenario: the Orsholm harbour authority's devices, the scenes that are played on them, and the images, made on
// the spot.
package demo

import (
	"archive/zip"
	"bytes"
	"cmp"
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"pilotrix/bench"
	"pilotrix/bench/brindle"
	"pilotrix/bench/cormel"
	"pilotrix/bench/maskel"
	"pilotrix/bench/pellow"
	"pilotrix/bench/tamsin"
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
		build: func(*bench.LAN) bench.Device {
			r := brindle.New("R40-2", "hollow-rtr1", user, password)
			r.SaveConfiguration("2026-03-02")
			r.Install("tern-4.0.7.brm", brindle.MakeImage("4.0.7", []string{"R40-1", "R40-2"}, 1_150_976), true)
			return r
		},
	},
	"mare-rtr1": {
		Name: "mare-rtr1", Where: "Grey Mare", Family: "Brindle R40", Dialect: "brindle-r40",
		About: "runs tern 4.0.7; its one store holds that and an older release",
		build: func(lan *bench.LAN) bench.Device { return Router(lan, routerSize) },
	},
	"mare-gw1": {
		Name: "mare-gw1", Where: "Grey Mare", Family: "Cormel G2", Dialect: "cormel-g2",
		About: "runs lark 7.4.2 from bank A; bank B holds 7.2.0",
		build: func(lan *bench.LAN) bench.Device { return Gateway(lan, gatewaySize) },
	},
	"quay-er1": {
		Name: "quay-er1", Where: "Orsholm quay", Family: "Tamsin E8", Dialect: "tamsin-e8",
		About: "runs marl 5.2, which lasts; a new system runs on trial there",
		build: func(lan *bench.LAN) bench.Device { return Edge(lan, edgeSize) },
	},
	"tangle-sw1": {
		Name: "tangle-sw1", Where: "Tangle Ness", Family: "Maskel S24", Dialect: "maskel-s24",
		About: "a stack of three that runs strand 3.1; all units have to get the same release",
		build: func(lan *bench.LAN) bench.Device { return Switches(lan, StackSettings()) },
	},
	"ramp-br1": {
		Name: "ramp-br1", Where: "Tangle Ness", Family: "Pellow W3", Dialect: "pellow-w3",
		About: "its system was cut off while it was written: it restarts over and over",
		build: func(lan *bench.LAN) bench.Device { return Bridge(lan, bridgeSize, true) },
	},
	"tangle-sw2": {
		Name: "tangle-sw2", Where: "Tangle Ness", Family: "Maskel S8", Dialect: "maskel-s8",
		About: "came out of its box just now: it asks for an address, and has no setup",
		build: func(lan *bench.LAN) bench.Device { return NewSwitch(lan) },
	},
	"ness-rt1": {
		Name: "ness-rt1", Where: "Tangle Ness", Family: "Dunlin N1", Dialect: "dunlin-n1",
		About: "runs reed 6.4 in three packages on a board with firmware of its own; reached by its shell session only",
		build: func(lan *bench.LAN) bench.Device { return Packages(lan) },
	},
	"quay-wc1": {
		Name: "quay-wc1", Where: "Orsholm quay", Family: "Orsel C1", Dialect: "orsel-c1",
		About: "runs linnet 3.4 with a dozen access points; reached by its shell session only",
		build: func(lan *bench.LAN) bench.Device { return Controller(lan, "3.4") },
	},
	"mare-br1": {
		Name: "mare-br1", Where: "Grey Mare", Family: "Pellow W3", Dialect: "pellow-w3",
		About: "runs skua 2.4 from its flash",
		build: func(lan *bench.LAN) bench.Device { return Bridge(lan, bridgeSize, false) },
	},
}

// gatewaySize is the size of the gateway's images, their heads left out.
const gatewaySize = 5_242_880

// Gateway is the voice gateway on Grey Mare as it stands when a scene begins. Size is that of the images
// in its banks.
func Gateway(lan *bench.LAN, size int) *cormel.Gateway {
	g := cormel.New(cormel.Settings{
		Model: "G2-4", HostName: "mare-gw1", Serial: gatewaySerial, Login: user, Word: password, Boot: "2.1", Address: gatewayAddress,
	}, lan)
	g.Install("A", GatewayImage("7.4.2", size))
	g.Install("B", GatewayImage("7.2.0", size))
	g.Warm()
	return g
}

const gatewaySerial = "CG2-004711"

// Addresses of the scenario, from the range for documentation (RFC 5737).
var (
	routerAddress  = netip.MustParsePrefix("192.0.2.31/24")
	gatewayAddress = netip.MustParsePrefix("192.0.2.41/24")
	edgeAddress    = netip.MustParsePrefix("192.0.2.21/24")
	bridgeAddress  = netip.MustParsePrefix("192.0.2.45/24")
	stackAddress   = netip.MustParsePrefix("192.0.2.60/24")
	LaptopAddress  = netip.MustParsePrefix("192.0.2.10/24")
)

// GatewayImage is an image for the voice gateways.
func GatewayImage(release string, size int) []byte {
	return cormel.MakeCargo(cormel.Cargo{Release: release, Models: []string{"G2-4", "G2-8"}, Boot: "2.0", Licence: release[:1]}, size)
}

// GatewayLicence is the licence of the gateway on Grey Mare for a release.
func GatewayLicence(release string) []byte { return cormel.MakeLicence(release, gatewaySerial) }

// edgeSize is the size of the edge router's images, their heads left out.
const edgeSize = 3_145_728

// Edge is the edge router on Orsholm quay as it stands when a scene begins. Size is that of its images.
func Edge(lan *bench.LAN, size int) *tamsin.Router {
	r := tamsin.New(tamsin.Settings{
		Model: "E8-1", HostName: "quay-er1", Serial: "TE8-000417", Login: user, Code: password, Address: edgeAddress,
		Setup: []string{"name quay-er1", "lan 192.0.2.21/24", "uplink from harbour-core", "tide gauges read every 60 s", "ramp lights by gauge"},
		Room:  9 * size,
	}, lan)
	r.Install(EdgeImage("5.2", size))
	r.Warm()
	return r
}

// EdgeImage is an image for the edge routers. What newer ones drop of a setup is not what this one's has.
func EdgeImage(release string, size int) []byte {
	return tamsin.MakeParcel(tamsin.Parcel{Release: release, Models: []string{"E8-1", "E8-2"}, Least: "5.0", Drops: []string{"old gauges"}}, size)
}

// EdgeShelf makes the shelf of the edge router's scene in a folder: the wanted image, one for another model, and one that
// wants a later release to come from.
func EdgeShelf(folder string, size int) error {
	wanted := EdgeImage("5.4", size)
	larger := tamsin.MakeParcel(tamsin.Parcel{Release: "5.4", Models: []string{"E8-16"}}, size/4)
	later := tamsin.MakeParcel(tamsin.Parcel{Release: "6.0", Models: []string{"E8-1", "E8-2"}, Least: "5.4", Drops: []string{"tide gauges"}}, size)
	sums := fmt.Sprintf("%x  marl-5.4.tms\n%x  marl-6.0.tms\n", sha512.Sum512(wanted), sha512.Sum512(later))
	for name, data := range map[string][]byte{"marl-5.4.tms": wanted, "marl-5.4-e8-16.tms": larger, "marl-6.0.tms": later, "SHA512SUMS": []byte(sums)} {
		if err := write(filepath.Join(folder, "shelf"), name, data); err != nil {
			return err
		}
	}
	return nil
}

// stackSize is the size of the stack's images, their heads left out.
const stackSize = 2_097_152

// StackSettings are those of the stack on Tangle Ness as it stands when a scene begins.
func StackSettings() maskel.Settings {
	unit := func(model string, ports int, serial string) maskel.Unit {
		return maskel.Unit{Model: model, Ports: ports, Serial: serial, Boot: "1.6"}
	}
	return maskel.Settings{
		HostName: "tangle-sw1", Login: user, Word: password, Address: stackAddress, Release: "3.1", Old: "2.8",
		Units: []maskel.Unit{unit("S24", 24, "MS24-000711"), unit("S24-48", 48, "MS24-000712"), unit("S24", 24, "MS24-000713")},
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
	return maskel.MakeLoad(maskel.Load{Release: release, Models: []string{"S24", "S24-48"}, Boot: "1.4"}, size)
}

// StackShelf makes the shelf of the stack's scene in a folder: the wanted image, the one that runs, one that is not for every
// unit, and one that wants newer boot firmware.
func StackShelf(folder string, size int) error {
	wanted, runs := StackImage("3.2", size), StackImage("3.1", size)
	small := maskel.MakeLoad(maskel.Load{Release: "3.2", Models: []string{"S24"}, Boot: "1.4"}, size/4)
	later := maskel.MakeLoad(maskel.Load{Release: "4.0", Models: []string{"S24", "S24-48"}, Boot: "2.0"}, size/4)
	sums := fmt.Sprintf("%x  strand-3.2.msl\n%x  strand-3.1.msl\n", sha256.Sum256(wanted), sha256.Sum256(runs))
	for name, data := range map[string][]byte{
		"strand-3.2.msl": wanted, "strand-3.1.msl": runs, "strand-3.2-s24.msl": small, "strand-4.0.msl": later, "SHA256SUMS": []byte(sums),
	} {
		if err := write(filepath.Join(folder, "shelf"), name, data); err != nil {
			return err
		}
	}
	return nil
}

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

// Bridge is a wireless bridge as it stands when a scene begins: with 2.4 in its flash, whole and running, or cut off while it
// was written. Size is that of its systems.
func Bridge(lan *bench.LAN, size int, broken bool) *pellow.Bridge {
	name, serial := "mare-br1", "PW3-000218"
	if broken {
		name, serial = "ramp-br1", "PW3-000231"
	}
	b := pellow.New(pellow.Settings{Model: "W3", HostName: name, Serial: serial, Login: user, Word: password, Address: bridgeAddress}, lan)
	if err := b.Install(BridgeSystem("2.4", size), broken); err != nil {
		panic(err) // of whoever makes the scene
	}
	if !broken {
		b.Warm()
	}
	return b
}

// BridgeShelf makes the shelf of the bridges' scenes in a folder: the wanted system and the older one, each with the build
// description that is published beside it, one for another board, and one that is larger than the part that it goes to.
func BridgeShelf(folder string, size int) error {
	shelf := filepath.Join(folder, "shelf")
	sums := ""
	for _, release := range []string{"2.6", "2.4"} {
		data, name := BridgeSystem(release, size), "skua-"+release+".pws"
		sums += fmt.Sprintf("%x  %s\n", sha256.Sum256(data), name)
		if err := errors.Join(write(shelf, name, data), write(shelf, name+".build", []byte(pellow.Describe(bridgeSystem(release), len(data))))); err != nil {
			return err
		}
	}
	other := pellow.MakeSystem(pellow.System{Release: "2.6", Models: []string{"W5"}, Built: "2026-10-14"}, size/4)
	large := pellow.MakeSystem(pellow.System{Release: "3.0", Models: []string{"W3"}, Built: "2026-11-02"}, 8<<20)
	return errors.Join(write(shelf, "skua-2.6-w5.pws", other), write(shelf, "skua-3.0.pws", large), write(shelf, "SHA256SUMS", []byte(sums)))
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

// PlaceNamed is one of them.
func PlaceNamed(name string) Place { return places[name] }

// Laptop is the laptop's place on a bench's LAN.
func Laptop(lan *bench.LAN) bench.LANHost { return lan.Host("eth0", LaptopAddress) }

// Machine brings a device of the scenario up, without power.
func Machine(name string, c clock.Clock, memory bool, lan *bench.LAN, awkward bench.Awkward) (*bench.Machine, Place, error) {
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

var scenes = map[string]Scene{
	"burn": {
		Name: "burn", Shows: "memory first, then flash", Title: "a wireless bridge that starts no more: a system tried from memory first, then burned into its flash", Place: "ramp-br1",
		Runbook: "try-then-burn", Speed: 115200,
		Inputs: map[string]string{"user": user, "password": password, "address": bridgeAddress.Addr().String()},
		files:  func(folder string) error { return BridgeShelf(folder, bridgeSize) },
		place:  map[string]func(string) string{"image": in("skua-2.6.pws")},
	},
	"controller": {
		Name: "controller", Shows: "a controller and what hangs on it", Title: "a wireless controller upgraded, then its access points followed one by one until the last is back", Place: "quay-wc1",
		Runbook: "controller-and-points",
		Inputs:  map[string]string{"user": user, "password": password, "upgrade_paths": "orsel-c1"},
		files:   func(folder string) error { return ControllerShelf(folder, controllerSize) },
		place:   map[string]func(string) string{"image": in("linnet-3.6.orl"), "into": func(folder string) string { return folder }},
	},
	"downgrade": {
		Name: "downgrade", Shows: "two layers, and down", Title: "a router's packages, then its board's firmware, brought down to an older release until all layers agree", Place: "ness-rt1",
		Runbook: "packages-and-board",
		Inputs:  map[string]string{"user": user, "password": password},
		files:   func(folder string) error { return PackagesShelf(folder, packagesSize) },
		place:   map[string]func(string) string{"image": in(PackageName("core", "6.2", "oak64")), "into": func(folder string) string { return folder }},
	},
	"first-boot": {
		Name: "first-boot", Shows: "a new device provisions itself", Title: "a new switch given an address, its image and its configuration, and followed from its first question to its web page", Place: "tangle-sw2",
		Runbook: "first-boot", Speed: 38400,
		Inputs: map[string]string{"user": user, "password": password, "name": "tangle-sw2", "model": "S8", "console": "yes"},
		files:  func(folder string) error { return NewSwitchShelf(folder, newSwitchSize) },
		place:  map[string]func(string) string{"image": in("strand-s8-3.2.msl"), "configuration": in("tangle-sw2.setup")},
	},
	"one-store": {
		Name: "one-store", Shows: "one store", Title: "a router whose next image has to find room in the one store beside the running one", Place: "mare-rtr1",
		Runbook: "one-store-upgrade", Speed: 9600,
		Inputs: map[string]string{"user": user, "password": password, "tidy": "yes"},
		files:  func(folder string) error { return RouterShelf(folder, routerSize) },
		place:  map[string]func(string) string{"image": in("tern-4.2.1.brm"), "into": func(folder string) string { return folder }},
	},
	"over-the-shell": {
		Name: "over-the-shell", Shows: "system written over a shell", Title: "a wireless bridge that fetches its next system by HTTP and writes it over its shell", Place: "mare-br1",
		Runbook: "write-over-the-shell", Speed: 115200,
		Inputs: map[string]string{"user": user, "password": password, "address": bridgeAddress.Addr().String()},
		files:  func(folder string) error { return BridgeShelf(folder, bridgeSize) },
		place:  map[string]func(string) string{"image": in("skua-2.6.pws")},
	},
	"recovery-put": {
		Name: "recovery-put", Shows: "put into a recovery loader", Title: "a wireless bridge whose recovery loader takes one file while its window is open", Place: "ramp-br1",
		Runbook: "recovery-put", Speed: 115200,
		Inputs: map[string]string{"user": user, "password": password, "address": bridgeAddress.Addr().String()},
		files:  func(folder string) error { return BridgeShelf(folder, bridgeSize) },
		place:  map[string]func(string) string{"image": in("skua-2.6.pws")},
	},
	"rescue": {
		Name: "rescue", Shows: "lost image", Title: "a router without an image, rescued over its console", Place: "hollow-rtr1",
		Runbook: "rescue-over-serial", Speed: 38400,
		Inputs: map[string]string{"user": user, "password": password},
		files: func(folder string) error {
			return write(filepath.Join(folder, "shelf"), "tern-"+rescueRelease+".brm", rescueImage())
		},
		place: map[string]func(string) string{"image": in("tern-" + rescueRelease + ".brm")},
	},
	"bank-upgrade": {
		Name: "bank-upgrade", Shows: "bank change", Title: "a voice gateway's standby bank upgraded over TFTP, by way of an intermediate release", Place: "mare-gw1",
		Runbook: "standby-bank-upgrade", Speed: 57600,
		Inputs: map[string]string{"user": user, "password": password, "upgrade_paths": "cormel-g2"},
		files:  func(folder string) error { return GatewayShelf(folder, gatewaySize) },
		stick: func(folder string) error {
			return write(folder, "lark-7.6.1.cgo", GatewayImage("7.6.1", gatewaySize))
		},
		place: map[string]func(string) string{"image": in("lark-8.1.0.cgo"), "into": func(folder string) string { return folder }},
	},
	"stack": {
		Name: "stack", Shows: "many as one", Title: "a stack of three switches upgraded as one: every unit filled, then restarted, each proved", Place: "tangle-sw1",
		Runbook: "stack-upgrade", Speed: 38400,
		Inputs: map[string]string{"user": user, "password": password},
		files:  func(folder string) error { return StackShelf(folder, stackSize) },
		stick: func(folder string) error {
			return write(folder, "strand-3.2.msl", StackImage("3.2", stackSize))
		},
		place: map[string]func(string) string{"image": in("strand-3.2.msl"), "into": func(folder string) string { return folder }},
	},
	"trial": {
		Name: "trial", Shows: "on trial", Title: "an edge router's new release installed, run on trial, confirmed in time and made lasting", Place: "quay-er1",
		Runbook: "install-and-confirm", Speed: 115200,
		Inputs: map[string]string{"user": user, "password": password, "minutes": "15"},
		files:  func(folder string) error { return EdgeShelf(folder, edgeSize) },
		stick:  func(folder string) error { return write(folder, "marl-5.4.tms", EdgeImage("5.4", edgeSize)) },
		place:  map[string]func(string) string{"image": in("marl-5.4.tms"), "into": func(folder string) string { return folder }},
	},
}

func in(name string) func(string) string {
	return func(folder string) string { return filepath.Join(folder, "shelf", name) }
}

func write(folder, name string, data []byte) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, name), data, 0o600)
}

// GatewayShelf makes the shelf of the voice gateway's scene in a folder: the wanted image, the
// intermediate one inside an archive, a licence, two that do not fit, and one whose published digest is
// another's.
func GatewayShelf(folder string, size int) error {
	wanted, between := GatewayImage("8.1.0", size), GatewayImage("7.6.1", size)
	larger := cormel.MakeCargo(cormel.Cargo{Release: "8.1.0", Models: []string{"G2-16"}, Boot: "2.0", Licence: "8"}, size/4)
	newer := cormel.MakeCargo(cormel.Cargo{Release: "8.3.0", Models: []string{"G2-4", "G2-8"}, Boot: "3.0", Licence: "8"}, size/4)
	archive, err := zipped("lark-7.6.1.cgo", between)
	if err != nil {
		return err
	}
	sums := fmt.Sprintf("%x  lark-8.1.0.cgo\n%x  lark-7.6.1.zip\n%x  card-line-3.4.cgo\n", sha256.Sum256(wanted), sha256.Sum256(archive), sha256.Sum256(larger))
	for name, data := range map[string][]byte{
		"lark-8.1.0.cgo": wanted, "lark-7.6.1.zip": archive, "lark-8.1.0-g2-16.cgo": larger, "lark-8.3.0.cgo": newer,
		"card-line-3.4.cgo": CardFirmware("line", "3.4"), "mare-gw1-8.licence": GatewayLicence("8"), "SHA256SUMS": []byte(sums),
	} {
		if err := write(filepath.Join(folder, "shelf"), name, data); err != nil {
			return err
		}
	}
	return nil
}

// CardFirmware is an image for the gateway's cards.
func CardFirmware(kind, release string) []byte {
	return cormel.MakeCargo(cormel.Cargo{Release: release, Card: kind}, 180_000)
}

func zipped(name string, data []byte) ([]byte, error) {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	f, err := w.Create(name)
	if err == nil {
		_, err = f.Write(data)
	}
	err = errors.Join(err, w.Close())
	return out.Bytes(), err
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
