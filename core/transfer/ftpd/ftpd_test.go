package ftpd

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
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

type ending struct {
	file  string
	bytes int64
	err   error
}

type watching struct {
	offer.NoWatcher
	mu    sync.Mutex
	ended []ending
	said  []string
}

func (w *watching) Said(m offer.Rung) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.said = append(w.said, m.Kind+" "+m.Text)
}

func (w *watching) Ended(t offer.Transfer, p transfer.Progress, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.ended = append(w.ended, ending{t.File, p.Bytes, err})
}

// rig is a server with one file staged and one slot open.
type rig struct {
	*Server
	t      *testing.T
	folder string
	watch  *watching
	stage  *offer.Stage
}

var body = bytes.Repeat([]byte("0123456789"), 10_000)

func newRig(t *testing.T) *rig {
	r := &rig{t: t, folder: t.TempDir(), watch: &watching{}, stage: &offer.Stage{}}
	_, err := r.stage.Offer(offertest.File("a.bin", body))
	require.NoError(t, err)
	_, err = r.stage.OpenSlot(offer.Slot{Name: "up.cfg", Folder: r.folder, Most: 1 << 20})
	require.NoError(t, err)
	r.Server, err = Listen(netip.MustParseAddrPort("127.0.0.1:0"),
		offer.Serving{Network: network.Host{}, Stage: r.stage, Clock: clock.Real(), Watcher: r.watch})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	served := make(chan error, 1)
	go func() { served <- r.Serve(ctx) }()
	t.Cleanup(func() { cancel(); assert.NoError(t, <-served) })
	return r
}

// client is a device that says what it likes, in any order.
type client struct {
	net.Conn
	t *testing.T
	r *bufio.Reader
}

func (r *rig) login() *client {
	conn, err := net.Dial("tcp", r.Addr().String())
	require.NoError(r.t, err)
	r.t.Cleanup(func() { _ = conn.Close() })
	c := &client{conn, r.t, bufio.NewReader(conn)}
	c.reply()
	user, password := r.Login()
	c.say("USER " + user)
	assert.Contains(r.t, c.say("PASS "+password), "230")
	return c
}

func (c *client) reply() string {
	_ = c.SetReadDeadline(time.Now().Add(10 * time.Second))
	line, err := c.r.ReadString('\n')
	require.NoError(c.t, err, "every command ends in a reply")
	return strings.TrimSpace(line)
}

func (c *client) say(command string) string {
	_, err := fmt.Fprintf(c, "%s\r\n", command)
	require.NoError(c.t, err)
	return c.reply()
}

// passive asks for a place to send data to.
func (c *client) passive() string {
	answer := c.say("PASV")
	var h [4]int
	var p [2]int
	_, err := fmt.Sscanf(answer[strings.Index(answer, "("):], "(%d,%d,%d,%d,%d,%d)", &h[0], &h[1], &h[2], &h[3], &p[0],
		&p[1])
	require.NoError(c.t, err, answer)
	return fmt.Sprintf("%d.%d.%d.%d:%d", h[0], h[1], h[2], h[3], p[0]<<8|p[1])
}

func (c *client) data(address string) net.Conn {
	conn, err := net.Dial("tcp", address)
	require.NoError(c.t, err)
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	return conn
}

func TestAFileIsFetchedPassivelyAndActively(t *testing.T) {
	r := newRig(t)
	c := r.login()
	data := c.data(c.passive())
	assert.Contains(t, c.say("RETR /A.bin"), "150")
	got, err := io.ReadAll(data)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(body, got))
	assert.Contains(t, c.reply(), "226")

	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	port := listener.Addr().(*net.TCPAddr).Port
	assert.Contains(t, c.say(fmt.Sprintf("PORT 127,0,0,1,%d,%d", port>>8, port&0xff)), "200")
	assert.Contains(t, c.say("REST 99000"), "350")
	assert.Contains(t, c.say("RETR a.bin"), "150")
	data, err = listener.Accept()
	require.NoError(t, err)
	got, err = io.ReadAll(data)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(body[99000:], got))
	assert.Contains(t, c.reply(), "226")
	assert.Contains(t, c.say("EPRT |1|192.0.2.1|5000|"), "504", "nobody else is called")
	assert.Contains(t, c.say("PORT 127,0,0,1,0,80"), "504")
}

