package xmodem

import (
	"context"
	"errors"
	"fmt"
	"time"

	"pilotrix/core/transfer"
)

// answers accounts for them. An answer is one byte that does not say what it answers: after a block was sent
// twice, since the receiver was slow, two answers come, and the second one must not pass for the next
// block's, nor for that of the end. So each copy sent has an answer to its credit, and what is still owed is
// waited for.
type answers struct {
	owed      int           // answers to copies of earlier blocks that may still come
	owedUntil time.Time     // by then they should have come
	doubt     int           // answers that had not come by then, and may never
	longest   time.Duration // that an answer took
	usual     time.Duration // from a block's end on the line to its answer
	lineFree  time.Time     // when all that was written has passed the line
	unclear   []byte        // what came instead of answers, in a row
}

const endOfFile = "the end of the file"

var (
	errAgain   = errors.New("not acknowledged")
	errRefused = fmt.Errorf("%w: the receiver found an error in it", errAgain)
	errNoWord  = fmt.Errorf("%w: no answer in time", errAgain)
	errUnclear = fmt.Errorf("%w: the answer was unclear", errAgain)
	errBegun   = fmt.Errorf("%w: the receiver asked for the start again", errAgain)
)

// ErrLeft says that the device writes text: whatever received there does so no more.
var ErrLeft = errors.New("the device does not receive any more")

// until sends copies until one is acknowledged and says how many that took.
func (s *sender) until(ctx context.Context, name string, build func() ([]byte, error)) (copies int, err error) {
	begun := s.opt.Clock.Now()
	word := begun // when the receiver was heard last
	timeLimit := s.opt.TimeLimit
	if name == endOfFile {
		timeLimit = s.opt.EndWait
	}
	silent, open, begins := 0, 0, 0 // copies in a row without a word; without an answer; that were asked for by a start
	for copies = 1; ; copies++ {
		size, sent, err := s.copy(ctx, name, build)
		if err != nil {
			return copies, err
		}
		if s.stream {
			return copies, s.objection(ctx)
		}
		open++
		switch err = s.answer(ctx, size, s.waitFor(name, silent, timeLimit-s.opt.Clock.Since(word))); {
		case err == nil && name == endOfFile:
			if err = s.confirm(ctx); err == nil || !errors.Is(err, errAgain) {
				return copies, err
			}
			open--
		case err == nil:
			if err = s.acknowledged(ctx, begun, sent, open-1); err == nil || !errors.Is(err, errAgain) {
				return copies, err
			}
			begun, open, copies, begins = s.opt.Clock.Now(), 0, 0, 0
		case !errors.Is(err, errAgain):
			return copies, fmt.Errorf("%s: %w", name, err)
		case errors.Is(err, errNoWord):
			silent++
		case errors.Is(err, errBegun):
			begins++
			silent = 0
		case errors.Is(err, errRefused):
			open--
			silent = 0
		default:
			silent = 0
		}
		if silent == 0 {
			word = s.opt.Clock.Now()
		}
		if copies-begins > s.opt.Retries || begins > 2*s.opt.Retries || s.opt.Silence > 0 && silent > s.opt.Silence ||
			silent > 0 && s.opt.Clock.Since(word) >= timeLimit {
			return copies, gaveUp(name, copies, err)
		}
		if name != endOfFile { // it is asked for twice as a rule
			s.result.Resent++
		}
		s.report("sending again")
	}
}

// copy sends what there is to send once more, and says how long that was and when it began.
func (s *sender) copy(
	ctx context.Context, name string, build func() ([]byte, error),
) (size int, sent time.Time, err error) {
	if err := ctx.Err(); err != nil {
		return 0, sent, err
	}
	what, err := build()
	if err != nil {
		return 0, sent, err
	}
	if err := s.discard(ctx); err != nil {
		return 0, sent, fmt.Errorf("%s: %w", name, err)
	}
	sent = s.opt.Clock.Now()
	if s.lineFree.Before(sent) {
		s.lineFree = sent
	}
	s.lineFree = s.lineFree.Add(s.passage(len(what)))
	if err := s.write(context.WithoutCancel(ctx), what); err != nil {
		return 0, sent, fmt.Errorf("%s: %w", name, err)
	}
	return len(what), sent, nil
}

