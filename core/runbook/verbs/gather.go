package verbs

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/source"
)

var _ = runbook.Register(runbook.Verb{
	Name:       "gather",
	Does:       "looks on the shelf for the files that have to go along with an image, one for each row of a list; one that is not there fails, named",
	Timeout:    30 * time.Second,
	Repeatable: true,
	Learns:     true,
	Makes:      []string{"gathered"},
	New:        func() runbook.Body { return new(gatherBody) },
})

type gatherBody struct {
	With string            `yaml:"with" jsonschema:"required" jsonschema_description:"An input of kind image, which the others go along with"`
	For  source.Expression `yaml:"for" jsonschema:"required" jsonschema_description:"The rows: a list that was read, or a part of it"`
	By   string            `yaml:"by" jsonschema:"required" jsonschema_description:"What a file says that has to be what its row has, such as part"`
	Row  string            `yaml:"row" jsonschema_description:"The column that has it; as by unless said"`
	Same []string          `yaml:"same" jsonschema:"required" jsonschema_description:"What a file has to say as the image does, such as release, architecture"`
}

type gatherWork struct {
	gatherBody
	rows *expression.Guard
}

// Compile implements runbook.Body.
func (b *gatherBody) Compile(c *runbook.Compiler) runbook.Work {
	w := &gatherWork{gatherBody: *b, rows: c.Guard("for", b.For)}
	w.Row = cmp.Or(w.Row, w.By)
	c.Image("with", b.With)
	if len(b.Same) == 0 {
		c.Complain("same", "say what the files have to have as the image has it, such as release")
	}
	c.Makes("gathered")
	return w
}

// Summary implements runbook.Summarizer.
func (w *gatherWork) Summary(_ *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{
		Does: []string{
			fmt.Sprintf("looks on the shelf for one file each of %s, of the %s of ${%s}", w.For,
				strings.Join(w.Same, " and "), w.With),
		},
	}
}

// Do implements engine.Doer.
func (w *gatherWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	if err := run.Readings.EnsureFresh(ctx, s, w.rows); err != nil {
		return err
	}
	found, err := w.found(run.Prepared, run.Env())
	if err != nil {
		return err
	}
	run.Made["gathered"] = gathered(found)
	names := make([]string, len(found))
	for i, img := range found {
		names[i] = img.Name
	}
	run.Console.Emit(event.Note{Level: event.Info, Text: "to go together: " + strings.Join(names, ", ")})
	return nil
}

// Gathers implements runbook.Gatherer.
func (w *gatherWork) Gathers(p *runbook.Planner) runbook.Made {
	found, err := w.found(p.Prepared, p.Known)
	if err != nil {
		return nil
	}
	return runbook.Made{"gathered": gathered(found)}
}

// gathered are files that go together.
type gathered []*image.Image

// Tree implements runbook.Value.
func (g gathered) Tree() any {
	var trees []map[string]any
	for _, img := range g {
		trees = append(trees, img.Tree())
	}
	return trees
}

// Files implements runbook.Shelved.
func (g gathered) Files(row map[string]any) map[string]*image.Image {
	for _, img := range g {
		if row["path"] == img.Path && row["name"] == img.Name {
			return map[string]*image.Image{"": img}
		}
	}
	return nil
}

// found are the image and what goes along with it, or what is missing.
func (w *gatherWork) found(p *runbook.Prepared, env map[string]any) ([]*image.Image, error) {
	with := p.Images[w.With]
	if with == nil {
		return nil, fmt.Errorf("there is no file %s here", w.With)
	}
	rows, err := runbook.RowsOf(w.rows, string(w.For), env)
	if err != nil {
		return nil, err
	}
	var items []image.Item
	if p.Kit.Shelf != nil {
		items = p.Kit.Shelf.Items()
	}
	found, missing := []*image.Image{with}, []string(nil)
	for _, row := range rows {
		want := expression.Format(row[w.Row])
		if strings.EqualFold(with.Says[w.By], want) {
			continue
		}
		img, near := w.fileFor(items, with, want)
		if img == nil {
			missing = append(missing, w.misses(with, want, near))
			continue
		}
		found = append(found, img)
	}
	if len(missing) > 0 {
		return nil, fmt.Errorf("the shelf has not all that has to go along with %s: %s", with.Name,
			strings.Join(missing, "; "))
	}
	return found, nil
}

// fileFor finds the file of a row: one whose published digest was seen to hold before another. Near are those of the
// row that are not the same as the image.
func (w *gatherWork) fileFor(items []image.Item, with *image.Image, want string) (best *image.Image, near []string) {
	proved := false
	for _, item := range items {
		if item.Problem != "" || !strings.EqualFold(item.Says[w.By], want) {
			continue
		}
		differs := slices.IndexFunc(w.Same,
			func(name string) bool { return !strings.EqualFold(item.Says[name], with.Says[name]) })
		switch {
		case differs >= 0:
			near = append(near,
				fmt.Sprintf("%s (%s %s)", item.Name, w.Same[differs], cmp.Or(item.Says[w.Same[differs]], "not said")))
		case item.Broken():
			near = append(near, item.Name+" (it is not what was published)")
		case best == nil || item.Proved() && !proved:
			best, proved = item.Image, item.Proved()
		}
	}
	return best, near
}

func (w *gatherWork) misses(with *image.Image, want string, near []string) string {
	var same []string
	for _, name := range w.Same {
		same = append(same, name+" "+cmp.Or(with.Says[name], "not said"))
	}
	text := fmt.Sprintf("no file of %s %s with %s", w.By, want, strings.Join(same, ", "))
	if len(near) > 0 {
		text += "; there is " + strings.Join(near, ", ")
	}
	return text
}
