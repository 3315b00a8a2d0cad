package maskel

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/bench"
)

// A load says in its head maker, models, release, and the least boot firmware.
const magic = "MASKEL LOAD 1"

// Load is what a load's head says.
type Load struct {
	Release string
	Models  []string
	Boot    string // the least boot firmware
}

// MakeLoad makes one on the spot, the same for the same arguments. Size counts the body.
func MakeLoad(l Load, size int) []byte {
	models := strings.Join(l.Models, ", ")
	return bench.MakeImage(magic, l.Release+models, size, bench.Field{Name: "maker", Value: "Maskel"},
		bench.Field{Name: "models", Value: models}, bench.Field{Name: "release", Value: l.Release},
		bench.Field{Name: "boot firmware", Value: l.Boot})
}

// readLoad checks one whole.
func readLoad(data []byte) (Load, error) {
	fields, _, err := bench.ReadImage(data, magic)
	return Load{
		Release: fields["release"],
		Models:  strings.Split(fields["models"], ", "),
		Boot:    fields["boot firmware"],
	}, err
}

// fits holds a load against a unit.
func (l Load) fits(u *unit) error {
	if !slices.Contains(l.Models, u.Model) {
		return fmt.Errorf("made for %s, this is %s", strings.Join(l.Models, " and "), u.Model)
	}
	if bench.Older(u.Boot, l.Boot) {
		return fmt.Errorf("wants boot firmware %s, this has %s", l.Boot, u.Boot)
	}
	return nil
}