// waitFor is how long the answer to a copy is waited for, of the time that is left. An end is sent into silence a few
// times only: more of them would be typed into whatever comes after the receiver.
func (s *sender) waitFor(name string, silent int, left time.Duration) time.Duration {
	switch {
	case name != endOfFile:
		return min(s.wait(silent), left)
	case silent < endCopies:
		return min(s.wait(0), left)
	}
	return left
}

// maxOwed is the longest that an answer is waited for while the receiver waits for more: it has a time limit of
// its own, ten times ten seconds as a rule.
const maxOwed = 25 * time.Second

// endCopies is how often an end is sent into silence.
const endCopies = 4

// wait is how long an answer may take: twice as long after each copy without one. The receiver complains
// first.
func (s *sender) wait(silent int) time.Duration {
	return min((s.opt.Answer+s.opt.Answer/2)<<min(silent, 8), max(maxWait, s.opt.Answer+s.opt.Answer/2))
}

// acknowledged computes with what is still owed, and waits a little for it. What does not come in that time
// may come later: the blocks that follow are then each given time for one answer more. A refusal among what
// comes may be the true answer to this block, so that it is sent once more.
func (s *sender) acknowledged(ctx context.Context, begun, sent time.Time, open int) error {
	now := s.opt.Clock.Now()
	took := now.Sub(begun)
	s.longest = min(max(s.longest, took), maxWait)
	passed := s.lineFree // the last copy's end on the line
	if passed.Before(now) {
		passed = now
	}
	switch after := max(0, now.Sub(s.lineFree)); {
	case open > 0:
		s.owed += open
		until := passed.Add(took + time.Second)
		if s.opt.Character == 0 { // copies may still be on their way for as long once more
			until = sent.Add(2*took + time.Second)
		}
		if most := now.Add(maxOwed); until.After(most) {
			until = most
		}
		if until.After(s.owedUntil) {
			s.owedUntil = until
		}
	case s.owed > 0:
	case s.usual == 0:
		s.usual = max(after, time.Microsecond)
	default:
		s.usual += (after - s.usual) / 4
	}
	if s.owed == 0 {
		return nil
	}
	// Long enough for the true answer to come, too, should this one have been another's.
	usual := s.usual
	if usual == 0 {
		usual = took
	}
	soon := passed.Add(2*usual + 500*time.Millisecond)
	if s.opt.Character == 0 {
		soon = now.Add(took + took/4 + 500*time.Millisecond)
	}
	return s.collect(ctx, soon)
}

// confirm makes sure of an acknowledged end where answers are in doubt: the one that came may have been an
// earlier block's, and the true one is still to come. Text that comes instead is the device going on.
func (s *sender) confirm(ctx context.Context) error {
	for until := s.opt.Clock.Now().Add(s.longest + 2*s.usual + time.Second); s.owed+s.doubt > 0; {
		b, err := s.next(ctx, until.Sub(s.opt.Clock.Now()))
		switch {
		case errors.Is(err, transfer.ErrSilent):
			return nil
		case err != nil:
			return err
		case b == nak:
			s.doubt = max(0, s.doubt-1)
			return errRefused
		case b == ack:
			s.doubt = max(0, s.doubt-1)
		case b >= ' ' && b < 0x7f || b == '\r' || b == '\n':
			s.unread = append([]byte{b}, s.unread...)
			return nil
		}
	}
	return nil
}

// collect takes answers that are owed, until a moment. It returns errRefused when a refusal was among them.
func (s *sender) collect(ctx context.Context, until time.Time) (refused error) {
	var cancels cancels
	for s.owed > 0 {
		b, err := s.next(ctx, until.Sub(s.opt.Clock.Now()))
		switch {
		case errors.Is(err, transfer.ErrSilent):
			if !s.opt.Clock.Now().Before(s.owedUntil) {
				s.doubt += s.owed
				s.owed = 0
			}
			return refused
		case err != nil:
			return err
		}
		if _, err := cancels.heard(b); err != nil {
			return err
		}
		switch b {
		case nak:
			refused = errRefused
			s.owed--
		case ack:
			s.owed--
		}
	}
	return refused
}

// settled waits for what is owed or in doubt before an end is sent, and sends the last block once more when
// a refusal comes: an end would be taken though that block is missing.
func (s *sender) settled(ctx context.Context) error {
	for {
		if s.doubt > 0 {
			s.owed, s.doubt = s.owed+s.doubt, 0
			if until := s.opt.Clock.Now().Add(min(s.longest+time.Second, maxOwed)); until.After(s.owedUntil) {
				s.owedUntil = until
			}
		}
		err := s.collect(ctx, s.owedUntil)
		if !errors.Is(err, errRefused) || s.result.Blocks == 0 {
			return err
		}
		if _, err := s.until(ctx, fmt.Sprintf("block %d", s.result.Blocks),
			func() ([]byte, error) { return s.out, nil }); err != nil {
			return err
		}
	}
}

