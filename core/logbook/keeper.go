package logbook

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/units"
)

// Keeper writes one session. What cannot be written waits in memory, and is written as soon as it can be.
//
// The numbers of a session's events are given by the file, in the order in which they come to it: notes of another
// program take theirs as the session's own events do.
type Keeper struct {
	book    *Logbook
	open    func() (*Logbook, error) // opens the book where that could not be opened yet
	id      int64
	changes chan Recording
	done    chan struct{}
	err     error

	waiting  []event.Event // that were not written yet
	bytes    int           // about how much memory they take
	lost     int           // of them, since there was no room
	gap      int           // the same of the whole session
	since    time.Time     // the first of those
	said     int64         // the event in whose place that is said
	reported Recording

	imports bool  // an entry from elsewhere: what is known apart from its events is brought by whoever imports it
	written int64 // the number of the last event that was written

	place   string // what the device is known by
	present int64  // the run that is under way, by the number of its first event
}

// Recording is how the keeping goes.
type Recording struct {
	Problem error // nil while all is kept
	Lost    int   // events that are missing, since they did not fit into memory
}

// Changes delivers how the keeping goes, whenever that changes. It is closed with the entry.
func (k *Keeper) Changes() <-chan Recording { return k.changes }

// Keep begins an entry and writes the feed into it until the feed ends.
func (l *Logbook) Keep(feed *event.Feed) (*Keeper, error) {
	k := newKeeper(l)
	if err := k.begin(); err != nil {
		return nil, err
	}
	feed.Keeps()
	go k.run(feed)
	return k, nil
}

// KeepWhenPossible is Keep for a book that cannot be opened now: another program may hold it. Until open succeeds what
// happens waits in memory, and is said not to be recorded. The book is closed with the entry.
func KeepWhenPossible(feed *event.Feed, open func() (*Logbook, error), why error) *Keeper {
	k := newKeeper(nil)
	k.open = open
	feed.Keeps()
	feed.Fails(why)
	k.report(why)
	go k.run(feed)
	return k
}

func newKeeper(l *Logbook) *Keeper {
	return &Keeper{book: l, done: make(chan struct{}), changes: make(chan Recording, 16)}
}

// begin makes the entry's row.
func (k *Keeper) begin() error {
	result, err := k.book.db.Exec(
		`INSERT INTO session (began, target, dialect, device, process) VALUES (?, '', '', '', ?)`, stamp(time.Now()),
		thisProcess())
	if err != nil {
		return k.book.wrap(err)
	}
	k.id, err = result.LastInsertId()
	return k.book.wrap(err)
}

// ready opens the book where that was not possible before.
func (k *Keeper) ready() (err error) {
	if k.open == nil {
		return nil
	}
	if k.book == nil {
		if k.book, err = k.open(); err != nil {
			k.book = nil
			return err
		}
	}
	if k.id == 0 {
		err = k.begin()
	}
	return err
}

// ID is the entry's number, 0 while there is none.
func (k *Keeper) ID() int64 { return k.id }

// Wait returns when the feed has ended and everything is on disk, or what of it could not be written.
func (k *Keeper) Wait() error {
	<-k.done
	return k.err
}

const (
	// maxWaiting is how much memory what was not written yet may take, in bytes.
	maxWaiting = 64 << 20
	// retryEvery is how often it is tried to write it.
	retryEvery = time.Second
	// maxAtOnce is how many events are written in one piece, so that what was written of many stays so.
	maxAtOnce = 2000
)

func (k *Keeper) run(feed *event.Feed) {
	defer close(k.done)
	defer close(k.changes)
	defer feed.Abandon()
	if k.open != nil {
		defer func() {
			if k.book != nil {
				k.err = errors.Join(k.err, k.book.Close())
			}
		}()
	}
	var last int64 // the number of the newest event that was taken, as its hub counts
	for {
		batch, err := k.next(feed)
		if errors.Is(err, io.EOF) {
			k.err = k.reported.Problem
			if len(k.waiting) > 0 {
				k.err = k.flush(true)
			}
			if k.err == nil && k.gap > 0 {
				k.err = fmt.Errorf("missing of it: %s; there was no room for them while nothing could be recorded",
					units.Many(k.gap, "event"))
			}
			return
		}
		k.take(batch)
		if len(batch) > 0 {
			last = batch[len(batch)-1].Seq
		}
		awaited, hurry := feed.Awaited(), feed.Hurry()
		err = k.flush(awaited)
		k.report(err)
		switch {
		case err != nil:
			feed.Fails(err)
			hurry = nil // what fails is not tried again at once
		case awaited:
			feed.Kept(last)
		}
		select { // what comes meanwhile goes into the next batch
		case <-time.After(FlushEvery):
		case <-hurry:
		}
	}
}

// next is what comes next; nothing where something waits to be written that is to be tried again.
func (k *Keeper) next(feed *event.Feed) ([]event.Event, error) {
	var wait time.Duration // none while somebody waits for what was written before
	switch {
	case len(k.waiting) > 0 || k.reported.Problem != nil:
		wait = retryEvery
	case !feed.Awaited():
		return feed.Next(context.Background())
	}
	ctx, cancel := context.WithTimeout(context.Background(), wait)
	defer cancel()
	batch, err := feed.Next(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		return nil, nil
	}
	return batch, err
}

