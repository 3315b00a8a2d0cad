package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"golang.org/x/crypto/ssh"

	"pilotrix/core/clock"
	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/reach"
	"pilotrix/core/sense"
	"pilotrix/core/transfer"
)

// What the engine needs of the session that it runs in.

// Console is what the engine needs of the session it runs in.
type Console interface {
	Clock() clock.Clock
	Emit(event.Body)
	// Device is what the device is in now.
	Device() sense.State
	// Facts are what is known of the device by now: a copy.
	Facts() *device.Facts
	// Learn keeps a fact that was read, and returns the one that it replaces.
	Learn(fact device.Fact) (before device.Fact)
	// Changed notes that the device was changed, or may have been: what was read before is old from here on.
	Changed()
	// Await returns the first view for which ready holds. It ends with ctx, or with ErrLineLost.
	Await(ctx context.Context, ready func(sense.State) bool) (sense.State, error)
	// Type sends keys with the runbook's helm.
	Type(ctx context.Context, text string, secret bool) error
	// Command types a line, sees it stand there, and only then ends it.
	Command(ctx context.Context, text string, how Typing) error
	// InTurn types what it types where nobody else does, on the empty line of a prompt, and keeps the line only for that.
	// It is for deeds; ErrNoTurn is reported where the operator came before it.
	InTurn(ctx context.Context, types func(context.Context) error) error
	// Speed is our end's speed in baud; ok is false for a line without one.
	Speed() (baud int, ok bool)
	SetSpeed(ctx context.Context, baud int, why string) error
	// LineRate is how many characters our line carries a second, 0 where it has no speed.
	LineRate() float64
	// Latency is how long our adapter holds what arrives, 0 when that is not known.
	Latency() time.Duration
	Hunt(ctx context.Context, hunt sense.Hunt) (sense.Found, error)
	// Carry hands the line to a transfer. What a waiting receiver has asked with is read first.
	Carry(ctx context.Context, carry func(context.Context, transfer.Duplex) error) error
	// AwaitLine waits for a lost line to come back.
	AwaitLine(ctx context.Context) error
	// Ask puts a question to the operator and returns one of its answers.
	Ask(ctx context.Context, ask event.Ask) (string, error)
	// WithHelm is a context that ends, with ErrHelm as its cause, when the operator takes the helm.
	WithHelm(ctx context.Context) (context.Context, context.CancelFunc)
	// AwaitHelm waits for the operator to give the helm back and says how to go on.
	AwaitHelm(ctx context.Context) (Wish, error)
	// Tidy empties the line where something of the operator's stands behind a prompt: else that is seen as none.
	Tidy(ctx context.Context) error
	// TakeBack gives the runbook the helm without asking, to put the line in order at the end.
	TakeBack(why string)
	// HandOver gives the helm to the operator in the middle of a run. It reports whether somebody is at the keyboard:
	// else nothing is done.
	HandOver(why string) bool
	// Release gives the helm to the operator, at the end.
	Release(why string)
	// Stops says why a command has to be held at its Enter, empty when it need not be.
	Stops(command string) string
	// Present is what is under way now, in words, which a danger is reported with.
	Present() []string
	// Pending is what the device will lose, or do by itself, unless it is dealt with.
	Pending() []dialect.Open
	// Gone is what was pending, and ran out or was lost by a restart since the run began.
	Gone() []event.Pending
	// Stopped is how long this program did not run since the session began, in its clock's time.
	Stopped() time.Duration
	// Doubts counts what may have put another device on the line.
	Doubts() Doubts
	// Kept is the name that the device was opened by, and what that one was known by before; either may be empty.
	Kept() (name, identity string)
	// Settle waits until everything that happened so far is kept, or returns event.ErrNotRecorded.
	Settle(ctx context.Context) error
	// Shell is the SSH connection that the line goes over, nil where it is none.
	Shell() *ssh.Client
	// Share is what all runs and deeds of the session have in common under a key. The first makes it, which emits as the
	// session does; when the last has given it back it is closed.
	Share(key any, open func(emit func(event.Body)) io.Closer) (shared io.Closer, giveBack func())
	// Reach watches whether addresses answer; nil when nothing can be watched.
	Reach() *reach.Watch
}

// Doubts is what may have put another device on the line so far: it was lost, or silent for longer than SilenceInDoubt;
// a login was seen; the operator had the helm.
type Doubts struct {
	Count    int
	Silences int    // of those, the silences
	Why      string // what it was last
}

// SilenceInDoubt is how long a device may be silent and still be taken for the same one.
const SilenceInDoubt = time.Minute

// Typing says what a line is that is typed.
type Typing struct {
	Secret bool // it is not shown, and not recorded
	Fresh  bool // it begins a command; else it answers a question in the middle of one
	Leads  bool // the command leads to another mode
	Masks  bool // a secret stands in it
	Unseen bool // it comes back at its Enter, or not at all: that is not waited for
}

// Wish is how to go on after the operator had the helm.
type Wish int

// What the operator may choose when giving the helm back.
const (
	Resume Wish = iota // waiting, where a wait was interrupted; else the step is repeated
	Repeat             // the step from its beginning
	GoOn               // with the next step: this one was done by hand
	Stop
)

func (w Wish) String() string {
	return [...]string{"go on waiting", "repeat the step", "go on with the next step", "stop"}[w]
}

// Causes of a broken-off wait. Test with errors.Is.
var (
	ErrHelm     = errors.New("the operator took the helm")
	ErrLineLost = errors.New("the line was lost")
	ErrStopped  = errors.New("stopped by the operator")
	ErrTimeout  = errors.New("not within the timeout")
	ErrNoTurn   = errors.New("the operator came before it")
	ErrUnseen   = errors.New("how that ended was not seen")
)

// noticedWithin is how long it may take until a line whose other side has ended is known to be lost.
const noticedWithin = 30 * time.Second

// NoticeLoss is what went wrong as a line that was lost, once the line knows: whoever waits for lines waits for it
// then.
func NoticeLoss(ctx context.Context, c interface {
	Clock() clock.Clock
	Await(ctx context.Context, ready func(sense.State) bool) (sense.State, error)
}, why error,
) error {
	limited, cancel := c.Clock().WithTimeout(ctx, noticedWithin)
	defer cancel()
	if _, lost := c.Await(limited, func(sense.State) bool { return false }); errors.Is(lost, ErrLineLost) {
		return fmt.Errorf("%w: %w", ErrLineLost, why)
	}
	return why
}
