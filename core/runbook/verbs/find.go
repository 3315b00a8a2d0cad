package verbs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var findMakes = []string{"found.name", "found.in", "found.by"}

var _ = runbook.Register(runbook.Verb{
	Name: "find", Does: "looks whether the device has a file already: in its own store, or on a stick in its port",
	Timeout: 2 * time.Minute, Repeatable: true, Learns: true, Makes: findMakes,
	New: func() runbook.Body { return new(findBody) },
})

type findBody struct {
	File string `yaml:"file" jsonschema:"required" jsonschema_description:"An input of kind image, or what the loop brings, such as upgrade"`
	In   string `yaml:"in" jsonschema_description:"The one place of files where it is looked for; in all that the dialect knows unless said"`
}

type findWork struct {
	file   string
	places []*dialect.CompiledFiles
}

// Compile implements runbook.Body.
func (b *findBody) Compile(c *runbook.Compiler) runbook.Work {
	c.Image("file", b.File)
	w := &findWork{file: b.File}
	var known []string
	for _, place := range c.Dialect().FileStores() {
		known = append(known, place.Files.Files)
		if b.In != "" && b.In != place.Files.Files {
			continue
		}
		w.places = append(w.places, place)
		c.Reading("", place.Read)
		if place.Hashing != nil {
			c.Hashing(place)
		}
	}
	if b.In != "" && len(w.places) == 0 {
		c.Complain("in", "dialect %s knows no files of its device %q; there are %s", c.Dialect().Dialect, b.In,
			cmp.Or(strings.Join(known, ", "), "none"))
	}
	c.Makes(findMakes...)
	return w
}

// Do implements engine.Doer.
func (w *findWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	img := run.Prepared.ImageOf(s, w.file)
	if img == nil {
		return fmt.Errorf("there is no file %s here", w.file)
	}
	defer run.ShowShelf()
	best, at := image.Differs, event.Note{Level: event.Info, Text: fmt.Sprintf("the device does not have %s", img.Name)}
	found := map[string]any{"name": "", "in": "", "by": ""}
	for _, place := range w.places {
		err := run.Readings.Take(ctx, s, place.Reading)
		if refused := new(engine.RefusedError); errors.As(err, &refused) { // it is transferred then
			run.Console.Emit(event.Note{
				Level: event.Warning,
				Text:  fmt.Sprintf("%s could not be looked at: %v", place.Title, refused),
			})
			continue
		}
		if err != nil {
			return err
		}
		held, _ := place.Held(run.Console.Facts())
		for _, one := range held {
			by, algorithm, err := sameAs(run, ctx, s, place, img, one)
			if err != nil {
				return err
			}
			if by == image.Differs || best == image.SameByDigest || by == best {
				continue
			}
			best = by
			found = map[string]any{"name": one.Name, "in": place.Files.Files, "by": string(by)}
			at.Text = heldText(img, place.Title, one.Name, by, algorithm)
		}
	}
	run.Made["found"] = runbook.Plain(found)
	run.Console.Emit(at)
	return nil
}

// sameAs holds a file of the device against an image, and has the device hash it where that decides.
func sameAs(
	run *engine.Run, ctx context.Context, s *runbook.PreparedStep, place *dialect.CompiledFiles, img *image.Image,
	one image.Held,
) (image.Sameness, string, error) {
	by, algorithm := img.SameAs(one)
	if by != image.SameName || place.Hashing == nil {
		return by, algorithm, nil
	}
	run.Made["file"] = runbook.Plain(map[string]any{"name": one.Name})
	defer delete(run.Made, "file")
	if err := run.Readings.Take(ctx, s, place.Hashing); err != nil {
		return by, "", err
	}
	one.Digests = place.HashedAs(run.Console.Facts())
	by, algorithm = img.SameAs(one)
	return by, algorithm, nil
}

func heldText(img *image.Image, place, name string, by image.Sameness, algorithm string) string {
	if by == image.SameByDigest {
		as := ""
		if name != img.Name {
			as = ", as " + name
		}
		return fmt.Sprintf("%s has %s already%s: its %s is the same", place, img.Name, as, algorithm)
	}
	return fmt.Sprintf(
		"%s has a file of the size and the name of %s; its digest is not told, so that it may be another one", place,
		img.Name)
}

// Types implements runbook.Typist.
func (w *findWork) Types(p *runbook.Planner, _ *runbook.PreparedStep) (typed []runbook.Typed) {
	for _, place := range w.places {
		typed = append(typed, p.Reading(place.Reading)...)
		if place.Hashing != nil {
			hash := p.Reading(place.Hashing)
			for i := range hash {
				hash[i].When = "if it has a file of that size and name"
			}
			typed = append(typed, hash...)
		}
	}
	return typed
}

// Summary implements runbook.Summarizer.
func (w *findWork) Summary(p *runbook.Planner, s *runbook.PreparedStep) runbook.Summary {
	name := "${" + w.file + "}"
	if img := p.ImageOf(s, w.file); img != nil {
		name = img.Name
	}
	if len(w.places) == 0 {
		return runbook.Summary{Checks: []string{"nothing: the dialect does not know where the device has files"}}
	}
	return runbook.Summary{Checks: []string{"whether the device has " + name + " already, by its digest"}}
}

// Foresees implements runbook.Foreseer: only the device knows.
func (w *findWork) Foresees(*runbook.Planner, *runbook.PreparedStep) runbook.Made {
	made := runbook.Made{}
	for _, name := range findMakes {
		made[name] = nil
	}
	return made
}
