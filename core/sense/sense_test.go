package sense

import (
	"bytes"
	"context"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var begin = time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)

func config() Config {
	return Config{
		Modes: []Mode{
			{Name: "monitor", Prompt: regexp.MustCompile(`^sill: $`)},
			{Name: "booting", Text: regexp.MustCompile(`^unpacking `)},
			{Name: "login", Prompt: regexp.MustCompile(` login: $`)},
		},
		Dialogs: []Dialog{{Name: "first start", Ask: regexp.MustCompile(`\(y/n\) $`)}},
	}
}

// stream feeds text at a time and lets quiet pass.
type stream struct {
	*Sense
	now   time.Time
	typed []byte
}

func newStream(c Config) *stream { return &stream{Sense: New(c, begin), now: begin} }

func (s *stream) hear(text string) State {
	s.now = s.now.Add(time.Millisecond)
	s.Feed(s.now, []byte(text))
	return s.State()
}

// send types a text as a runbook does; its Enter begins a command.
func (s *stream) send(text string) {
	line, enter := strings.CutSuffix(text, "\r")
	if s.typed = append(s.typed, line...); line == "\x15" {
		s.typed = nil
	}
	s.Typed(s.now, []byte(line), s.typed)
	if enter {
		s.Entered(s.now, Enter{Command: true, Typed: append([]byte{}, s.typed...)})
		s.typed = nil
	}
}

func (s *stream) wait(d time.Duration) State {
	s.now = s.now.Add(d)
	s.Tick(s.now)
	return s.State()
}

func TestPromptCountsOnceTheLineIsQuiet(t *testing.T) {
	s := newStream(config())
	s.hear("sill 1.3\r\n")
	assert.False(t, s.hear("sill: ").AtPrompt, "more may follow")
	v := s.wait(Settle)
	assert.True(t, v.AtPrompt)
	assert.Equal(t, "monitor", v.Mode)
	assert.Equal(t, "sill: ", v.Proof)
	assert.LessOrEqual(t, Settle, 30*time.Millisecond)
}

func TestAPromptLikeLineInsideOutputIsNone(t *testing.T) {
	s := newStream(config())
	s.hear("the prompt is\r\nsill: ")
	s.hear("and so on\r\n")
	assert.False(t, s.wait(time.Second).AtPrompt)
	s.hear("sill: \r\n")
	assert.False(t, s.wait(time.Second).AtPrompt)
}

func TestOldPromptIsNoAnswer(t *testing.T) {
	s := newStream(config())
	s.hear("sill: ")
	require.True(t, s.wait(Settle).AtPrompt)
	s.send("store\r")
	assert.False(t, s.State().AtPrompt)
	s.hear("st")
	s.hear("ore")
	assert.False(t, s.wait(time.Second).AtPrompt, "the echo is no answer")
	s.hear("\r\n  (empty)\r\nsill: ")
	v := s.wait(Settle)
	assert.True(t, v.AtPrompt)
	assert.Equal(t, "  (empty)\n", v.Output(), "without the echo and the prompt")
}

func TestOutputWithoutEcho(t *testing.T) {
	s := newStream(config())
	s.send("secret\r")
	s.hear("\r\nwelcome\r\nsill: ")
	v := s.wait(Settle)
	assert.True(t, v.AtPrompt)
	assert.Contains(t, v.Output(), "welcome")
}

func TestQuestionsAndTexts(t *testing.T) {
	s := newStream(config())
	assert.Equal(t, "booting", s.hear("unpacking tern").Mode, "an unfinished line proves it too")
	count := s.State().Count
	s.hear("-4.2.1 ....")
	assert.Equal(t, count, s.State().Count, "one line proves it once")
	s.hear("\r\nTake it over? (y/n) ")
	v := s.wait(Settle)
	assert.Equal(t, "first start", v.Dialog)
	assert.Equal(t, "Take it over? (y/n) ", v.Asks)
}

// TestAModeThatIsLeftAtOnceWasPassed has a device that says what it does and goes to another speed.
func TestAModeThatIsLeftAtOnceWasPassed(t *testing.T) {
	s := newStream(config())
	s.hear("sill: ")
	s.wait(Settle)
	s.Entered(s.now, Enter{Command: true, Leads: true})
	assert.Empty(t, s.State().Passed)
	v := s.hear("start\r\nunpacking tern\r\n" + strings.Repeat("\x00", garbleWindow))
	assert.Equal(t, Garbled, v.Mode)
	assert.Equal(t, []string{"booting", Garbled}, v.Passed)
	s.send("\r")
	assert.Equal(t, []string{"booting", Garbled}, v.Passed, "what was given out stays")
	assert.Empty(t, s.State().Passed)
}

