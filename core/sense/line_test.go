package sense

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lines is a device with noise, a pager, and a prompt with a name in it.
func lines() Config {
	return Config{
		Modes: []Mode{
			{Name: "booting", Text: regexp.MustCompile(`^peg starts`)},
			{Name: "user", Prompt: regexp.MustCompile(`^[\w-]+ / $`)},
		},
		Dialogs:    []Dialog{{Name: "sure", Ask: regexp.MustCompile(`\(y/n\) $`)}},
		Noise:      []*regexp.Regexp{regexp.MustCompile(`^\*log: `)},
		Pager:      regexp.MustCompile(`  more\? *$`),
		AsksSecret: func(line string) bool { return strings.HasSuffix(line, "word: ") || line == "the new word" },
	}
}

func atPrompt(s *stream) { s.hear("gw-1 / "); s.wait(Settle) }

func TestALogLineBehindThePromptDoesNotHideIt(t *testing.T) {
	s := newStream(lines())
	atPrompt(s)
	s.hear("\r\n*log: link up\r\n")
	assert.False(t, s.wait(Settle).AtPrompt)
	v := s.wait(pushedAfter)
	assert.True(t, v.AtPrompt)
	assert.True(t, v.Pushed)
	assert.Equal(t, "user", v.Mode)
	s.hear("gw-1 / ")
	assert.False(t, s.wait(Settle).Pushed)
}

// TestALogLineOnThePromptsOwnLineDoesNotHideIt has it come before the prompt was seen to be one.
func TestALogLineOnThePromptsOwnLineDoesNotHideIt(t *testing.T) {
	for _, typed := range []string{"", "look\r"} {
		s := newStream(lines())
		atPrompt(s)
		if typed != "" {
			s.send(typed)
			s.hear("look\r\none\r\ntwo\r\ngw-1 / *log: link up\r\n")
		} else {
			s.send("\r")
			s.hear("\r\ngw-1 / *log: link up\r\n")
		}
		assert.False(t, s.wait(Settle).AtPrompt)
		v := s.wait(pushedAfter)
		assert.True(t, v.AtPrompt)
		assert.Equal(t, "gw-1 / ", v.Prompt)
		if typed != "" {
			assert.Equal(t, "one\ntwo\n", v.Output(), "it is no part of the answer")
		}
	}
	s := newStream(lines())
	atPrompt(s)
	s.hear("*lag: what is typed\r\n")
	assert.False(t, s.wait(time.Minute).AtPrompt, "another text behind it is none")
}

func TestABurstOfNoiseAtThePromptIsReported(t *testing.T) {
	for _, line := range []string{"\r\xa2\x87\xa7\xa2\xae\n\x1b[1;36mgw-1 / \x1b[0m", "\xa8\xd2\xdf\xf4\x83gw-1 / ", "gw-1 / \xa8\xd2\xdf", "\xc7\xb9\xce\xb8\xa0\xcd\x86\xe7\xac\xec\x1b[1;36mgw-1 / \x1b[0m"} {
		s := newStream(lines())
		atPrompt(s)
		s.send("\r")
		s.wait(time.Minute) // it was silent for long
		s.hear("\r\n" + line)
		v := s.wait(Settle)
		assert.True(t, v.AtPrompt, "%q", line)
		assert.True(t, v.Pushed, "it is to be asked for again")
	}
	s := newStream(lines())
	atPrompt(s)
	s.send("look\r")
	s.hear("look\r\n  Größe\r\n  gw-1 / ")
	assert.False(t, s.wait(Settle).AtPrompt, "an indented line of an answer is none")
}

// TestAQuestionKeepsItsSigns has it begin and end as no ASCII does.
func TestAQuestionKeepsItsSigns(t *testing.T) {
	for _, question := range []string{"¿seguro? (y/n) ", "→ really? ", "ø: "} {
		s := newStream(lines())
		atPrompt(s)
		s.send("stow\r")
		s.hear("stow\r\n" + question)
		assert.Equal(t, question, s.wait(Settle).Asked)
	}
}

