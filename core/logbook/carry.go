package logbook

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/units"
)

// Entries are carried from one logbook to another as JSON Lines: a line for the entry, then one for each of its events.

// carried is the line before an entry's events.
type carried struct {
	Entry   *Entry `json:"entry"`
	Version int    `json:"form"`
}

// Export writes one entry.
func (l *Logbook) Export(id int64, to io.Writer) error {
	entry, err := l.Find(id)
	if err != nil {
		return err
	}
	encoder := json.NewEncoder(to)
	if err := encoder.Encode(carried{&entry, version}); err != nil {
		return err
	}
	return l.Events(id, func(e event.Event) error { return encoder.Encode(e) })
}

// maxLine is how long a line of an export may be, in bytes.
const maxLine = 64 << 20

// Import takes the entries of an export in, under numbers of this logbook, and returns these. A line that is not
// understood ends it, and nothing is kept then. Until an entry is whole it stands here as one that was cut off.
func (l *Logbook) Import(from io.Reader) (ids []int64, err error) {
	lines := bufio.NewScanner(from)
	lines.Buffer(nil, maxLine)
	in := &importing{book: l}
	n := 0
	for lines.Scan() {
		n++
		if err := in.line(lines.Bytes()); err != nil {
			return in.undo(fmt.Errorf("line %d: %w", n, err))
		}
	}
	err = lines.Err()
	if errors.Is(err, bufio.ErrTooLong) {
		err = fmt.Errorf("line %d is longer than %s: no export has such a one", n+1, units.Bytes(maxLine))
	}
	if err := errors.Join(err, in.end()); err != nil {
		return in.undo(err)
	}
	if len(in.ids) == 0 {
		return nil, errors.New("it has no entry in it")
	}
	if err := in.finish(); err != nil {
		return in.undo(err)
	}
	return in.ids, nil
}

// importing is an import under way.
type importing struct {
	book  *Logbook
	ids   []int64
	entry *Entry // the one under way, nil for none
	keeps *Keeper
	batch []event.Event
	last  int64         // the number of the entry's last event in its export
	facts []event.Event // of the entry, what is remembered apart
	whole []imported
}

// imported is an entry all of whose events are here.
type imported struct {
	Entry
	keeps *Keeper
	facts []event.Event
}

// line takes one line: an entry's head, or an event of the entry under way.
func (in *importing) line(text []byte) error {
	if len(text) == 0 {
		return nil
	}
	var head carried
	if err := json.Unmarshal(text, &head); err == nil && head.Entry != nil {
		if err := in.end(); err != nil {
			return err
		}
		return in.begin(head)
	}
	if in.entry == nil {
		return errors.New("it does not begin with an entry")
	}
	var e event.Event
	if err := json.Unmarshal(text, &e); err != nil {
		return err
	}
	if e.Seq <= in.last {
		return fmt.Errorf("event %d stands behind event %d: the numbers of an entry begin with 1, and go up", e.Seq,
			in.last)
	}
	in.last = e.Seq
	in.batch = append(in.batch, e)
	if len(in.batch) == maxAtOnce {
		return in.write()
	}
	return nil
}

// begin makes the row of an entry that comes from elsewhere. Nothing here was cut off by it.
func (in *importing) begin(head carried) error {
	e := *head.Entry
	switch {
	case head.Version < 1 || head.Version > version:
		return fmt.Errorf("it is of form %d, and this release knows the forms 1 to %d", head.Version, version)
	case e.ID < 1:
		return fmt.Errorf("%d is no entry's number", e.ID)
	case e.Began.IsZero():
		return errors.New("it does not say when the entry began")
	}
	if e.Ended.IsZero() {
		e.Ended = e.Began
	}
	result, err := in.book.db.Exec(`INSERT INTO session (began, ended, target, dialect, device, runbook, title, outcome, message, process, told) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, 'imported', ?)`,
		stamp(e.Began), stamp(e.Ended), e.Target, e.Dialect, e.Device, e.Runbook, e.Title, Broken,
		"it was not taken in whole", settled)
	if err != nil {
		return in.book.wrap(err)
	}
	id, err := result.LastInsertId()
	if err != nil {
		return in.book.wrap(err)
	}
	in.ids = append(in.ids, id)
	in.entry, in.last, in.facts = &e, 0, nil
	in.keeps = &Keeper{book: in.book, id: id, imports: true}
	return nil
}

func (in *importing) write() error {
	first := in.keeps.written
	err := in.keeps.write(in.batch)
	for n, e := range in.batch {
		switch e.Body.(type) {
		case event.SessionBegin, event.RunBegin, event.RunEnd, event.Fact:
			e.Seq = first + int64(n) + 1
			in.facts = append(in.facts, e)
		}
	}
	in.batch = nil
	return err
}

