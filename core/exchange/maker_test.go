package exchange

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/sense"
	"pilotrix/core/shown"
)

// plainTalk is a device that echoes, or does not.
type plainTalk struct{ silent bool }

func (p plainTalk) Echoes() bool { return !p.silent }

func (plainTalk) Refuses(answer string) string {
	if strings.Contains(answer, "no such word") {
		return "no such word"
	}
	return ""
}

func (plainTalk) Starts(mode string) bool { return mode == "booting" }

// talk is a device, a hand and the maker between them.
type talk struct {
	*Maker
	sense *sense.Sense
	now   time.Time
	asked []event.Asked
	ended []Exchange
}

func newTalk(silent bool) *talk {
	t := &talk{now: time.Unix(1000, 0)}
	t.sense = sense.New(sense.Config{
		Modes: []sense.Mode{
			{Name: "booting", Text: regexp.MustCompile(`^booting`)},
			{Name: "user", Prompt: regexp.MustCompile(`^gw\d* / $`)},
			{Name: "admin", Prompt: regexp.MustCompile(`^gw\d* // $`)},
		},
		Dialogs:    []sense.Dialog{{Name: "really", Ask: regexp.MustCompile(`really\? \(y/n\) $`)}},
		Noise:      []*regexp.Regexp{regexp.MustCompile(`^\*log `)},
		Pager:      regexp.MustCompile(`  \(more\) $`),
		AsksSecret: func(line string) bool { return strings.HasSuffix(line, "word: ") },
		Ended:      func(line shown.Ended) { t.Ended(line) },
	}, t.now)
	t.Maker = NewMaker(t.sense, plainTalk{silent}, func() time.Time { return t.now })
	return t
}

// take keeps what was found.
func (t *talk) take() {
	for _, found := range t.Take() {
		switch {
		case found.Ended != nil:
			t.ended = append(t.ended, *found.Ended)
		default:
			t.asked = append(t.asked, found.Body.(event.Asked))
		}
	}
}

// says has the device write.
func (t *talk) says(text string) {
	t.now = t.now.Add(time.Millisecond)
	t.sense.Feed(t.now, []byte(text))
	t.take()
}

// rest lets time pass.
func (t *talk) rest(d time.Duration) {
	for end := t.now.Add(d); t.now.Before(end); {
		t.now = t.now.Add(10 * time.Millisecond)
		t.sense.Tick(t.now)
		t.See(t.sense.State())
		t.take()
	}
}

// types presses keys as a session does.
func (t *talk) types(who, keys string) {
	for _, key := range []byte(keys) {
		v := t.sense.State()
		switch key {
		case '\r':
			one := Sent{
				Who:     who,
				Text:    t.Typed.Text(v),
				Certain: t.Typed.Certain(),
				Secret:  v.Secret,
				Mode:    t.Typed.Mode,
				Base:    t.Typed.Base,
			}
			e := t.Enter(one, v)
			t.Typed.Entered(key, t.now)
			t.sense.Entered(t.now, e)
		case interrupt:
			t.sense.Entered(t.now, t.Interrupt())
		default:
			if t.Typed.Begin(who, v, t.now); !v.Secret {
				t.Typed.Key(key, t.now)
			}
			t.sense.Typed(t.now, []byte{key}, t.Typed.Keys)
		}
		t.take()
	}
}

func (t *talk) prompt(text string) {
	t.says(text)
	t.rest(40 * time.Millisecond)
}

