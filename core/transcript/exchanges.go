package transcript

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/logbook"
	"pilotrix/core/sense"
	"pilotrix/core/shipped"
	"pilotrix/core/units"
)

// Reader reads the exchanges of a record. One from before they were recorded is read by the same maker, with the
// dialect that it had, or that is to be tried.
type Reader struct {
	*exchange.Reader
	known  func(name string) *dialect.Dialect
	remake *exchange.Remaker // nil where the record has exchanges of its own
}

// NewReader reads a record: each exchange, each line that belongs to none, by the dialect of a name, nil where there is
// none.
func NewReader(each func(exchange.Recorded), line func(string), known func(name string) *dialect.Dialect) *Reader {
	return &Reader{Reader: exchange.NewReader(each, line), known: known}
}

// Event takes an event in, and returns it with those that were made of it.
func (r *Reader) Event(e event.Event) []event.Event {
	if begin, ok := e.Body.(event.SessionBegin); ok && !begin.Exchanges {
		d := r.known(begin.Dialect)
		r.remake = exchange.NewRemaker(senseOf(d), d)
	}
	all := []event.Event{e}
	if r.remake != nil {
		all = r.remake.Event(e)
	}
	for _, one := range all {
		r.Reader.Event(one)
	}
	return all
}

// shippedDialect is a dialect by its name, nil where there is none.
func shippedDialect(name string) *dialect.Dialect {
	d, err := shipped.Dialect(name)
	if name == "" || err != nil {
		return nil
	}
	return d
}

// Exchanges prints what was asked of a device and what it answered, the course of a runbook around it, and what the
// device wrote besides.
type Exchanges struct {
	course *Printer
	reader *Reader
	only   string // what has to be in whatever is printed
}

// NewExchanges prints as course does, and only what has a text in it; an empty one is in everything.
func NewExchanges(course *Printer, only string) *Exchanges {
	p := &Exchanges{course: course, only: strings.ToLower(only)}
	p.reader = NewReader(p.exchange, func(text string) {
		if strings.TrimSpace(text) != "" && p.wants(text) {
			course.say("  │ %s", text)
		}
	}, shippedDialect)
	return p
}

// wants reports whether one of several texts is one to be printed.
func (p *Exchanges) wants(texts ...string) bool {
	return slices.ContainsFunc(texts, func(text string) bool { return strings.Contains(strings.ToLower(text), p.only) })
}

// Report prints what comes of an event.
func (p *Exchanges) Report(e event.Event) {
	for _, one := range p.reader.Event(e) {
		if p.only != "" && !logbook.Holds(one, p.only) {
			continue
		}
		p.course.Report(one)
		switch b := one.Body.(type) {
		case event.Helm:
			p.course.say("    ── the helm: %s %s", b.Who, b.Why)
		case event.Mark:
			p.course.say("    ── %s", b.Text)
		}
	}
}

// senseOf is what a dialect says of a stream; a nil one says what is known of every device.
func senseOf(d *dialect.Dialect) (c sense.Config) {
	if d != nil {
		c = d.Sense()
	}
	c.AsksSecret = d.AsksSecret
	return c
}

func (p *Exchanges) exchange(x exchange.Recorded) {
	text := x.Text
	if x.Seen == event.SeenSecret {
		text = "[not shown by the device, and not recorded]"
	}
	head := fmt.Sprintf("%s%s   %s", strings.TrimLeft(x.Prompt, " "), text, howLong(x))
	if !p.wants(head) && !p.wants(x.Answer...) {
		return
	}
	p.course.say("%s ⟩ %s", x.At.Local().Format("15:04:05"), head)
	if x.Over.Lost > 0 {
		p.course.say("  │ … %s before this were given up", units.Bytes(x.Over.Lost))
	}
	for _, row := range x.Answer {
		p.course.say("  │ %s", row)
	}
}

// howLong says who asked, how long the answer took, and how it ended where that was not at its prompt.
func howLong(x exchange.Recorded) string {
	words := []string{x.Who}
	if x.Step != "" {
		words[0] += " " + x.Step
	}
	switch {
	case !x.Ended:
		words = append(words, "no end of it is recorded")
	case x.Over.Took < 10*time.Second:
		words = append(words, fmt.Sprintf("%.1f s", x.Over.Took.Seconds()))
	default:
		words = append(words, units.Text(x.Over.Took))
	}
	if end := x.Over.EndText(); x.Ended && end != "" {
		words = append(words, end)
	}
	if x.Over.Refused != "" {
		words = append(words, "refused")
	}
	for _, q := range x.Over.Questions {
		answer := q.Answer
		if q.Secret {
			answer = "[secret]"
		}
		words = append(words, fmt.Sprintf("%s %s", q.Text, answer))
	}
	return "(" + strings.Join(words, ", ") + ")"
}

// End prints what goes on where the record ends.
func (p *Exchanges) End() { p.reader.Rest() }
