package cormel

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"strings"

	"pilotrix/bench"
)

// An image of this family, a cargo, says in its head maker, models, release, architecture, boot firmware and licence.
// Firmware of a card says card: line in place of models.
const (
	cargoMagic   = "CORMEL CARGO 1"
	cardMagic    = "CORMEL CARD CARGO 1"
	licenceMagic = "CORMEL LICENCE 1"
)

// Architecture is the processor family of these gateways.
const Architecture = "plover64"

// Cargo is what an image's head says.
type Cargo struct {
	Release string
	Models  []string
	Card    string
	Boot    string // the least boot firmware
	Licence string // the release that it has to be licensed for
}

// MakeCargo makes an image on the spot, the same for the same arguments. Size counts the body.
func MakeCargo(c Cargo, size int) []byte {
	magic := cargoMagic
	if c.Card != "" {
		magic = cardMagic
	}
	models := strings.Join(c.Models, ", ")
	return bench.MakeImage(
		magic,
		c.Release+c.Card+strings.Join(c.Models, ","),
		size,
		bench.Field{Name: "maker", Value: "Cormel"},
		bench.Field{
			Name:  "models",
			Value: models,
		},
		bench.Field{Name: "card", Value: c.Card},
		bench.Field{Name: "release", Value: c.Release},
		bench.Field{
			Name:  "architecture",
			Value: Architecture,
		},
		bench.Field{Name: "boot firmware", Value: c.Boot},
		bench.Field{Name: "licence", Value: c.Licence},
	)
}

// MakeLicence makes a licence file for a release and a device.
func MakeLicence(release, serial string) []byte {
	sum := sha256.Sum256([]byte(release + serial))
	return []byte(fmt.Sprintf("%s\nfor release: %s\nserial: %s\nseal: %x\n", licenceMagic, release, serial, sum[:8]))
}

// readLicence checks a licence file and returns the release that it is for.
func readLicence(data []byte, serial string) (string, error) {
	fields, _, err := bench.ReadHead(data, licenceMagic)
	if err != nil {
		return "", fmt.Errorf("not a licence")
	}
	release := fields["for release"]
	switch {
	case fields["serial"] != serial:
		return "", fmt.Errorf("it is for serial %s, this is %s", fields["serial"], serial)
	case !bytes.Equal(data, MakeLicence(release, serial)):
		return "", fmt.Errorf("its seal is broken")
	}
	return release, nil
}

// readCargo checks an image whole: nothing may stand after it.
func readCargo(data []byte, magic string) (Cargo, error) {
	fields, whole, err := bench.ReadImage(data, magic)
	if fields == nil {
		return Cargo{}, err
	}
	c := Cargo{
		Release: fields["release"],
		Models:  strings.Split(fields["models"], ", "),
		Card:    fields["card"],
		Boot:    fields["boot firmware"],
		Licence: fields["licence"],
	}
	switch {
	case err != nil:
		return c, err
	case len(whole) != len(data):
		return c, fmt.Errorf("%d B stand behind it", len(data)-len(whole))
	case fields["architecture"] != Architecture:
		return c, fmt.Errorf("built for %s", fields["architecture"])
	}
	return c, nil
}
