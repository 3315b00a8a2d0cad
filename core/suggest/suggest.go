// Package suggest says what can be done now: by the state of a session one sentence and what a key would do, or
// nothing. It is a table; nothing is tried, typed or remembered here.
package suggest

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"pilotrix/core/arithmetic"
	"pilotrix/core/carrier"
	"pilotrix/core/event"
	"pilotrix/core/sense"
	"pilotrix/core/state"
	"pilotrix/core/units"
)

// Kind is what is done where the suggestion is accepted.
type Kind string

// The kinds. What is no deed is done by whoever shows the suggestion.
const (
	Deed    Kind = "deed"    // the one that is Named, with Values as far as they are known
	Speed   Kind = "speed"   // our end's speed is set to the value of speed
	Hunt    Kind = "hunt"    // for the speed
	LogIn   Kind = "log in"  // with the account that was given
	Dialect Kind = "dialect" // how the device talks is shown, to be chosen
	Read    Kind = "read"    // what can be read of the device here
	View    Kind = "view"    // the value of view is turned to
)

// Suggestion is what can be done now.
type Suggestion struct {
	Kind   Kind
	Named  string // of a deed: what is done by hand, by its name
	Values map[string]string
	Whole  bool   // nothing else has to be asked for
	Text   string // what is the case, as a sentence without its end
	Does   string // what accepting it does
}

// Kit is what else is known than the session's state.
type Kit struct {
	Speed     int     // our end's, 0 for a line without one
	LineRate  float64 // characters a second, 0 where that is not known
	Named     *File   // of the shelf, that the command typed last names; nil for none
	Laptop    []netip.Prefix
	Known     bool   // how the device talks
	Account   bool   // an account was given in this session
	LogsIn    bool   // an action logs in where the device is
	Readable  bool   // something can be read where the device is, and nothing of it was
	LooksLike string // what the device seems to be, and why; empty for nothing
	HasShelf  bool   // files can be chosen
}

// File is one of the shelf.
type File struct {
	Name string
	Size int64
}

// rows are what may be suggested, by their rank.
var rows = []func(*state.State, Kit) *Suggestion{
	receiverWaits, speedFollows, garble, loginAsked, fetchUnserved, fetchUnheard, listedTwice, looksLike, runsOut, unread,
}

// For is what is suggested now, nil for nothing. Nothing is while a runbook, or something that the operator began, has
// the line, and while something is asked.
func For(s *state.State, kit Kit) *Suggestion {
	if s.Helm.Who != event.Hand || s.Ask != nil || s.Held != nil || s.Kept > 0 || s.Line.State == event.LineLost ||
		s.Line.State == event.LineClosed {
		return nil
	}
	for _, row := range rows {
		if one := row(s, kit); one != nil {
			return one
		}
	}
	return nil
}

// receiverWaits offers a file to a receiver that waits on the line.
func receiverWaits(s *state.State, kit Kit) *Suggestion {
	if s.Mode.Name != sense.Receiving || !kit.HasShelf {
		return nil
	}
	protocol, title := receiverSpeaks(s)
	one := &Suggestion{
		Kind: Deed, Named: "carry", Values: map[string]string{"protocol": protocol},
		Text: "A receiver waits by " + title, Does: "picks the file for it",
	}
	if file := kit.Named; file != nil {
		one.Text += fmt.Sprintf(". Your command named %s, %s", file.Name, units.Bytes(file.Size))
		if kit.LineRate > 0 {
			rate := arithmetic.XMODEMRate(kit.LineRate, blockOf(protocol))
			one.Text += ", ~" + units.Clock(arithmetic.TransferTime(file.Size, rate))
		}
		one.Does, one.Whole, one.Values["file"] = "sends it", true, file.Name
	}
	return one
}