func TestEscapeSequencesAndOverwriting(t *testing.T) {
	s := newStream(config())
	s.hear("\x1b[2K\x1b[1;32mprogress 10 %\rprogress 20 %\r\x1b[K\x1b]0;title\x07")
	s.hear("sill\x1b[0m: ")
	assert.True(t, s.wait(Settle).AtPrompt)
}

func TestAReceiverAsksMoreThanOnceWithTimeBetween(t *testing.T) {
	s := newStream(config())
	s.hear("waiting for the file\r\nC")
	assert.Zero(t, s.State().Request, "a line may begin with C")
	v := s.wait(requestAfter)
	assert.EqualValues(t, 'C', v.Request)
	assert.Zero(t, v.Receiver, "once may be a letter")
	s.wait(time.Second)
	v = s.hear("C")
	assert.EqualValues(t, 'C', v.Receiver)
	assert.Equal(t, Receiving, v.Mode)
	assert.Zero(t, s.hear("\r\nsill: ").Receiver)

	s = newStream(config())
	s.hear("ready\r\n\x15")
	s.wait(time.Second)
	assert.EqualValues(t, nak, s.hear("\x15").Receiver)
}

// TestLettersInATextAskForNothing has names and words that begin like a request.
func TestLettersInATextAskForNothing(t *testing.T) {
	for _, pieces := range [][]string{
		{"CC", "ITT link up\r\n"},
		{"GG", "-core-1 ~ "},
		{"tell\r\nCCITT link up\r\n", "CC-core-1 is up\r\n"},
		{"C", "RC error\r\n"},
		{"\x15\x15"},
		{"sill: C", "C"},
		{"C", "G", "C", "G"},
	} {
		s := newStream(config())
		for _, piece := range pieces {
			s.hear(piece)
			s.wait(100 * time.Millisecond)
		}
		assert.Zero(t, s.State().Receiver, "%q", pieces)
		assert.NotEqual(t, Receiving, s.State().Mode)
	}
	s := newStream(config()) // typed slowly, and echoed by a device that has no prompt
	for range 3 {
		s.send("C")
		s.hear("C")
		assert.Zero(t, s.wait(time.Second).Receiver)
	}
}

func TestSilenceAndGarble(t *testing.T) {
	s := newStream(config())
	assert.Equal(t, Silent, s.wait(silentAfter).Mode)
	v := s.hear("\x80\xf8\x00\xe6\x80\x00\xfe\x9e\x00\x80")
	assert.Equal(t, Garbled, v.Mode)
	assert.Greater(t, v.Garble, 0.8)
	s.hear(strings.Repeat("clean text again ", 10))
	assert.NotEqual(t, Garbled, s.State().Mode)
	assert.Zero(t, GarbleScore([]byte("Ørsholm kai — 4 °C\r\n\tok")), "other alphabets are no garble")
}

func TestTypingAfterALongWaitIsNoSilence(t *testing.T) {
	s := newStream(config())
	s.hear("sill: ")
	s.wait(time.Hour)
	s.send("store drop x\r")
	assert.NotEqual(t, Silent, s.wait(time.Second).Mode)
	assert.Equal(t, Silent, s.wait(silentAfter).Mode)
}

func TestNextAsksForTicksOnlyWhenTimeMatters(t *testing.T) {
	s := newStream(config())
	s.hear("sill: ")
	assert.Equal(t, s.now.Add(Settle), s.Next())
	s.wait(Settle)
	assert.True(t, s.Next().IsZero(), "at a prompt nothing happens by itself")
}

func FuzzFeed(f *testing.F) {
	f.Add([]byte("sill: \x1b[31mC\x15\x15\r\n(y/n) "), uint8(3))
	f.Fuzz(func(t *testing.T, data []byte, step uint8) {
		s := newStream(config())
		for rest := data; len(rest) > 0; {
			n := min(len(rest), int(step%7)+1)
			s.hear(string(rest[:n]))
			s.wait(time.Duration(step) * time.Millisecond)
			rest = rest[n:]
		}
		v := s.State()
		assert.Equal(t, int64(len(data)), v.Bytes)
		assert.False(t, v.AtPrompt && v.Dialog != "")
	})
}