// TestAnAnswerIsThatOfItsCommand goes through the ways in which commands and answers come to a line.
func TestAnAnswerIsThatOfItsCommand(t *testing.T) {
	type answer struct {
		command string
		text    string
		end     event.End
	}
	for name, c := range map[string]struct {
		talk func(d *talk)
		want []answer
	}{
		"one by one": {func(d *talk) {
			d.types(event.Hand, "look a\r")
			d.says("look a\r\n  a\r\n")
			d.prompt("gw / ")
			d.types(event.Hand, "look b\r")
			d.says("look b\r\n  b\r\n")
			d.prompt("gw / ")
		}, []answer{{"look a", "  a\n", event.EndPrompt}, {"look b", "  b\n", event.EndPrompt}}},
		"typed ahead, and the prompt does not rest": {func(d *talk) {
			d.types(event.Hand, "look a\rlook b\r")
			d.says("look a\r\n  a\r\ngw / look b\r\n  b\r\n  bb\r\n")
			d.prompt("gw / ")
		}, []answer{{"look a", "  a\n", event.EndPrompt}, {"look b", "  b\n  bb\n", event.EndPrompt}}},
		"typed ahead while it answers": {func(d *talk) {
			d.types(event.Hand, "look a\r")
			d.says("look a\r\n  a1\r\n")
			d.types(event.Hand, "look b\r")
			d.says("  a2\r\ngw / ")
			d.rest(40 * time.Millisecond)
			d.says("look b\r\n  b\r\n")
			d.prompt("gw / ")
		}, []answer{{"look a", "  a1\n  a2\n", event.EndPrompt}, {"look b", "  b\n", event.EndPrompt}}},
		"the terminal echoes what is typed ahead by itself": {func(d *talk) {
			d.types(event.Hand, "wait\r")
			d.says("wait\r\n")
			d.types(event.Hand, "look b\r")
			d.says("look b\r\n")
			d.says("gw / look b\r\n  b\r\n")
			d.prompt("gw / ")
		}, []answer{{"wait", "look b\n", event.EndPrompt}, {"look b", "  b\n", event.EndPrompt}}},
		"and does not repeat it behind the prompt": {func(d *talk) {
			d.types(event.Hand, "wait\r")
			d.says("wait\r\n")
			d.types(event.Hand, "look b\r")
			d.says("look b\r\n")
			d.says("gw /   b1\r\n  b2\r\n")
			d.prompt("gw / ")
		}, []answer{{"wait", "look b\n", event.EndPrompt}, {"look b", "b1\n  b2\n", event.EndPrompt}}},
		"recalled": {func(d *talk) {
			d.types(event.Hand, "\x1b[A")
			d.says("look b")
			d.types(event.Hand, "\r")
			d.says("\r\n  b\r\n")
			d.prompt("gw / ")
		}, []answer{{"look b", "  b\n", event.EndPrompt}}},
		"completed": {func(d *talk) {
			d.types(event.Hand, "lo\t")
			d.says("look ")
			d.types(event.Hand, "b\r")
			d.says("b\r\n  b\r\n")
			d.prompt("gw / ")
		}, []answer{{"look b", "  b\n", event.EndPrompt}}},
		"log lines in the middle of all": {func(d *talk) {
			d.types(event.Hand, "look a\r")
			d.says("\r\n*log one\r\ngw / look a\r\n*log two\r\n  a\r\n*log three\r\n")
			d.prompt("gw / ")
		}, []answer{{"look a", "  a\n", event.EndPrompt}}},
		"a log that shows a prompt": {func(d *talk) {
			d.types(event.Hand, "look a\r")
			d.says("look a\r\ngw / look b\r\n  b\r\n")
			d.prompt("gw / ")
		}, []answer{{"look a", "gw / look b\n  b\n", event.EndPrompt}}},
		"pages": {func(d *talk) {
			d.types(event.Hand, "look a\r")
			d.says("look a\r\n  a1\r\n  (more) ")
			d.rest(40 * time.Millisecond)
			d.types(event.Hand, " ")
			d.says("\r          \r  a2\r\n")
			d.prompt("gw / ")
		}, []answer{{"look a", "  a1\n  a2\n", event.EndPrompt}}},
		"a question within": {func(d *talk) {
			d.types(event.Hand, "wipe\r")
			d.says("wipe\r\nreally? (y/n) ")
			d.rest(40 * time.Millisecond)
			d.types(event.Hand, "y\r")
			d.says("y\r\nwiped\r\n")
			d.prompt("gw / ")
		}, []answer{{"wipe", "really? (y/n) y\nwiped\n", event.EndPrompt}}},
		"it leads to another mode": {func(d *talk) {
			d.types(event.Hand, "lift\r")
			d.says("lift\r\n")
			d.prompt("gw // ")
		}, []answer{{"lift", "", event.EndLed}}},
		"it starts": {func(d *talk) {
			d.types(event.Hand, "again\r")
			d.says("again\r\nclosing\r\nbooting\r\n")
			d.rest(2 * time.Second)
		}, []answer{{"again", "closing\nbooting\n", event.EndLed}}},
		"broken off": {func(d *talk) {
			d.types(event.Hand, "look a\r")
			d.says("look a\r\n  a1\r\n")
			d.types(event.Hand, "look b\r\x03")
			d.says("^C\r\n")
			d.prompt("gw / ")
		}, []answer{{"look a", "  a1\n^C\n", event.EndBroken}}},
		"a full-screen program": {func(d *talk) {
			d.types(event.Hand, "watch\r")
			d.says("watch\r\n\x1b[2J\x1b[Hload 3 %\r\n\x1b[Hload 4 %\r\n")
			d.types(event.Hand, "q")
			d.prompt("\x1b[2J\x1b[Hgw / ")
		}, []answer{{"watch", "", event.EndScreen}}},
		"the name changes": {func(d *talk) {
			d.types(event.Hand, "name gw7\r")
			d.says("name gw7\r\n")
			d.prompt("gw7 / ")
			d.types(event.Hand, "look a\r")
			d.says("look a\r\n  a\r\n")
			d.prompt("gw7 / ")
		}, []answer{{"name gw7", "", event.EndPrompt}, {"look a", "  a\n", event.EndPrompt}}},
		"wrapped by the device": {func(d *talk) {
			d.types(event.Hand, "look "+strings.Repeat("ports ", 12)+"all\r")
			d.says("look " + strings.Repeat("ports ", 7) + "\r\n" + strings.Repeat("ports ", 5) + "all\r\n  a\r\n")
			d.prompt("gw / ")
		}, []answer{{"look " + strings.Repeat("ports ", 12) + "all", "  a\n", event.EndPrompt}}},
		"typed and erased": {func(d *talk) {
			d.types(event.Hand, "wipe\x15look a\r")
			d.says("look a\r\n  a\r\n")
			d.prompt("gw / ")
		}, []answer{{"look a", "  a\n", event.EndPrompt}}},
		"an Enter alone between": {func(d *talk) {
			d.types(event.Hand, "\r")
			d.prompt("\r\ngw / ")
			d.types(event.Hand, "look a\r\rlook b\r")
			d.says("look a\r\n  a\r\ngw / \r\ngw / look b\r\n  b\r\n")
			d.prompt("gw / ")
		}, []answer{{"look a", "  a\n", event.EndPrompt}, {"look b", "  b\n", event.EndPrompt}}},
		"a line that the device has dropped": {func(d *talk) {
			d.types(event.Hand, "look a\rlook b\rlook c\r")
			d.says("look a\r\n  a\r\ngw / look c\r\n  c\r\n")
			d.prompt("gw / ")
		}, []answer{{"look a", "  a\n", event.EndPrompt}, {"look c", "  c\n", event.EndPrompt}}},
	} {
		d := newTalk(false)
		d.prompt("gw / ")
		c.talk(d)
		var got []answer
		for _, x := range d.ended {
			got = append(got, answer{x.Text, x.Answer(), x.Over.End})
		}
		assert.Equal(t, c.want, got, name)
		assert.Len(t, d.asked, len(c.want), name)
	}
}

