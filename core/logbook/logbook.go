// Package logbook keeps the events of every session in one SQLite file, so that what happened can be
// shown, replayed and handed over, also after the program was killed in the middle.
//
// Events are written in batches, each within FlushEvery of the first event in it; the file is in WAL
// mode, so a batch that was written survives the end of the process.
package logbook

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	_ "modernc.org/sqlite" // the driver

	"pilotrix/core/event"
)

// FlushEvery bounds how old an event may be before it is on disk.
const FlushEvery = 100 * time.Millisecond

// ErrFull is what a write to a full disk ends in; the session goes on without a logbook.
var ErrFull = errors.New("the disk is full")

const schema = `
CREATE TABLE IF NOT EXISTS session (
	id INTEGER PRIMARY KEY, began TEXT NOT NULL, target TEXT NOT NULL, dialect TEXT NOT NULL, device TEXT NOT NULL,
	runbook TEXT NOT NULL DEFAULT '', title TEXT NOT NULL DEFAULT '', process TEXT NOT NULL, ended TEXT, outcome TEXT NOT NULL DEFAULT '',
	message TEXT NOT NULL DEFAULT '', told INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE IF NOT EXISTS event (
	session INTEGER NOT NULL REFERENCES session(id), seq INTEGER NOT NULL, at TEXT NOT NULL, kind TEXT NOT NULL, body TEXT NOT NULL,
	PRIMARY KEY (session, seq)
) WITHOUT ROWID;`

// Logbook is the open file. It may be used by several goroutines.
type Logbook struct {
	db   *sql.DB
	path string
}

// Open opens the file and makes it when it is not there.
func Open(path string) (*Logbook, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("logbook: %w", err)
	}
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_pragma=busy_timeout(5000)")
	if err != nil {
		return nil, fmt.Errorf("logbook %s: %w", path, err)
	}
	db.SetMaxOpenConns(1)
	if _, err := db.Exec(schema + knownSchema); err != nil {
		db.Close()
		return nil, fmt.Errorf("logbook %s: %w; move the file away to begin a new one", path, err)
	}
	return &Logbook{db: db, path: path}, nil
}

// Close closes the file.
func (l *Logbook) Close() error { return l.db.Close() }

// Path is where the file is.
func (l *Logbook) Path() string { return l.path }

// Entry is one session in the book.
type Entry struct {
	ID      int64     `json:"id"`
	Began   time.Time `json:"began"`
	Ended   time.Time `json:"ended,omitzero"`
	Target  string    `json:"target"`
	Dialect string    `json:"dialect,omitempty"`
	Device  string    `json:"device,omitempty"`
	Runbook string    `json:"runbook,omitempty"`
	Title   string    `json:"title,omitempty"`
	Outcome string    `json:"outcome"`
	Message string    `json:"message,omitempty"`
	process string
}

// Outcomes of an entry besides those of its runbook.
const (
	StillOpen = "open"
	Broken    = "cut off"
)

// Keeper writes one session.
type Keeper struct {
	book   *Logbook
	id     int64
	failed chan error
	done   chan struct{}
	err    error

	place   string // what the device is known by
	present int64  // the run that is under way, by the number of its first event
}

// Failed delivers the error after which nothing more is kept, at the moment it happens. It is closed
// with the entry.
func (k *Keeper) Failed() <-chan error { return k.failed }

// Keep begins an entry and writes the feed into it until the feed ends.
func (l *Logbook) Keep(feed *event.Feed) (*Keeper, error) {
	result, err := l.db.Exec(`INSERT INTO session (began, target, dialect, device, process) VALUES (?, '', '', '', ?)`, stamp(time.Now()), thisProcess())
	if err != nil {
		return nil, l.wrap(err)
	}
	id, err := result.LastInsertId()
	if err != nil {
		return nil, l.wrap(err)
	}
	k := &Keeper{book: l, id: id, done: make(chan struct{}), failed: make(chan error, 1)}
	feed.Keeps()
	go k.run(feed)
	return k, nil
}

// ID is the entry's number.
func (k *Keeper) ID() int64 { return k.id }

// Wait returns when the feed has ended and everything is on disk, with what went wrong.
func (k *Keeper) Wait() error {
	<-k.done
	return k.err
}

func (k *Keeper) run(feed *event.Feed) {
	defer close(k.done)
	defer close(k.failed)
	defer feed.Abandon()
	for {
		batch, err := feed.Next(context.Background())
		if errors.Is(err, io.EOF) {
			return
		}
		if k.err == nil {
			if k.err = k.insist(batch); k.err != nil {
				k.failed <- k.err
				feed.Abandon()
			}
		}
		feed.Kept(batch[len(batch)-1].Seq)
		select { // what comes meanwhile goes into the next batch
		case <-time.After(FlushEvery):
		case <-feed.Hurry():
		}
	}
}

// mostBusy is how often a batch is tried that another program keeps from the file, each time as long as the file's own
// patience is.
const mostBusy = 12

// insist writes a batch, again where another program has the file.
func (k *Keeper) insist(batch []event.Event) (err error) {
	for range mostBusy {
		if err = k.write(batch); err == nil || !isBusy(err) {
			return err
		}
	}
	return err
}

func isBusy(err error) bool {
	const sqliteBusy, sqliteLocked = 5, 6
	var coded interface{ Code() int }
	return errors.As(err, &coded) && (coded.Code()&0xff == sqliteBusy || coded.Code()&0xff == sqliteLocked)
}

