// Package transcript says what happens, live or from a record, in lines of text.
package transcript

import (
	"fmt"
	"io"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/plain"
	"pilotrix/core/units"
)

// Printer says a run in lines of text.
type Printer struct {
	out      io.Writer
	titles   map[string]event.StepPlan
	phase    string
	lastPart map[string]int
	facts    map[string]string
}

// New prints to out.
func New(out io.Writer) *Printer {
	return &Printer{
		out:      out,
		titles:   map[string]event.StepPlan{},
		lastPart: map[string]int{},
		facts:    map[string]string{},
	}
}

var levelMarks = map[event.Level]string{event.Info: "  ", event.Warning: "! ", event.Error: "✗ "}

// Report prints an event, where it is one that is printed.
func (c *Printer) Report(e event.Event) {
	switch b := e.Body.(type) {
	case event.SessionBegin:
		c.say("%s on %s", orUnknown(b.Device), b.Target)
	case event.Ask:
		c.ask(b)
	case event.Fact:
		if c.facts[b.Name] != b.Value { // a poll reads the same again and again
			c.facts[b.Name] = b.Value
			c.say("      %-24s %s", b.Name, firstLine(b.Value))
		}
	case event.Check:
		c.check(b)
	case event.UpgradePath:
		c.upgrades(b)
	case event.Preflight:
		c.preflight(b)
	case event.Note:
		c.say("    %s%s", levelMarks[b.Level], b.Text)
	case event.Line:
		if b.State != event.LineOpen {
			c.other(b)
		}
	case event.Speed,
		event.Server,
		event.NewDevice,
		event.Reach,
		event.Interlock,
		event.Pending,
		event.Answer,
		event.Recording,
		event.KeysKept:
		c.other(b)
	default:
		c.run(b)
		c.moved(b)
	}
}

// run says how a run goes.
func (c *Printer) run(body event.Body) {
	switch b := body.(type) {
	case event.RunBegin:
		c.know(b.Steps)
		c.say("%s, %s", b.Title, units.Many(len(b.Steps), "step"))
	case event.Course:
		c.know(b.Steps)
	case event.StepBegin:
		if phase := c.titles[b.ID].Phase; phase != c.phase {
			c.phase = phase
			c.say("\n%s", phase)
		}
	case event.StepEnd:
		c.step(b)
	case event.RunEnd:
		c.end(b)
	}
}

func (c *Printer) know(steps []event.StepPlan) {
	for _, s := range steps {
		c.titles[s.ID] = s
	}
}

// moved says what is offered and moved.
func (c *Printer) moved(body event.Body) {
	switch b := body.(type) {
	case event.Staged:
		c.staged(b)
	case event.Rung:
		c.rung(b)
	case event.TransferBegin:
		c.lastPart[b.ID] = -1
		c.say("      %s%s by %s %s", b.File, sizeText(b.Size), b.Protocol, b.Terms)
	case event.Transfer:
		c.transfer(b)
	case event.TransferEnd:
		c.transferEnd(b)
	}
}

// other says an event as every view does.
func (c *Printer) other(b event.Body) {
	text, loud := event.Report(b)
	mark := "  "
	if loud {
		mark = "! "
	}
	c.say("    %s%s", mark, text)
}

func sizeText(size int64) string {
	if size <= 0 {
		return ""
	}
	return fmt.Sprintf(", %d B", size)
}

func (c *Printer) check(b event.Check) {
	if b.Before != "" {
		c.say("      %s: %s ⇢ %s", b.Text, firstLine(b.Before), firstLine(b.Got))
	}
}

func (c *Printer) upgrades(b event.UpgradePath) {
	way := b.From
	for _, upgrade := range b.Steps {
		way += " ━▶ " + upgrade.Release
	}
	c.say("      %s", way)
}

func (c *Printer) preflight(b event.Preflight) {
	mark := "✓"
	if !b.Held {
		mark = "✗"
	}
	c.say("      %s %-9s %s", mark, b.What, b.Text)
	if b.Remedy != "" {
		c.say("        %-9s %s", "", b.Remedy)
	}
}

// rung says what stands out on a ladder: refusals and errors, and every message of DHCP.
func (c *Printer) rung(b event.Rung) {
	if b.Transfer == event.RungDHCP {
		c.say("      DHCP %s %s  %s", map[bool]string{true: "⇢", false: "⇠"}[b.FromDevice], b.What, b.Text)
		return
	}
	if b.What == "refused" || b.What == "ERROR" {
		c.say("    ! %s %s: %s", b.Protocol, b.Peer, b.Text)
	}
}

func (c *Printer) say(format string, args ...any) {
	lines := strings.Split(strings.TrimRight(fmt.Sprintf(format, args...), " "), "\n")
	for _, line := range lines {
		fmt.Fprintln(c.out, plain.Text(line))
	}
}

func (c *Printer) step(b event.StepEnd) {
	message := b.Message
	if message != "" {
		message = "  " + message
	}
	c.say("  %s %-5s %-48s %8s%s", b.Outcome.Mark(), b.ID, c.titles[b.ID].Title,
		b.Took.Round(10*time.Millisecond), message)
}

func (c *Printer) ask(b event.Ask) {
	c.say("  ◇ %s: %s", b.Form, b.Text)
	for _, command := range b.Types {
		c.say("      will type  %s", command)
	}
	if b.Rollback != "" {
		c.say("      rollback   %s", b.Rollback)
	}
}

// transfer prints a line at each quarter.
func (c *Printer) transfer(b event.Transfer) {
	if b.Size == 0 {
		return
	}
	if part := int(4 * b.Bytes / b.Size); part > c.lastPart[b.ID] {
		c.lastPart[b.ID] = part
		c.say("      %3d %%  %d of %d B  %.1f kB/s  %s left", 100*b.Bytes/b.Size, b.Bytes, b.Size, b.Rate/1000,
			b.Left.Round(time.Second))
	}
}

func (c *Printer) transferEnd(b event.TransferEnd) {
	padding := ""
	if b.Padding > 0 {
		padding = fmt.Sprintf(", padding %d B", b.Padding)
	}
	c.say("      %s: %d B%s in %s, %s, %d resent%s %s", b.Outcome, b.Bytes, b.Part(), b.Took.Round(10*time.Millisecond),
		units.Many(b.Blocks, "block"), b.Resent, padding, b.Message)
}

func (c *Printer) staged(b event.Staged) {
	switch {
	case !b.Slot:
		c.say("      %s %s, %d B", b.Name, b.State, b.Size)
	case b.State == event.Offered:
		c.say("      %s may be left here once, up to %d B", b.Name, b.Size)
	default:
		c.say("      %s is not taken any more", b.Name)
	}
}

func (c *Printer) end(b event.RunEnd) {
	c.say("\n%s", b.Text())
	for _, proof := range b.Proved {
		c.say("  proved  %s", proof)
	}
}

func firstLine(text string) string {
	first, _, _ := strings.Cut(text, "\n")
	return first
}

func orUnknown(name string) string {
	if name == "" {
		return "a device"
	}
	return name
}
