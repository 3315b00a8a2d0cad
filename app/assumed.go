package app

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/image"
	"pilotrix/core/shipped"
)

// Assume takes facts, name=value, that are assumed rather than read.
func Assume(texts []string) (*device.Facts, error) {
	facts := &device.Facts{}
	for _, text := range texts {
		name, value, found := strings.Cut(text, "=")
		if !found {
			return nil, fmt.Errorf("%s: want name=value", text)
		}
		if err := knownFact(name); err != nil {
			return nil, err
		}
		fact := device.Fact{Name: name, Text: value, Value: value, Source: "assumed"}
		if release, err := device.ParseRelease(value); err == nil && strings.HasSuffix(name, "release") {
			fact.Value = release
		}
		facts.Set(fact)
	}
	return facts, nil
}

// fitFacts are the facts that the fit of an image is judged by.
var fitFacts = append(
	[]string{image.FactModel, image.FactArchitecture, image.FactBoot, image.FactLicence, image.FactRelease},
	image.FactsFree...)

// knownFact refuses a fact that is none, which would be held against nothing.
func knownFact(name string) error {
	if slices.Contains(fitFacts, name) {
		return nil
	}
	for _, one := range shipped.DialectNames() {
		if d, err := shipped.Dialect(one); err == nil && d.Knows(name) {
			return nil
		}
	}
	return fmt.Errorf("%s: no image is held against that; the facts are %s", name, strings.Join(fitFacts, ", "))
}
