package logbook

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"pilotrix/core/event"
)

// Keeper writes one session. What cannot be written waits in memory, and is written as soon as it can be.
type Keeper struct {
	book    *Logbook
	id      int64
	changes chan Recording
	done    chan struct{}
	err     error

	waiting []event.Event // that were not written yet
	bytes   int           // about how much memory they take
	lost    int           // of them, since there was no room
	since   time.Time     // the first of those
	said    int64         // the event in whose place that is said
	told    Recording

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
	result, err := l.db.Exec(`INSERT INTO session (began, target, dialect, device, process) VALUES (?, '', '', '', ?)`, stamp(time.Now()), thisProcess())
	if err != nil {
		return nil, l.wrap(err)
	}
	id, err := result.LastInsertId()
	if err != nil {
		return nil, l.wrap(err)
	}
	k := &Keeper{book: l, id: id, done: make(chan struct{}), changes: make(chan Recording, 16)}
	feed.Keeps()
	go k.run(feed)
	return k, nil
}

// ID is the entry's number.
func (k *Keeper) ID() int64 { return k.id }

// Wait returns when the feed has ended and everything is on disk, or what of it could not be written.
func (k *Keeper) Wait() error {
	<-k.done
	return k.err
}

const (
	// mostWaiting is how much memory what was not written yet may take, in bytes.
	mostWaiting = 64 << 20
	// retryEvery is how often it is tried to write it.
	retryEvery = time.Second
	// mostAtOnce is how many events are written in one piece, so that what was written of many stays so.
	mostAtOnce = 2000
)

func (k *Keeper) run(feed *event.Feed) {
	defer close(k.done)
	defer close(k.changes)
	defer feed.Abandon()
	for {
		batch, err := k.next(feed)
		if errors.Is(err, io.EOF) {
			k.err = k.told.Problem
			if len(k.waiting) > 0 {
				k.err = k.flush()
			}
			return
		}
		k.take(batch)
		k.tell(k.flush())
		if len(batch) > 0 {
			feed.Kept(batch[len(batch)-1].Seq) // what waits in memory keeps nobody waiting
		}
		select { // what comes meanwhile goes into the next batch
		case <-time.After(FlushEvery):
		case <-feed.Hurry():
		}
	}
}

// next is what comes next; nothing where something waits to be written that is to be tried again.
func (k *Keeper) next(feed *event.Feed) ([]event.Event, error) {
	if len(k.waiting) == 0 {
		return feed.Next(context.Background())
	}
	ctx, cancel := context.WithTimeout(context.Background(), retryEvery)
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
	full := k.bytes > mostWaiting
	for k.bytes > mostWaiting && len(k.waiting) > 1 {
		k.loses(k.waiting[0])
		k.waiting = k.waiting[1:]
	}
	if full { // where they were, it is said
		first := k.waiting[0]
		k.loses(first)
		k.waiting[0] = event.Event{Seq: first.Seq, At: first.At, Body: event.Note{
			Level: event.Error, Text: fmt.Sprintf("%d events since %s are missing here: nothing could be recorded, and there was no more room for them in memory", k.lost, k.since.Format(time.TimeOnly)),
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

// flush writes what waits.
func (k *Keeper) flush() error {
	for len(k.waiting) > 0 {
		piece := k.waiting[:min(len(k.waiting), mostAtOnce)]
		if err := k.write(piece); err != nil {
			return err
		}
		for _, e := range piece {
			k.bytes -= weight(e)
		}
		k.waiting = k.waiting[len(piece):]
	}
	k.waiting, k.bytes, k.lost, k.said = nil, 0, 0, 0
	return nil
}

// tell tells how it goes, if that is new.
func (k *Keeper) tell(problem error) {
	now := Recording{problem, k.lost}
	if fmt.Sprint(now.Problem) == fmt.Sprint(k.told.Problem) && (now.Lost > 0) == (k.told.Lost > 0) {
		return
	}
	k.told = now
	select {
	case k.changes <- now:
	default: // nobody listens
	}
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
		if err != nil { // it hides nothing behind it
			e.Body = event.Unread{Kind: event.KindOf(e.Body), Why: err.Error()}
			body, _ = json.Marshal(e.Body)
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
