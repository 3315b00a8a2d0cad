package runbook

import (
	"cmp"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/image"
	"pilotrix/core/network"
	"pilotrix/core/source"
	"pilotrix/core/units"
)

// Prepared is a runbook checked against a dialect, with its inputs: all that can be known before a line is
// opened.
type Prepared struct {
	Book     *Runbook
	Dialect  *dialect.Dialect
	Steps    []PreparedStep
	Rollback []PreparedStep
	Inputs   map[string]string
	Images   map[string]*image.Image
	Kit      Kit

	title, about *expression.Template // of the runbook, and of its rollback

	Rehearsal bool // it ends behind what is rehearsed
	FromPhase int  // the phase that the run begins at
	warnings  []*source.Complaint
}

// Kit is what a run works with besides the device. What is left out is asked for only by steps that need it.
type Kit struct {
	Shelf        *image.Shelf
	UpgradePaths func(name string) (*image.UpgradePaths, error)
	// UpgradePathNames are those that can be named.
	UpgradePathNames []string
	Network          network.Network
	Folder           string // where archives are unpacked to; the system's temporary folder unless said
	CutOff           string // in words: how an earlier run on this device was cut off; empty when none was
}

// Prepare checks the runbook against a dialect and its inputs. Values maps inputs to what was given.
func (r *Runbook) Prepare(d *dialect.Dialect, values map[string]string, kit Kit) (*Prepared, error) {
	p := &Prepared{Book: r, Dialect: d, Images: map[string]*image.Image{}, Inputs: map[string]string{}, Kit: kit}
	if err := p.Check(); err != nil {
		return nil, err
	}
	if err := p.takeInputs(values); err != nil {
		return nil, err
	}
	p.estimateTimes()
	return p, nil
}

// TitleText is what the runbook does, in words, with what is known.
func (p *Prepared) TitleText(env map[string]any) string { return p.title.Shown(env) }

// RollbackText is what there is to go back to, in words, with what is known.
func (p *Prepared) RollbackText(env map[string]any) string {
	return strings.TrimSpace(p.about.Shown(env))
}

// From makes the run begin at a phase: of those before it only what learns from the device is done.
func (p *Prepared) From(phase string) error {
	for i, one := range p.Book.Phases {
		if one.Phase == phase {
			p.FromPhase = i
			return nil
		}
	}
	return fmt.Errorf("runbook %s has no phase %q; it has %s", p.Book.Runbook, phase, p.Book.phaseNames())
}

// Rehearse makes the run end after the last phase that is rehearsed: what comes then is looked at, and not done.
func (p *Prepared) Rehearse() error {
	last := -1
	for i, phase := range p.Book.Phases {
		if phase.Rehearse {
			last = i
		}
	}
	if last < 0 {
		return fmt.Errorf("runbook %s has nothing to rehearse: none of its phases is marked so (rehearse: true)",
			p.Book.Runbook)
	}
	if p.FromPhase > last {
		return fmt.Errorf("the run would begin at “%s”, behind what is rehearsed", p.Book.Phases[p.FromPhase].Phase)
	}
	p.Rehearsal = true
	p.Steps = slices.DeleteFunc(p.Steps, func(s PreparedStep) bool { return s.PhaseIndex > last })
	return nil
}

// Rehearsed reports that nothing that lasts is changed in a step's phase.
func (p *Prepared) Rehearsed(s *PreparedStep) bool {
	return s.PhaseIndex < len(p.Book.Phases) && p.Book.Phases[s.PhaseIndex].Rehearse && s.Phase != "rollback"
}

// takeInputs checks what was given against what is needed. All that is wrong is reported at once.
func (p *Prepared) takeInputs(values map[string]string) error {
	for name := range values {
		if _, known := p.Book.Input(name); !known {
			return fmt.Errorf("runbook %s has no input %q; it has %s", p.Book.Runbook, name, p.Book.inputNames())
		}
	}
	file := p.Book.file.Again()
	for i, input := range p.Book.Inputs {
		path := fmt.Sprintf("inputs[%d]", i)
		value, given := values[input.Input]
		if !given && input.Default != nil {
			value, given = string(*input.Default), true
		}
		if !given {
			file.Complain(path, "input %s is not set (%s): %s", input.Input, cmp.Or(input.About, input.Kind),
				input.howToSet())
			continue
		}
		if err := p.takeInput(input, value); err != nil {
			file.Complain(path, "input %s: %v", input.Input, err)
		}
	}
	return file.Err()
}

func (i Input) howToSet() string {
	if i.Kind == KindSecret {
		return fmt.Sprintf("give it with --secret %s=env:VARIABLE or --secret %s=file:PATH", i.Input, i.Input)
	}
	return fmt.Sprintf("give it with --set %s=…", i.Input)
}

