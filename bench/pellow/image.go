package pellow

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/bench"
)

// A system of this family says in its head maker, models, release, architecture and when it was built.
const magic = "PELLOW SYSTEM 1"

// Architecture is the processor family of these bridges.
const Architecture = "dunlin32"

// System is what a system's head says.
type System struct {
	Release string
	Models  []string
	Built   string // a day
}

// MakeSystem makes one on the spot, the same for the same arguments. Size counts the body.
func MakeSystem(s System, size int) []byte {
	models := strings.Join(s.Models, ", ")
	return bench.MakeImage(
		magic,
		s.Release+models,
		size,
		bench.Field{Name: "maker", Value: "Pellow"},
		bench.Field{Name: "models", Value: models},
		bench.Field{
			Name:  "release",
			Value: s.Release,
		},
		bench.Field{Name: "architecture", Value: Architecture},
		bench.Field{Name: "built", Value: s.Built},
	)
}

// Describe is the build description that is published beside a system.
func Describe(s System, size int) string {
	return fmt.Sprintf("System: skua\nRelease: %s\nBuilt: %s\nBoards: %s\nSize: %d\n", s.Release, s.Built,
		strings.Join(s.Models, ", "), size)
}

// readSystem checks one whole; padding after it is left aside.
func readSystem(data []byte) (System, error) {
	fields, _, err := bench.ReadImage(data, magic)
	return System{
		Release: fields["release"],
		Models:  strings.Split(fields["models"], ", "),
		Built:   fields["built"],
	}, err
}

// fits reports whether it is built for a model.
func (s System) fits(model string) bool { return slices.Contains(s.Models, model) }
