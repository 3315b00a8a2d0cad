package runbook

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/image"
	"pilotrix/core/source"
	"pilotrix/core/units"
)

// Pick is something that an input may be, from what is available.
type Pick struct {
	Value string
	Text  string        // what it is
	Fit   image.Verdict // of an image, empty for all else
}

// Where the values of an input come from, besides lists of the dialect.
const (
	FromLaptop       = "laptop"        // the addresses of this laptop
	FromUpgradePaths = "upgrade-paths" // the files of allowed steps
)

// Picks lists what an input may be: images by how well they fit, choices, addresses of this laptop that reach the
// device first, values of a list that was read. It is empty where nothing is available; anything may be typed then.
func (r *Runbook) Picks(input Input, d *dialect.Dialect, kit Kit, facts *device.Facts) []Pick {
	switch {
	case input.Kind == KindImage:
		return imagePicks(kit.Shelf, facts, input.Input+" "+input.About)
	case input.Kind == KindChoice:
		return choicePicks(input.Choices)
	case input.From == FromLaptop:
		return laptopPicks(kit, facts)
	case input.From == FromUpgradePaths:
		return namePicks(kit.UpgradePathNames, d)
	case input.From != "":
		return listPicks(input.From, facts)
	case input.Kind == KindFolder && kit.Shelf != nil:
		return namePicks(kit.Shelf.Folders(), nil)
	}
	return nil
}

var fitOrder = []image.Verdict{image.Yes, image.First, image.Unknown, image.No}

// another reports of one item after the other whether the same file was there already, in another place.
func another() func(image.Item) bool {
	seen := map[[2]string]bool{}
	return func(item image.Item) bool {
		key := [2]string{item.Name, item.SHA256}
		there := seen[key] && item.SHA256 != ""
		seen[key] = true
		return there
	}
}

// imagePicks lists images by how well they fit. What only goes along with an image (a licence, firmware of a card)
// comes after them, unless the words of the input ask for just that.
func imagePicks(shelf *image.Shelf, facts *device.Facts, asked string) (all []Pick) {
	if shelf == nil {
		return nil
	}
	items := slices.DeleteFunc(shelf.Items(), another())
	names := map[string]int{}
	for _, item := range items {
		names[item.Name]++
	}
	aside := map[string]bool{}
	for _, item := range items {
		fit := item.FitTo(facts)
		words := []string{item.Says[image.SaysRelease], units.Bytes(item.Size), fitText(fit)}
		if item.Proved() {
			words = append(words, "as published")
		}
		pick := Pick{
			Value: item.Name,
			Text:  strings.Join(slices.DeleteFunc(words, func(w string) bool { return w == "" }), " · "),
			Fit:   fit.Verdict,
		}
		if item.Kind != "" {
			pick.Text = "a " + item.Kind + ", sent whole · " + pick.Text
		}
		if names[item.Name] > 1 {
			pick.Value = item.SHA256
			pick.Text = item.Name + " of " + item.Path + " · " + pick.Text
		}
		companion := item.Says[image.SaysCompanion]
		aside[pick.Value] = (companion != "") != (companion != "" && strings.Contains(strings.ToLower(asked),
			strings.ToLower(companion)))
		all = append(all, pick)
	}
	slices.SortStableFunc(all, func(a, b Pick) int {
		return cmp.Or(order(aside[a.Value])-order(aside[b.Value]),
			slices.Index(fitOrder, a.Fit)-slices.Index(fitOrder, b.Fit), strings.Compare(a.Value, b.Value))
	})
	return all
}

func order(last bool) int {
	if last {
		return 1
	}
	return 0
}

// fitText says in few words how an image fits.
func fitText(fit image.Fit) string {
	switch against := fit.Against(); {
	case fit.Verdict == image.Unknown && against[0].What == "digest":
		return against[0].Text
	case fit.Verdict == image.Unknown && len(against) > 0:
		return "not known yet whether it fits"
	case len(against) > 0:
		return against[0].Text
	}
	return "fits"
}

func choicePicks(choices []source.Text) (all []Pick) {
	for _, choice := range choices {
		all = append(all, Pick{Value: string(choice)})
	}
	return all
}

func namePicks(names []string, d *dialect.Dialect) (all []Pick) {
	for _, name := range names {
		pick := Pick{Value: name}
		if d != nil && name == d.Dialect {
			pick.Text = "of this device's family"
		}
		all = append(all, pick)
	}
	slices.SortStableFunc(all, func(a, b Pick) int { return strings.Compare(b.Text, a.Text) })
	return all
}

// laptopPicks are this laptop's addresses, those on the device's network first.
func laptopPicks(kit Kit, facts *device.Facts) (all []Pick) {
	if kit.Network == nil {
		return nil
	}
	interfaces, err := kit.Network.Interfaces()
	if err != nil {
		return nil
	}
	var theirs netip.Addr
	if fact, known := facts.Get("device.address"); known {
		theirs, _ = netip.ParseAddr(fact.Text)
	}
	for _, one := range interfaces {
		pick := Pick{Value: one.Prefix.Addr().String(), Text: one.Name}
		if theirs.IsValid() && one.Reaches(theirs) {
			pick.Text += ", on the device's network"
			all = append([]Pick{pick}, all...)
			continue
		}
		all = append(all, pick)
	}
	return all
}

// listPicks are the values that one column of a list has, such as cards.slot, with the rest of each row.
func listPicks(from string, facts *device.Facts) (all []Pick) {
	list, column, _ := cutLast(from)
	fact, known := facts.Get(list)
	rows, ok := fact.Value.([]map[string]any)
	if !known || !ok {
		return nil
	}
	for _, row := range rows {
		var rest []string
		for name, value := range row {
			if name != column {
				rest = append(rest, fmt.Sprintf("%s %v", name, value))
			}
		}
		slices.Sort(rest)
		if value, has := row[column]; has {
			all = append(all, Pick{Value: fmt.Sprint(value), Text: strings.Join(rest, " · ")})
		}
	}
	return all
}

// cutLast cuts a dotted name before its last part.
func cutLast(name string) (before, last string, found bool) {
	at := strings.LastIndexByte(name, '.')
	if at < 0 {
		return name, "", false
	}
	return name[:at], name[at+1:], true
}

// Takes checks one input by itself, as it is entered.
func (r *Runbook) Takes(input Input, value string, d *dialect.Dialect, kit Kit) error {
	p := &Prepared{Book: r, Dialect: d, Images: map[string]*image.Image{}, Inputs: map[string]string{}, Kit: kit}
	return p.takeInput(input, value)
}

// WhyNot says why the runbook cannot be carried out with a dialect, nothing where it can.
func (r *Runbook) WhyNot(d *dialect.Dialect) string {
	if d == nil {
		return "how the device talks is not known"
	}
	err := (&Prepared{Book: r, Dialect: d, Images: map[string]*image.Image{}, Inputs: map[string]string{}}).Check()
	if err == nil {
		return ""
	}
	return source.Reason(err)
}
