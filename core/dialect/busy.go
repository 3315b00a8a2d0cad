package dialect

import (
	"fmt"
	"strings"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/expression"
	"pilotrix/core/units"
)

type compiledBusy struct {
	while *expression.Guard
	says  *expression.Template
}

// facts are the names that what is read has: Knows and Order of the dialect, for expressions.
type facts struct{ *Dialect }

// Known implements expression.Names.
func (f facts) Known(name string) bool { return f.Knows(name) }

func (c *compiler) busy(path string, b Busy) {
	while, err := expression.Compile(string(b.While), facts{c.d})
	if err != nil {
		c.complain(path+".while", "%v", err)
	}
	says, err := expression.CompileTemplate(b.Says, facts{c.d})
	if err != nil {
		c.complain(path+".says", "%v", err)
	}
	c.d.busy = append(c.d.busy, compiledBusy{while, says})
}

// Does says what the device does beside its shell, by what was read of it and when. It works on a nil dialect.
func (d *Dialect) Does(known *device.Facts, now time.Time) (words []string) {
	if d == nil {
		return nil
	}
	env := known.Tree()
	for _, b := range d.busy {
		if so, err := b.while.Holds(env); err != nil || !so {
			continue
		}
		text := b.says.Shown(env)
		if read := d.lastRead(b.while.Uses(), known); !read.IsZero() {
			text += fmt.Sprintf(", as read %s ago", units.Text(now.Sub(read)))
		}
		words = append(words, text)
	}
	return words
}

// lastRead is when the oldest of the facts behind names was read.
func (d *Dialect) lastRead(names []string, known *device.Facts) (at time.Time) {
	for _, fact := range known.All() {
		for _, name := range names {
			if isOf(fact.Name, name) && (at.IsZero() || fact.At.Before(at)) {
				at = fact.At
			}
		}
	}
	return at
}

// isOf reports whether an expression that uses a name uses a fact.
func isOf(fact, name string) bool { return fact == name || strings.HasPrefix(name, fact+".") }
