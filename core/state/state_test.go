package state

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
)

var begin = time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)

// after folds events, a second apart.
func after(s *State, bodies ...event.Body) *State {
	for _, body := range bodies {
		s.Apply(event.Event{At: begin.Add(s.Now.Sub(begin) + time.Second), Body: body})
	}
	return s
}

func fresh() *State {
	s := New()
	s.Now = begin
	return s
}

func banks(a, b, runs, next, saved string) event.Fact {
	row := func(name, release string) map[string]string {
		r := map[string]string{"bank": name, "release": release, "state": "standby", "next": "no", "saved": "no"}
		if name == runs {
			r["state"] = "running"
		}
		if name == next {
			r["next"] = "yes"
		}
		if name == saved {
			r["saved"] = "yes"
		}
		return r
	}
	return event.Fact{
		Name:   "banks",
		Value:  "2 rows",
		Source: "look",
		Rows:   []map[string]string{row("A", a), row("B", b)},
	}
}

func TestBanksKeepWhatTheyWereFirst(t *testing.T) {
	s := after(fresh(), banks("7.4", "7.2", "A", "A", "A"), banks("7.4", "7.6", "A", "B", "A"))
	assert.Equal(t, []Bank{
		{Name: "A", Before: "7.4", Now: "7.4", Runs: true, RanThen: true, Kept: true},
		{Name: "B", Before: "7.2", Now: "7.6", Next: true},
	}, s.Banks)
	after(s, banks("7.4", "7.6", "B", "B", "B"))
	assert.Equal(t, Bank{Name: "B", Before: "7.2", Now: "7.6", Runs: true, Next: true, Kept: true}, s.Banks[1])
	assert.True(t, s.Banks[0].RanThen)
}

func TestTransfersAreToldApart(t *testing.T) {
	s := after(
		fresh(),
		event.TransferBegin{File: "tern", Size: 10, Protocol: "XMODEM"},
		event.TransferBegin{ID: "a", File: "one", Size: 100},
		event.TransferBegin{ID: "b", File: "two", Size: 100},
		event.Transfer{
			ID:    "a",
			Bytes: 50,
			Size:  100,
		},
		event.Transfer{Bytes: 5, Size: 10},
		event.TransferEnd{ID: "b", Outcome: event.Done},
		event.Transfer{ID: "gone", Bytes: 1},
	)
	assert.EqualValues(t, 5, s.Transfer.Got.Bytes, "the one that owns the line")
	require.Len(t, s.Moves, 2)
	assert.EqualValues(t, 50, s.Moves[0].Got.Bytes)
	assert.Equal(t, "one", s.Moving().Plan.File, "the one that is under way, not the newest")
	after(s, event.TransferEnd{ID: "a", Outcome: event.Failed})
	assert.Equal(t, "two", s.Moving().Plan.File)
	assert.False(t, New().Moving().Active())
}

// TestATransferEndsWithWhatItsEndSays has one whose last bytes were reported by its end alone, one whose end says less
// than was reported on the way, and one that was a part of its file.
func TestATransferEndsWithWhatItsEndSays(t *testing.T) {
	for name, c := range map[string]struct {
		got   int64
		end   event.TransferEnd
		bytes int64
		rate  float64
		whole bool
	}{
		"its end tells the last": {50, event.TransferEnd{Outcome: event.Done, Bytes: 100, Took: 2 * time.Second}, 100, 50, true},
		"its end tells nothing":  {100, event.TransferEnd{Outcome: event.Done}, 100, 7, true},
		"a part from its middle": {10, event.TransferEnd{Outcome: event.Done, From: 50, Bytes: 50, Took: time.Second}, 50, 50, false},
		"a part from its begin":  {10, event.TransferEnd{Outcome: event.Done, Bytes: 10}, 10, 7, false},
		"it broke off":           {100, event.TransferEnd{Outcome: event.Failed, Bytes: 100}, 100, 7, false},
	} {
		t.Run(name, func(t *testing.T) {
			s := after(fresh(), event.TransferBegin{ID: "a", File: "one", Size: 100},
				event.Transfer{ID: "a", Bytes: c.got, Rate: 7, Left: time.Second})
			c.end.ID = "a"
			after(s, c.end)
			moved := s.Moves[0]
			assert.Equal(t, c.bytes, moved.Got.Bytes)
			assert.InDelta(t, c.rate, moved.Got.Rate, 0.01)
			assert.Zero(t, moved.Got.Left)
			assert.Equal(t, c.whole, moved.Whole())
		})
	}
}

