package paste

import (
	"context"
	"regexp"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/carrier"
)

// device echoes what it is typed, a character at a time, and prompts after each line.
type device struct {
	typed   strings.Builder
	out     []byte
	prompt  string
	mute    bool   // echoes nothing
	refuses string // a line that it answers with an error
	times   []time.Time
}

func (d *device) Write(_ context.Context, p []byte) error {
	for _, b := range p {
		d.times = append(d.times, time.Now())
		d.typed.WriteByte(b)
		if d.mute {
			continue
		}
		if b != '\r' {
			d.out = append(d.out, b)
			continue
		}
		d.out = append(d.out, "\r\n"...)
		lines := strings.Split(strings.TrimRight(d.typed.String(), "\r"), "\r")
		if d.refuses != "" && lines[len(lines)-1] == d.refuses {
			d.out = append(d.out, "no such word\r\n"...)
		}
		d.out = append(d.out, d.prompt...)
	}
	return nil
}

func (d *device) Read(ctx context.Context, p []byte, wait time.Duration) (int, error) {
	if len(d.out) == 0 {
		select {
		case <-time.After(wait):
			return 0, carrier.ErrSilent
		case <-ctx.Done():
			return 0, ctx.Err()
		}
	}
	n := copy(p[:min(len(p), 3)], d.out)
	d.out = d.out[n:]
	return n, nil
}

func TestLinesAwaitTheirEcho(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := &device{prompt: "> "}
		steps := 0
		result, err := Send(t.Context(), d, "name mare-gw1\r\nrate 9600\n\nend\n", Options{Progress: func(carrier.Progress) { steps++ }})
		require.NoError(t, err)
		assert.Equal(t, "name mare-gw1\rrate 9600\r\rend\r", d.typed.String())
		assert.Equal(t, 4, result.Lines)
		assert.Equal(t, 4, steps)
	})
}

func TestCharactersAndLinesArePaced(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := &device{mute: true}
		began := time.Now()
		_, err := Send(t.Context(), d, "abc\ndef", Options{Blind: true, Character: 10 * time.Millisecond, Line: time.Second})
		require.NoError(t, err)
		assert.Equal(t, 2*(4*10*time.Millisecond+time.Second), time.Since(began))
		assert.Equal(t, 10*time.Millisecond, d.times[1].Sub(d.times[0]))
	})
}

func TestThePromptIsAwaited(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := &device{prompt: "box > "}
		_, err := Send(t.Context(), d, "one\ntwo", Options{Prompt: regexp.MustCompile(`^box > $`)})
		require.NoError(t, err)
		d = &device{prompt: "... "}
		_, err = Send(t.Context(), d, "one\ntwo", Options{Prompt: regexp.MustCompile(`^box > $`)})
		assert.ErrorContains(t, err, `line 1 of the text ("one"): the prompt did not come within 10s`)
		assert.Equal(t, "one\r", d.typed.String(), "nothing is typed on")
	})
}

func TestWhatGoesWrongNamesItsLine(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := &device{prompt: "> ", refuses: "bogus"}
		_, err := Send(t.Context(), d, "one\nbogus\ntwo", Options{Prompt: regexp.MustCompile(`^> $`), Fail: regexp.MustCompile(`no such word`)})
		var failed *Failed
		require.ErrorAs(t, err, &failed)
		assert.Equal(t, 2, failed.Number)
		assert.NotContains(t, d.typed.String(), "two")

		d = &device{mute: true}
		_, err = Send(t.Context(), d, "one", Options{Limit: time.Second})
		assert.ErrorContains(t, err, "its echo did not come within 1s")
		d = &device{prompt: "> "}
		_, err = Send(t.Context(), d, "one\ntwo\x1b[2J", Options{})
		assert.ErrorContains(t, err, "line 2")
		assert.Empty(t, d.typed.String(), "refused before anything is sent")
	})
}
