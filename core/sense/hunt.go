package sense

import (
	"cmp"
	"context"
	"errors"
	"regexp"
	"slices"
	"time"

	"pilotrix/core/shown"
)

// UsualSpeeds are tried in this order, in baud: the commonest first.
var UsualSpeeds = []int{9600, 115200, 38400, 57600, 19200, 230400, 4800, 2400, 1200}

// Ear is the line while speeds are tried on it.
type Ear interface {
	// Tune sets our end's speed.
	Tune(ctx context.Context, baud int) error
	// Listen returns what arrives until quiet has passed after the last byte, or within the limit.
	Listen(ctx context.Context, limit, quiet time.Duration) ([]byte, error)
	// Press types a harmless key.
	Press(ctx context.Context, key string) error
}

// Hunt sets how speeds are tried. Zero values have defaults.
type Hunt struct {
	First   []int            // speeds to try before the usual ones, in baud; 0 is left out
	Speeds  []int            // the usual ones, default UsualSpeeds
	Key     string           // pressed at each speed, default a carriage return
	Passive bool             // press nothing
	Listen  time.Duration    // before a key is pressed, default 300 ms
	Answer  time.Duration    // after it, default 700 ms
	Prompts []*regexp.Regexp // what a clean prompt looks like
	Doubt   bool             // the line may have no speed at all: nothing counts unless it is otherwise at another one
	Tried   func(Candidate)  // reported of each speed as it was tried
}

// ErrNoSpeed says that the line carries the same at every speed: it has none.
var ErrNoSpeed = errors.New("the line has no speed: the same comes whatever it is set to")

// Candidate is what one speed sounded like. Score goes from 0 (nothing, or garble) to 1 (a known
// prompt).
type Candidate struct {
	Speed  int     `json:"speed"`
	Score  float64 `json:"score"`
	Bytes  int     `json:"bytes"`
	Sample string  `json:"sample"`
	Prompt bool    `json:"prompt"`

	garbled bool
}

// Found is the outcome: every speed tried, best first, and how sure the first is, from 0 to 1.
type Found struct {
	Tried []Candidate `json:"tried"`
	Sure  float64     `json:"sure"`
}

// Best is the speed that fits, 0 when none does.
func (f Found) Best() int {
	if len(f.Tried) == 0 || f.Sure < 0.2 {
		return 0
	}
	return f.Tried[0].Speed
}

const listenQuiet = 120 * time.Millisecond

// Run tries the speeds until one answers with a known prompt or all were tried. It leaves the line
// at the best one, if any fits.
func (h Hunt) Run(ctx context.Context, ear Ear) (Found, error) {
	if len(h.Speeds) == 0 {
		h.Speeds = UsualSpeeds
	}
	h.Key = cmp.Or(h.Key, "\r")
	h.Listen, h.Answer = cmp.Or(h.Listen, 300*time.Millisecond), cmp.Or(h.Answer, 700*time.Millisecond)
	var found Found
	for _, speed := range h.order() {
		candidate, err := h.try(ctx, ear, speed)
		if err != nil {
			return found, err
		}
		found.Tried = append(found.Tried, candidate)
		if h.Tried != nil {
			h.Tried(candidate)
		}
		if !candidate.Prompt {
			continue
		}
		if h.Doubt {
			if err := h.confirm(ctx, ear, speed); err != nil {
				return Found{}, err
			}
		}
		break
	}
	slices.SortStableFunc(found.Tried, func(a, b Candidate) int { return cmp.Compare(b.Score, a.Score) })
	found.Sure = sureness(found.Tried)
	if h.Doubt && !found.distinct() {
		return found, ErrNoSpeed
	}
	if best := found.Best(); best != 0 {
		return found, ear.Tune(ctx, best)
	}
	return found, nil
}

