package session

import (
	"context"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/network"
	"pilotrix/core/network/simulated"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/runbook/verbs"
)

// laptop is this program's end of a network of its own.
func laptop() network.Network {
	return simulated.New(1).Host("eth0", netip.MustParsePrefix("192.0.2.10/24"))
}

// waitingDeed offers a file that nobody fetches.
func waitingDeed(t *testing.T, d *dialect.Dialect, laptop network.Network) *runbook.Prepared {
	path := filepath.Join(t.TempDir(), "lamp.img")
	require.NoError(t, os.WriteFile(path, []byte("lamp"), 0o600))
	book, err := verbs.ByHandNamed("offer").Make(verbs.Place{})
	require.NoError(t, err)
	p, err := book.Prepare(d, map[string]string{"file": path, "address": "192.0.2.10"}, runbook.Kit{Network: laptop})
	require.NoError(t, err)
	return p
}

// TestDeedsGoOnBesideEverything has some open while a runbook has the helm, while it is taken and given, and while the
// line is typed on; one is ended, and the others end with the session, each saying so.
func TestDeedsGoOnBesideEverything(t *testing.T) {
	controlled(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		ours := laptop()
		var ids []string
		var advice []<-chan string
		for range 3 {
			id, advised, err := s.Do(waitingDeed(t, s.Dialect(), ours), engine.Nothing)
			require.NoError(t, err)
			assert.Equal(t, "TFTP, 192.0.2.10, lamp.img", <-advised)
			ids, advice = append(ids, id), append(advice, advised)
		}
		synctest.Wait()
		s.TakeHelm()
		typeKeys(s, "look\r")
		assert.Equal(t, "look\r", l.got(), "the line is the operator's")
		assert.True(t, s.EndDeed(ids[1]))
		_, more := <-advice[1]
		assert.False(t, more, "it is over")
		synctest.Wait()
		assert.False(t, s.EndDeed(ids[1]), "it is ended once")
		assert.False(t, s.EndDeed("99"))
		s.Close("the test ends")
		for _, one := range advice {
			_, more := <-one
			assert.False(t, more)
		}
		var ends []string
		for _, d := range collect[event.Deed](t, feed) {
			if d.State == event.DeedEnded {
				ends = append(ends, d.ID+" "+string(d.Outcome)+" "+d.Message)
			}
		}
		assert.ElementsMatch(t, []string{
			ids[0] + " stopped the session ended", ids[1] + " stopped ended by the operator",
			ids[2] + " stopped the session ended",
		}, ends)
		_, _, err := s.Do(waitingDeed(t, s.Dialect(), ours), engine.Nothing)
		assert.ErrorIs(t, err, errSessionOver)
		assert.NoError(t, context.Cause(t.Context()))
	})
}

// TestADeedOnTheLineHasTheHelm sends a file to a receiver that never asks: only one such deed goes at a time and no
// runbook beside it, and a key takes the helm, which ends it.
func TestADeedOnTheLineHasTheHelm(t *testing.T) {
	lockedBy(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		path := filepath.Join(t.TempDir(), "lamp.img")
		require.NoError(t, os.WriteFile(path, []byte("lamp"), 0o600))
		sends := func() *runbook.Prepared {
			book, err := verbs.ByHandNamed("carry").Make(verbs.Place{})
			require.NoError(t, err)
			p, err := book.Prepare(dialect.Generic(), map[string]string{"file": path}, runbook.Kit{})
			require.NoError(t, err)
			return p
		}
		ours := laptop()
		who := func() (who string) { s.do(func() { who = s.helm.who }); return who }
		_, over, err := s.Do(sends(), engine.Line)
		require.NoError(t, err)
		synctest.Wait()
		assert.NotEqual(t, event.Hand, who())
		_, _, err = s.Do(sends(), engine.Line)
		assert.ErrorIs(t, err, errLineTaken)
		_, err = s.Run(t.Context(), sends())
		assert.Error(t, err, "a run does not begin beside it")
		_, beside, err := s.Do(waitingDeed(t, s.Dialect(), ours), engine.Nothing)
		require.NoError(t, err, "what needs no line does")
		assert.NotEmpty(t, <-beside)
		typeKeys(s, "x")
		_, more := <-over
		assert.False(t, more)
		synctest.Wait()
		assert.Equal(t, event.Hand, who())
		assert.Equal(t, "x", l.got())

		_, over, err = s.Do(sends(), engine.Line)
		require.NoError(t, err, "the line is free again")
		_, more = <-over // after its time
		assert.False(t, more)
		s.Close("the test ends")
		var ends []string
		for _, d := range collect[event.Deed](t, feed) {
			if d.State == event.DeedEnded {
				ends = append(ends, string(d.Outcome)+" "+d.Message)
			}
		}
		require.Len(t, ends, 3)
		assert.Contains(t, ends[0], "stopped")
		assert.Contains(t, ends[1], "failed “Send lamp.img”: no receiver asked for lamp.img within 2m0s")
		assert.Equal(t, "stopped the session ended", ends[2])
	})
}

// TestNoDeedOutlivesTheSession has some begun at the moment when the session ends: each is refused, or has ended when
// Close is back.
func TestNoDeedOutlivesTheSession(t *testing.T) {
	for range 30 {
		lockedBy(t, clearing, func(t *testing.T, s *Session, _ *fakeLine, feed *event.Feed) {
			var begins sync.WaitGroup
			ours := laptop()
			begun := make(chan string, 8)
			for range cap(begun) {
				p := waitingDeed(t, s.Dialect(), ours)
				begins.Go(func() {
					if id, _, err := s.Do(p, engine.Nothing); err == nil {
						begun <- id
					} else {
						assert.ErrorIs(t, err, errSessionOver)
					}
				})
			}
			s.Close("the test ends")
			begins.Wait()
			close(begun)
			ended := map[string]bool{}
			for _, d := range collect[event.Deed](t, feed) {
				ended[d.ID] = ended[d.ID] || d.State == event.DeedEnded
			}
			for id := range begun {
				assert.True(t, ended[id], id)
			}
		})
	}
}
