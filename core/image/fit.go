package image

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/units"
)

// Verdict is what a fit comes to.
type Verdict string

// The verdicts, the worst first.
const (
	No      Verdict = "no"      // it must not be put on this device
	First   Verdict = "first"   // something has to be done before
	Unknown Verdict = "unknown" // the device, or the image, does not say enough
	Yes     Verdict = "yes"
)

var worst = []Verdict{No, First, Unknown, Yes}

// Reason is one thing that was held against the device.
type Reason struct {
	What    string  `json:"what"`
	Verdict Verdict `json:"verdict"`
	Text    string  `json:"text"`
}

// Fit is whether an image is for a device, with a reason for everything that was looked at.
type Fit struct {
	Verdict Verdict  `json:"verdict"`
	Reasons []Reason `json:"reasons"`
}

// Against lists the reasons that speak against it, the worst first.
func (f Fit) Against() (against []Reason) {
	for _, verdict := range worst[:3] {
		for _, r := range f.Reasons {
			if r.Verdict == verdict {
				against = append(against, r)
			}
		}
	}
	return against
}

// Text is the fit in one line.
func (f Fit) Text() string {
	against := f.Against()
	if len(against) == 0 {
		return "fits"
	}
	texts := make([]string, len(against))
	for i, r := range against {
		texts[i] = r.Text
	}
	return strings.Join(texts, "; ")
}

// Facts by which dialects say what the fit needs to know.
const (
	FactModel        = "device.model"
	FactArchitecture = "device.architecture"
	FactBoot         = "device.boot"
	FactLicence      = "device.licence"
	FactRelease      = "running.release"
)

// FactsFree are the facts that say the room for an image, the first that is known counts.
var FactsFree = []string{"standby.room", "store.free"}

// FitTo holds an item against what was read from a device.
func (i Item) FitTo(facts *device.Facts) Fit {
	f := Fit{Verdict: Yes}
	add := func(what string, verdict Verdict, text string) {
		f.Reasons = append(f.Reasons, Reason{what, verdict, text})
	}
	i.fitFile(add)
	if i.Says[SaysCompanion] == "" && i.Problem == "" {
		i.fitKind(facts, add)
		i.fitRoom(facts, add)
		i.fitRelease(facts, add)
		i.fitLicence(facts, add)
	}
	for _, verdict := range worst {
		if slices.ContainsFunc(f.Reasons, func(r Reason) bool { return r.Verdict == verdict }) {
			f.Verdict = verdict
			break
		}
	}
	return f
}

type reasons func(what string, verdict Verdict, text string)

// fitFile looks at the file alone.
func (i Item) fitFile(add reasons) {
	switch {
	case i.Problem != "":
		add("file", No, "it cannot be used: "+i.Problem)
	case i.Broken():
		for _, p := range i.Published {
			if !p.Holds {
				add("digest", No, p.Differs())
			}
		}
	case len(i.Lists) > 0:
		for _, reason := range i.Lists {
			add("digest", Unknown, reason)
		}
	case i.Proved():
		add("digest", Yes, fmt.Sprintf("%s as published in %s", i.Published[0].Algorithm, i.Published[0].From))
	}
}

func text(facts *device.Facts, name string) (string, bool) {
	fact, known := facts.Get(name)
	return fact.Text, known && fact.Text != ""
}

func words(list string) []string {
	return strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' || r == ';' })
}