// distinct reports whether what was heard differed with the speed, as far as it shows: a prompt was confirmed, or
// where one speed made sense another one was garble. Nothing at all shows nothing.
func (f Found) distinct() bool {
	if f.Best() == 0 || f.Tried[0].Prompt {
		clean := func(c Candidate) bool { return c.Score > fairSense }
		return len(f.Tried) < 2 || !clean(f.Tried[0]) || !clean(f.Tried[1])
	}
	return slices.ContainsFunc(f.Tried, func(c Candidate) bool { return c.garbled })
}

// fairSense is the score of text that no other speed than the device's has.
const fairSense = 0.5

// order is every speed once, the likely ones first.
func (h Hunt) order() (speeds []int) {
	for _, speed := range slices.Concat(h.First, h.Speeds) {
		if speed > 0 && !slices.Contains(speeds, speed) {
			speeds = append(speeds, speed)
		}
	}
	return speeds
}

// confirm looks for a prompt at two speeds that cannot be right when this one is: a device at work may miss a key.
func (h Hunt) confirm(ctx context.Context, ear Ear, found int) error {
	others := slices.DeleteFunc(slices.Clone(UsualSpeeds), func(speed int) bool { return speed == found })
	for _, other := range others[:2] {
		candidate, err := h.try(ctx, ear, other)
		if err == nil && candidate.Prompt {
			err = errors.Join(ErrNoSpeed, ear.Tune(ctx, found))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (h Hunt) try(ctx context.Context, ear Ear, speed int) (Candidate, error) {
	if err := ear.Tune(ctx, speed); err != nil {
		return Candidate{}, err
	}
	heard, err := ear.Listen(ctx, h.Listen, listenQuiet)
	if err != nil {
		return Candidate{}, err
	}
	if !h.Passive {
		if err := ear.Press(ctx, h.Key); err != nil {
			return Candidate{}, err
		}
		answer, err := ear.Listen(ctx, h.Answer, listenQuiet)
		if err != nil {
			return Candidate{}, err
		}
		heard = append(heard, answer...)
	}
	return h.score(speed, heard), nil
}

// score judges how clean the bytes are by how many there are: one clean byte proves little.
func (h Hunt) score(speed int, heard []byte) Candidate {
	c := Candidate{Speed: speed, Bytes: len(heard), Sample: Sample(heard, 24)}
	clean := 1 - GarbleScore(heard)
	if len(heard) > 0 {
		c.garbled = 1-clean >= garbleScore
		c.Score = 0.95 * clean * clean * clean * float64(len(heard)) / float64(len(heard)+6)
	}
	if !various(heard) { // a busy device's dots look like letters at many speeds
		c.Score = min(c.Score, littleSense)
	}
	last := lastLine(heard)
	for _, prompt := range h.Prompts {
		if last != "" && prompt.MatchString(last) {
			c.Prompt, c.Score = true, 1
		}
	}
	return c
}

// littleSense is what bytes are worth that could be anything: below what Best takes.
const littleSense = 0.15

// various reports whether there is enough in what was heard to say text from chance, or from the dots,
// bars and turning strokes of a device at work.
func various(heard []byte) bool {
	const fewest, fewestLetters = 4, 2
	var seen [256]bool
	marks, letters := 0, 0
	for _, b := range heard {
		if b <= ' ' || b >= 0x7f || seen[b] {
			continue
		}
		seen[b] = true
		marks++
		if lower := b | 0x20; lower >= 'a' && lower <= 'z' || b >= '0' && b <= '9' {
			letters++
		}
		if marks >= fewest && letters >= fewestLetters {
			return true
		}
	}
	return false
}

func lastLine(p []byte) string {
	m := shown.New(shown.UsualCols, shown.UsualRows, shown.Options{})
	m.Write(p, nil)
	line, _ := m.Line()
	return line
}

// sureness is how far the best stands out from the next.
func sureness(sorted []Candidate) float64 {
	switch {
	case len(sorted) == 0:
		return 0
	case len(sorted) == 1 || sorted[0].Prompt:
		return sorted[0].Score
	}
	return sorted[0].Score * (sorted[0].Score - sorted[1].Score) / max(sorted[0].Score, 0.001)
}
