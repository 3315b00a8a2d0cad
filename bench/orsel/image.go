package orsel

import (
	"strings"

	"pilotrix/bench"
)

// An image says in its head models, release, and which models of access points it has firmware for.
const magic = "ORSEL IMAGE 1"

// Load is what an image's head says.
type Load struct {
	Release        string
	Models, Points []string
	Least          string // the release that it wants to come from, empty for any
}

// MakeLoad makes one on the spot, the same for the same arguments. Size counts the body.
func MakeLoad(l Load, size int) []byte {
	models := strings.Join(l.Models, ", ")
	return bench.MakeImage(
		magic,
		l.Release+models,
		size,
		bench.Field{Name: "maker", Value: "Orsel"},
		bench.Field{Name: "models", Value: models},
		bench.Field{
			Name:  "release",
			Value: l.Release,
		},
		bench.Field{Name: "points", Value: strings.Join(l.Points, ", ")},
		bench.Field{Name: "comes from", Value: l.Least},
	)
}

// readLoad checks one whole.
func readLoad(data []byte) (Load, error) {
	fields, _, err := bench.ReadImage(data, magic)
	return Load{
		Release: fields["release"],
		Models:  strings.Split(fields["models"], ", "),
		Points:  strings.Split(fields["points"], ", "),
		Least:   fields["comes from"],
	}, err
}
