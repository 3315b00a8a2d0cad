package runbook

import (
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/device"
	"pilotrix/core/expression"
	"pilotrix/core/serve"
)

// loop compiles a leg's loop and puts its name in force for the steps that follow.
func (c *stepCompiler) loop(i int, leg Leg) *loop {
	if leg.For == nil {
		return nil
	}
	path := fmt.Sprintf("legs[%d].for", i)
	round := &loop{Loop: *leg.For, leg: i, in: c.guard(path+".in", leg.For.In)}
	c.names.loop = leg.For.Each
	round.where = c.guard(path+".where", leg.For.Where)
	round.name = c.template(fmt.Sprintf("legs[%d].leg", i), leg.Leg)
	return round
}

// carriers compiles the verbs that move files besides send, and what goes with them.
func (c *stepCompiler) carriers(path string, step Step, s *Prepped) {
	s.texts = map[string]*expression.Template{}
	text := func(verb, key, value string) { s.texts[key] = c.template(path+"."+verb+"."+key, value) }
	switch {
	case step.Hops != nil:
		c.image(path+".hops.to", step.Hops.To)
		text("hops", "paths", step.Hops.Paths)
	case step.Serve != nil:
		v := step.Serve
		c.image(path+".serve.file", v.File)
		c.carrier(path+".serve.by", v.By)
		for key, value := range map[string]string{"by": v.By, "as": v.As, "address": v.Address, "port": v.Port, "device": v.Device} {
			text("serve", key, value)
		}
	case step.Take != nil:
		v := step.Take
		c.carrier(path+".take.by", v.By)
		for key, value := range map[string]string{"by": v.By, "as": v.As, "into": v.Into, "address": v.Address, "port": v.Port, "device": v.Device} {
			text("take", key, value)
		}
		if v.Most != "" {
			if _, err := device.ParseSize(v.Most); err != nil {
				c.complain(path+".take.most", "%v", err)
			}
		}
		c.action(path+".take", v.Action, v.With, s)
	case step.Put != nil:
		c.image(path+".put.file", step.Put.File)
		text("put", "to", step.Put.To)
		text("put", "as", step.Put.As)
		text("put", "port", step.Put.Port)
	case step.Poll != nil:
		c.poll(path+".poll", step.Poll, s)
	case step.Restart != nil:
		c.action(path+".restart", step.Restart.Action, step.Restart.With, s)
		text("restart", "watch", step.Restart.Watch)
		if len(step.Restart.Mode) == 0 {
			c.complain(path+".restart", "say by which modes it is seen to be back (mode: […])")
		}
		if step.Restart.Then != "" {
			c.mode(path+".restart.then", step.Restart.Then)
		}
		for i, mode := range step.Restart.Mode {
			c.mode(fmt.Sprintf("%s.restart.mode[%d]", path, i), mode)
		}
	}
	for i, target := range step.Watch {
		s.watch = append(s.watch, c.template(fmt.Sprintf("%s.watch[%d]", path, i), target))
	}
}

func (c *stepCompiler) poll(path string, poll *Poll, s *Prepped) {
	for i, name := range poll.Read {
		c.reading(fmt.Sprintf("%s.read[%d]", path, i), name)
	}
	switch {
	case len(poll.Read) == 0:
		c.complain(path, "a poll needs a reading to take (read: […])")
	case poll.Until == "":
		c.complain(path, "a poll needs an end (until: …)")
	case poll.Every <= 0:
		c.complain(path, "say how often (every: 5s)")
	}
	s.until, s.giveUp = c.guard(path+".until", poll.Until), c.guard(path+".fail", poll.Fail)
	s.texts["else"] = c.template(path+".else", poll.Else)
	s.texts["shows"] = c.template(path+".shows", poll.Shows)
	if poll.Moves != "" {
		c.image(path+".moves", poll.Moves)
	}
}

func (c *stepCompiler) reading(path, name string) {
	if c.names.d.Reading(name) == nil {
		c.complain(path, "dialect %s has no reading %q; it has %s", c.names.d.Dialect, name, strings.Join(c.names.d.ReadingNames(), ", "))
	}
}

// image checks that a file is an input of kind image, or something that the loop brings.
func (c *stepCompiler) image(path, name string) {
	first, _, _ := strings.Cut(name, ".")
	if c.names.loop != "" && first == c.names.loop {
		return
	}
	if !slices.ContainsFunc(c.names.r.Inputs, func(i Input) bool { return i.Input == name && i.Kind == KindImage }) {
		c.complain(path, "no input %q of kind image", name)
	}
}

func (c *stepCompiler) carrier(path, by string) {
	if strings.Contains(by, "${") {
		return
	}
	if _, err := serve.Port(by); err != nil {
		c.complain(path, "%s", err)
	}
}