func TestARungIsReplacedByItsLaterSelf(t *testing.T) {
	s := after(fresh(), event.Rung{Transfer: "a", Row: 0, What: "RRQ"},
		event.Rung{Transfer: "a", Row: 1, What: "DATA", Last: 1},
		event.Rung{Transfer: "b", Row: 1, What: "DATA", Last: 9},
		event.Rung{Transfer: "a", Row: 1, What: "DATA", Last: 700})
	rungs := s.Rungs("a")
	require.Len(t, rungs, 2)
	assert.EqualValues(t, 700, rungs[1].Last)
	assert.Equal(t, begin.Add(2*time.Second), rungs[1].At, "at its beginning")
	for i := range 2 * maxRungs {
		after(s, event.Rung{Transfer: "c", Row: i, What: "RRQ"})
	}
	assert.LessOrEqual(t, len(s.Ladder), maxRungs)
}

func TestStagedAndServersAreWhatIsThereNow(t *testing.T) {
	s := after(
		fresh(),
		event.Server{Name: "TFTP", State: event.Listening, Address: "x:69"},
		event.Staged{Name: "a", State: event.Offered},
		event.Staged{Name: "b", State: event.Offered},
		event.Staged{
			Name:  "a",
			State: event.Withdrawn,
		},
		event.Server{Name: "TFTP", State: event.Ended, Address: "x:69"},
	)
	require.Len(t, s.Staged, 1)
	assert.Equal(t, "b", s.Staged[0].Name)
	require.Len(t, s.Servers, 1)
	assert.Equal(t, event.Ended, s.Servers[0].State)
}

func TestAnAbsenceKnowsItsStep(t *testing.T) {
	s := after(
		fresh(),
		event.RunBegin{Steps: []event.StepPlan{{ID: "1.1", Title: "Restart"}}},
		event.StepBegin{ID: "1.1", Try: 1},
		event.Probe{
			Watched: "icmp:x",
			Held:    true,
		},
		event.Probe{Watched: "icmp:x"},
		event.Reach{Watched: "icmp:x", State: event.Gone, Begin: begin.Add(4 * time.Second)},
	)
	target := s.Reach[0]
	away, gone := target.Gone()
	assert.True(t, gone)
	assert.Equal(t, "Restart", away.Step)
	assert.Equal(t, 1, target.Lost())
	after(s, event.Reach{Watched: "icmp:x", State: event.Back, Length: time.Minute})
	_, gone = target.Gone()
	assert.False(t, gone)
	assert.Equal(t, time.Minute, target.Away[0].Length)
	for range maxTries + 10 {
		after(s, event.Probe{Watched: "icmp:x", Held: true})
	}
	assert.Len(t, target.Tries, maxTries)
}

func TestAnInterlockIsOpenUntilItIsAnswered(t *testing.T) {
	for _, state := range []string{event.InterlockSent, event.InterlockForgotten, event.InterlockOff} {
		s := after(fresh(), event.Interlock{State: event.InterlockHeld, Command: "wipe"})
		require.NotNil(t, s.Held)
		after(s, event.Interlock{State: state})
		assert.Nil(t, s.Held)
		assert.Equal(t, state == event.InterlockOff, s.LocksOff)
	}
}

func TestTheRestIsReckonedFromTheTransferUnderWay(t *testing.T) {
	s := after(
		fresh(),
		event.RunBegin{
			Steps: []event.StepPlan{
				{ID: "1.1", Verb: "poll", Cards: []string{"transfer", "banks", "reach"}, Expected: time.Minute},
				{ID: "1.2", Expected: 10 * time.Second},
			},
		},
		event.StepBegin{ID: "1.1"},
		event.TransferBegin{ID: "a", Size: 100},
		event.Transfer{ID: "a", Bytes: 10, Size: 100, Left: 5 * time.Minute},
	)
	assert.Equal(t, 5*time.Minute+10*time.Second, s.Left())
	after(s, event.TransferEnd{ID: "a", Outcome: event.Done})
	assert.Less(t, s.Left(), time.Minute+10*time.Second)
}

// TestAStepThatIsOverKeepsItsText: a course that is filled in again says of what is ahead.
func TestAStepThatIsOverKeepsItsText(t *testing.T) {
	s := New()
	for _, body := range []event.Body{
		event.RunBegin{Steps: []event.StepPlan{{ID: "1", Title: "Unpack it beside 5.2"}, {ID: "2", Title: "Leave ${release}"}}},
		event.StepEnd{ID: "1", Outcome: event.Done},
		event.Course{Steps: []event.StepPlan{{ID: "1", Title: "Unpack it beside 5.4"}, {ID: "2", Title: "Leave 5.4"}}},
	} {
		s.Apply(event.Event{Body: body})
	}
	assert.Equal(t, "Unpack it beside 5.2", s.Steps[0].Title)
	assert.Equal(t, "Leave 5.4", s.Steps[1].Title)
}