// room is a device that speaks one speed; at others it is heard as noise.
type room struct {
	speed, tuned int
	chatters     bool
	pressed      int
}

func (r *room) Tune(_ context.Context, baud int) error { r.tuned = baud; return nil }

func (r *room) Press(context.Context, string) error { r.pressed++; return nil }

func (r *room) Listen(_ context.Context, _, _ time.Duration) ([]byte, error) {
	if r.pressed == 0 && !r.chatters {
		return nil, nil
	}
	if r.tuned == r.speed {
		return []byte("\r\nno image here\r\nsill: "), nil
	}
	noise := make([]byte, 20)
	for i := range noise {
		noise[i] = byte(rand.N(256)) | 0x80
	}
	return noise, nil
}

func TestHuntFindsTheSpeed(t *testing.T) {
	for _, speed := range UsualSpeeds {
		r := &room{speed: speed}
		found, err := Hunt{Prompts: []*regexp.Regexp{regexp.MustCompile(`^sill: $`)}}.Run(t.Context(), r)
		require.NoError(t, err)
		assert.Equal(t, speed, found.Best())
		assert.Equal(t, speed, r.tuned, "the line is left there")
		assert.Greater(t, found.Sure, 0.9)

		unknown, err := Hunt{}.Run(t.Context(), &room{speed: speed})
		require.NoError(t, err)
		assert.Equal(t, speed, unknown.Best(), "without a dialect too")
	}
}

func TestPassiveHuntPressesNothing(t *testing.T) {
	r := &room{speed: 57600, chatters: true}
	found, err := Hunt{Passive: true}.Run(t.Context(), r)
	require.NoError(t, err)
	assert.Equal(t, 57600, found.Best())
	assert.Zero(t, r.pressed)
}

func TestHuntSaysWhenNothingFits(t *testing.T) {
	found, err := Hunt{}.Run(t.Context(), &room{speed: 31250})
	require.NoError(t, err)
	assert.Zero(t, found.Best())
}

// TestHuntTriesLikelySpeedsFirst counts what is tried before the device's own speed.
func TestHuntTriesLikelySpeedsFirst(t *testing.T) {
	var tried []int
	found, err := Hunt{
		First: []int{0, 38400, 1200}, Prompts: []*regexp.Regexp{regexp.MustCompile(`^sill: $`)},
		Tried: func(c Candidate) { tried = append(tried, c.Speed) },
	}.Run(t.Context(), &room{speed: 57600})
	require.NoError(t, err)
	assert.Equal(t, 57600, found.Best())
	assert.Equal(t, []int{38400, 1200, 9600, 115200, 57600}, tried)
}

// says is a line on which the same comes at every speed.
type says struct {
	room
	text string
}

func (s *says) Listen(context.Context, time.Duration, time.Duration) ([]byte, error) {
	return []byte(s.text), nil
}

func TestHuntIsNotSureOfALineWithoutSpeed(t *testing.T) {
	prompt := []*regexp.Regexp{regexp.MustCompile(`^sill: $`)}
	_, err := Hunt{Prompts: prompt, Doubt: true}.Run(t.Context(), &says{text: "\r\nsill: "})
	require.ErrorIs(t, err, ErrNoSpeed)

	unknown, err := Hunt{}.Run(t.Context(), &says{text: "\r\nsill: "})
	require.NoError(t, err)
	assert.Zero(t, unknown.Best(), "no speed stands out")
}

// boots is a line without a speed on which a device boots: each time that somebody listens more text has come, then its
// prompt.
type boots struct {
	says
	listened, quietFrom, promptFrom int
}

func (b *boots) Listen(context.Context, time.Duration, time.Duration) ([]byte, error) {
	switch b.listened++; {
	case b.listened > b.promptFrom && b.promptFrom > 0:
		return []byte("\r\nsill: "), nil
	case b.listened > b.quietFrom:
		return nil, nil
	}
	return []byte("\r\n[ 1.20] store: 16 blocks checked, none is bad\r\n"), nil
}