// TestWhatIsTypedBeforeAPromptWasSeen stands with its text, and its answer is in doubt.
func TestWhatIsTypedBeforeAPromptWasSeen(t *testing.T) {
	d := newTalk(false)
	d.types(event.Hand, "look a\r")
	d.says("look a\r\n  a\r\n")
	d.prompt("gw / ")
	require.Len(t, d.ended, 1)
	assert.Equal(t, "look a", d.ended[0].Text)
	assert.Equal(t, "  a\n", d.ended[0].Answer())
	assert.False(t, d.ended[0].Whole())
}

// TestAnExchangeKeepsItsQuestions: a secret that is asked for is in none of them.
func TestAnExchangeKeepsItsQuestions(t *testing.T) {
	d := newTalk(false)
	d.prompt("gw / ")
	d.types(event.Hand, "fetch\r")
	d.says("fetch\r\nreally? (y/n) ")
	d.rest(40 * time.Millisecond)
	d.types(event.Hand, "y")
	d.says("y")
	d.types(event.Hand, "\r")
	d.says("\r\nword: ")
	d.rest(40 * time.Millisecond)
	d.types(event.Hand, "tern-and-gull\r")
	d.says("\r\nhaul 1 begun\r\n")
	d.prompt("gw / ")
	require.Len(t, d.ended, 1)
	assert.Equal(t, []event.Question{{Text: "really? (y/n)", Answer: "y"}, {Text: "word:", Secret: true}},
		d.ended[0].Questions)
	assert.NotContains(t, fmt.Sprint(d.ended, d.asked), "tern-and-gull")
}