// TestAStrangerGetsNothing lets another address take the data connection first.
func TestAStrangerGetsNothing(t *testing.T) {
	r := newRig(t)
	c := r.login()
	at := c.passive()
	dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 99)}}
	stranger, err := dialer.Dial("tcp", at)
	require.NoError(t, err)
	data := c.data(at)
	assert.Contains(t, c.say("RETR a.bin"), "150")
	_ = stranger.SetReadDeadline(time.Now().Add(10 * time.Second))
	n, _ := io.Copy(io.Discard, stranger)
	assert.Zero(t, n)
	got, err := io.ReadAll(data)
	require.NoError(t, err)
	assert.Len(t, got, len(body))
	assert.Contains(t, c.reply(), "226")
	r.watch.mu.Lock()
	defer r.watch.mu.Unlock()
	assert.Contains(t, strings.Join(r.watch.said, "\n"), "a data connection from 127.0.0.99, which is not this device")
}

// TestEveryOrderOfCommandsEndsInAReply says what does not belong together. The slot is there afterwards.
func TestEveryOrderOfCommandsEndsInAReply(t *testing.T) {
	r := newRig(t)
	c := r.login()
	for _, command := range []string{
		"RETR a.bin", "STOR up.cfg", "LIST", "NLST", "REST x", "REST 500", "STOR up.cfg", "ALLO", "ALLO x", "ALLO 100",
		"ABOR", "SIZE nothing.bin", "SIZE a.bin", "MDTM a.bin", "STAT", "XPWD", "CWD flash", "CWD /", "TYPE L 8",
		"TYPE I N", "TYPE I", "HELP", "SITE IDLE 60", "RNFR a.bin", "RNTO b", "DELE a.bin", "MKD x", "REST 999999",
		"RETR a.bin", "PASV", "EPSV", "PASV", "NOOP", "", " ", "PORT", "PORT 1,2", "EPRT", "EPRT |1|", "EPRT |3|x|1|",
		"USER", "MODE B", "STRU R",
	} {
		assert.Regexp(t, `^\d{3}`, c.say(command), "%q", command)
	}
	data := c.data(c.passive())
	assert.Contains(t, c.say("STOR /up.cfg"), "150")
	_, err := data.Write([]byte("kept"))
	require.NoError(t, err)
	require.NoError(t, data.Close())
	assert.Contains(t, c.reply(), "226")
	kept, err := os.ReadFile(filepath.Join(r.folder, "up.cfg"))
	require.NoError(t, err)
	assert.Equal(t, "kept", string(kept))
}

func TestAnUploadOfAnotherSizeThanWasSaidIsNotKept(t *testing.T) {
	r := newRig(t)
	c := r.login()
	assert.Contains(t, c.say("ALLO 100"), "200")
	data := c.data(func() string { at := c.passive(); c.say("ALLO 100"); return at }())
	assert.Contains(t, c.say("STOR up.cfg"), "150")
	_, err := data.Write([]byte("too little"))
	require.NoError(t, err)
	require.NoError(t, data.Close())
	assert.Contains(t, c.reply(), "426")
	assert.NoFileExists(t, filepath.Join(r.folder, "up.cfg"))
	again := c.data(c.passive())
	assert.Contains(t, c.say("STOR up.cfg"), "150", "the slot is open again")
	require.NoError(t, again.Close())
	assert.Contains(t, c.reply(), "226")
}

func TestADeviceThatHangsUpIsReported(t *testing.T) {
	r := newRig(t)
	c := r.login()
	large := bytes.Repeat(body, 100)
	_, err := r.stage.Offer(offertest.File("large.bin", large))
	require.NoError(t, err)
	data := c.data(c.passive())
	assert.Contains(t, c.say("RETR large.bin"), "150")
	_, err = io.ReadFull(data, make([]byte, 1000))
	require.NoError(t, err)
	require.NoError(t, data.(*net.TCPConn).SetLinger(0))
	require.NoError(t, data.Close())
	assert.Contains(t, c.reply(), "426")
	r.watch.mu.Lock()
	defer r.watch.mu.Unlock()
	require.Len(t, r.watch.ended, 1)
	assert.Error(t, r.watch.ended[0].err)
}

func TestNothingIsWrittenToTheTerminal(t *testing.T) {
	var out bytes.Buffer
	log.SetOutput(&out)
	defer log.SetOutput(os.Stderr)
	c := newRig(t).login()
	c.say("SIZE nothing.bin")
	c.say("STAT nothing.bin")
	assert.Empty(t, out.String())
}
