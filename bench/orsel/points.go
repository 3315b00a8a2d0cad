package orsel

import (
	"fmt"
	"slices"
	"time"

	"pilotrix/bench"
)

// Point is an access point that hangs on the controller.
type Point struct{ Name, Model, Release string }

// States of a point.
const (
	here    = "here"
	away    = "away"
	loading = "loading"
	refused = "refused" // the controller's release has no firmware for it
	failed  = "failed"
)

// How long things take, from the controller's start on. Three points load at a time.
const (
	joins     = 15 * time.Second // of the first point; each further one a little later
	joinsStep = 2 * time.Second
	loads     = 40 * time.Second // when the first ones begin
	loadTakes = 30 * time.Second
	slot      = 35 * time.Second
	starts    = 70 * time.Second
	atOnce    = 3
)

// standing is a point as it stands now.
type standing struct {
	Point
	state, reason string
	percent       int
}

// stands is how a point stands so long after the controller's start; order is its place among those that load.
func (c *Controller) stands(i, order int, since time.Duration) standing {
	s := standing{Point: c.points[i], state: here}
	known := slices.Contains(c.running.Points, s.Model)
	begins := loads + time.Duration(order/atOnce)*slot
	loaded := begins + loadTakes
	back := loaded + starts + time.Duration(i%4)*8*time.Second
	switch {
	case since < joins+time.Duration(i)*joinsStep && !c.settled:
		s.state = away
	case !known:
		s.state, s.reason = refused, "no firmware for "+s.Model+" in "+c.running.Release
	case s.Release == c.running.Release || !c.feeds:
	case since < begins:
		s.reason = "waits for its turn"
	case s.Name == c.Faults.Breaks && since > begins+loadTakes*6/10:
		s.state, s.percent, s.reason = failed, 60, "broken off at 60 percent"
	case since < loaded:
		s.state, s.percent = loading, int((since-begins)*100/loadTakes)
	case since < back || s.Name == c.Faults.Straggles:
		s.state = away
	default:
		s.Release = c.running.Release
	}
	return s
}

// allStand is how all of them stand. The caller holds mu.
func (c *Controller) allStand(since time.Duration) (all []standing) {
	order := 0
	for i, p := range c.points {
		all = append(all, c.stands(i, order, since))
		if slices.Contains(c.running.Points, p.Model) {
			order++
		}
	}
	return all
}

// keepPoints has the points keep what they have loaded by now. The caller holds mu.
func (c *Controller) keepPoints(since time.Duration) {
	for i, s := range c.allStand(since) {
		c.points[i].Release = s.Release
	}
}

// Points are how they stand, for whoever looks from outside: each with its release and state.
func (c *Controller) Points(now time.Time) (all []string) {
	c.Mu.Lock()
	defer c.Mu.Unlock()
	for _, s := range c.allStand(now.Sub(c.begun)) {
		all = append(all, fmt.Sprintf("%s %s %s", s.Name, s.Release, s.state))
	}
	return all
}

func (x *linnet) listPoints([]string) error {
	x.Mu.Lock()
	all := x.allStand(x.Wire.Clock().Since(x.begun))
	x.Mu.Unlock()
	out := "  point           model  release  state    percent  reason\r\n"
	for _, s := range all {
		out += fmt.Sprintf("  %-14s  %-5s  %-7s  %-7s  %-7d  %s\r\n", s.Name, s.Model, s.Release, s.state, s.percent,
			bench.Dash(s.reason))
	}
	x.Say(out + fmt.Sprintf("  %d points\r\n", len(all)))
	return nil
}
