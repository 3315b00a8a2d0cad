package transcript

import (
	"bufio"
	"errors"
	"fmt"
	"io"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/logbook"
	"pilotrix/core/plain"
	"pilotrix/core/units"
)

// TrySession holds a dialect against what was asked and answered in a recorded session, and against each line that the
// device wrote besides.
func TrySession(trial *dialect.Trial, book *logbook.Logbook, id int64, d *dialect.Dialect) error {
	if _, err := book.Find(id); err != nil {
		return err
	}
	read := NewReader(trial.Exchange, trial.Line, func(string) *dialect.Dialect { return d })
	err := book.Events(id, func(e event.Event) error {
		read.Event(e)
		return nil
	})
	read.Rest()
	return err
}

// maxTried is how long a line of a text may be, in bytes.
const maxTried = 1 << 20

// ErrNoText is why something is no text of a console.
var ErrNoText = errors.New("this is no text of a console")

// TryText holds a dialect against the lines of a text.
func TryText(trial *dialect.Trial, from io.Reader) error {
	lines := bufio.NewScanner(from)
	lines.Buffer(nil, maxTried)
	n := 0
	for ; lines.Scan(); n++ {
		trial.Line(plain.Text(lines.Text()))
	}
	if errors.Is(lines.Err(), bufio.ErrTooLong) {
		return fmt.Errorf("line %d is longer than %s: %w", n+1, units.Bytes(maxTried), ErrNoText)
	}
	return lines.Err()
}
