package verbs

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/arithmetic"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/image"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/units"
)

// Nobody types an address: a step names a part of the flash and a file, and everything else follows from the map of the
// flash. It is computed when the plan is made, where the map is known then; before the hold; and once more before
// anything is typed.

// burnMakes are the addresses, all of them the device's, and sizes in bytes.
var burnMakes = []string{
	"burn.part", "burn.file", "burn.erase_from", "burn.erase_last", "burn.erase_size", "burn.sectors",
	"burn.write_from", "burn.write_last", "burn.size", "burn.left", "burn.erased", "burn.written",
}

// Burning names what is written where.
type Burning struct {
	Part string `yaml:"part" jsonschema:"required" jsonschema_description:"A part of the device's flash; may hold ${…}"`
	File string `yaml:"file" jsonschema:"required" jsonschema_description:"The file: an input of kind image"`
}

// burning is a checked Burning.
type burning struct {
	file string
	part *expression.Template
}

func (b Burning) compile(c *runbook.Compiler) burning {
	c.Image("file", b.File)
	if c.Dialect().Document.Flash == nil {
		c.Complain("", "dialect %s knows of no flash", c.Dialect().Dialect)
	}
	w := burning{b.File, c.Template("part", b.Part)}
	c.Uses("", c.Dialect().FlashFacts())
	c.Makes(burnMakes...)
	return w
}

// burnTree is a burn as expressions see it.
func burnTree(b arithmetic.Burn, file string) map[string]any {
	eraseFrom, eraseLast := b.EraseAt()
	writeFrom, writeLast := b.WriteAt()
	return map[string]any{
		"part":       b.Part.Name,
		"file":       file,
		"erase_from": float64(eraseFrom),
		"erase_last": float64(eraseLast),
		"erase_size": float64(b.Erase.Size()),
		"sectors":    float64(b.Sectors),
		"write_from": float64(writeFrom),
		"write_last": float64(writeLast),
		"size":       float64(b.Write.Size()),
		"left":       float64(b.Left),
		"erased":     rangeText(eraseFrom, eraseLast),
		"written":    rangeText(writeFrom, writeLast),
	}
}

// rangeText are a range's first and last address, and its size in both ways.
func rangeText(from, last int64) string {
	return fmt.Sprintf("0x%x to 0x%x, %s B, %s", from, last, units.Count(last-from+1), units.Bytes(last-from+1))
}

// burnText says what a burn is, in words.
func burnText(b arithmetic.Burn, file string) []string {
	eraseFrom, eraseLast := b.EraseAt()
	writeFrom, writeLast := b.WriteAt()
	return []string{
		fmt.Sprintf("erases %s of part %s: %s", units.Many(b.Sectors, "sector"), b.Part.Name,
			rangeText(eraseFrom, eraseLast)),
		fmt.Sprintf("writes %s: %s; %s of the part stay empty", file, rangeText(writeFrom, writeLast),
			units.Bytes(b.Left)),
	}
}

// describes computes it for a plan, as far as the map is known.
func (w burning) describes(p *runbook.Planner, s *runbook.PreparedStep) (t runbook.Summary) {
	img, part := p.ImageOf(s, w.file), w.part.Shown(p.Known)
	if img == nil || strings.Contains(part, "${") {
		return t
	}
	flash, err := p.Dialect.FlashMap(p.Facts)
	if err != nil {
		return w.usually(p, img, part)
	}
	b, err := flash.Burns(part, img.Size)
	if err != nil {
		return runbook.Summary{Estimates: []string{"REFUSED: " + err.Error()}}
	}
	return runbook.Summary{Estimates: burnText(b, img.Name)}
}

// Foresees implements runbook.Foreseer.
func (w burning) Foresees(p *runbook.Planner, s *runbook.PreparedStep) runbook.Made {
	img, part := p.ImageOf(s, w.file), w.part.Shown(p.Known)
	flash, err := p.Dialect.FlashMap(p.Facts)
	if img == nil || strings.Contains(part, "${") || err != nil {
		return nil
	}
	if b, err := flash.Burns(part, img.Size); err == nil {
		return runbook.Made{"burn": runbook.Plain(burnTree(b, img.Name))}
	}
	return nil
}