// receiverSpeaks is what a receiver speaks, by what it asks with and what was said of it: C asks for XMODEM and YMODEM
// alike.
func receiverSpeaks(s *state.State) (protocol, title string) {
	said := strings.ToLower(s.Mode.Says)
	if len(s.Typed) > 0 {
		said += " " + strings.ToLower(s.Typed[len(s.Typed)-1].Text)
	}
	switch {
	case s.Mode.Asks == "G":
		return "ymodem-g", "YMODEM-g"
	case strings.Contains(said, "ymodem"):
		return "ymodem", "YMODEM"
	case s.Mode.Asks == "NAK":
		return "xmodem", "XMODEM"
	}
	return "xmodem-1k", "XMODEM"
}

func blockOf(protocol string) int {
	if protocol == "xmodem" {
		return 128
	}
	return 1024
}

// lastTyped is the command that was typed last and no longer than so ago, nil for none.
func lastTyped(s *state.State, within time.Duration) *state.Typed {
	if n := len(s.Typed); n > 0 && s.Now.Sub(s.Typed[n-1].At) <= within {
		return &s.Typed[n-1]
	}
	return nil
}

var number = regexp.MustCompile(`\b\d{4,7}\b`)

// speedFollows sets our end to a speed that the last command named, where nothing that makes sense has come since.
func speedFollows(s *state.State, kit Kit) *Suggestion {
	last := lastTyped(s, time.Minute)
	if last == nil || kit.Speed == 0 || s.Mode.Name != sense.Garbled && s.Mode.Name != sense.Silent &&
		!speedIsAsked(s, last) {
		return nil
	}
	for _, word := range number.FindAllString(last.Text, -1) {
		if speed, err := strconv.Atoi(word); err == nil && speed != kit.Speed && slices.Contains(sense.UsualSpeeds, speed) {
			return &Suggestion{
				Kind: Speed, Values: map[string]string{"speed": word}, Whole: true,
				Text: fmt.Sprintf("“%s” named %d, and our end is at %d", last.Text, speed, kit.Speed), Does: "sets ours to it",
			}
		}
	}
	return nil
}

// speedIsAsked reports whether the command has not come back: it may wait at its new speed.
func speedIsAsked(s *state.State, last *state.Typed) bool {
	return last.Ended == nil && s.Now.Sub(last.At) > 2*time.Second && s.Prompt == ""
}

// garble hunts for the speed.
func garble(s *state.State, kit Kit) *Suggestion {
	if s.Mode.Name != sense.Garbled || kit.Speed == 0 {
		return nil
	}
	return &Suggestion{
		Kind: Hunt, Whole: true,
		Text: fmt.Sprintf("What comes makes no sense at %d baud", kit.Speed), Does: "finds the device's speed",
	}
}

// loginAsked logs in with the account that was given in this session.
func loginAsked(_ *state.State, kit Kit) *Suggestion {
	if !kit.LogsIn || !kit.Account {
		return nil
	}
	return &Suggestion{Kind: LogIn, Whole: true, Text: "The device asks for a login", Does: "logs in as before"}
}

// fetchUnserved offers the file that a command had the device fetch from this laptop, where nothing serves it.
func fetchUnserved(s *state.State, kit Kit) *Suggestion {
	last := lastTyped(s, 5*time.Minute)
	if last == nil || !kit.HasShelf || last.Who == event.Paste {
		return nil
	}
	at := addressIn(last.Text, kit.Laptop)
	if !at.IsValid() {
		return nil
	}
	by := carrierIn(last.Text)
	for _, server := range s.Servers {
		if server.State == event.Listening {
			return nil // what it lacks is said where it is asked for
		}
	}
	for _, moves := range s.Moves {
		if !moves.Begun.Before(last.At) {
			return nil // it was served
		}
	}
	values := map[string]string{"address": at.String()}
	text := "“" + last.Text + "” fetches from this laptop"
	if by != nil {
		values["protocol"] = by.Name
		text += " by " + by.Title()
	}
	one := &Suggestion{
		Kind: Deed, Named: "offer", Values: values, Text: text + ", and nothing serves there", Does: "picks the file and offers it",
	}
	if kit.Named != nil {
		values["file"] = kit.Named.Name
		one.Whole, one.Does = by != nil, "offers "+kit.Named.Name
	}
	return one
}

