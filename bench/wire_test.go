package bench

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/line"
)

// parrot says back what it hears, a line at a time, and counts.
type parrot struct {
	lives int
	heard []string
}

func (p *parrot) Baud() int { return 9600 }

func (p *parrot) PowerOn(ctx context.Context, w *Wire) {
	p.lives++
	s := NewShell(ctx, w)
	s.Prompt = func() string { return "> " }
	s.Text = []Word{
		{Form: "say TEXT…", Run: func(args []string) error {
			p.heard = append(p.heard, strings.Join(args, " "))
			s.Say(strings.Join(args, " ") + "\r\n")
			return nil
		}},
		{Form: "fail", Run: func([]string) error { return errors.New("as you wish") }},
		{Form: "say twice", Run: func([]string) error { s.Say("twice\r\n"); return nil }},
	}
	_ = s.Run()
}

// plugged is a parrot in virtual time and the program's line to it.
func plugged(t *testing.T, use func(t *testing.T, m *Machine, p *parrot, l line.Line)) {
	synctest.Test(t, func(t *testing.T) {
		p := &parrot{}
		m := New("parrot", p, clock.Real(), true)
		require.NoError(t, m.Start())
		l, err := m.Open(t.Context(), nil, line.Target{Kind: line.Bench, Address: "parrot", Speed: 9600})
		require.NoError(t, err)
		use(t, m, p, l)
		require.NoError(t, l.Close())
		m.Stop()
		synctest.Wait()
	})
}

func hear(l line.Line, d time.Duration) (text string) {
	limit := time.After(d)
	for {
		select {
		case chunk, open := <-l.Chunks():
			if !open {
				return text
			}
			text += string(chunk.Bytes)
		case <-limit:
			return text
		}
	}
}

func TestTheLineIsAsFastAsItsSpeed(t *testing.T) {
	plugged(t, func(t *testing.T, _ *Machine, _ *parrot, l line.Line) {
		hear(l, time.Second)
		began := time.Now()
		require.NoError(t, l.Write(t.Context(), []byte("say "+strings.Repeat("x", 480)+"\r")))
		heard := 0
		for heard < 480*2 {
			heard += len((<-l.Chunks()).Bytes)
		}
		// 485 characters there, their echo after them, then 480 back: about 965 character times.
		assert.InDelta(t, 965.0/960, time.Since(began).Seconds(), 0.05)
	})
}

func TestOtherSpeedsAreNotUnderstood(t *testing.T) {
	plugged(t, func(t *testing.T, _ *Machine, p *parrot, l line.Line) {
		hear(l, time.Second)
		require.NoError(t, l.(line.Speeder).SetSpeed(t.Context(), 115200))
		require.NoError(t, l.Write(t.Context(), []byte("say hello\r")))
		assert.NotContains(t, hear(l, time.Second), "hello")
		assert.Empty(t, p.heard)
		require.NoError(t, l.(line.Speeder).SetSpeed(t.Context(), 9600))
		require.NoError(t, l.Write(t.Context(), []byte("\x15say hello\r")))
		assert.Contains(t, hear(l, time.Second), "hello\r\nhello\r\n> ")
	})
}

func TestLineEditing(t *testing.T) {
	plugged(t, func(t *testing.T, _ *Machine, p *parrot, l line.Line) {
		hear(l, time.Second)
		for typed, want := range map[string]string{
			"sayy\x7f a\r":    "> ",
			"junk\x15say b\r": "b\r\n> ",
			"junk\x03":        "^C\r\n> ",
			"nosuch\r":        "no such word: nosuch",
			"fail\r":          "as you wish",
			"say twice\r":     "twice\r\n> ",
			"\x08\x08say c\r": "c\r\n> ",
			"\x1b\x00say d\r": "d\r\n> ",
		} {
			require.NoError(t, l.Write(t.Context(), []byte(typed)))
			assert.Contains(t, hear(l, time.Second), want, "%q", typed)
		}
		assert.ElementsMatch(t, []string{"a", "b", "c", "d"}, p.heard)
	})
}

func TestPowerAndCable(t *testing.T) {
	plugged(t, func(t *testing.T, m *Machine, p *parrot, l line.Line) {
		hear(l, time.Second)
		m.PowerCut(2 * time.Second)
		time.Sleep(time.Second)
		require.NoError(t, l.Write(t.Context(), []byte("say lost\r")))
		hear(l, 3*time.Second)
		assert.Equal(t, 2, p.lives)
		assert.Empty(t, p.heard, "without power nothing is heard")

		m.Unplug()
		assert.Empty(t, hear(l, time.Second))
		assert.ErrorIs(t, l.Err(), line.ErrUnplugged)
		_, err := m.Open(t.Context(), nil, line.Target{})
		assert.ErrorIs(t, err, line.ErrNoSuch)
		require.NoError(t, m.Plug())
		again, err := m.Open(t.Context(), nil, line.Target{Kind: line.Bench, Speed: 9600})
		require.NoError(t, err)
		require.NoError(t, again.Write(t.Context(), []byte("say back\r")))
		assert.Contains(t, hear(again, time.Second), "back\r\n> ")
		require.NoError(t, again.Close())
	})
}

func TestBitErrorsComeAtTheirRate(t *testing.T) {
	w := newWire(newMemoryHost(), 9600, clock.Real())
	w.BitErrors(1e-3, 7)
	flipped := 0
	for range 1000 {
		p := make([]byte, 1000)
		w.spoil(p)
		for _, b := range p {
			for ; b != 0; b &= b - 1 {
				flipped++
			}
		}
	}
	assert.InEpsilon(t, 8000, flipped, 0.1)
}

func TestAPipeEndsForItsReader(t *testing.T) {
	p := newPipe()
	_, err := fmt.Fprint(p, "last words")
	require.NoError(t, err)
	p.close()
	all, err := io.ReadAll(p)
	require.NoError(t, err)
	assert.Equal(t, "last words", string(all))
	_, err = p.Write([]byte("x"))
	assert.ErrorIs(t, err, io.ErrClosedPipe)
}