// usually computes it by the map that such devices have, where the dialect knows one; what is typed goes by what the
// device says.
func (w burning) usually(p *runbook.Planner, img *image.Image, part string) (t runbook.Summary) {
	t.Estimates = []string{
		fmt.Sprintf("what of part %s is erased and written for %s, once the map of the flash is read", part, img.Name),
	}
	flash, known := p.Dialect.UsualFlash()
	if !known {
		return t
	}
	b, err := flash.Burns(part, img.Size)
	if err != nil {
		return runbook.Summary{Estimates: append(t.Estimates, "by the usual map it would be REFUSED: "+err.Error())}
	}
	for _, words := range burnText(b, img.Name) {
		t.Estimates = append(t.Estimates, "by the usual map: "+words)
	}
	return t
}

// compute computes a burn from what is known now and keeps it for the steps behind. Nothing is computed by halves:
// whatever is wrong with it is an error.
func (w burning) compute(run *engine.Run, s *runbook.PreparedStep) (arithmetic.Burn, error) {
	img := run.Prepared.ImageOf(s, w.file)
	if img == nil {
		return arithmetic.Burn{}, fmt.Errorf("there is no file %s here", w.file)
	}
	part, err := w.part.Render(run.Env())
	if err != nil {
		return arithmetic.Burn{}, err
	}
	flash, err := run.Prepared.Dialect.FlashMap(run.Console.Facts())
	if err != nil {
		return arithmetic.Burn{}, err
	}
	b, err := flash.Burns(part, img.Size)
	if err != nil {
		return b, fmt.Errorf("%s is not burned: %w", img.Name, err)
	}
	run.Made["burn"] = runbook.Plain(burnTree(b, img.Name))
	report := event.Flash{
		Base: flash.Base, Part: part, File: img.Name, State: event.FlashComputed,
		EraseFrom: b.Erase.From, EraseTo: b.Erase.To, WriteFrom: b.Write.From, WriteTo: b.Write.To,
	}
	for _, sectors := range flash.Sectors {
		report.Sectors = append(report.Sectors, event.FlashSectors(sectors))
	}
	for _, p := range flash.Parts {
		report.Parts = append(report.Parts, event.FlashPart(p))
	}
	if err := sameMap(run, report); err != nil {
		return b, err
	}
	burns.Of(run).now = report
	return b, nil
}

// sameMap holds that a burn goes where it was planned before: a map that has moved since, or reads otherwise, ends the
// run before anything is typed by it.
func sameMap(run *engine.Run, now event.Flash) error {
	was, key := burns.Of(run).now, now.Part+"\x00"+now.File
	if was.Part+"\x00"+was.File != key {
		return nil
	}
	switch {
	case !sameBurn(was, now):
		return fmt.Errorf("the map of the flash is not the one that it was planned by: %s was to be erased for %s in part %s, and now it would be %s; nothing was typed",
			spanText(was), now.File, now.Part, spanText(now))
	case !slices.Equal(was.Sectors, now.Sectors):
		return fmt.Errorf("the sectors of the flash are others than they were when %s was planned: %v then, %v now; nothing was typed",
			now.File, was.Sectors, now.Sectors)
	case !slices.Equal(was.Parts, now.Parts):
		return fmt.Errorf(
			"the parts of the flash are others than they were when %s was planned: %v then, %v now; nothing was typed",
			now.File, was.Parts, now.Parts)
	}
	return nil
}

// spanText are what a burn erases, by the device's addresses.
func spanText(f event.Flash) string {
	return rangeText(f.Base+f.EraseFrom, f.Base+f.EraseTo-1)
}

// burns is the burn that was computed last, and what was erased with an approval, nil for nothing.
var burns = new(engine.Kept[struct {
	now    event.Flash
	erased *event.Flash
}])

// sameBurn reports whether two are the same file at the same place.
func sameBurn(a, b event.Flash) bool {
	return a.Part == b.Part && a.File == b.File && a.Base == b.Base && a.EraseFrom == b.EraseFrom &&
		a.EraseTo == b.EraseTo &&
		a.WriteFrom == b.WriteFrom &&
		a.WriteTo == b.WriteTo
}

// flashing does what changes the flash, and says how it stands with it.
func flashing(
	run *engine.Run, ctx context.Context, s *runbook.PreparedStep, d *runbook.CompiledCall, w burning,
	during, then string,
) error {
	if _, err := w.compute(run, s); err != nil {
		return err
	}
	reportFlash(run, during)
	err := run.Actions.Perform(ctx, s, d)
	if err != nil {
		then = event.FlashDoubtful
	}
	reportFlash(run, then)
	return err
}

func reportFlash(run *engine.Run, state string) {
	burn := &burns.Of(run).now
	burn.State = state
	run.Console.Emit(*burn)
}
