package brindle

import (
	"strings"

	"pilotrix/bench"
)

// An image of this family says in its head maker, models, release and architecture.
const magic = "BRINDLE IMAGE 1"

// Architecture is the one processor family that these routers have.
const Architecture = "wren32"

// ImageInfo is what an image's head says.
type ImageInfo struct {
	Models  []string
	Release string
}

// MakeImage makes an image on the spot, the same for the same arguments. Size counts the body.
func MakeImage(release string, models []string, size int) []byte {
	return bench.MakeImage(
		magic,
		release+strings.Join(models, ","),
		size,
		bench.Field{Name: "maker", Value: "Brindle"},
		bench.Field{
			Name:  "models",
			Value: strings.Join(models, ", "),
		},
		bench.Field{Name: "release", Value: release},
		bench.Field{Name: "architecture", Value: Architecture},
	)
}

// parseImage checks an image whole and returns it without what a transfer padded it with.
func parseImage(data []byte) (ImageInfo, []byte, error) {
	fields, whole, err := bench.ReadImage(data, magic)
	return ImageInfo{strings.Split(fields["models"], ", "), fields["release"]}, whole, err
}
