package logbook

import (
	"cmp"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"pilotrix/core/event"
)

// Last is the state in which a session was cut off, as far as it had got to the book.
type Last struct {
	Entry    Entry
	At       time.Time
	Step     string // title of the step it was in
	Transfer string // how far a transfer had come, empty when none was running
	Speed    int    // our end's speed in baud, 0 when it was never changed
	Before   int    // the speed before that
	Mode     string
	Change   string // the last command that changes the device, which was sent or about to be; empty for none
	reported int
}

// How much was said of a session that was cut off.
const (
	unreported = 0
	reported   = 1 // when another device was opened
	settled    = 2 // when its own was opened again
)

// CutOff finds the sessions whose program ended in the middle and that were not reported of yet, newest first, and
// notes that they now are; those on the device that is opened, or else on its line, are settled by that.
func (l *Logbook) CutOff(device, target string) (all []Last, err error) {
	open, err := l.cutOff(reported)
	for _, last := range open {
		state := reported
		if last.On(device, target) {
			state = settled
		}
		if _, err := l.db.Exec(`UPDATE session SET told = ? WHERE id = ?`, state, last.Entry.ID); err != nil {
			return all, l.wrap(err)
		}
		if last.reported == unreported || state == settled {
			all = append(all, last)
		}
	}
	return all, err
}

// Unsettled are the runs that were cut off whose device was not opened since, newest first.
func (l *Logbook) Unsettled() (all []Last, err error) {
	open, err := l.cutOff(reported)
	for _, last := range open {
		if last.Step != "" {
			all = append(all, last)
		}
	}
	return all, err
}

// cutOff are the sessions that were cut off and of which not more was said.
func (l *Logbook) cutOff(said int) (all []Last, err error) {
	entries, err := l.query(`WHERE ended IS NULL AND told <= ? ORDER BY id DESC`, said)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if e.Outcome != Broken {
			continue
		}
		last, err := l.last(e)
		if err != nil {
			return all, err
		}
		if err := l.db.QueryRow(`SELECT told FROM session WHERE id = ?`, e.ID).Scan(&last.reported); err != nil {
			return all, l.wrap(err)
		}
		all = append(all, last)
	}
	return all, nil
}

func (l *Logbook) last(e Entry) (Last, error) {
	last := Last{Entry: e, At: e.Began}
	titles := map[string]string{}
	err := l.Events(e.ID, func(ev event.Event) error {
		last.At = ev.At
		switch b := ev.Body.(type) {
		case event.RunBegin:
			note(titles, b.Steps)
		case event.Course:
			note(titles, b.Steps)
		case event.StepBegin:
			last.Step = cmp.Or(titles[b.ID], b.ID)
		case event.Change:
			last.Change = b.Command
		case event.RunEnd:
			last.Step = ""
		case event.Transfer:
			last.Transfer = fmt.Sprintf("%d of %d B", b.Bytes, b.Size)
		case event.TransferEnd:
			last.Transfer = ""
		case event.Speed:
			if last.Before == 0 {
				last.Before = b.From
			}
			last.Speed = b.To
		case event.Mode:
			last.Mode = b.Name
		}
		return nil
	})
	return last, err
}

// note keeps the titles of steps: a loop that is unrolled, or a rollback, has others.
func note(titles map[string]string, steps []event.StepPlan) {
	for _, s := range steps {
		titles[s.ID] = s.Title
	}
}

// On reports whether it was a session with that device, or else on that line.
func (l Last) On(device, target string) bool {
	if device != "" && l.Entry.Device != "" {
		return device == l.Entry.Device
	}
	line, _, _ := strings.Cut(l.Entry.Target, "?")
	other, _, _ := strings.Cut(target, "?")
	return line == other
}

// String says the state in words.
func (l Last) String() string {
	text := fmt.Sprintf("entry %d (%s, %s) was cut off at %s", l.Entry.ID, orNone(l.Entry.Device, l.Entry.Target),
		orNone(l.Entry.Runbook, "no runbook"), l.At.Local().Format("2006-01-02 15:04:05"))
	if l.Step != "" {
		text += fmt.Sprintf(" in step “%s”", l.Step)
	}
	if l.Change != "" {
		text += fmt.Sprintf(", after “%s” was sent or about to be", l.Change)
	}
	if l.Transfer != "" {
		text += ", " + l.Transfer + " sent"
	}
	if l.Speed != 0 {
		text += fmt.Sprintf("; the line was at %d baud", l.Speed)
	}
	if l.Mode != "" {
		text += "; the device was in mode " + l.Mode
	}
	return text + ". Nothing is known of the device since then: look before you go on"
}

func orNone(value, fallback string) string {
	if value == "" {
		return fallback
	}
	return value
}

// thisProcess names the running program so that a later one with the same number is not taken for
// it.
func thisProcess() string {
	return strconv.Itoa(os.Getpid()) + "/" + processStart(os.Getpid())
}

func alive(process string) bool {
	number, start, _ := strings.Cut(process, "/")
	pid, err := strconv.Atoi(number)
	return err == nil && processStart(pid) == start && start != ""
}