var control = regexp.MustCompile(`[\x00-\x1f\x7f]`)

// value is what an input's text means to expressions.
func (i Input) value(text string) (any, error) {
	if control.MatchString(text) {
		return nil, fmt.Errorf("it holds a control character")
	}
	switch i.Kind {
	case KindNumber:
		return units.ParseNumber(text)
	case KindChoice:
		if !slices.Contains(i.Choices, source.Text(text)) {
			return nil, fmt.Errorf("%q is none of %s", text,
				strings.Join(strings.Fields(strings.Trim(fmt.Sprint(i.Choices), "[]")), ", "))
		}
	}
	return text, nil
}

func (p *Prepared) takeInput(input Input, value string) error {
	if _, err := input.value(value); err != nil {
		return err
	}
	p.Inputs[input.Input] = value
	switch input.Kind {
	case KindImage:
		img, err := p.findImage(value)
		if err != nil {
			return err
		}
		p.Images[input.Input] = img
	case KindFolder:
		if info, err := os.Stat(value); value != "" && (err != nil || !info.IsDir()) {
			return fmt.Errorf("%s is no folder", value)
		}
	}
	return nil
}

// Shown are the inputs as they may be recorded: without secrets.
func (p *Prepared) Shown() map[string]string {
	shown := map[string]string{}
	for _, input := range p.Book.Inputs {
		if input.Kind != KindSecret {
			shown[input.Input] = p.Inputs[input.Input]
		}
	}
	return shown
}

// Secrets are the values that are never recorded.
func (p *Prepared) Secrets() (secrets []string) {
	for _, input := range p.Book.Inputs {
		if input.Kind == KindSecret {
			secrets = append(secrets, p.Inputs[input.Input])
		}
	}
	return secrets
}

// Env lays inputs and facts out for expressions.
func (p *Prepared) Env(facts *device.Facts) map[string]any {
	env := facts.Tree()
	for _, input := range p.Book.Inputs {
		text, given := p.Inputs[input.Input]
		if value, err := input.value(text); given && err == nil {
			env[input.Input] = value
		}
	}
	for name, img := range p.Images {
		env[name] = img.Tree()
	}
	if running, known := p.Running(facts); known {
		env[dialect.Can], env[dialect.Lacks] = p.Dialect.Can(running), p.Dialect.Lacking(running)
	}
	return env
}

// Running is the release that runs, as far as it was read.
func (p *Prepared) Running(facts *device.Facts) (release device.Release, known bool) {
	fact, read := facts.Get(image.FactRelease)
	if !read {
		return release, false
	}
	release, err := p.Dialect.Order().Parse(fact.Text)
	return release, err == nil
}

// openEnv is Env without secrets.
func (p *Prepared) openEnv(facts *device.Facts) map[string]any {
	env := p.Env(facts)
	p.Mask(env)
	return env
}

// Mask puts a mark in the place of each secret.
func (p *Prepared) Mask(env map[string]any) {
	for _, input := range p.Book.Inputs {
		if input.Kind == KindSecret {
			env[input.Input] = event.Redacted
		}
	}
}

// estimateTimes fills in what steps are expected to take that do not say: by the line's speed as it is then, by
// what the dialect says that the device takes.
func (p *Prepared) estimateTimes() {
	baud := p.Dialect.Line.Speed
	for i := range p.Steps {
		if speed, ok := p.Steps[i].Work.(Pacer); ok && speed.Pace() != 0 {
			baud = speed.Pace()
		}
		p.Steps[i].baud = baud
		p.estimateStep(&p.Steps[i])
	}
}

func (p *Prepared) estimateStep(s *PreparedStep) {
	if w, can := s.Work.(Expecter); can && s.Common.Expected == nil {
		s.Expected = w.Expects(p, s, s.baud)
	}
	w, can := s.Work.(interface {
		estimated(*Prepared, *PreparedStep) time.Duration
	})
	if !can {
		return
	}
	if takes := w.estimated(p, s); takes > 0 {
		s.Expected = takes
		if s.Common.Expected != nil {
			s.Expected += time.Duration(*s.Common.Expected)
		}
		s.Timeout = (s.least + slack*takes).Round(time.Second)
	}
}

// slack is how many times as long as computed an action may deal with a file: flashes are slower than they say.
const slack = 4

// ImageOf finds a file that a step names: an input, or what its loop brings.
func (p *Prepared) ImageOf(s *PreparedStep, name string) *image.Image {
	if img := s.images[name]; img != nil {
		return img
	}
	return p.Images[name]
}