// discard forgets what has come before a copy is sent: it cannot be an answer to that.
func (s *sender) discard(ctx context.Context) error {
	var cancels cancels
	for {
		b, err := s.next(ctx, time.Microsecond)
		switch {
		case errors.Is(err, transfer.ErrSilent):
			return nil
		case err != nil:
			return err
		}
		if _, err := cancels.heard(b); err != nil {
			return err
		}
		if s.owed > 0 && (b == ack || b == nak) {
			s.owed--
		}
	}
}

// answer waits for the receiver's word on what was sent last. One that comes before what was sent can have
// passed the line answers something else. A byte that is no answer is most likely a broken one, so the wait
// for more is short after it. When ctx ends meanwhile, what is in flight may still arrive and be answered, so
// that a cancel finds the receiver between two blocks.
func (s *sender) answer(ctx context.Context, size int, wait time.Duration) error {
	deadline := s.lineFree.Add(wait)
	earliest := s.lineFree.Add(-s.passage(size)*3/5 - 2*time.Millisecond)
	sooner := func(wait time.Duration) {
		soon := s.opt.Clock.Now()
		if soon.Before(s.lineFree) {
			soon = s.lineFree
		}
		if soon = soon.Add(wait); soon.Before(deadline) {
			deadline = soon
		}
	}
	silent := errNoWord
	var cancels cancels
	for {
		b, err := s.next(ctx, deadline.Sub(s.opt.Clock.Now()))
		switch {
		case errors.Is(err, transfer.ErrSilent):
			return silent
		case err != nil && ctx.Err() != nil:
			ctx = context.WithoutCancel(ctx)
			sooner(cancelLimit)
			continue
		case err != nil:
			return err
		}
		if ok, err := cancels.heard(b); err != nil {
			return err
		} else if ok {
			continue
		}
		if s.opt.Clock.Now().Before(earliest) {
			if s.owed > 0 && (b == ack || b == nak) {
				s.owed--
			}
			continue
		}
		if says, err := s.word(b); says {
			return err
		}
		silent = errUnclear
		if s.opt.Character == 0 && s.usual == 0 && size > 1 {
			sooner(time.Duration(size) * slowest) // it may still be on its way
		} else {
			sooner(max(unclearWait, 2*s.usual))
		}
		if err := s.left(b); err != nil {
			return err
		}
	}
}

// word is what a byte says to what was sent last: nil that it is acknowledged. Says is false for one that is no answer.
func (s *sender) word(b byte) (says bool, err error) {
	switch {
	case b == ack:
	case b == nak:
		s.refused()
		err = errRefused
	case !s.started && s.number == 1 && (b == crc || b == str && s.opt.Variant == Streaming):
		s.begin(b)
		err = errBegun
	case b == crc && s.number == 0, b == str && s.stream:
		return true, errBegun // of a header
	default:
		return false, nil
	}
	s.unclear = s.unclear[:0]
	return true, err
}

// refused takes a NAK while block 1 is not acknowledged: it may refuse the block, or ask for sums instead of
// CRCs; and the NAK that asked for sums may have been noise. Every fourth copy tries the other check.
func (s *sender) refused() {
	if s.started || s.number != 1 || s.opt.Variant.Batch() {
		return
	}
	s.refusals++
	const turn = 4
	other := s.refusals%turn == turn-1
	s.check(other != (s.request == nak))
}

// left notices a device that writes lines of text instead of answers.
func (s *sender) left(b byte) error {
	const enough = 24
	if b != '\r' && b != '\n' && (b < ' ' || b >= 0x7f) {
		s.unclear = s.unclear[:0]
		return nil
	}
	if s.unclear = append(s.unclear, b); len(s.unclear) < enough {
		return nil
	}
	return fmt.Errorf("%w: it writes %q", ErrLeft, s.unclear)
}

// objection looks whether a streaming receiver wants us to stop.
func (s *sender) objection(ctx context.Context) error {
	b, err := s.next(ctx, time.Microsecond)
	if err == nil && b == can {
		return transfer.ErrCancelled
	}
	if errors.Is(err, transfer.ErrSilent) {
		return nil
	}
	return err
}
