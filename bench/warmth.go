package bench

import "time"

// A device of a demo is not met while it starts: it has been running for long, when somebody comes to change it.

// Warmth is what a device of a family has for that, until its next start.
type Warmth struct{ warm bool }

// Warm lets the next start be over at once: the device has been running for long.
func (w *Warmth) Warm() { w.warm = true }

// Cold has the next start take its time all the same.
func (w *Warmth) Cold() { w.warm = false }

// IsWarm reports whether the next start is over at once.
func (w *Warmth) IsWarm() bool { return w.warm }

// TakeWarm reports it for the start that is now, and for no later one.
func (w *Warmth) TakeWarm() bool {
	defer w.Cold()
	return w.warm
}

// warmAnswer is how long a device that has been running may take to let sessions in: it does so at once, where it is
// not broken.
const warmAnswer = 10 * time.Second

// answersWarm waits until a device that has been running for long lets sessions in: whoever comes to it finds it up.
func (m *Machine) answersWarm() {
	m.mu.Lock()
	off := m.off
	m.mu.Unlock()
	late := time.NewTimer(warmAnswer)
	defer late.Stop()
	select {
	case <-m.sessions.up:
	case <-off:
	case <-late.C:
	}
}
