package dialect

import (
	"fmt"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/expression"
	"pilotrix/core/source"
	"pilotrix/core/units"
)

// NextStart is what a device starts next, as far as what was read says: it is said before a restart.
type NextStart struct {
	Says    string            `yaml:"says" jsonschema:"required" jsonschema_description:"What starts next, in words; may hold ${…}"`
	There   source.Expression `yaml:"there" jsonschema_description:"What is so where that is there to start"`
	Missing string            `yaml:"missing" jsonschema_description:"What is said where it is not, such as: not in the store"`
}

type compiledNextStart struct {
	NextStart
	says  *expression.Template
	there *expression.Guard // nil where nothing says
}

func (c *compiler) nextStart() {
	next := c.d.Document.NextStart
	if next == nil || next.Says == "" {
		return
	}
	says, err := expression.CompileTemplate(next.Says, facts{c.d})
	if err != nil {
		c.complain("next-start.says", "%v", err)
	}
	c.d.next = &compiledNextStart{NextStart: *next, says: says}
	if next.There == "" {
		return
	}
	if next.Missing == "" {
		c.complain("next-start.missing", "say what is said where it is not there (missing: …)")
	}
	if c.d.next.there, err = expression.Compile(string(next.There), facts{c.d}); err != nil {
		c.complain("next-start.there", "%v", err)
	}
}

// NextStart says what the device starts next, whether that is there, and how old that knowledge is; empty where the
// dialect does not know how to say. It works on a nil dialect.
func (d *Dialect) NextStart(known *device.Facts, now time.Time) string {
	if d == nil || d.next == nil {
		return ""
	}
	env := known.Tree()
	says, err := d.next.says.Render(env)
	if err != nil {
		return "what starts next was not read"
	}
	text := "starts next: " + says
	uses := d.next.says.Uses()
	if d.next.there != nil {
		uses = append(uses, d.next.there.Uses()...)
		there, err := d.next.there.Holds(env)
		switch {
		case err != nil:
			text += ", and whether that is there was not read"
		case !there:
			text += " — " + d.next.Missing
		}
	}
	if read := d.lastRead(uses, known); !read.IsZero() {
		text += fmt.Sprintf(", as read %s ago", units.Text(now.Sub(read)))
		if d.anyOld(uses, known) {
			text += ", and it may have been changed since"
		}
	}
	return text
}

// anyOld reports whether one of the facts that are named is from before the last change.
func (d *Dialect) anyOld(names []string, known *device.Facts) bool {
	for _, fact := range known.All() {
		for _, name := range names {
			if isOf(fact.Name, name) && known.Old(fact) {
				return true
			}
		}
	}
	return false
}
