package dunlin

import "pilotrix/bench"

// A package says in its head its part, its release and the architecture that it is built for.
const magic = "DUNLIN PACKAGE 1"

// Package is what a package's head says.
type Package struct{ Part, Release, Architecture string }

// MakePackage makes one on the spot, the same for the same arguments. Size counts the body.
func MakePackage(p Package, size int) []byte {
	return bench.MakeImage(
		magic,
		p.Part+p.Release+p.Architecture,
		size,
		bench.Field{Name: "maker", Value: "Dunlin"},
		bench.Field{
			Name:  "part",
			Value: p.Part,
		},
		bench.Field{Name: "release", Value: p.Release},
		bench.Field{Name: "architecture", Value: p.Architecture},
	)
}

// readPackage checks one whole.
func readPackage(data []byte) (Package, error) {
	fields, _, err := bench.ReadImage(data, magic)
	return Package{Part: fields["part"], Release: fields["release"], Architecture: fields["architecture"]}, err
}
