package event

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"pilotrix/core/clock"
)

// secretRunes are those that secrets are drawn from: letters, blanks, quotes, and such as are more than one byte or one
// rune.
var secretRunes = []rune("abcdehilmnorstu0123456789-_.:/#$%&*+=!?@~^ \"'\\`<>()[]{}|;,äïøéñ港灯e\u0301\u00ad")

// aSecret is one of any kind.
func aSecret(t *rapid.T) string {
	for {
		secret := rapid.StringOfN(rapid.SampledFrom(secretRunes), 4, 60, -1).Draw(t, "secret")
		if strings.TrimSpace(secret) == secret && len(secret) >= 4 {
			return secret
		}
	}
}

// anEcho is a way in which a device shows what is typed.
type anEcho struct {
	wrap    int
	wrapBy  string
	colour  string
	double  bool
	spoil   []int // which letters are spoilt, lost or followed by another one
	how     int
	logAt   int // a log line after that many letters
	logLine string
}

func drawEcho(t *rapid.T) anEcho {
	return anEcho{
		wrap:   rapid.SampledFrom([]int{0, 0, 7, 11, 40, 80}).Draw(t, "wrap"),
		wrapBy: rapid.SampledFrom([]string{"\r\n", " \r", "\x1b[K\r\n", "\r\x1b[B", "\r\n  "}).Draw(t, "by"),
		colour: rapid.SampledFrom([]string{"", "", "\x1b[1m", "\x1b[38;5;12m", "\x1b]0;gw\x07", "\x1b[0m\x1b[K"}).
			Draw(t, "colour"),
		double: rapid.IntRange(0, 5).Draw(t, "double") == 0,
		spoil:  rapid.SliceOfN(rapid.IntRange(0, 90), 0, 2).Draw(t, "spoil"),
		how:    rapid.IntRange(0, 3).Draw(t, "how"),
		logAt:  rapid.SampledFrom([]int{-1, -1, 5, 20, 26}).Draw(t, "log at"),
		logLine: rapid.SampledFrom([]string{"\r\n*12:00 link up\r\n", "\r\n%log: port 3 went away\r\ngw> "}).
			Draw(t, "log"),
	}
}

// of is the echo of a line.
func (e anEcho) of(line string) string {
	var out strings.Builder
	column := 0
	for n, r := range []rune(line) {
		shown := string(r)
		for _, at := range e.spoil {
			if at == n {
				shown = []string{"~", "", shown + "~", "~\b \b" + shown}[e.how]
			}
		}
		if e.double {
			shown += shown
		}
		out.WriteString(e.colour + shown)
		if column++; e.wrap > 0 && column%e.wrap == 0 {
			out.WriteString(e.wrapBy)
		}
		if n == e.logAt {
			out.WriteString(e.logLine)
		}
	}
	return out.String()
}

// inARow is the first stretch of five letters of a secret that a text has; blanks are looked for as they stand.
func inARow(text, secret string) string {
	letters := []rune(secret)
	for n := 0; n+5 <= len(letters); n++ {
		if piece := string(letters[n : n+5]); strings.Contains(text, piece) && strings.TrimSpace(piece) != "" {
			return piece
		}
	}
	return ""
}

// plainText is text as it is drawn: what only moves or colours is gone.
func plainText(text string) string {
	var out strings.Builder
	at := ground
	for _, b := range []byte(text) {
		if at != ground || b == 0x1b {
			at = at.next(b)
			continue
		}
		if b >= 0x20 && b != 0x7f {
			out.WriteByte(b)
		}
	}
	return out.String()
}

