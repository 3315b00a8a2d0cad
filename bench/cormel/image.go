package cormel

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
)

// An image of this family, a cargo, is a head of text lines, an empty line, then the body:
//
//	CORMEL CARGO 1
//	maker: Cormel
//	models: G2-4, G2-8
//	release: 7.6.1
//	architecture: plover64
//	boot firmware: 2.0
//	licence: 7
//	length: 5242880
//	digest: <sha256 of the body, hexadecimal>
//
// Firmware of a card begins with CORMEL CARD CARGO 1 and has card: line in place of models.
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
	random := rand.NewChaCha8(sha256.Sum256([]byte(c.Release + c.Card + strings.Join(c.Models, ","))))
	body := make([]byte, size)
	_, _ = random.Read(body)
	digest := sha256.Sum256(body)
	var out bytes.Buffer
	magic := cargoMagic
	if c.Card != "" {
		magic = cardMagic
	}
	fmt.Fprintf(&out, "%s\nmaker: Cormel\n", magic)
	for _, line := range [][2]string{
		{"models", strings.Join(c.Models, ", ")},
		{"card", c.Card},
		{"release", c.Release},
		{"architecture", Architecture},
		{"boot firmware", c.Boot},
		{"licence", c.Licence},
		{"length", strconv.Itoa(size)},
		{"digest", hex.EncodeToString(digest[:])},
	} {
		if line[1] != "" {
			fmt.Fprintf(&out, "%s: %s\n", line[0], line[1])
		}
	}
	out.WriteByte('\n')
	out.Write(body)
	return out.Bytes()
}

// MakeLicence makes a licence file for a release and a device.
func MakeLicence(release, serial string) []byte {
	sum := sha256.Sum256([]byte(release + serial))
	return []byte(fmt.Sprintf("%s\nfor release: %s\nserial: %s\nseal: %x\n", licenceMagic, release, serial, sum[:8]))
}

// readLicence checks a licence file and returns the release that it is for.
func readLicence(data []byte, serial string) (string, error) {
	fields, _, err := head(data, licenceMagic)
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

func head(data []byte, magic string) (fields map[string]string, body []byte, err error) {
	text, body, _ := bytes.Cut(data, []byte("\n\n"))
	lines := strings.Split(strings.TrimRight(string(text[:min(len(text), 4096)]), "\n"), "\n")
	if lines[0] != magic {
		return nil, nil, fmt.Errorf("not of this family")
	}
	fields = map[string]string{}
	for _, line := range lines[1:] {
		key, value, _ := strings.Cut(line, ": ")
		fields[key] = value
	}
	return fields, body, nil
}

// readCargo checks an image whole.
func readCargo(data []byte, magic string) (Cargo, error) {
	fields, body, err := head(data, magic)
	if err != nil {
		return Cargo{}, err
	}
	c := Cargo{Release: fields["release"], Models: strings.Split(fields["models"], ", "), Card: fields["card"], Boot: fields["boot firmware"], Licence: fields["licence"]}
	length, _ := strconv.Atoi(fields["length"])
	sum := sha256.Sum256(body)
	switch {
	case length <= 0 || len(body) != length:
		return c, fmt.Errorf("cut short: %d of %d B", len(body), length)
	case hex.EncodeToString(sum[:]) != fields["digest"]:
		return c, fmt.Errorf("not sound: its digest does not match")
	case fields["architecture"] != Architecture:
		return c, fmt.Errorf("built for %s", fields["architecture"])
	}
	return c, nil
}
