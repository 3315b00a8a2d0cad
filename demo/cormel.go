package demo

import (
	"archive/zip"
	"bytes"
	"errors"
	"net/netip"

	"pilotrix/bench"
	"pilotrix/bench/cormel"
)

var _ = add(Place{
	Name: "mare-gw1", Where: "Grey Mare", Family: "Cormel G2", Dialect: "cormel-g2",
	About: "runs lark 7.4.2 from bank A; bank B holds 7.2.0",
	build: func(lan *bench.LAN) bench.Device { return Gateway(lan, gatewaySize) },
})

var _ = show(Scene{
	Name:    "bank-upgrade",
	Shows:   "bank change",
	Title:   "a voice gateway's standby bank upgraded over TFTP, by way of an intermediate release",
	Place:   "mare-gw1",
	Runbook: "standby-bank-upgrade",
	Speed:   57600,
	Inputs:  map[string]string{"user": user, "password": password, "upgrade_paths": "cormel-g2"},
	files:   func(folder string) error { return GatewayShelf(folder, gatewaySize) },
	stick: func(folder string) error {
		return write(folder, "lark-7.6.1.cgo", GatewayImage("7.6.1", gatewaySize))
	},
	place: map[string]func(string) string{
		"image": in("lark-8.1.0.cgo"),
		"into":  func(folder string) string { return folder },
	},
})

// gatewaySize is the size of the gateway's images, their heads left out.
const gatewaySize = 5_242_880

// Gateway is the voice gateway on Grey Mare as it stands when a scene begins. Size is that of the images
// in its banks.
func Gateway(lan *bench.LAN, size int) *cormel.Gateway {
	g := cormel.New(cormel.Settings{
		Model:    "G2-4",
		HostName: "mare-gw1",
		Serial:   gatewaySerial,
		Login:    user,
		Word:     password,
		Boot:     "2.1",
		Address:  gatewayAddress,
	}, lan)
	g.Install("A", GatewayImage("7.4.2", size))
	g.Install("B", GatewayImage("7.2.0", size))
	g.Warm()
	return g
}

const gatewaySerial = "CG2-004711"

// GatewayImage is an image for the voice gateways.
func GatewayImage(release string, size int) []byte {
	return cormel.MakeCargo(
		cormel.Cargo{Release: release, Models: []string{"G2-4", "G2-8"}, Boot: "2.0", Licence: release[:1]}, size)
}

// GatewayLicence is the licence of the gateway on Grey Mare for a release.
func GatewayLicence(release string) []byte { return cormel.MakeLicence(release, gatewaySerial) }

// GatewayShelf makes the shelf of the voice gateway's scene in a folder: the wanted image, the
// intermediate one inside an archive, a licence, two that do not fit, and one whose published digest is
// another's.
func GatewayShelf(folder string, size int) error {
	between := GatewayImage("7.6.1", size)
	larger := cormel.MakeCargo(cormel.Cargo{Release: "8.1.0", Models: []string{"G2-16"}, Boot: "2.0", Licence: "8"},
		size/4)
	newer := cormel.MakeCargo(
		cormel.Cargo{Release: "8.3.0", Models: []string{"G2-4", "G2-8"}, Boot: "3.0", Licence: "8"}, size/4)
	archive, err := zipped("lark-7.6.1.cgo", between)
	if err != nil {
		return err
	}
	s := shelfIn(folder)
	s.publish("lark-8.1.0.cgo", GatewayImage("8.1.0", size))
	s.publish("lark-7.6.1.zip", archive)
	s.put("lark-8.1.0-g2-16.cgo", larger)
	s.put("lark-8.3.0.cgo", newer)
	s.put("card-line-3.4.cgo", CardFirmware("line", "3.4"))
	s.lists("card-line-3.4.cgo", larger) // another's digest
	s.put("mare-gw1-8.licence", GatewayLicence("8"))
	return s.with(sha256Sums)
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

var gatewayAddress = netip.MustParsePrefix("192.0.2.41/24")