// TestNoEchoShowsASecret has devices of every kind show a command with a secret of every kind in it, and messages quote
// what they show: five letters of it in a row are nowhere, not as bytes, nor as it is drawn.
func TestNoEchoShowsASecret(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		secret, echo := aSecret(t), drawEcho(t)
		hub := NewHub(clock.Real())
		feed := hub.Subscribe()
		hub.Protect(secret)
		hub.Strict(true)
		const before, behind = "QUAY READY\r\nQ", "\r\nQ "
		stream := before + echo.of("x> "+secret) + behind
		for rest := stream; rest != ""; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "n")
			hub.Emit(In{Bytes: Text(rest[:n])})
			rest = rest[n:]
		}
		hub.Emit(Out{Who: Runbook, Bytes: Text("x> " + secret + "\r")})
		shown := plainText(echo.of("x> " + secret))
		hub.Emit(Note{Level: Warning, Text: fmt.Sprintf("%q came back as %q", "x> "+secret, shown)})
		hub.Emit(Ask{Text: "“" + shown + "”", Types: []string{secret}})
		hub.Strict(false)
		hub.Emit(In{Bytes: Text(echo.colour + secret + "\r\n" + wrapped(secret, 9, " \r"))})
		hub.Close()
		var in strings.Builder
		for _, e := range all(feed) {
			if one, ok := e.Body.(In); ok {
				in.Write(one.Bytes)
				continue
			}
			var text strings.Builder
			encoder := json.NewEncoder(&text)
			encoder.SetEscapeHTML(false) // an escape has letters of its own
			require.NoError(t, encoder.Encode(e.Body))
			assert.Empty(t, inARow(text.String(), secret), "%s", text.String())
			assert.Empty(t, inARow(fmt.Sprintf("%v", e.Body), secret), "%v", e.Body)
		}
		assert.Empty(t, inARow(in.String(), secret), "%q of %q", in.String(), stream)
		assert.Empty(t, inARow(plainText(in.String()), secret), "%q of %q", in.String(), stream)
		assert.True(t, strings.HasPrefix(in.String(), before), "what stands before it is not masked: %q", in.String())
	})
}

func wrapped(text string, width int, by string) string {
	var out strings.Builder
	for n, r := range []rune(text) {
		if n > 0 && n%width == 0 {
			out.WriteString(by)
		}
		out.WriteRune(r)
	}
	return out.String()
}

// TestALetterOrTwoAreNotHeldBackForLong has a prompt end like the beginning of a secret that is on its way, and a
// device that shows one letter by letter, each after a pause.
func TestALetterOrTwoAreNotHeldBackForLong(t *testing.T) {
	hub := NewHub(clock.Real())
	feed := hub.Subscribe()
	hub.Protect("lamp-and-tide")
	hub.Strict(true)
	hub.Emit(In{Bytes: Text("quay: la")})
	require.True(t, hub.Holds())
	hub.Flush()
	assert.False(t, hub.Holds())
	for _, letter := range "\r\nlamp-and-tide" {
		hub.Emit(In{Bytes: Text(string(letter))})
		if hub.Holds() {
			hub.Flush()
		}
	}
	hub.Close()
	var in strings.Builder
	for _, e := range all(feed) {
		in.Write(e.Body.(In).Bytes)
	}
	assert.Equal(t, "quay: la\r\nla"+Redacted, in.String())
}

// TestOrdinaryWordsAreNotMasked has text that shares words with a secret.
func TestOrdinaryWordsAreNotMasked(t *testing.T) {
	hub := NewHub(clock.Real())
	feed := hub.Subscribe()
	hub.Protect("harbour-2026", "lamp-and-tide")
	const text = "harbour-gw> look at lamp and harbour\r\nlamp-and-a-tide, harbour-202 and 6\r\nharbour-gw> "
	for _, b := range []byte(text) {
		hub.Emit(In{Bytes: Text{b}})
	}
	hub.Emit(Note{Text: text})
	hub.Close()
	var in strings.Builder
	for _, e := range all(feed) {
		switch b := e.Body.(type) {
		case In:
			in.Write(b.Bytes)
		case Note:
			assert.Equal(t, strings.ReplaceAll(text, "harbour-202 and 6", "harbour-202 and 6"), b.Text)
		}
	}
	assert.Equal(t, text, in.String())
}

// BenchmarkMasking is what a flood costs with secrets to be taken out of it, beside one without.
func BenchmarkMasking(b *testing.B) {
	line := []byte(
		"2026-11-30 12:00:00 harbour-gw port 3 link up, lamp and ladder, counters 18446744073709551615 drops 0\r\n")
	flood := []byte(strings.Repeat(string(line), 80))
	var took [2]time.Duration
	for b.Loop() {
		for i, secrets := range [][]string{nil, {"lamp-and-tide", "harbour-2026"}} {
			hub := NewHub(clock.Real())
			hub.Protect(secrets...)
			begun := time.Now()
			for range 16 {
				hub.Emit(In{Bytes: flood})
			}
			took[i] += time.Since(begun)
		}
	}
	b.SetBytes(int64(16 * len(flood)))
	b.ReportMetric(float64(16*len(flood))*float64(b.N)/took[1].Seconds()/1e6, "MB/s")
}
