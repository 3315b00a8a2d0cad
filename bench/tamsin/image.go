package tamsin

import (
	"fmt"
	"strings"

	"pilotrix/bench"
)

// A parcel says in its head maker, models, release, architecture, the least release to come from, and what of a setup
// it drops.
const magic = "TAMSIN PARCEL 1"

// Architecture is the processor family of these routers.
const Architecture = "heron64"

// Parcel is what a parcel's head says.
type Parcel struct {
	Release string
	Models  []string
	Least   string   // the release that it wants to come from, empty for any
	Drops   []string // beginnings of lines of a setup
	Length  int      // of its body, in bytes
}

// MakeParcel makes one on the spot, the same for the same arguments. Size counts the body.
func MakeParcel(p Parcel, size int) []byte {
	models := strings.Join(p.Models, ", ")
	return bench.MakeImage(magic, p.Release+models, size, bench.Field{Name: "maker", Value: "Tamsin"},
		bench.Field{Name: "models", Value: models}, bench.Field{Name: "release", Value: p.Release},
		bench.Field{Name: "architecture", Value: Architecture}, bench.Field{Name: "comes from", Value: p.Least},
		bench.Field{Name: "drops", Value: strings.Join(p.Drops, ", ")})
}

// readParcel checks one whole.
func readParcel(data []byte) (Parcel, error) {
	fields, whole, err := bench.ReadImage(data, magic)
	if err == nil && fields["architecture"] != Architecture {
		err = fmt.Errorf("built for %s", fields["architecture"])
	}
	p := Parcel{
		Release: fields["release"],
		Models:  strings.Split(fields["models"], ", "),
		Least:   fields["comes from"],
		Length:  len(whole),
	}
	if drops := fields["drops"]; drops != "" {
		p.Drops = strings.Split(drops, ", ")
	}
	return p, err
}