// TestAnAnswerThatIsNotShownMayBeASecret: at a question that nobody knew for one that asks for a secret.
func TestAnAnswerThatIsNotShownMayBeASecret(t *testing.T) {
	for shown, want := range map[string]event.Question{"tern": {Text: "the key [none]:", Answer: "tern"}, "": {Text: "the key [none]:", Secret: true}} {
		d := newTalk(false)
		d.prompt("gw / ")
		d.types(event.Hand, "fetch\r")
		d.says("fetch\r\nthe key [none]: ")
		d.rest(40 * time.Millisecond)
		d.types(event.Hand, "tern\r")
		d.says(shown + "\r\nhaul 1 begun\r\n")
		d.prompt("gw / ")
		require.Len(t, d.ended, 1)
		assert.Equal(t, []event.Question{want}, d.ended[0].Questions)
	}
}

// TestADeviceThatDoesNotEchoTakesOneLineAfterTheOther, as its prompts come.
func TestADeviceThatDoesNotEchoTakesOneLineAfterTheOther(t *testing.T) {
	d := newTalk(true)
	d.prompt("gw / ")
	d.types(event.Hand, "look a\rlook b\r")
	d.says("\r\n  a\r\n")
	d.prompt("gw / ")
	d.says("\r\n  b\r\n")
	d.prompt("gw / ")
	var got []string
	for _, x := range d.ended {
		got = append(got, x.Text+": "+strings.TrimSpace(x.Answer()))
	}
	assert.Equal(t, []string{"look a: a", "look b: b"}, got)
}

// TestWhatADeviceDoesNotShowMayBeASecret: a password in front of a prompt that nobody knew for one.
func TestWhatADeviceDoesNotShowMayBeASecret(t *testing.T) {
	for _, silent := range []bool{false, true} {
		d := newTalk(silent)
		d.prompt("gw / ")
		d.types(event.Hand, "tern-and-gull\r")
		d.says("\r\nset\r\n")
		d.prompt("gw / ")
		require.Len(t, d.ended, 1)
		assert.Equal(t, "set\n", d.ended[0].Answer())
		assert.Equal(t, silent, strings.Contains(fmt.Sprint(d.asked, d.ended), "tern-and-gull"),
			"known only where it echoes nothing")
	}
}

// TestAnAnswerThatLostRowsIsNotWhole, nor is one that was refused, broken off or cut.
func TestAnAnswerThatLostRowsIsNotWhole(t *testing.T) {
	for name, c := range map[string]struct {
		answer string
		whole  bool
	}{"short": {"  a\r\n", true}, "long": {strings.Repeat(strings.Repeat("x", 70)+"\r\n",
		60000), false}, "refused": {"no such word\r\n", false}} {
		d := newTalk(false)
		d.prompt("gw / ")
		d.types(event.Hand, "look\r")
		d.says("look\r\n" + c.answer)
		d.prompt("gw / ")
		require.Len(t, d.ended, 1, name)
		assert.Equal(t, c.whole, d.ended[0].Whole(), name)
	}
}

