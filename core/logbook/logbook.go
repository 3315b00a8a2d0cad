// Package logbook keeps the events of every session in one SQLite file, so that what happened can be shown, replayed
// and handed over, also after the program was killed in the middle.
//
// Events are written in batches, each within FlushEvery of the first event in it; the file is in WAL mode, so a batch
// that was written survives the end of the process. What somebody waits for is synced as well, so that it survives the
// end of the machine.
package logbook

import (
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	_ "modernc.org/sqlite" // the driver

	"pilotrix/core/event"
)

// FlushEvery bounds how old an event may be before it is on disk.
const FlushEvery = 100 * time.Millisecond

// ErrFull is what a write to a full disk ends in; what happens is kept in memory until there is room again.
var ErrFull = errors.New("the disk is full")

// ErrBusy is what a write ends in while another program holds the file.
var ErrBusy = errors.New("another program holds it")

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
	here os.FileInfo // the file when it was opened to be written
}

// version is that of the schema; a file of a later one is read as far as it can be, and not written.
const version = 1

// Open opens the file to write it, and makes it when it is not there.
func Open(path string) (*Logbook, error) {
	if path == "" {
		return nil, errors.New("logbook: its path is empty; say --logbook FILE, or --logbook none")
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("logbook: %w", err)
	}
	if err := regular(path); err != nil {
		return nil, err
	}
	l, err := connect(path, "")
	if err != nil {
		return nil, err
	}
	if later, err := l.version(); err != nil || later > version {
		if err == nil {
			err = fmt.Errorf(
				"a later release has written it (form %d, this one knows %d): it can be read, and not written", later,
				version)
		}
		return nil, errors.Join(unopened(path, err), l.Close())
	}
	if _, err := l.db.Exec(schema + knownSchema + fmt.Sprintf("PRAGMA user_version = %d;", version)); err != nil {
		return nil, errors.Join(unopened(path, err), l.Close())
	}
	if l.here, err = os.Stat(path); err != nil {
		return nil, errors.Join(unopened(path, err), l.Close())
	}
	return l, nil
}

// regular refuses what is no file, such as a pipe, whose opening would wait for ever.
func regular(path string) error {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return fmt.Errorf("logbook %s: it is no file; say --logbook FILE, or --logbook none", path)
	}
	return nil
}

// ErrGone is what a write ends in once the file that is open is not the one of that name any more.
var ErrGone = errors.New("it was removed or replaced while it was open: put it back, or begin a new session")

// still holds that whoever looks for the book finds what is written here. A file that was removed takes all of it, and
// says nothing.
func (l *Logbook) still() error {
	if now, err := os.Stat(l.path); err != nil || !os.SameFile(l.here, now) {
		return l.wrap(ErrGone)
	}
	return nil
}

// held holds the same of what was just written, which stands in the journal beside the file first.
func (l *Logbook) held() error {
	if _, err := os.Stat(l.path + "-wal"); err != nil {
		return l.wrap(ErrGone)
	}
	return l.still()
}

// unopened says why a file cannot be written: what the system has against it where it has something, which the database
// says by a number only, else what is in it.
func unopened(path string, err error) error {
	const failing, cannotOpen = 10, 14
	switch {
	case isFull(err):
		return fmt.Errorf("logbook %s: %w", path, ErrFull)
	case isBusy(err):
		return fmt.Errorf("logbook %s: %w", path, ErrBusy)
	}
	var coded interface{ Code() int }
	if errors.As(err, &coded) {
		switch coded.Code() & 0xff {
		case failing:
			return fmt.Errorf("logbook %s: the disk is full or failing: %w", path, err)
		case cannotOpen:
			if probe, system := os.CreateTemp(filepath.Dir(path), ".probe-*"); system != nil {
				return fmt.Errorf("logbook %s: %w", path, errors.Unwrap(system))
			} else {
				_ = errors.Join(probe.Close(), os.Remove(probe.Name()))
			}
			return fmt.Errorf("logbook %s: %w", path, err)
		}
	}
	return fmt.Errorf("logbook %s: %w; move the file away to begin a new one", path, err)
}

// ErrNone says that there is no logbook yet.
var ErrNone = errors.New("there is no logbook yet")

