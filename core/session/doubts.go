package session

import (
	"time"

	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
)

// doubts counts what may have put another device on the line, so that whoever is about to change it can see whether its
// identity was read since. It belongs to the session's loop.
type doubts struct {
	engine.Doubts
	silent time.Time // since when it was silent, where that was counted; zero while it was not
}

func (d *doubts) add(why string) { d.Count, d.Why = d.Count+1, why }

// heard notes that something came at a time, and when something had come before it.
func (d *doubts) heard(before, now time.Time) {
	d.quiet(before, now)
	d.silent = time.Time{}
}

// quiet counts a silence once, when it has become long.
func (d *doubts) quiet(since, now time.Time) {
	if since.IsZero() || !d.silent.IsZero() || now.Sub(since) <= engine.SilenceInDoubt {
		return
	}
	d.silent = since
	d.Silences++
	d.add("nothing was heard of it for longer than a minute")
}

// loginMode is the mode in which a device asks who we are, whichever device that is.
const loginMode = "login"

// doubtMode counts a login that was seen: somebody may have put the cable elsewhere, or the device may be another one's
// guest.
func (s *Session) doubtMode(v sense.State) {
	if v.Mode == loginMode && s.reported.Mode != loginMode {
		s.doubts.add("a login was seen")
	}
}

// Doubts implements engine.Console.
func (c console) Doubts() (so engine.Doubts) {
	c.s.do(func() {
		c.s.doubts.quiet(c.s.heardAt, c.s.opt.Clock.Now())
		so = c.s.doubts.Doubts
	})
	return so
}

// Kept implements engine.Console.
func (c console) Kept() (name, identity string) { return c.s.opt.Device, c.s.opt.Identity }