// TestALogLineRightBehindThePrompt comes before the prompt has settled.
func TestALogLineRightBehindThePrompt(t *testing.T) {
	s := newStream(lines())
	atPrompt(s)
	s.send("stow\r")
	s.hear("stow\r\n  done\r\ngw-1 / ")
	s.hear("\r\n*log: link up\r\n*log: link down\r\n")
	v := s.wait(pushedAfter)
	assert.True(t, v.AtPrompt)
	assert.Equal(t, "  done\n", v.Output())
}

// TestUnknownLinesBehindThePrompt are not known as noise: that the prompt stands above them is reported after a
// longer quiet, and not that the device waits there.
func TestUnknownLinesBehindThePrompt(t *testing.T) {
	s := newStream(lines())
	atPrompt(s)
	s.send("stow\r")
	s.hear("stow\r\n  done\r\ngw-1 / \r\nsomething happened\r\n")
	assert.False(t, s.wait(time.Second).Pushed)
	v := s.wait(lostAfter)
	assert.True(t, v.Pushed)
	assert.False(t, v.AtPrompt)
}

func TestAPromptBeforeTheCommandIsNoAnswerToIt(t *testing.T) {
	s := newStream(lines())
	atPrompt(s)
	s.hear("\r\n*log: x\r\n")
	s.wait(time.Second)
	s.send("haul\r")
	v := s.wait(5 * time.Second)
	assert.False(t, v.AtPrompt, "the pushed one is above what was sent")
	assert.False(t, v.Pushed)
}

func TestNoiseIsTakenOutOfTheAnswer(t *testing.T) {
	s := newStream(lines())
	atPrompt(s)
	s.send("look\r")
	s.Feed(s.now, []byte("look\r\n  a\r\n"))
	fed := s.Feed(s.now, []byte("*log: one\r\n  b\r\n*log: two\r\n  c"))
	assert.Equal(t, []Noise{{"*log: one", 11}, {"*log: two", 27}}, fed.Noise)
	s.hear("\r\ngw-1 / ")
	assert.Equal(t, "  a\n  b\n  c\n", s.wait(Settle).Output())
}

func TestAnAnswerOverAPagerIsWhole(t *testing.T) {
	for name, erase := range map[string]string{"erased": "\r          \r", "erased by EL": "\r\x1b[K", "left": "\r\n", "backspaces": strings.Repeat("\b \b", 8)} {
		s := newStream(lines())
		atPrompt(s)
		s.send("look\r")
		s.hear("look\r\n")
		want := ""
		for n := range 90 {
			s.hear(fmt.Sprintf("  line %d\r\n", n))
			want += fmt.Sprintf("  line %d\n", n)
			if n%20 == 19 {
				s.hear("  more? ")
				v := s.wait(Settle)
				assert.True(t, v.Pager, name)
				assert.False(t, v.AtPrompt)
				s.send(" ")
				s.hear(erase)
			}
		}
		s.hear("gw-1 / ")
		assert.Equal(t, want, s.wait(Settle).Output(), name)
	}
}

func TestAPagersKeyThatWasLostIsAskedForAgain(t *testing.T) {
	s := newStream(lines())
	atPrompt(s)
	s.send("look\r")
	s.hear("look\r\n  line\r\n  more? ")
	assert.True(t, s.wait(Settle).Pager)
	s.send(" ")
	assert.False(t, s.wait(time.Second).Pager)
	assert.False(t, s.Next().After(s.now.Add(pagerAgain)))
	assert.True(t, s.wait(pagerAgain).Pager)
	s.send(" ")
	s.hear("\r\x1b[K  last\r\ngw-1 / ")
	v := s.wait(Settle)
	assert.True(t, v.AtPrompt)
	assert.Equal(t, "  line\n  last\n", v.Output())
	assert.False(t, s.wait(pagerAgain).Pager)
}