// TestWhereADeadlineRunsOutOnTheCourse follows what the steps ahead are expected to take.
func TestWhereADeadlineRunsOutOnTheCourse(t *testing.T) {
	at := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	s := New()
	apply := func(after time.Duration, body event.Body) { s.Apply(event.Event{At: at.Add(after), Body: body}) }
	apply(0, event.RunBegin{Steps: []event.StepPlan{
		{
			ID:       "1",
			Expected: time.Minute,
		},
		{ID: "2", Expected: 4 * time.Minute},
		{ID: "3"},
		{ID: "4", Expected: 10 * time.Minute},
	}})
	apply(0, event.StepBegin{ID: "1"})
	apply(0, event.Pending{Name: "trial", State: event.PendingOpen, Until: at.Add(3 * time.Minute)})
	due := func() (int, float64) { return s.DueAt(s.Deadline()) }
	step, part := due()
	assert.Equal(t, 1, step)
	assert.InDelta(t, 0.5, part, 0.01)
	apply(0, event.Pending{Name: "trial", State: event.PendingOpen, Until: at.Add(time.Hour)})
	step, _ = due()
	assert.Equal(t, 4, step, "behind the end")
	assert.Len(t, s.Deadlines, 1, "it is the same one, put right")
	apply(90*time.Second, event.StepEnd{ID: "1", Outcome: event.Done})
	apply(90*time.Second, event.StepBegin{ID: "2"})
	apply(90*time.Second, event.Pending{Name: "trial", State: event.PendingOpen, Until: at.Add(150 * time.Second)})
	step, part = due()
	assert.Equal(t, 1, step)
	assert.InDelta(t, 0.25, part, 0.01)
	apply(2*time.Minute, event.Pending{Name: "trial", State: event.PendingRan})
	assert.Nil(t, s.Deadline())
	assert.Equal(t, event.PendingRan, s.Deadlines[0].State)
	assert.InDelta(t, 0.8, s.Deadlines[0].Part(s.Deadlines[0].End), 0.01)
}

// TestWhatADeedSaysTouchesNoRun folds a run that waits, and then all that is said of deeds beside it.
func TestWhatADeedSaysTouchesNoRun(t *testing.T) {
	run := []event.Body{
		event.RunBegin{Runbook: "r", Title: "Bank upgrade", Steps: []event.StepPlan{{ID: "1.1"}, {ID: "1.2", Cards: []string{"transfer"}}}},
		event.StepBegin{ID: "1.1", Try: 1},
		event.StepEnd{ID: "1.1", Outcome: event.Done},
		event.Check{Step: "1.1", Text: "release", Held: true},
		event.StepBegin{ID: "1.2", Try: 1},
		event.StepNow{ID: "1.2", Doing: "Writes", Awaiting: "the end"},
		event.Preflight{Text: "it can be reached"},
		event.Helm{Who: event.Hand, Why: "asked for"},
		event.Ask{ID: "1", Form: event.FormHold, Step: "1.2", Answers: []string{"approve"}},
	}
	beside := []event.Body{
		event.Deed{ID: "7", Title: "Offer lamp.img", State: event.DeedBegun},
		event.Server{Name: "TFTP", State: event.Listening},
		event.Staged{Name: "lamp.img", State: event.Offered},
		event.Deed{ID: "8", Title: "Offer other.img", State: event.DeedBegun},
		event.Deed{ID: "7", Title: "Offer lamp.img", State: event.DeedNow, Doing: "Offers it"},
		event.Rung{Transfer: "t", Protocol: "TFTP"},
		event.TransferBegin{ID: "t", File: "lamp.img", Size: 5},
		event.Transfer{ID: "t", Bytes: 5},
		event.TransferEnd{ID: "t", Outcome: event.Done},
		event.Deed{ID: "7", Title: "Offer lamp.img", State: event.DeedEnded, Outcome: event.Done},
		event.Deed{ID: "8", Title: "Offer other.img", State: event.DeedEnded, Outcome: event.Failed, Message: "no address"},
		event.Deed{ID: "9", State: event.DeedEnded, Outcome: event.Stopped}, // of before the record began
		event.Deed{ID: "10", Title: "Offer third.img", State: event.DeedBegun},
	}
	with, without := New(), New()
	for _, body := range run {
		with.Apply(event.Event{Body: body})
		without.Apply(event.Event{Body: body})
	}
	for _, body := range beside {
		with.Apply(event.Event{Body: body})
	}
	assert.Equal(t, []any{without.Run, without.Steps, without.Here, without.Doing, without.Checks, without.Preflight, without.Helm, without.Ask, without.Transfer, without.RunEnd},
		[]any{with.Run, with.Steps, with.Here, with.Doing, with.Checks, with.Preflight, with.Helm, with.Ask, with.Transfer, with.RunEnd})
	require.Len(t, with.Deeds, 1)
	assert.Equal(t, "10", with.Deeds[0].ID)
	require.Len(t, with.Remarks, 2)
	assert.Equal(t, "Offer other.img: failed, no address", with.Remarks[0].Text)
}
