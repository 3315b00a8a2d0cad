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

// mostLine is how long a line of an export may be, in bytes.
const mostLine = 64 << 20

// Import takes the entries of an export in, under numbers of this logbook, and returns these. A line that is not
// understood ends it, and none of its entry is kept.
func (l *Logbook) Import(from io.Reader) (ids []int64, err error) {
	lines := bufio.NewScanner(from)
	lines.Buffer(nil, mostLine)
	var k *Keeper
	var batch []event.Event
	end := func() error {
		if k == nil {
			return nil
		}
		err := k.write(batch)
		batch = nil
		return err
	}
	n := 0
	for lines.Scan() {
		n++
		var head carried
		var e event.Event
		switch {
		case len(lines.Bytes()) == 0:
			continue
		case json.Unmarshal(lines.Bytes(), &head) == nil && head.Entry != nil:
			if err := end(); err != nil {
				return ids, err
			}
			if k, err = l.begin(*head.Entry); err != nil {
				return ids, err
			}
			ids = append(ids, k.id)
			continue
		case k == nil:
			err = errors.New("it does not begin with an entry")
		default:
			err = json.Unmarshal(lines.Bytes(), &e)
		}
		if err != nil {
			return l.undo(ids, fmt.Errorf("line %d: %w", n, err))
		}
		if batch = append(batch, e); len(batch) == mostAtOnce {
			if err := end(); err != nil {
				return ids, err
			}
		}
	}
	err = lines.Err()
	if errors.Is(err, bufio.ErrTooLong) {
		err = fmt.Errorf("line %d is longer than %s: no export has such a one", n+1, units.Bytes(mostLine))
	}
	if err := errors.Join(err, end()); err != nil {
		return l.undo(ids, err)
	}
	return ids, nil
}

// begin makes the row of an entry that comes from elsewhere. Nothing here was cut off by it.
func (l *Logbook) begin(e Entry) (*Keeper, error) {
	ended := e.Ended
	if ended.IsZero() {
		ended = e.Began
	}
	result, err := l.db.Exec(`INSERT INTO session (began, ended, target, dialect, device, runbook, title, outcome, message, process, told) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, 'imported', ?)`,
		stamp(e.Began), stamp(ended), e.Target, e.Dialect, e.Device, e.Runbook, e.Title, e.Outcome, e.Message, settled)
	if err != nil {
		return nil, l.wrap(err)
	}
	id, err := result.LastInsertId()
	return &Keeper{book: l, id: id}, l.wrap(err)
}

// undo removes what was taken in before something went wrong.
func (l *Logbook) undo(ids []int64, why error) ([]int64, error) {
	return nil, errors.Join(why, l.remove(ids))
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

// Prunable are the entries that would go: the oldest, those that began before a time, or as many as the rest takes no more
// than so many bytes; 0 for any. What goes on is kept, and of each device the newest entry.
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
