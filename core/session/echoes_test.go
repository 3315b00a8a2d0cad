package session

import (
	"context"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook/engine"
)

// oddly is a device that shows what is typed in a way of its own: wrapped, spoilt, doubled, coloured, late, with log
// lines in between, or printed back once more.
type oddly struct {
	*fakeLine
	random *rand.Rand
	wrap   int
	by     string
	colour string
	double bool
	spoil  int
	log    int
	late   time.Duration
	repeat bool

	mu     sync.Mutex
	next   time.Time // when what was said last arrives
	column int
	typed  []byte
}

func newOddly(random *rand.Rand) *oddly {
	pick := func(n int) bool { return random.IntN(n) == 0 }
	o := &oddly{
		fakeLine: newFakeLine(),
		random:   random,
		by:       []string{"\r\n", " \r", "\x1b[K\r\n", "\r\n  "}[random.IntN(4)],
		spoil:    -1,
		log:      -1,
	}
	if pick(2) {
		o.wrap = 9 + random.IntN(40)
	}
	if pick(3) {
		o.colour = []string{"\x1b[1m", "\x1b[38;5;12m", "\x1b]0;gw\a"}[random.IntN(3)]
	}
	o.double, o.repeat = pick(8), pick(2)
	if pick(2) {
		o.spoil = random.IntN(60)
	}
	if pick(3) {
		o.log = 10 + random.IntN(20)
	}
	if pick(3) {
		o.late = time.Duration(random.IntN(900)) * time.Millisecond
	}
	return o
}

func (o *oddly) Write(ctx context.Context, p []byte) error {
	_ = o.fakeLine.Write(ctx, p)
	o.mu.Lock()
	defer o.mu.Unlock()
	var out strings.Builder
	for _, b := range p {
		switch {
		case b == '\r':
			out.WriteString("\r\n")
			if line := string(o.typed); strings.HasPrefix(line, "user") && o.repeat {
				out.WriteString("bad word " + line + "\r\n")
			} else if line != "" {
				out.WriteString("set\r\n")
			}
			out.WriteString("> ")
			o.typed, o.column = nil, 2
		case b == 0x15:
			out.WriteString(strings.Repeat("\b \b", len(o.typed)))
			o.typed, o.column = nil, 2
		default:
			o.typed = append(o.typed, b)
			shown := string([]byte{b})
			if len(o.typed) == o.spoil && o.random.IntN(2) == 0 {
				shown = []string{"~", "", shown + "~"}[o.random.IntN(3)]
			}
			if o.double {
				shown += shown
			}
			if b < utf8.RuneSelf {
				out.WriteString(o.colour)
			}
			out.WriteString(shown)
			if o.column++; o.wrap > 0 && o.column%o.wrap == 0 {
				out.WriteString(o.by)
			}
			if len(o.typed) == o.log {
				out.WriteString("\r\n*12:00 link up\r\n")
			}
		}
	}
	said := out.String()
	if o.late == 0 {
		o.says(said)
	} else {
		at := time.Now().Add(o.late)
		if !at.After(o.next) {
			at = o.next.Add(time.Microsecond)
		}
		o.next = at
		time.AfterFunc(time.Until(at), func() { o.says(said) })
	}
	return nil
}

// TestNoDeviceHasASecretRecorded has a runbook give a secret to devices of every kind, and a hand type one at a prompt
// for it: whatever becomes of the run, five letters of it in a row are in nothing that is kept.
func TestNoDeviceHasASecretRecorded(t *testing.T) {
	const book = `
runbook: r
inputs: [{input: word, kind: secret}]
phases: [{phase: one, steps: [{step: Set it, act: {action: give, with: {word: '${word}'}}}]}]
`
	letters := []rune("abcdehilmnorstu0123456789-_.:/#$%&*+=!?@ \"'\\äïøéñ港")
	for seed := range uint64(400) {
		random := rand.New(rand.NewPCG(seed, 4))
		word := ""
		for length := 4 + random.IntN(40); utf8.RuneCountInString(word) < length; {
			word = strings.TrimLeft(word+string(letters[random.IntN(len(letters))]), " ")
			if utf8.RuneCountInString(word) == length {
				word = strings.TrimRight(word, " ")
			}
		}
		synctest.Test(t, func(t *testing.T) {
			far := newOddly(rand.New(rand.NewPCG(seed, 99)))
			opener := line.NewOpener(clock.Real())
			opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return far, nil })
			d, err := dialect.Parse("talked.yaml", []byte(nameless))
			require.NoError(t, err)
			s, err := Open(t.Context(), Options{
				Target:  far.Target(),
				Dialect: d,
				Opener:  opener,
				Approve: func(event.Ask) string { return engine.StopHere },
			})
			require.NoError(t, err)
			k := &talk{T: t, Session: s, feed: s.Subscribe(), ended: make(chan engine.Result, 1)}
			s.Begin()
			far.says("\r\n> ")
			time.Sleep(time.Second)
			k.beginWith(book, map[string]string{"word": word})
			time.Sleep(5 * time.Minute)
			k.over()
			far.says("\r\nword: ")
			time.Sleep(time.Second)
			typed := []rune(word)
			random.Shuffle(len(typed), func(i, j int) { typed[i], typed[j] = typed[j], typed[i] })
			byHand := strings.TrimSpace(string(typed))
			for _, r := range byHand + "\r" {
				s.Press([]byte(string(r)))
				time.Sleep(time.Duration(random.IntN(100)) * time.Millisecond)
			}
			time.Sleep(time.Minute)
			kept := k.recorded()
			for _, secret := range []string{word, byHand} {
				runes := []rune(secret)
				for n := 0; n+5 <= len(runes); n++ {
					if piece := string(runes[n : n+5]); strings.TrimSpace(piece) == piece {
						assert.NotContains(t, kept, piece, "seed %d, secret %q", seed, secret)
					}
				}
			}
			s.Close("the test ends")
		})
		if t.Failed() {
			return
		}
	}
}