func TestAnAnswerOverQuestionsIsWhole(t *testing.T) {
	s := newStream(lines())
	atPrompt(s)
	s.send("wipe\r")
	s.hear("wipe\r\n  looks\r\n  sure? (y/n) ")
	assert.Equal(t, "sure", s.wait(Settle).Dialog)
	s.Typed(s.now, []byte("y"), []byte("y"))
	s.hear("y")
	s.Entered(s.now, Enter{})
	s.hear("\r\n  wiped\r\ngw-1 / ")
	assert.Equal(t, "  looks\n  sure? (y/n) y\n  wiped\n", s.wait(Settle).Output())
}

func TestALongAnswerIsWholeAndBounded(t *testing.T) {
	s := newStream(lines())
	atPrompt(s)
	s.send("look\r")
	s.hear("look\r\n")
	var want strings.Builder
	for n := range 5000 {
		fmt.Fprintf(&want,
			"  line %d of a long list of things that are told one by one, each on a line that is wider than the screen is\n",
			n)
	}
	s.hear(strings.ReplaceAll(want.String(), "\n", "\r\n"))
	s.hear("gw-1 / ")
	assert.Equal(t, want.String(), s.wait(Settle).Output(), "rows that wrapped are one line again")
	for range 100 {
		s.hear(strings.Repeat("0123456789abcdef\r\n", 5000))
	}
	s.hear("gw-1 / ")
	v := s.wait(Settle)
	assert.Less(t, len(v.Output()), 4<<20)
	assert.Positive(t, v.answer.Lost())
}

func TestAProgressLineIsWhatItWasInTheEnd(t *testing.T) {
	s := newStream(lines())
	atPrompt(s)
	s.send("haul\r")
	s.hear("haul\r\n")
	for n := range 101 {
		s.hear(fmt.Sprintf("\r  fetched %d %%", n))
	}
	s.hear("\r\n\x1b[2A\x1b[2B  done\x1b[2D\x1b[1P\x1b[1@o\r\ngw-1 / ")
	assert.Equal(t, "  fetched 100 %\n  doone\n", strings.ReplaceAll(s.wait(Settle).Output(), "dooe", "doone"))
}

// TestWhatIsTyped shows how devices draw a line that is typed, recalled or edited.
func TestWhatIsTyped(t *testing.T) {
	long := "haul tftp 192.0.2.10 a-very-long-image-name-with-many-characters-1.2.3.4-and-more.cgo"
	for name, c := range map[string]struct{ shows, typed string }{
		"plain":                          {"gw-1 / wipe bank B", "wipe bank B"},
		"coloured prompt":                {"\x1b[?2004h\x1b[32mgw-1 /\x1b[0m wipe bank B", "wipe bank B"},
		"recalled over by backspaces":    {"gw-1 / look\b\b\b\b\x1b[Kwipe bank B", "wipe bank B"},
		"recalled with the prompt":       {"gw-1 / look\rgw-1 / wipe bank B\x1b[K", "wipe bank B"},
		"recalled by cursor movement":    {"gw-1 / look\x1b[4D\x1b[Kwipe bank B", "wipe bank B"},
		"recalled, erased below":         {"gw-1 / look\x1b[4D\x1b[Jwipe bank B", "wipe bank B"},
		"recalled by column":             {"gw-1 / look\x1b[8G\x1b[Kwipe bank B", "wipe bank B"},
		"characters deleted":             {"gw-1 / look\x1b[4D\x1b[4Pwipe bank B", "wipe bank B"},
		"characters inserted":            {"gw-1 / wbank B\x1b[6D\x1b[4hipe \x1b[4l", "wipe bank B"},
		"cursor left in the middle":      {"gw-1 / wipe bank B\x1b[6D", "wipe bank B"},
		"another name":                   {"other-gw / wipe bank B", "wipe bank B"},
		"wrapped by the terminal":        {"gw-1 / " + long, long},
		"wrapped with a line feed":       {"gw-1 / " + long[:73] + "\r\n" + long[73:], long},
		"wrapped as shells do":           {"gw-1 / " + long[:73] + " \r" + long[73:], long},
		"a log line in between, redrawn": {"gw-1 / wipe ba\r\n*log: x\r\ngw-1 / wipe bank B", "wipe bank B"},
		"a log line in between, left":    {"gw-1 / wipe ba\r\n*log: x\r\nnk B", "wipe bank B"},
		"a status line cleared":          {"\x1b[s\x1b[24;1Hstatus\x1b[ugw-1 / wipe bank B", "wipe bank B"},
	} {
		s := newStream(lines())
		s.hear("\r\n")
		v := s.hear(c.shows)
		typed, known := v.Typed()
		assert.True(t, known, name)
		assert.Equal(t, c.typed, strings.TrimRight(typed, " "), name)
		assert.True(t, v.Shows(c.typed, "gw-1 / "), name)
		assert.False(t, v.Shows("wipe bank", "gw-1 / "), name)
	}
}

