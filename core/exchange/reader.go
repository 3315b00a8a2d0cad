package exchange

import (
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/screen"
	"pilotrix/core/shown"
)

// Recorded is an exchange as a record has it.
type Recorded struct {
	event.Asked
	At     time.Time
	Over   event.Answered
	Ended  bool
	Answer []string // its rows; those that were lost stand before them
	Noise  []string // lines that the device wrote unasked meanwhile
}

// Reader reads the exchanges out of events, and the lines that belong to none. It is used by one goroutine.
type Reader struct {
	exchange func(Recorded)
	line     func(text string)

	model *shown.Model
	open  *Recorded
	held  []string // lines of no exchange that the events after them may belong to
	noise []string // within the one that goes on
	now   time.Time
}

// wide is a terminal in which hardly a line of a device wraps.
const wide = 250

// NewReader begins with nothing read. Exchange is called for each one that has ended, line for what the device wrote
// outside of them.
func NewReader(exchange func(Recorded), line func(text string)) *Reader {
	return &Reader{exchange: exchange, line: line, model: shown.New(wide, 50, shown.Options{})}
}

// Event takes the next event in.
func (r *Reader) Event(e event.Event) {
	r.now = e.At
	switch b := e.Body.(type) {
	case event.In:
		r.model.Write(b.Bytes, func(line shown.Ended) {
			if r.open == nil {
				r.release(1)
				r.held = append(r.held, string(line.Text))
			}
		})
	case event.Noise:
		if r.open != nil {
			r.noise = append(r.noise, strings.TrimRight(b.Text, " "))
		}
	case event.Asked:
		r.End() // a record may have lost the end of the previous one
		r.begin(Recorded{Asked: b, At: e.At})
	case event.Answered:
		if r.open != nil && r.open.Number == b.Number {
			r.open.Over, r.open.Ended = b, true
			r.finish()
		}
	case event.Terminal:
		if charset, err := screen.ParseCharset(b.Charset); err == nil {
			r.model.SetCharset(charset)
		}
		if b.Plain {
			r.model.Leave()
		}
	}
}

// begin begins an exchange. The line that shows its command was ended right before.
func (r *Reader) begin(one Recorded) {
	if n := len(r.held); n > 0 && one.Text != "" &&
		strings.Contains(shown.Squeeze(r.held[n-1]), shown.Squeeze(one.Text)) {
		r.held = r.held[:n-1]
	}
	r.release(0)
	present, free := r.model.Line()
	r.model.Mark(present != "" || !free, nil)
	r.open, r.noise = &one, nil
}

func (r *Reader) finish() {
	one := *r.open
	r.open = nil
	rows := strings.Split(strings.TrimSuffix(r.model.Answer().String(), "\n"), "\n")
	rows = slices.DeleteFunc(rows, func(row string) bool { return slices.Contains(r.noise, row) })
	if one.Ended {
		rows = rows[:min(len(rows), one.Over.Rows)]
	}
	one.Answer, one.Noise = rows, r.noise
	r.exchange(one)
}

// release reports lines of no exchange, but for the last few.
func (r *Reader) release(but int) {
	for len(r.held) > but {
		r.line(r.held[0])
		r.held = r.held[1:]
	}
}

// End reports what goes on, and is called when no event follows.
func (r *Reader) End() {
	if r.open != nil {
		r.finish()
	}
}

// Rest reports the lines that are held, and the one that the device waits with.
func (r *Reader) Rest() {
	r.End()
	r.release(0)
	if text, _ := r.model.Line(); strings.TrimSpace(text) != "" {
		r.line(text)
	}
}
