package logbook

import (
	"cmp"
	"database/sql"
	"slices"
	"time"

	"pilotrix/core/event"
)

// What is known of devices and runs without reading their events: kept up to date with every batch, so that it is
// found at once however much is in the book.

const knownSchema = `
CREATE TABLE IF NOT EXISTS run (
	session INTEGER NOT NULL REFERENCES session(id), seq INTEGER NOT NULL, place TEXT NOT NULL, runbook TEXT NOT NULL, title TEXT NOT NULL,
	began TEXT NOT NULL, ended TEXT, outcome TEXT NOT NULL DEFAULT '', message TEXT NOT NULL DEFAULT '', PRIMARY KEY (session, seq)
) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS run_of_place ON run (place, began);
CREATE INDEX IF NOT EXISTS run_of_runbook ON run (runbook, began);
CREATE TABLE IF NOT EXISTS known (place TEXT NOT NULL, name TEXT NOT NULL, value TEXT NOT NULL, at TEXT NOT NULL, PRIMARY KEY (place, name)) WITHOUT ROWID;`

// keptFacts are those that are worth knowing before a line is opened.
var keptFacts = []string{"running.release", "device.model", "device.serial", "device.name"}

// Run is one runbook that was carried out.
type Run struct {
	Session int64
	Place   string // the device's name, or else its target
	Runbook string
	Title   string
	Began   time.Time
	Ended   time.Time // zero where it was cut off, or goes on
	Outcome event.Outcome
	Message string
}

// Took is how long it took, 0 where it did not end.
func (r Run) Took() time.Duration {
	if r.Ended.IsZero() {
		return 0
	}
	return r.Ended.Sub(r.Began)
}

// Known is what the book knows of a device.
type Known struct {
	Facts map[string]string
	At    time.Time // of the newest of them
	Last  *Run      // the newest, nil for none
}

// placeOf is what a session's device is known by.
func placeOf(device, target string) string { return cmp.Or(device, target) }

// remember takes what an event says of runs and devices.
func (k *Keeper) remember(tx *sql.Tx, e event.Event) (err error) {
	switch b := e.Body.(type) {
	case event.SessionBegin:
		k.place = placeOf(b.Device, b.Target)
	case event.RunBegin:
		k.present = e.Seq
		_, err = tx.Exec(`INSERT INTO run (session, seq, place, runbook, title, began) VALUES (?, ?, ?, ?, ?, ?)`, k.id,
			e.Seq, k.place, b.Runbook, b.Title, stamp(e.At))
	case event.RunEnd:
		_, err = tx.Exec(`UPDATE run SET ended = ?, outcome = ?, message = ? WHERE session = ? AND seq = ?`,
			stamp(e.At), b.Outcome, b.Message, k.id, k.present)
	case event.Fact:
		if k.place != "" && slices.Contains(keptFacts, b.Name) {
			_, err = tx.Exec(`INSERT INTO known (place, name, value, at) VALUES (?, ?, ?, ?) ON CONFLICT (place, name) DO UPDATE SET value = excluded.value, at = excluded.at WHERE excluded.at >= known.at`,
				k.place, b.Name, b.Value, stamp(e.At))
		}
	}
	return err
}

// LastRun is the newest run of a runbook that ended well, on any device; found is false where there is none.
func (l *Logbook) LastRun(runbook string) (run Run, found bool, err error) {
	runs, err := l.runs(`WHERE runbook = ? AND ended IS NOT NULL AND outcome = ? ORDER BY began DESC LIMIT 1`, runbook,
		event.Done)
	if err != nil || len(runs) == 0 {
		return run, false, err
	}
	return runs[0], true, nil
}

// Known is what is known of all devices, by their names or else their targets.
func (l *Logbook) Known() (map[string]Known, error) {
	all := map[string]Known{}
	rows, err := l.db.Query(`SELECT place, name, value, at FROM known`)
	if err != nil {
		return nil, l.wrap(err)
	}
	defer rows.Close()
	for rows.Next() {
		var place, name, value, at string
		if err := rows.Scan(&place, &name, &value, &at); err != nil {
			return nil, l.wrap(err)
		}
		one := all[place]
		if one.Facts == nil {
			one.Facts = map[string]string{}
		}
		one.Facts[name] = value
		if when := parseStamp(at); when.After(one.At) {
			one.At = when
		}
		all[place] = one
	}
	if err := rows.Err(); err != nil {
		return nil, l.wrap(err)
	}
	newest, err := l.runs(`AS r WHERE began = (SELECT MAX(began) FROM run WHERE place = r.place)`)
	for _, run := range newest {
		one := all[run.Place]
		one.Last = &run
		all[run.Place] = one
	}
	return all, err
}

func (l *Logbook) runs(where string, args ...any) (all []Run, err error) {
	rows, err := l.db.Query(
		`SELECT session, place, runbook, title, began, COALESCE(ended, ''), outcome, message FROM run `+where,
		args...)
	if err != nil {
		return nil, l.wrap(err)
	}
	defer rows.Close()
	for rows.Next() {
		var r Run
		var began, ended string
		if err := rows.Scan(&r.Session, &r.Place, &r.Runbook, &r.Title, &began, &ended, &r.Outcome,
			&r.Message); err != nil {
			return nil, l.wrap(err)
		}
		r.Began, r.Ended = parseStamp(began), parseStamp(ended)
		all = append(all, r)
	}
	return all, l.wrap(rows.Err())
}