// TestATextAtOneSpeedProvesNothingOfALineThatMayHaveNone lets a device boot while a hunt listens, on a line that
// carries the same at every speed.
func TestATextAtOneSpeedProvesNothingOfALineThatMayHaveNone(t *testing.T) {
	for quietFrom := range 12 {
		for promptFrom := range 18 {
			line := &boots{quietFrom: quietFrom, promptFrom: promptFrom}
			found, err := Hunt{
				First:   []int{9600},
				Prompts: []*regexp.Regexp{regexp.MustCompile(`^sill: $`)},
				Doubt:   true,
			}.Run(t.Context(), line)
			if err != nil {
				assert.ErrorIs(t, err, ErrNoSpeed)
				continue
			}
			assert.Zero(t, found.Best(), "text in the first %d, a prompt from %d on", quietFrom, promptFrom)
		}
	}
	found, err := Hunt{Doubt: true}.Run(t.Context(), &room{speed: 57600, chatters: true})
	require.NoError(t, err)
	assert.Equal(t, 57600, found.Best(), "where the others are garble it is one")
}

func TestTextProvesTheSpeedUntilGarbleComes(t *testing.T) {
	s := newStream(config())
	s.hear("sill store 16 blocks checked, none bad\r\n")
	assert.True(t, s.State().Legible(s.now))
	assert.False(t, s.State().Legible(s.now.Add(2*cleanFor)), "not for ever")
	s.hear(strings.Repeat("\xff\x80\x01\x9c", 20))
	assert.False(t, s.State().Legible(s.now))
	s.hear("sill store 16 blocks checked, none bad\r\nand the rest of them is as good, all sixteen of sixteen blocks of it are\r\n")
	assert.True(t, s.State().Legible(s.now))
	s.Forget(s.now)
	assert.False(t, s.State().Legible(s.now), "what was heard at another speed")
	s.hear(strings.Repeat(".", 80))
	assert.False(t, s.State().Legible(s.now), "dots are dots at many speeds")
}

func TestHuntIsNotSureOfABusyDevice(t *testing.T) {
	for _, dots := range []string{"....................", "#", "=", "ffffffffffff", "-\b/\b|\b\\\b-\b"} {
		found, err := Hunt{Speeds: []int{9600}}.Run(t.Context(), &says{text: dots})
		require.NoError(t, err)
		assert.Zero(t, found.Best(), "%q", dots)
	}
}

// BenchmarkPrompt measures what the sensing itself adds between a prompt's last byte and its
// recognition, beside the quiet it waits for, and prints the whole as a share of the 30 ms allowed.
func BenchmarkPrompt(b *testing.B) {
	output := bytes.Repeat([]byte("a line of output as consoles write it\r\n"), 200)
	var spent time.Duration
	for b.Loop() {
		s := New(config(), begin)
		s.Feed(begin, output)
		before := time.Now()
		s.Feed(begin, []byte("sill: "))
		s.Tick(begin.Add(Settle))
		spent += time.Since(before)
		if !s.State().AtPrompt {
			b.Fatal("no prompt")
		}
	}
	total := Settle + spent/time.Duration(b.N)
	b.ReportMetric(float64(total.Microseconds())/1000, "ms")
	b.ReportMetric(float64(total)/float64(30*time.Millisecond), "×allowed")
}

// TestWhatStandsThereIsKnownOnceTheTalkIsLearnt waits at a prompt before anybody knows that it is one.
func TestWhatStandsThereIsKnownOnceTheTalkIsLearnt(t *testing.T) {
	now := time.Unix(1000, 0)
	s := New(Config{}, now)
	s.Feed(now, []byte("starting\r\nmare-gw1 name: "))
	s.Tick(now.Add(time.Second))
	require.False(t, s.State().AtPrompt)
	bytes := s.State().Bytes
	s.Learn(Config{Modes: []Mode{{Name: "login", Prompt: regexp.MustCompile(`^\S+ name: $`)}}}, now.Add(2*time.Second))
	s.Tick(s.Next())
	assert.True(t, s.State().AtPrompt)
	assert.Equal(t, "login", s.State().Mode)
	assert.Equal(t, bytes, s.State().Bytes, "nothing has come by that")
}

// TestWhenTheDeviceWasHeardIsNoMatterOfTheLine sets the line again, and learns the talk, at a device that has been
// mute.
func TestWhenTheDeviceWasHeardIsNoMatterOfTheLine(t *testing.T) {
	s := newStream(config())
	assert.True(t, s.State().Heard.IsZero())
	s.wait(time.Minute)
	s.Forget(s.now)
	assert.True(t, s.State().Heard.IsZero(), "it never said anything")
	s.hear("sill: ")
	heard := s.now
	s.wait(4 * time.Minute)
	s.Forget(s.now)
	s.Learn(config(), s.now)
	assert.Equal(t, heard, s.State().Heard)
}