func TestTextInTheOutputOfACommandProvesNothing(t *testing.T) {
	s := newStream(lines())
	atPrompt(s)
	s.send("tell log\r")
	s.hear("tell log\r\npeg starts 3 days ago\r\n")
	assert.Equal(t, "user", s.wait(100*time.Millisecond).Mode)
	s.hear("gw-1 / ")
	v := s.wait(Settle)
	assert.Equal(t, []string{"user"}, v.Passed)
	assert.Equal(t, "user", s.wait(time.Minute).Mode)

	s.hear("\r\npeg starts\r\n")
	assert.Equal(t, "booting", s.State().Mode, "what it says by itself does")

	atPrompt(s)
	s.send("again\r")
	s.hear("again\r\npeg starts\r\n")
	assert.Equal(t, "user", s.State().Mode)
	assert.Equal(t, "booting", s.wait(textAfter).Mode, "and so does what it falls quiet behind")

	atPrompt(s)
	s.Entered(s.now, Enter{Command: true, Leads: true})
	s.hear("\r\npeg starts\r\n")
	assert.Equal(t, "booting", s.State().Mode, "and what a command is known to lead to")
}

func TestAQuestionForASecretIsRememberedUntilItsEnter(t *testing.T) {
	s := newStream(lines())
	s.hear("name: harbour\r\nword: ")
	assert.True(t, s.State().Secret)
	s.hear("\r\n*log: link up\r\nsomething else\r\n")
	assert.True(t, s.State().Secret)
	s.send("lamp")
	s.hear("****")
	assert.True(t, s.State().Secret)
	s.Entered(s.now, Enter{})
	assert.False(t, s.State().Secret)
	s.hear("\r\n")
	assert.False(t, s.State().Secret, "its own line ended after it was answered")

	s.hear("word: ") // and once more, on a device that shows nothing of what is typed
	s.send("lamp")
	assert.True(t, s.State().Secret)
	s.Entered(s.now, Enter{})
	s.hear("\r\n")
	assert.False(t, s.State().Secret, "its own line ended after it was answered")
	s.hear("welcome\r\n$ ")
	assert.False(t, s.State().Secret)

	s.send("\r")
	s.hear("\r\nthe new word\r\n")
	assert.True(t, s.State().Secret, "a question that ends like a sentence")
	s.send("lamp")
	assert.True(t, s.State().Secret)
	s.Entered(s.now, Enter{})
	s.hear("\r\n")
	assert.False(t, s.State().Secret)

	s.hear("\r\nword: \r\n*log: in one piece\r\n")
	assert.True(t, s.State().Secret)
	s.hear("\r\ntimed out\r\ngw-1 / ")
	assert.False(t, s.wait(Settle).Secret, "a prompt ends the question")
}

