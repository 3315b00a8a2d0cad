package logbook

import (
	"cmp"
	"context"
	"slices"
	"time"

	"pilotrix/core/event"
)

// Player plays an entry again at its pace, or faster; it can be paused, and turned to another step or another time.
type Player struct {
	book  *Logbook
	id    int64
	moves chan Move
	steps []mark

	speed  float64
	paused bool
	next   []event.Event // that were read and not shown
	at     mark          // the event that was shown last
}

// mark is a place in an entry.
type mark struct {
	seq int64
	at  time.Time
}

// Move is what is wanted of a player.
type Move int

// The moves.
const (
	PauseOrGoOn Move = iota
	Faster
	Slower
	NextStep
	StepBefore
	MinuteOn
	MinuteBack
)

// Played is what a player shows: events, after all that was shown before or, again, from the beginning.
type Played struct {
	Events []event.Event
	Again  bool
	At     time.Time
	Speed  float64
	Paused bool
	Over   bool
}

const (
	// longestPause is how long nothing may happen in a replay: what took hours is not waited for.
	longestPause = 3 * time.Second
	// frame is how much time of the wall is shown in one piece: a screen is not drawn more often.
	frame = 40 * time.Millisecond
	// maxSpeed is as fast as any screen.
	maxSpeed = 4096
)

// Player makes one of an entry.
func (l *Logbook) Player(id int64, speed float64) (*Player, error) {
	if _, err := l.Find(id); err != nil {
		return nil, err
	}
	p := &Player{book: l, id: id, speed: speed, moves: make(chan Move, 64)}
	rows, err := l.db.Query(`SELECT seq, at FROM event WHERE session = ? AND kind = ? ORDER BY seq`, id,
		event.KindOf(event.StepBegin{}))
	if err != nil {
		return nil, l.wrap(err)
	}
	defer rows.Close()
	for rows.Next() {
		var m mark
		var at string
		if err := rows.Scan(&m.seq, &at); err != nil {
			return nil, l.wrap(err)
		}
		m.at = parseStamp(at)
		p.steps = append(p.steps, m)
	}
	return p, l.wrap(rows.Err())
}

// Do asks for a move. It never waits: of too many, the last are left out.
func (p *Player) Do(m Move) {
	select {
	case p.moves <- m:
	default:
	}
}

// Play shows the entry until ctx ends. At its end it waits to be turned back.
func (p *Player) Play(ctx context.Context, show func(Played)) error {
	over := false
	for {
		if err := p.fill(); err != nil {
			return err
		}
		if len(p.next) == 0 && !over {
			over = true
			show(p.played(nil, false, true))
		}
		var due <-chan time.Time
		if len(p.next) > 0 && !p.paused {
			due = time.After(p.pause())
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-due:
			show(p.played(p.take(), false, false))
		case move := <-p.moves:
			if err := p.move(move, show); err != nil {
				return err
			}
			over = false
		}
	}
}

// fill reads on where nothing is left.
func (p *Player) fill() (err error) {
	if len(p.next) == 0 {
		p.next, err = p.book.eventsAfter(p.id, p.at.seq, 512)
	}
	return err
}

// pause is how long it is until the next event.
func (p *Player) pause() time.Duration {
	if p.at.at.IsZero() {
		return 0
	}
	return max(0, min(time.Duration(float64(p.next[0].At.Sub(p.at.at))/p.speed), longestPause))
}

// take takes what is due within a frame.
func (p *Player) take() []event.Event {
	until := p.next[0].At.Add(time.Duration(p.speed * float64(frame)))
	n := 1
	for n < len(p.next) && !p.next[n].At.After(until) {
		n++
	}
	return p.cut(n)
}

func (p *Player) cut(n int) []event.Event {
	batch := p.next[:n]
	p.next = p.next[n:]
	if n > 0 {
		p.at = mark{batch[n-1].Seq, batch[n-1].At}
	}
	return batch
}

func (p *Player) played(batch []event.Event, again, over bool) Played {
	return Played{Events: batch, Again: again, At: p.at.at, Speed: p.speed, Paused: p.paused, Over: over}
}

func (p *Player) move(m Move, show func(Played)) error {
	switch m {
	case PauseOrGoOn:
		p.paused = !p.paused
	case Faster:
		p.speed = min(2*p.speed, maxSpeed)
	case Slower:
		p.speed = max(p.speed/2, 0.25)
	case NextStep, StepBefore:
		if to, there := p.step(m); there {
			return p.turn(to, show)
		}
	case MinuteOn, MinuteBack:
		by := time.Minute
		if m == MinuteBack {
			by = -time.Minute
		}
		to, err := p.seqAt(p.at.at.Add(by))
		if err != nil {
			return err
		}
		return p.turn(to, show)
	}
	show(p.played(nil, false, false))
	return nil
}

// step is where the next step begins, or the previous one the present one.
func (p *Player) step(m Move) (seq int64, there bool) {
	at, _ := slices.BinarySearchFunc(p.steps, p.at.seq+1,
		func(s mark, seq int64) int { return cmp.Compare(s.seq, seq) })
	if m == StepBefore { // at is behind the one that is under way
		at -= 2
	}
	if at >= len(p.steps) {
		return 0, false
	}
	return p.steps[max(0, at)].seq, len(p.steps) > 0
}

// seqAt is the last event of a time, the first one where it lies before all.
func (p *Player) seqAt(when time.Time) (seq int64, err error) {
	err = p.book.db.QueryRow(`SELECT COALESCE(MAX(seq), 1) FROM event WHERE session = ? AND at <= ?`, p.id,
		stamp(when)).
		Scan(&seq)
	return seq, p.book.wrap(err)
}

// turn shows everything up to an event at once, from the beginning where it lies behind.
func (p *Player) turn(to int64, show func(Played)) error {
	again := to <= p.at.seq
	if again {
		p.next, p.at = nil, mark{}
	}
	for {
		if err := p.fill(); err != nil {
			return err
		}
		n := 0
		for n < len(p.next) && p.next[n].Seq <= to {
			n++
		}
		last := n < len(p.next) || n == 0
		show(p.played(p.cut(n), again, false))
		again = false
		if last {
			return nil
		}
	}
}
