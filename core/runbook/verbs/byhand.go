package verbs

import (
	"cmp"
	"fmt"
	"slices"

	"pilotrix/core/dialect"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

// Menu is where the operator finds what is done by hand.
type Menu string

// The menus.
const (
	Sending  Menu = "send"  // files over the line, or straight to a device
	Offering Menu = "offer" // what a device fetches, or leaves here
	Watching Menu = "watch" // what is looked at again and again
	Entering Menu = "enter" // how a device is brought to a prompt
)

// ByHand is something that the operator has done with a key: a runbook of one step that is made for it, and is carried
// out as a deed. Each stands in its verb's file, and nothing else knows of it.
type ByHand struct {
	Name  string
	Menu  Menu
	Rank  int    // in its menu
	Key   string // there
	Does  string // in the menu
	Title string // of the form that asks what it needs
	Needs engine.Needs
	// Lacks says why it cannot be done here, empty where it can; nil for what can be done anywhere.
	Lacks func(Place) string
	Make  func(Place) (*runbook.Runbook, error)
}

// Place is what is known where something is done by hand; all of it may be empty.
type Place struct {
	Address string // of the device, as it was read, with its network's length or not
	Seen    string // the last address that the device has written, where it is none of ours
	Dialect *dialect.Dialect
	Shell   bool   // the line is an SSH session
	Folder  string // where files are put that come
}

// byHand are all of them, filled by each one's file.
var byHand []ByHand

func done(one ByHand) bool {
	if slices.ContainsFunc(byHand, func(other ByHand) bool {
		return other.Name == one.Name || other.Menu == one.Menu && other.Key == one.Key
	}) {
		panic(fmt.Sprintf("%s: its name, or its key %s, is another one's", one.Name, one.Key))
	}
	byHand = append(byHand, one)
	return true
}

// ByHandIn are those of a menu, in their order.
func ByHandIn(menu Menu) (some []ByHand) {
	for _, one := range byHand {
		if one.Menu == menu {
			some = append(some, one)
		}
	}
	slices.SortFunc(some, func(a, b ByHand) int { return cmp.Compare(a.Rank, b.Rank) })
	return some
}

// ByHandNamed is one of them, nil for none of that name.
func ByHandNamed(name string) *ByHand {
	for i := range byHand {
		if byHand[i].Name == name {
			return &byHand[i]
		}
	}
	return nil
}

// oneStep makes a runbook of one step for what is done by hand.
func oneStep(name, title, about, verb string, body any, inputs ...map[string]any) (*runbook.Runbook, error) {
	document := map[string]any{
		"runbook": name, "title": title, "about": about,
		"phases": []map[string]any{{"phase": "do it", "steps": []map[string]any{{"step": title, verb: body}}}},
	}
	if len(inputs) > 0 {
		document["inputs"] = inputs
	}
	return parseMade("what is done by hand", document)
}

// input declares one, with more keys and values behind what it is about.
func input(name, kind, about string, more ...any) map[string]any {
	declared := map[string]any{"input": name, "kind": kind, "about": about}
	for i := 0; i+1 < len(more); i += 2 {
		declared[more[i].(string)] = more[i+1]
	}
	return declared
}