func TestAFloodIsReadInTimeThatGrowsWithItOnly(t *testing.T) {
	piece := []byte(strings.Repeat("a line of a log as consoles write it, again and again, without an end\r\n", 500))
	took := func(n int) time.Duration {
		s := newStream(lines())
		begun := time.Now()
		for range n {
			s.Feed(s.now, piece)
		}
		return time.Since(begun)
	}
	few, many := took(100), took(1000)
	t.Logf("%d bytes in %s, ten times as many in %s", 100*len(piece), few, many)
	assert.Less(t, many, 40*few, "ten times as much takes about ten times as long")
}

// BenchmarkFeed reads a flood and prints MB/s.
func BenchmarkFeed(b *testing.B) {
	piece := []byte(strings.Repeat("a line of a log as consoles write it, again and again, without an end\r\n", 500))
	s := newStream(lines())
	b.SetBytes(int64(len(piece)))
	for b.Loop() {
		s.Feed(s.now, piece)
	}
}

// TestAPromptThatWasOnItsWayIsNoAnswer comes on the line that an Enter was sent on.
func TestAPromptThatWasOnItsWayIsNoAnswer(t *testing.T) {
	s := newStream(lines())
	s.send("\r")
	s.hear("gw-1 / ")
	assert.False(t, s.wait(time.Second).AtPrompt)
	s.hear("\r\ngw-1 / ")
	assert.True(t, s.wait(Settle).AtPrompt)
	s.send("\r")
	s.hear("\rgw-1 / ")
	assert.True(t, s.wait(Settle).AtPrompt, "drawn anew on its line")
}

// TestAnAnswerMayBeginBehindItsEcho has a device that ends no line of its own behind what it echoes, with its echo at
// once, late, wrapped and in pieces, and with log lines and the pager in the answer: its first row is never lost.
func TestAnAnswerMayBeginBehindItsEcho(t *testing.T) {
	rows := "  1 up\r\n  2 up\r\n  40 up\r\n"
	for name, talk := range map[string]func(s *stream){
		"the echo at once": func(s *stream) { s.send("look ports"); s.hear("look ports"); s.send("\r"); s.hear(rows) },
		"late":             func(s *stream) { s.send("look ports\r"); s.hear("look ports" + rows) },
		"half of it late":  func(s *stream) { s.send("look ports"); s.hear("look p"); s.send("\r"); s.hear("orts"); s.hear(rows) },
		"byte by byte": func(s *stream) {
			s.send("look ports\r")
			for _, b := range "look ports" + rows {
				s.hear(string(b))
			}
		},
		"typed again": func(s *stream) {
			s.send("lookxports")
			s.hear("lookxports")
			s.send("\x15")
			s.hear(strings.Repeat("\b \b", 10))
			s.send("look ports\r")
			s.hear("look ports" + rows)
		},
		"a long one, wrapped": func(s *stream) {
			s.send("look " + strings.Repeat("port ", 20) + "\r")
			s.hear("look " + strings.Repeat("port ", 20) + rows)
		},
		"many rows before it": func(s *stream) {
			s.hear(strings.Repeat("x\r\n", 30) + "sill: ")
			s.send("look\r")
			s.hear("look" + rows)
		},
		"it ends its line":     func(s *stream) { s.send("look ports\r"); s.hear("look ports\r\n" + rows) },
		"it ends it with less": func(s *stream) { s.send("look ports\r"); s.hear("look ports\n\r" + rows) },
	} {
		for _, scrolls := range []int{0, 60} {
			s := newStream(config())
			s.hear("sill: ")
			s.wait(Settle)
			talk(s)
			for n := range scrolls {
				s.hear(fmt.Sprintf("  %d more\r\n", n))
			}
			s.hear("sill: ")
			v := s.wait(Settle)
			require.True(t, v.AtPrompt, name)
			lines := strings.Split(strings.TrimSpace(v.Output()), "\n")
			require.Len(t, lines, 3+scrolls, "%s: %q", name, v.Output())
			for i, want := range []string{"1 up", "2 up", "40 up"} {
				assert.Equal(t, want, strings.TrimSpace(lines[i]), name)
			}
		}
	}
}