// take puts events to those that wait. Where there is no room the oldest go: what happens now matters more.
func (k *Keeper) take(batch []event.Event) {
	for _, e := range batch {
		k.waiting, k.bytes = append(k.waiting, e), k.bytes+weight(e)
	}
	full := k.bytes > maxWaiting
	for k.bytes > maxWaiting && len(k.waiting) > 1 {
		k.loses(k.waiting[0])
		k.waiting = k.waiting[1:]
	}
	if full { // where they were, it is said
		first := k.waiting[0]
		k.loses(first)
		k.waiting[0] = event.Event{Seq: first.Seq, At: first.At, Body: event.Note{
			Level: event.Error,
			Text: fmt.Sprintf(
				"missing here: %s since %s; nothing could be recorded, and there was no more room for them in memory",
				units.Many(k.lost, "event"), k.since.Format(time.TimeOnly)),
		}}
		k.said = first.Seq
		k.bytes += weight(k.waiting[0])
	}
}

// loses lets an event go.
func (k *Keeper) loses(e event.Event) {
	k.bytes -= weight(e)
	if e.Seq == k.said { // what stood for others that went before
		return
	}
	if k.lost == 0 {
		k.since = e.At
	}
	k.lost++
	k.gap++
}

// weight is about how much memory an event takes, in bytes.
func weight(e event.Event) int {
	const usual = 400
	switch b := e.Body.(type) {
	case event.In:
		return usual + len(b.Bytes)
	case event.Out:
		return usual + len(b.Bytes)
	case event.Shelf:
		return usual * (1 + len(b.Images))
	}
	return usual
}

// flush writes what waits; synced so that it waits out the machine's end, too.
func (k *Keeper) flush(synced bool) error {
	if err := k.ready(); err != nil {
		return err
	}
	if err := k.book.still(); err != nil {
		return err
	}
	if synced {
		if err := k.book.sync(true); err != nil {
			return err
		}
		defer k.book.sync(false) //nolint:errcheck // it is only slower where that fails
	}
	for first := true; len(k.waiting) > 0 || first && synced; first = false {
		piece := k.waiting[:min(len(k.waiting), maxAtOnce)]
		if err := k.write(piece); err != nil {
			return err
		}
		for _, e := range piece {
			k.bytes -= weight(e)
		}
		k.waiting = k.waiting[len(piece):]
	}
	k.waiting, k.bytes, k.lost, k.said = nil, 0, 0, 0
	if synced { // what was written into a file that has gone meanwhile is on no record
		return k.book.held()
	}
	return nil
}

// report says how it goes, if that is new.
func (k *Keeper) report(problem error) {
	now := Recording{problem, k.lost}
	if fmt.Sprint(now.Problem) == fmt.Sprint(k.reported.Problem) && (now.Lost > 0) == (k.reported.Lost > 0) {
		return
	}
	k.reported = now
	select {
	case k.changes <- now:
	default: // nobody listens
	}
}

// write adds events to the entry, under the next numbers that it has. What was written before becomes as safe as they
// are.
func (k *Keeper) write(batch []event.Event) error {
	tx, err := k.book.db.Begin()
	if err != nil {
		return k.book.wrap(err)
	}
	defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
	if err := k.add(tx, batch); err != nil {
		return k.book.wrap(err)
	}
	return k.book.wrap(tx.Commit())
}

func (k *Keeper) add(tx *sql.Tx, batch []event.Event) error {
	// This writes in any case, so that a sync has something to sync.
	found, err := tx.Exec(`UPDATE session SET process = process WHERE id = ?`, k.id)
	if err != nil {
		return err
	}
	if rows, err := found.RowsAffected(); err != nil || rows == 0 {
		return cmp.Or(err, fmt.Errorf("entry %d was removed from it", k.id))
	}
	var last int64
	if err := tx.QueryRow(`SELECT COALESCE(MAX(seq), 0) FROM event WHERE session = ?`, k.id).Scan(&last); err != nil {
		return err
	}
	insert, err := tx.Prepare(`INSERT INTO event (session, seq, at, kind, body) VALUES (?, ?, ?, ?, ?)`)
	if err != nil {
		return err
	}
	defer insert.Close()
	for i, e := range batch {
		e.Seq = last + int64(i) + 1
		body, err := json.Marshal(e.Body)
		if err != nil { // it hides nothing after it
			e.Body = event.Unread{Kind: event.KindOf(e.Body), Why: err.Error()}
			body, _ = json.Marshal(e.Body)
		}
		if _, err := insert.Exec(k.id, e.Seq, stamp(e.At), event.KindOf(e.Body), string(body)); err != nil {
			return err
		}
		if k.imports {
			continue
		}
		if err := errors.Join(k.summarise(tx, e), k.remember(tx, e)); err != nil {
			return err
		}
	}
	k.written = last + int64(len(batch))
	return nil
}

// summarise keeps the entry's own row up to date.
func (k *Keeper) summarise(tx *sql.Tx, e event.Event) (err error) {
	switch b := e.Body.(type) {
	case event.SessionBegin:
		_, err = tx.Exec(`UPDATE session SET began = ?, target = ?, dialect = ?, device = ? WHERE id = ?`, stamp(e.At),
			b.Target, b.Dialect, b.Device, k.id)
	case event.Learned:
		_, err = tx.Exec(`UPDATE session SET dialect = ? WHERE id = ?`, b.Dialect, k.id)
	case event.RunBegin:
		_, err = tx.Exec(`UPDATE session SET runbook = ?, title = ?, outcome = '' WHERE id = ?`, b.Runbook, b.Title,
			k.id)
	case event.RunEnd:
		_, err = tx.Exec(`UPDATE session SET outcome = ?, message = ? WHERE id = ?`, b.Outcome, b.Message, k.id)
	case event.SessionEnd:
		_, err = tx.Exec(`UPDATE session SET ended = ? WHERE id = ?`, stamp(e.At), k.id)
	}
	return err
}