// TestWhatGoesOnIsEndedBeforeItIsForgotten: the line is lost in the middle of an answer.
func TestWhatGoesOnIsEndedBeforeItIsForgotten(t *testing.T) {
	d := newTalk(false)
	d.prompt("gw / ")
	d.types(event.Hand, "look a\r")
	d.says("look a\r\n  a1\r\n")
	d.Close(event.EndLost, d.sense.State())
	d.take()
	require.Len(t, d.ended, 1)
	assert.Equal(t, event.EndLost, d.ended[0].Over.End)
	assert.Equal(t, "  a1\n", d.ended[0].Answer())
	assert.False(t, d.ended[0].Whole())
}

// shell is a device of its own: it takes what was typed line by line, ahead or not, echoes it, and answers.
type shell struct {
	*talk
	random *rand.Rand
	typed  []string // that it has not taken yet
	took   []string
	gave   []string
}

// cuts writes a text in pieces, with the prompt resting at some of them or not.
func (s *shell) cuts(text string) {
	for written := ""; text != ""; {
		n := 1 + s.random.IntN(len(text))
		s.says(text[:n])
		written += text[:n]
		lies := strings.HasSuffix(written, "\ngw / ") &&
			n < len(text) // a row that rests like a prompt is one, for all that can be known
		if text = text[n:]; !lies && s.random.IntN(3) == 0 {
			s.rest(time.Duration(s.random.IntN(60)) * time.Millisecond)
		}
		if s.random.IntN(6) == 0 {
			s.ahead()
		}
	}
}

var words = []string{"look", "banks", "self", "lines", "favour", "A", "B", "stow", "x", "cards"}

// ahead types a line, or several.
func (s *shell) ahead() {
	for range 1 + s.random.IntN(2) {
		var line []string
		for range 1 + s.random.IntN(4) {
			line = append(line, words[s.random.IntN(len(words))])
		}
		text := strings.Join(line, " ")
		s.types(event.Hand, text+"\r")
		s.typed = append(s.typed, text)
	}
}

// answers takes the next line.
func (s *shell) answers() {
	command := s.typed[0]
	s.typed = s.typed[1:]
	var rows strings.Builder
	for range s.random.IntN(6) {
		switch s.random.IntN(5) {
		case 0:
			rows.WriteString("gw / look at what was typed before\r\n") // a history
		case 1:
			rows.WriteString(command + "\r\n")
		default:
			fmt.Fprintf(&rows, "  %s %d\r\n", words[s.random.IntN(len(words))], s.random.IntN(100))
		}
	}
	s.took, s.gave = append(s.took, command), append(s.gave, strings.ReplaceAll(rows.String(), "\r\n", "\n"))
	noise := ""
	if s.random.IntN(4) == 0 {
		noise = "*log port up\r\n"
	}
	s.cuts(command + "\r\n" + noise + rows.String() + "gw / ")
}

var seeds = flag.Uint64("exchange.seeds", 100, "how many sessions TestNobodyGetsAnothersAnswer draws")

// TestNobodyGetsAnothersAnswer has lines typed at any time, ahead too, and answers that look like prompts and commands.
func TestNobodyGetsAnothersAnswer(t *testing.T) {
	wrong, all, doubts := 0, 0, 0
	for seed := range *seeds {
		s := &shell{talk: newTalk(false), random: rand.New(rand.NewPCG(seed, 26))}
		s.prompt("gw / ")
		for range 6 {
			s.ahead()
			for len(s.typed) > 0 && len(s.took) < 40 {
				s.answers()
			}
			s.rest(50 * time.Millisecond)
		}
		s.rest(3 * time.Second)
		given := map[string]bool{}
		for i, command := range s.took {
			given[command+"\x00"+s.gave[i]] = true
		}
		for _, x := range s.ended {
			if x.Over.Doubt || x.Seen == event.SeenSecret {
				doubts++
				continue
			}
			if all++; !given[x.Text+"\x00"+x.Answer()] {
				if wrong++; wrong < 5 {
					t.Logf("seed %d: %q got %q", seed, x.Text, x.Answer())
				}
			}
		}
		if len(s.typed) == 0 {
			assert.Len(t, s.ended, len(s.took), "seed %d", seed)
		}
	}
	t.Logf("%d of %d wrong, %d in doubt", wrong, all, doubts)
	assert.LessOrEqual(t, wrong*1000, all)
}