// fitKind holds models, architecture and boot firmware against the device's.
func (i Item) fitKind(facts *device.Facts, add reasons) {
	if models, said := i.Says[SaysModels]; said {
		model, known := text(facts, FactModel)
		switch {
		case !known:
			add("model", Unknown, "the device's model was not read yet")
		case slices.ContainsFunc(words(models), func(m string) bool { return strings.EqualFold(m, model) }):
			add("model", Yes, "made for "+model)
		default:
			add("model", No, fmt.Sprintf("made for %s; the device is %s", models, model))
		}
	} else if _, report := i.Says[SaysArchitecture]; !report { // what is made for an architecture goes on all of it
		add("model", Unknown, "it does not say which models it is for")
	}
	if architecture, said := i.Says[SaysArchitecture]; said {
		own, known := text(facts, FactArchitecture)
		switch {
		case !known:
			add("architecture", Unknown, "the device's architecture was not read yet")
		case strings.EqualFold(own, architecture):
			add("architecture", Yes, architecture)
		default:
			add("architecture", No, fmt.Sprintf("built for %s; the device is %s", architecture, own))
		}
	}
	if least, said := i.Says[SaysBoot]; said {
		i.fitBoot(least, facts, add)
	}
}

func (i Item) fitBoot(least string, facts *device.Facts, add reasons) {
	own, known := text(facts, FactBoot)
	if !known {
		add("boot firmware", Unknown, fmt.Sprintf("needs boot firmware %s; the device's was not read yet", least))
		return
	}
	want, err := device.ParseRelease(least)
	have, errHave := device.ParseRelease(own)
	switch {
	case err != nil || errHave != nil:
		add("boot firmware", Unknown,
			fmt.Sprintf("needs boot firmware %s, the device has %s: they cannot be compared", least, own))
	case have.Compare(want) < 0:
		add("boot firmware", No, fmt.Sprintf("needs boot firmware %s; the device has %s", least, own))
	default:
		add("boot firmware", Yes, own)
	}
}

// fitRoom holds the size against the free room.
func (i Item) fitRoom(facts *device.Facts, add reasons) {
	for _, name := range FactsFree {
		free, known := text(facts, name)
		if !known {
			continue
		}
		room, err := units.ParseSize(free)
		switch {
		case err != nil:
			add("room", Unknown, fmt.Sprintf("the device's free room reads %q", free))
		case float64(i.Size) > room && float64(i.Size) <= room+heldBy(facts):
			add("room", First,
				fmt.Sprintf(
					"needs %d B; %.0f B are free, and images that are there have the rest: something has to go first",
					i.Size, room))
		case float64(i.Size) > room:
			add("room", No, fmt.Sprintf("needs %d B; %.0f B are free", i.Size, room))
		default:
			add("room", Yes, fmt.Sprintf("%.0f B free", room))
		}
		return
	}
}

// factStoreImages is the list of the images in a store that all of them share, by which more room can be made.
const factStoreImages = "store.images"

// heldBy is the room that the images of the device's one store have, in bytes.
func heldBy(facts *device.Facts) (total float64) {
	fact, _ := facts.Get(factStoreImages)
	rows, _ := fact.Value.([]map[string]any)
	for _, row := range rows {
		if size, ok := row["size"].(float64); ok {
			total += size
		}
	}
	return total
}

// fitRelease says the direction.
func (i Item) fitRelease(facts *device.Facts, add reasons) {
	running, known := text(facts, FactRelease)
	own, said := i.Release(orderOf(facts))
	now, err := orderOf(facts).Parse(running)
	if !known || !said || err != nil {
		return
	}
	switch order := own.Compare(now); {
	case order == 0:
		add("release", Yes, "the release that runs already")
	case order < 0:
		add("release", Yes, "older than the running "+running)
	default:
		add("release", Yes, "newer than the running "+running)
	}
}

func (i Item) fitLicence(facts *device.Facts, add reasons) {
	needs, said := i.Says[SaysLicence]
	if !said {
		return
	}
	has, known := text(facts, FactLicence)
	switch {
	case !known:
		add("licence", Unknown, "needs a licence for release "+needs+"; the device's was not read yet")
	case slices.Contains(words(has), needs):
		add("licence", Yes, "the device is licensed for release "+needs)
	default:
		add("licence", First,
			fmt.Sprintf("needs a licence for release %s first; the device has one for %s", needs, has))
	}
}
