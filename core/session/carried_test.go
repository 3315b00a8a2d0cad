package session

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/transfer"
	"pilotrix/core/transfer/xmodem"
)

// otherEnd is the device's end of a fake line.
type otherEnd struct {
	l    *fakeLine
	read int // of what was sent to it
}

func (e *otherEnd) Read(ctx context.Context, p []byte, wait time.Duration) (int, error) {
	for deadline := time.Now().Add(wait); ; time.Sleep(5 * time.Millisecond) {
		if all := e.l.soFar(); len(all) > e.read {
			n := copy(p, all[e.read:])
			e.read += n
			return n, nil
		}
		switch {
		case ctx.Err() != nil:
			return 0, ctx.Err()
		case !time.Now().Before(deadline):
			return 0, transfer.ErrSilent
		}
	}
}

// soFar is what was sent by now, for whoever plays the device.
func (l *fakeLine) soFar() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return string(l.sent)
}

func (e *otherEnd) Write(_ context.Context, p []byte) error {
	e.l.says(string(p))
	return nil
}

func (e *otherEnd) Unread(p []byte) { e.read -= len(p) }

type kept struct{ bytes.Buffer }

func (*kept) Close() error { return nil }

// TestFilesAreCarriedByHand has files of many sizes sent and received by each protocol, on a device that nobody has
// described, and what came compared.
func TestFilesAreCarriedByHand(t *testing.T) {
	for _, protocol := range []string{"xmodem", "xmodem-1k", "ymodem"} {
		for _, size := range []int{1, 127, 128, 129, 1024, 1025, 70_000} {
			data := bytes.Repeat([]byte("lark\x1a\r"), size/6+1)[:size]
			variant, err := xmodem.Parse(protocol)
			require.NoError(t, err)
			same := func(got []byte, why string) {
				if !variant.Batch() { // it does not say the size
					require.LessOrEqual(t, len(got)-size, variant.Block(), why)
					got = got[:min(size, len(got))]
				}
				assert.Equal(t, data, got, why)
			}
			name := fmt.Sprintf("%s %d", protocol, size)
			folder := t.TempDir()
			path := filepath.Join(folder, "lamp.img")
			require.NoError(t, os.WriteFile(path, data, 0o600))
			lockedBy(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
				var got kept
				done := make(chan error, 1)
				l.says("\r\nsend it now\r\n")
				go func() {
					_, err := xmodem.Receive(t.Context(), &otherEnd{l, len(l.soFar())},
						func(xmodem.Header) (io.WriteCloser, error) { return &got, nil }, xmodem.Options{Variant: variant, Retries: 20})
					done <- err
				}()
				_, over, err := s.Do(byHand(t, "carry", map[string]string{"file": path, "protocol": protocol}), engine.Line)
				require.NoError(t, err)
				for range over {
				}
				require.NoError(t, <-done, name)
				same(got.Bytes(), "sent "+name)
				assertDone(t, feed, name)
			})
			lockedBy(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
				done := make(chan error, 1)
				go func() {
					_, err := xmodem.Send(t.Context(), &otherEnd{l, len(l.soFar())}, []xmodem.File{{
						Header: xmodem.Header{Name: "came.img", Size: int64(size)}, Data: bytes.NewReader(data),
					}}, xmodem.Options{Variant: variant, Retries: 20})
					done <- err
				}()
				values := map[string]string{"into": folder, "protocol": strings.TrimSuffix(protocol, "-1k")}
				if !variant.Batch() {
					values["as"] = "came.img"
				}
				_, over, err := s.Do(byHand(t, "take", values), engine.Line)
				require.NoError(t, err)
				for range over {
				}
				require.NoError(t, <-done, name)
				came, err := os.ReadFile(filepath.Join(folder, "came.img"))
				require.NoError(t, err, name)
				same(came, "received "+name)
				assertDone(t, feed, name)
			})
		}
	}
}

// assertDone holds that the only deed was done.
func assertDone(t *testing.T, feed *event.Feed, why string) {
	t.Helper()
	var ends []string
	for _, d := range collect[event.Deed](t, feed) {
		if d.State == event.DeedEnded {
			ends = append(ends, string(d.Outcome)+d.Message)
		}
	}
	assert.Equal(t, []string{string(event.Done)}, ends, why)
}

// TestNothingIsWrittenOver receives into folders and under names that do not go, and a file that is cut.
func TestNothingIsWrittenOver(t *testing.T) {
	folder := t.TempDir()
	there := filepath.Join(folder, "there.img")
	require.NoError(t, os.WriteFile(there, []byte("kept"), 0o600))
	for name, c := range map[string]struct {
		values map[string]string
		says   string
	}{
		"it is there":           {map[string]string{"into": folder, "as": "there.img", "protocol": "xmodem"}, "is there already"},
		"it has no name":        {map[string]string{"into": folder, "protocol": "xmodem"}, "XMODEM says no name"},
		"its name leads away":   {map[string]string{"into": folder, "as": "../x", "protocol": "xmodem"}, "no name of a file"},
		"its name is a folder":  {map[string]string{"into": folder, "as": "..", "protocol": "xmodem"}, "is there already"},
		"the sender is silent":  {map[string]string{"into": folder, "as": "new.img", "protocol": "xmodem"}, "sender"},
		"it comes by a key":     {map[string]string{"into": folder, "as": "cut.img", "protocol": "ymodem"}, "stopped"},
		"the sender names that": {map[string]string{"into": folder, "protocol": "ymodem"}, "is there already"},
	} {
		t.Run(name, func(t *testing.T) {
			lockedBy(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
				ctx, end := context.WithCancel(t.Context())
				ended := make(chan struct{})
				sends := name == "it comes by a key" || name == "the sender names that"
				go func() {
					defer close(ended)
					if sends {
						_, _ = xmodem.Send(ctx, &otherEnd{l, len(l.soFar())}, []xmodem.File{{
							Header: xmodem.Header{Name: "there.img", Size: 1 << 20}, Data: endless{},
						}}, xmodem.Options{Variant: xmodem.YMODEM})
					}
				}()
				_, over, err := s.Do(byHand(t, "take", c.values), engine.Line)
				require.NoError(t, err)
				if name == "it comes by a key" {
					time.Sleep(9 * time.Second)
					s.TakeHelm()
				}
				for range over {
				}
				ends := collect[event.Deed](t, feed)
				assert.Contains(t, ends[len(ends)-1].Message, c.says)
				assert.NotEqual(t, event.Done, ends[len(ends)-1].Outcome)
				end()
				<-ended
			})
			kept, err := os.ReadFile(there)
			require.NoError(t, err)
			assert.Equal(t, "kept", string(kept))
			assert.NoFileExists(t, filepath.Join(folder, "cut.img"), "what was cut does not pass for the whole")
			assert.NoFileExists(t, filepath.Join(folder, "new.img"))
		})
	}
	assert.FileExists(t, filepath.Join(folder, "cut.img.part"))
}

// endless is data without an end.
type endless struct{}

func (endless) Read(p []byte) (int, error) { return len(p), nil }
