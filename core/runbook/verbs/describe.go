package verbs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name:       "describe",
	Does:       "reads the build description that is published beside a file on the shelf, by the dialect's patterns",
	Timeout:    30 * time.Second,
	Repeatable: true,
	Learns:     true,
	Makes:      []string{"described"},
	New:        func() runbook.Body { return new(describeBody) },
})

type describeBody struct {
	File string `yaml:"file" jsonschema:"required" jsonschema_description:"An input of kind image"`
}

type describeWork struct{ file string }

// Compile implements runbook.Body.
func (b *describeBody) Compile(c *runbook.Compiler) runbook.Work {
	c.Image("file", b.File)
	said := c.Dialect().Document.Description
	if said == nil {
		c.Complain("", "dialect %s knows of no build description (description: …)", c.Dialect().Dialect)
		return &describeWork{b.File}
	}
	c.Makes("described")
	return &describeWork{b.File}
}

// Summary implements runbook.Summarizer.
func (w *describeWork) Summary(p *runbook.Planner, s *runbook.PreparedStep) runbook.Summary {
	img := p.ImageOf(s, w.file)
	if img == nil {
		return runbook.Summary{}
	}
	if _, err := w.read(p.Prepared, img); err != nil {
		return runbook.Summary{Checks: []string{"REFUSED: " + err.Error()}}
	}
	return runbook.Summary{
		Does: []string{fmt.Sprintf("reads %s beside %s", img.Name+p.Dialect.Document.Description.Ending, img.Name)},
	}
}

// read finds what the description says; every pattern has to find something.
func (w *describeWork) read(p *runbook.Prepared, img *image.Image) (map[string]any, error) {
	path := filepath.Join(filepath.Dir(img.Path), img.Name+p.Dialect.Document.Description.Ending)
	says, err := image.Describe(path, p.Dialect.Described())
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("no build description %s beside the image: put the published one there", path)
	case err != nil:
		return nil, err
	}
	tree := map[string]any{}
	for _, want := range p.Dialect.Described() {
		text, found := says[want.Name]
		if !found {
			return nil, fmt.Errorf("%s says no %s (looked for %s)", path, want.Name, want.Pattern)
		}
		tree[want.Name] = text
	}
	return tree, nil
}

// Do implements engine.Doer.
func (w *describeWork) Do(_ context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	img := run.Prepared.ImageOf(s, w.file)
	if img == nil {
		return fmt.Errorf("there is no file %s here", w.file)
	}
	says, err := w.read(run.Prepared, img)
	if err != nil {
		return err
	}
	run.Made["described"] = runbook.Plain(says)
	for _, one := range run.Prepared.Dialect.Described() {
		run.Console.Emit(event.Note{Level: event.Info, Text: fmt.Sprintf("published: %s %v", one.Name, says[one.Name])})
	}
	return nil
}

// Foresees implements runbook.Foreseer.
func (w *describeWork) Foresees(p *runbook.Planner, s *runbook.PreparedStep) runbook.Made {
	if img := p.ImageOf(s, w.file); img != nil {
		if says, err := w.read(p.Prepared, img); err == nil {
			return runbook.Made{"described": runbook.Plain(says)}
		}
	}
	return nil
}
