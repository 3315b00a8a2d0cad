package httpd

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/network"
	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
	"pilotrix/core/transfer"
)

type watching struct {
	offer.NoWatcher
	ended chan ended
}

type ended struct {
	from, size, bytes int64
	err               error
}

func (w *watching) Ended(t offer.Transfer, p transfer.Progress, err error) {
	w.ended <- ended{t.From, p.Size, p.Bytes, err}
}

func serve(t *testing.T, names ...string) (*Server, *watching) {
	stage, watch := &offer.Stage{}, &watching{ended: make(chan ended, 16)}
	for _, name := range names {
		_, err := stage.Offer(offertest.File(name, bytes.Repeat([]byte("0123456789"), 1000)))
		require.NoError(t, err)
	}
	s, err := Listen(netip.MustParseAddrPort("127.0.0.1:0"),
		offer.Serving{Network: network.Host{}, Stage: stage, Clock: clock.Real(), Watcher: watch})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	served := make(chan error, 1)
	go func() { served <- s.Serve(ctx) }()
	t.Cleanup(func() { cancel(); assert.NoError(t, <-served) })
	return s, watch
}

func get(t *testing.T, url, part string) (code int, body []byte) {
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
	require.NoError(t, err)
	if part != "" {
		request.Header.Set("Range", part)
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	body, err = io.ReadAll(response.Body)
	require.NoError(t, err)
	return response.StatusCode, body
}

func (w *watching) end(t *testing.T) ended {
	select {
	case e := <-w.ended:
		return e
	case <-time.After(10 * time.Second):
		require.FailNow(t, "no end was told")
		return ended{}
	}
}

func TestRangesCountWhatTheyCarry(t *testing.T) {
	s, watch := serve(t, "a.bin")
	at := "http://" + s.Addr().String()
	code, body := get(t, at+s.Path("a.bin"), "")
	assert.Equal(t, 200, code)
	assert.Len(t, body, 10_000)
	assert.Equal(t, ended{0, 10_000, 10_000, nil}, watch.end(t))

	code, body = get(t, at+s.Path("a.bin"), "bytes=9000-")
	assert.Equal(t, 206, code)
	assert.Len(t, body, 1000)
	assert.Equal(t, ended{9000, 1000, 1000, nil}, watch.end(t))

	code, _ = get(t, at+s.Path("a.bin"), "bytes=0-9,20-29")
	assert.Equal(t, 206, code)
	assert.EqualValues(t, -1, watch.end(t).from, "several parts begin nowhere")

	code, _ = get(t, at+s.Path("a.bin"), "bytes=20000-")
	assert.Equal(t, 416, code)
	assert.ErrorContains(t, watch.end(t).err, "416", "nothing was moved: that is no success")
}

func TestNamesAreEscapedAndFoundAsDevicesWriteThem(t *testing.T) {
	s, watch := serve(t, "a.bin", "b #1%41?.bin")
	at := "http://" + s.Addr().String()
	for _, path := range []string{s.Path("b #1%41?.bin"), "/" + s.word + "//a.bin", "/" + s.word + "/./a.bin", "/" + s.word + "/A.bin", "/" + s.word + "/../a.bin"} {
		code, body := get(t, at+path, "")
		assert.Equal(t, 200, code, path)
		assert.Len(t, body, 10_000)
		assert.NoError(t, watch.end(t).err)
	}
	for _, path := range []string{"/a.bin", "/x/a.bin", "/" + s.word + "/etc/passwd"} {
		code, _ := get(t, at+path, "")
		assert.Equal(t, 404, code, path)
	}
}

// TestAShortFileIsTheReasonThoughTheDeviceHasHungUp: what is known here goes before what the device did about it.
func TestAShortFileIsTheReasonThoughTheDeviceHasHungUp(t *testing.T) {
	s, watch := serve(t)
	_, err := s.opt.Stage.Offer(offertest.Shrunk("cut.bin", make([]byte, 1000), 600))
	require.NoError(t, err)
	ctx, hangUp := context.WithCancel(t.Context())
	hangUp()
	s.answer(httptest.NewRecorder(), httptest.NewRequestWithContext(ctx, http.MethodGet, s.Path("cut.bin"), nil))
	e := watch.end(t)
	assert.ErrorIs(t, e.err, transfer.ErrChanged)
	assert.Equal(t, int64(600), e.bytes)
}