// end writes what is left of the entry under way.
func (in *importing) end() error {
	if in.entry == nil {
		return nil
	}
	if err := in.write(); err != nil {
		return err
	}
	in.whole = append(in.whole, imported{*in.entry, in.keeps, in.facts})
	in.entry = nil
	return nil
}

// finish makes all entries whole ones at once, and has what they say remembered.
func (in *importing) finish() error {
	tx, err := in.book.db.Begin()
	if err != nil {
		return in.book.wrap(err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
	for _, one := range in.whole {
		outcome := one.Outcome
		if outcome == StillOpen { // as far as it was exported
			outcome = Broken
		}
		if _, err := tx.Exec(`UPDATE session SET outcome = ?, message = ? WHERE id = ?`, outcome, one.Message,
			one.keeps.id); err != nil {
			return in.book.wrap(err)
		}
		for _, e := range one.facts {
			if err := one.keeps.remember(tx, e); err != nil {
				return in.book.wrap(err)
			}
		}
	}
	return in.book.wrap(tx.Commit())
}

// undo removes what was taken in before something went wrong. What cannot be removed is returned: it stands here as cut
// off.
func (in *importing) undo(why error) (left []int64, err error) {
	if err := in.book.remove(in.ids); err != nil {
		return in.ids, errors.Join(why, fmt.Errorf("and what was taken in of it cannot be removed: %w", err))
	}
	return nil, why
}

// remove removes entries, each of them whole.
func (l *Logbook) remove(ids []int64) error {
	for _, id := range ids {
		if err := l.removeOne(id); err != nil {
			return l.wrap(err)
		}
	}
	return nil
}

func (l *Logbook) removeOne(id int64) error {
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
	for _, from := range []string{"event WHERE session = ?", "run WHERE session = ?", "session WHERE id = ?"} {
		if _, err := tx.Exec(`DELETE FROM `+from, id); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// Note adds something of one's own to an entry.
func (l *Logbook) Note(id int64, text string) error {
	if _, err := l.Find(id); err != nil {
		return err
	}
	e := event.Event{At: time.Now(), Body: event.Note{Level: event.Info, Text: "note: " + text}}
	return (&Keeper{book: l, id: id}).write([]event.Event{e})
}

// Weighed is an entry with about how much it takes in the file.
type Weighed struct {
	Entry
	Bytes int64 `json:"bytes"`
}

// Prunable are the entries that would go: the oldest, those that began before a time, or as many as the rest takes no
// more than so many bytes; 0 for any. What goes on is kept, and of each device the newest entry.
func (l *Logbook) Prunable(before time.Time, most int64) (gone []Weighed, err error) {
	entries, err := l.List(0)
	if err != nil {
		return nil, err
	}
	sizes, total, err := l.sizes()
	if err != nil {
		return nil, err
	}
	newest := map[string]int64{}
	for _, e := range entries {
		if place := placeOf(e.Device, e.Target); newest[place] == 0 {
			newest[place] = e.ID
		}
	}
	slices.Reverse(entries)
	for _, e := range entries {
		old := !before.IsZero() && e.Began.Before(before)
		large := most > 0 && total > most
		if e.Outcome == StillOpen || newest[placeOf(e.Device, e.Target)] == e.ID || !old && !large {
			continue
		}
		gone = append(gone, Weighed{e, sizes[e.ID]})
		total -= sizes[e.ID]
	}
	return gone, nil
}

// sizes are about how much each entry takes, in bytes, and all of them.
func (l *Logbook) sizes() (sizes map[int64]int64, total int64, err error) {
	rows, err := l.db.Query(`SELECT session, SUM(LENGTH(body) + 60) FROM event GROUP BY session`)
	if err != nil {
		return nil, 0, l.wrap(err)
	}
	defer rows.Close()
	sizes = map[int64]int64{}
	for rows.Next() {
		var id, size int64
		if err := rows.Scan(&id, &size); err != nil {
			return nil, 0, l.wrap(err)
		}
		sizes[id] = size
		total += size
	}
	return sizes, total, l.wrap(rows.Err())
}

// Prune removes entries and gives their room back.
func (l *Logbook) Prune(gone []Weighed) error {
	var ids []int64
	for _, e := range gone {
		if now, err := l.Find(e.ID); err == nil && now.Outcome != StillOpen {
			ids = append(ids, e.ID)
		}
	}
	if err := l.remove(ids); err != nil {
		return err
	}
	_, err := l.db.Exec(`VACUUM`)
	return l.wrap(err)
}