// fetchUnheard leads to who has asked for what, where a command named this laptop, what it wants may be served, and
// nothing came of it.
func fetchUnheard(s *state.State, kit Kit) *Suggestion {
	last := lastTyped(s, 5*time.Minute)
	if last == nil || last.Ended == nil || !addressIn(last.Text, kit.Laptop).IsValid() ||
		last.Ended.Refused == "" && s.Now.Sub(last.At) < unheardAfter {
		return nil
	}
	for _, moves := range s.Moves {
		if !moves.Begun.Before(last.At) {
			return nil
		}
	}
	return &Suggestion{
		Kind: View, Values: map[string]string{"view": "transfers"}, Whole: true,
		Text: "“" + last.Text + "” has not fetched anything here", Does: "shows who asked for what",
	}
}

// unheardAfter is how long a device may take until it asks for what it is to fetch.
const unheardAfter = 20 * time.Second

// runsOut leads to what a deadline is about that a command by hand has begun.
func runsOut(s *state.State, _ Kit) *Suggestion {
	due := s.Deadline()
	if due == nil {
		return nil
	}
	return &Suggestion{
		Kind: View, Values: map[string]string{"view": "device"}, Whole: true, Text: "Still open: " + due.Says, Does: "shows the device",
	}
}

// addressIn is an address of this laptop's that a command names, invalid for none.
func addressIn(command string, laptop []netip.Prefix) netip.Addr {
	for _, prefix := range laptop {
		if addr := prefix.Addr(); !addr.IsLoopback() && hasWord(command, addr.String()) {
			return addr
		}
	}
	return netip.Addr{}
}

// carrierIn is the protocol that a command names, nil for none.
func carrierIn(command string) *carrier.Carrier {
	lower := strings.ToLower(command)
	for _, c := range carrier.All() {
		if strings.Contains(lower, c.Name+":") || hasWord(lower, c.Name) {
			return c
		}
	}
	return nil
}

// hasWord reports whether a text holds a word, with nothing around it that would make it another one.
func hasWord(text, word string) bool {
	for rest, from := text, 0; ; {
		at := strings.Index(rest, word)
		if at < 0 {
			return false
		}
		at += from
		end := at + len(word)
		if (at == 0 || !ofWord(text[at-1])) && (end == len(text) || !ofWord(text[end])) {
			return true
		}
		from = end
		rest = text[end:]
	}
}

func ofWord(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '.' || c == '_' || c == '-'
}

// NamedIn is the one of some names that a command names, the longest where several do; empty for none.
func NamedIn(command string, names []string) (named string) {
	for _, name := range names {
		if len(name) > len(named) && hasWord(command, name) {
			named = name
		}
	}
	return named
}

// listedTwice repeats a command that was typed twice, one right after the other, and has changed nothing.
func listedTwice(s *state.State, _ Kit) *Suggestion {
	n := len(s.Typed)
	if n < 2 || s.Prompt == "" {
		return nil
	}
	last, before := s.Typed[n-1], s.Typed[n-2]
	if last.Text == "" || last.Text != before.Text || last.Ended == nil || last.Ended.Refused != "" || last.Changed ||
		before.Changed || last.Secret() || s.Now.Sub(before.At) > 5*time.Minute {
		return nil
	}
	return &Suggestion{
		Kind: Deed, Named: "repeat", Values: map[string]string{"command": last.Text},
		Text: "“" + last.Text + "” was typed twice", Does: "repeats it until something comes",
	}
}

// looksLike leads to the dialects where it is clear what the device is.
func looksLike(_ *state.State, kit Kit) *Suggestion {
	if kit.LooksLike == "" {
		return nil
	}
	return &Suggestion{Kind: Dialect, Whole: true, Text: "This looks like a " + kit.LooksLike, Does: "chooses the dialect"}
}

// unread reads what is not known of a device.
func unread(_ *state.State, kit Kit) *Suggestion {
	if !kit.Known || !kit.Readable {
		return nil
	}
	return &Suggestion{Kind: Read, Whole: true, Text: "Nothing was read of this device yet", Does: "reads it"}
}