func (k *Keeper) write(batch []event.Event) error {
	tx, err := k.book.db.Begin()
	if err != nil {
		return k.book.wrap(err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
	insert, err := tx.Prepare(`INSERT INTO event (session, seq, at, kind, body) VALUES (?, ?, ?, ?, ?)`)
	if err != nil {
		return k.book.wrap(err)
	}
	defer insert.Close()
	for _, e := range batch {
		body, err := json.Marshal(e.Body)
		if err != nil {
			return err
		}
		if _, err := insert.Exec(k.id, e.Seq, stamp(e.At), event.KindOf(e.Body), string(body)); err != nil {
			return k.book.wrap(err)
		}
		if err := errors.Join(k.summarise(tx, e), k.remember(tx, e)); err != nil {
			return k.book.wrap(err)
		}
	}
	return k.book.wrap(tx.Commit())
}

// summarise keeps the entry's own row up to date.
func (k *Keeper) summarise(tx *sql.Tx, e event.Event) (err error) {
	switch b := e.Body.(type) {
	case event.SessionBegin:
		_, err = tx.Exec(`UPDATE session SET began = ?, target = ?, dialect = ?, device = ? WHERE id = ?`, stamp(e.At), b.Target, b.Dialect, b.Device, k.id)
	case event.Learned:
		_, err = tx.Exec(`UPDATE session SET dialect = ? WHERE id = ?`, b.Dialect, k.id)
	case event.RunBegin:
		_, err = tx.Exec(`UPDATE session SET runbook = ?, title = ?, outcome = '' WHERE id = ?`, b.Runbook, b.Title, k.id)
	case event.RunEnd:
		_, err = tx.Exec(`UPDATE session SET outcome = ?, message = ? WHERE id = ?`, b.Outcome, b.Message, k.id)
	case event.SessionEnd:
		_, err = tx.Exec(`UPDATE session SET ended = ? WHERE id = ?`, stamp(e.At), k.id)
	}
	return err
}

func (l *Logbook) wrap(err error) error {
	if err == nil {
		return nil
	}
	if isFull(err) {
		err = ErrFull
	}
	return fmt.Errorf("logbook %s: %w", l.path, err)
}

func isFull(err error) bool {
	const sqliteFull = 13
	var coded interface{ Code() int }
	return errors.As(err, &coded) && coded.Code()&0xff == sqliteFull
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }

func parseStamp(text string) time.Time {
	t, _ := time.Parse(time.RFC3339Nano, text)
	return t
}

// List gives the newest entries first, at most that many; 0 means all.
func (l *Logbook) List(most int) ([]Entry, error) {
	if most == 0 {
		most = -1
	}
	return l.query(`ORDER BY id DESC LIMIT ?`, most)
}

// Find is one entry.
func (l *Logbook) Find(id int64) (Entry, error) {
	found, err := l.query(`WHERE id = ?`, id)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("logbook %s: there is no entry %d; see logbook list", l.path, id)
	}
	if err != nil {
		return Entry{}, err
	}
	return found[0], nil
}

func (l *Logbook) query(where string, args ...any) ([]Entry, error) {
	rows, err := l.db.Query(`SELECT id, began, COALESCE(ended, ''), target, dialect, device, runbook, title, outcome, message, process FROM session `+where, args...)
	if err != nil {
		return nil, l.wrap(err)
	}
	defer rows.Close()
	var entries []Entry
	for rows.Next() {
		var e Entry
		var began, ended string
		if err := rows.Scan(&e.ID, &began, &ended, &e.Target, &e.Dialect, &e.Device, &e.Runbook, &e.Title, &e.Outcome, &e.Message, &e.process); err != nil {
			return nil, l.wrap(err)
		}
		e.Began, e.Ended = parseStamp(began), parseStamp(ended)
		if ended == "" {
			e.Outcome = Broken
			if alive(e.process) {
				e.Outcome = StillOpen
			}
		}
		entries = append(entries, e)
	}
	return entries, l.wrap(rows.Err())
}

// Events reads an entry's events in order and hands each to visit until it returns an error.
func (l *Logbook) Events(id int64, visit func(event.Event) error) error {
	const page = 512
	for after := int64(0); ; {
		batch, err := l.eventsAfter(id, after, page)
		if err != nil {
			return err
		}
		for _, e := range batch {
			if err := visit(e); err != nil {
				return err
			}
			after = e.Seq
		}
		if len(batch) < page {
			return nil
		}
	}
}

func (l *Logbook) eventsAfter(id, after int64, most int) ([]event.Event, error) {
	rows, err := l.db.Query(`SELECT seq, at, kind, body FROM event WHERE session = ? AND seq > ? ORDER BY seq LIMIT ?`, id, after, most)
	if err != nil {
		return nil, l.wrap(err)
	}
	defer rows.Close()
	var batch []event.Event
	for rows.Next() {
		var e event.Event
		var at, kind, body string
		if err := rows.Scan(&e.Seq, &at, &kind, &body); err != nil {
			return nil, l.wrap(err)
		}
		e.At = parseStamp(at)
		if e.Body, err = event.DecodeBody(kind, []byte(body)); err != nil {
			return nil, fmt.Errorf("logbook %s: entry %d, event %d: %w", l.path, id, e.Seq, err)
		}
		batch = append(batch, e)
	}
	return batch, l.wrap(rows.Err())
}