// OpenToRead opens a file to look at it, whoever may write to it: nothing is made or changed.
func OpenToRead(path string) (*Logbook, error) {
	if path == "" {
		return nil, errors.New("logbook: its path is empty; say --logbook FILE")
	}
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("logbook %s: %w", path, ErrNone)
	}
	if err := regular(path); err != nil {
		return nil, err
	}
	var failed error
	for _, mode := range []string{"ro", "ro&immutable=1"} { // the second one where no journal can be made beside it
		l, err := connect(path, mode)
		if err == nil {
			var tables int
			err = l.db.QueryRow(`SELECT COUNT(*) FROM sqlite_master WHERE name IN ('session', 'event')`).Scan(&tables)
			if err == nil && tables == 2 {
				return l, nil
			}
			if err == nil {
				err = errors.New("it is a file of another program")
			}
			_ = l.Close()
		}
		failed = err
	}
	return nil, fmt.Errorf("logbook %s: it cannot be read: %w", path, failed)
}

// connect opens a file by its name, whatever that holds.
func connect(path, mode string) (*Logbook, error) {
	if absolute, err := filepath.Abs(path); err == nil {
		path = absolute
	}
	address := url.URL{
		Scheme:   "file",
		Path:     filepath.ToSlash(path),
		RawQuery: "_txlock=immediate&_pragma=busy_timeout(" + busyTimeout + ")&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)",
	}
	if mode != "" {
		address.RawQuery = "mode=" + mode + "&_pragma=busy_timeout(" + busyTimeout + ")"
	}
	db, err := sql.Open("sqlite", address.String())
	if err != nil {
		return nil, fmt.Errorf("logbook %s: %w", path, err)
	}
	db.SetMaxOpenConns(1)
	return &Logbook{db: db, path: path}, nil
}

// busyTimeout is how long another program that writes is waited for, in milliseconds: shorter than a change may wait to
// be on record.
const busyTimeout = "2500"

// sync says whether what is committed from here on is on the disk when that returns, or may still be with the system.
func (l *Logbook) sync(full bool) error {
	level := "NORMAL"
	if full {
		level = "FULL"
	}
	_, err := l.db.Exec("PRAGMA synchronous = " + level)
	return l.wrap(err)
}

func (l *Logbook) version() (n int, err error) {
	err = l.db.QueryRow(`PRAGMA user_version`).Scan(&n)
	return n, err
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

func (l *Logbook) wrap(err error) error {
	if err == nil {
		return nil
	}
	switch {
	case isFull(err):
		err = ErrFull
	case isBusy(err):
		err = ErrBusy
	}
	return fmt.Errorf("logbook %s: %w", l.path, err)
}

func isBusy(err error) bool {
	const busy, locked = 5, 6
	var coded interface{ Code() int }
	return errors.As(err, &coded) && (coded.Code()&0xff == busy || coded.Code()&0xff == locked)
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
	rows, err := l.db.Query(
		`SELECT id, began, COALESCE(ended, ''), target, dialect, device, runbook, title, outcome, message, process FROM session `+where,
		args...)
	if err != nil {
		return nil, l.wrap(err)
	}
	defer rows.Close()
	var entries []Entry
	for rows.Next() {
		var e Entry
		var began, ended string
		if err := rows.Scan(&e.ID, &began, &ended, &e.Target, &e.Dialect, &e.Device, &e.Runbook, &e.Title, &e.Outcome,
			&e.Message, &e.process); err != nil {
			return nil, l.wrap(err)
		}
		e.Began, e.Ended = parseStamp(began), parseStamp(ended)
		switch {
		case ended != "":
		case alive(e.process):
			e.Outcome = StillOpen
		case e.Outcome == "": // a run that has ended is whole, whatever came of its session
			e.Outcome = Broken
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
	rows, err := l.db.Query(`SELECT seq, at, kind, body FROM event WHERE session = ? AND seq > ? ORDER BY seq LIMIT ?`,
		id, after, most)
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
			e.Body = event.Unread{Kind: kind, Why: err.Error()} // and goes on: it hides nothing after it
		}
		batch = append(batch, e)
	}
	return batch, l.wrap(rows.Err())
}
