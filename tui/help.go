package tui

import (
	"slices"
	"strings"

	"pilotrix/tui/help"
	"pilotrix/tui/keys"
	"pilotrix/tui/view"
)

// help is what the help view says: the keys in the order in which they are looked for, then the marks.
func (a *app) help() (all []help.Section) {
	if !a.serving {
		all = append(all, typingText)
	}
	for _, part := range a.declared() {
		all = append(all, help.Of(part.Name, part.Before, part.Keys))
	}
	if a.serving {
		return append(all, servingMarks)
	}
	return append(all, courseMarks)
}

// declaredPart is a part of the interface with the keys that it has declared.
type declaredPart struct {
	Name, Before string // Before is what is pressed first
	Keys         keys.Map
}

// declared is every part of the interface with its keys, as they are now.
func (a *app) declared() (all []declaredPart) {
	if a.state.Ask != nil && !a.state.Ask.Typed && a.session != nil {
		all = append(all, declaredPart{"The question that is open", "", append(a.answers(), a.hints(a.state.Ask)...)})
	}
	all = append(all, declaredPart{"Keys that wait for a transfer", "", a.kept()},
		declaredPart{"A command that is held", "", a.sends()}, declaredPart{"Everywhere", "", a.frameKeys()},
		declaredPart{"In a replay", "", a.playerKeys()})
	if !a.serving {
		all = append(all,
			declaredPart{"Behind " + keys.Name(a.opt.Leader), keys.Name(a.opt.Leader) + " ", a.leaderKeys()})
	}
	moves := keys.Map{}
	for _, p := range a.places {
		own := slices.Clone(p.Keys())
		if p.name == "help" {
			moves = own
		}
		own = slices.DeleteFunc(own, func(k keys.Key) bool { return k.Does() == view.Moves })
		all = append(all, declaredPart{strings.Join(strings.Fields("In "+shownKey(p.key)+" "+p.name), " "), "", own})
	}
	return append(all, declaredPart{"In every view but the console", "", moves})
}

// shownKey writes a function key as people read it.
func shownKey(key string) string { return strings.ToUpper(key) }

var typingText = help.Section{Name: "What is typed", Rows: [][2]string{
	{"all other keys", "go to the device: Tab, Esc, Ctrl-C, ? and arrows too"},
	{"type", "takes the helm at once; while a transfer has the line the strip asks first, and Ctrl-C twice cancels it"},
	{"paste", "one line goes as typed; several are typed one by one, each seen on the device before it is ended"},
	{"at a question", "Enter is the answer that goes on and Esc the one that stops, in every view"},
}}

var courseMarks = help.Section{Name: "The course", Rows: [][2]string{
	{"● ◉ ○", "done, here, ahead; the way between them is to the scale of time"},
	{"◇ ◆", "a hold, ahead and passed"},
	{"▲", "cannot be undone"},
	{"·", "skipped, since it was not needed"},
	{"✗", "failed or stopped"},
	{"due 03:10", "until the device does something by itself: what, is said beside the console and at each hold"},
}}

var servingMarks = help.Section{Name: "Marks", Rows: [][2]string{
	{"● ○", "a server that listens, one that ended"},
	{"▷", "a device may fetch this, under exactly this name"},
	{"◁", "a device may leave this here, once, under exactly this name"},
	{"─ ═", "one message, a run of them"},
}}
