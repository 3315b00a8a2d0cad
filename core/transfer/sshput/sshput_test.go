package sshput

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	mathrand "math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"pilotrix/core/clock"
	"pilotrix/core/transfer"
)

// device is one that takes files by SFTP, with what some of them do not.
type device struct {
	sftp.Handlers
	written  atomic.Int64
	cutAfter atomic.Int64 // the connection ends once so many bytes were written, 0 for never
	refuses  string       // names that hold this
	renames  bool
	conn     atomic.Pointer[net.Conn]
	byScp    atomic.Value // the bytes that came whole by scp
}

func newDevice() *device { return &device{Handlers: sftp.InMemHandler(), renames: true} }

// Filewrite implements sftp.FileWriter.
func (d *device) Filewrite(r *sftp.Request) (io.WriterAt, error) { return d.OpenFile(r) }

// OpenFile implements sftp.OpenFileWriter.
func (d *device) OpenFile(r *sftp.Request) (sftp.WriterAtReaderAt, error) {
	if d.refuses != "" && strings.Contains(r.Filepath, d.refuses) {
		return nil, errors.New("no such name is taken here")
	}
	file, err := d.FilePut.(sftp.OpenFileWriter).OpenFile(r)
	return counted{file, d}, err
}

// Filecmd implements sftp.FileCmder.
func (d *device) Filecmd(r *sftp.Request) error {
	if r.Method == "Rename" && !d.renames {
		return errors.New("nothing is renamed here")
	}
	return d.FileCmd.Filecmd(r)
}

// PosixRename implements sftp.PosixRenameFileCmder.
func (d *device) PosixRename(r *sftp.Request) error {
	if !d.renames {
		return errors.New("nothing is renamed here")
	}
	return d.FileCmd.(sftp.PosixRenameFileCmder).PosixRename(r)
}

type counted struct {
	sftp.WriterAtReaderAt
	d *device
}

func (c counted) WriteAt(p []byte, at int64) (int, error) {
	n, err := c.WriterAtReaderAt.WriteAt(p, at)
	if all := c.d.written.Add(int64(n)); c.d.cutAfter.Load() > 0 && all >= c.d.cutAfter.Load() {
		_ = (*c.d.conn.Load()).Close()
	}
	return n, err
}

// dial begins a session with the device.
func (d *device) dial(t *testing.T) *ssh.Client {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ours, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	theirs, err := listener.Accept()
	require.NoError(t, err)
	require.NoError(t, listener.Close())
	d.conn.Store(&theirs)
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	config := &ssh.ServerConfig{NoClientAuth: true}
	config.AddHostKey(signer)
	go d.serve(theirs, config)
	conn, channels, requests, err := ssh.NewClientConn(ours, "device",
		&ssh.ClientConfig{HostKeyCallback: ssh.InsecureIgnoreHostKey()}) //nolint:gosec // it is ours
	require.NoError(t, err)
	client := ssh.NewClient(conn, channels, requests)
	t.Cleanup(func() { _ = client.Close() })
	return client
}

func (d *device) serve(conn net.Conn, config *ssh.ServerConfig) {
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for asked := range channels {
		channel, requests, err := asked.Accept()
		if err != nil {
			return
		}
		go func() {
			for request := range requests {
				_ = request.Reply(request.Type == "subsystem" || request.Type == "exec", nil)
				if request.Type == "exec" {
					go func() { d.takeByScp(channel); _ = channel.Close() }()
				}
				if request.Type == "subsystem" {
					go func() {
						handlers := d.Handlers
						handlers.FilePut, handlers.FileCmd = d, d
						_ = sftp.NewRequestServer(channel, handlers).Serve()
						_ = channel.Close()
					}()
				}
			}
		}()
	}
}

// takeByScp is "scp -t": it keeps one file that comes whole.
func (d *device) takeByScp(channel ssh.Channel) {
	from := bufio.NewReader(channel)
	_, _ = channel.Write([]byte{0})
	head, err := from.ReadString('\n')
	var size int
	if _, bad := fmt.Sscanf(head, "C0644 %d lark.cgo", &size); err != nil || bad != nil {
		_, _ = channel.Write([]byte("\x01that is no file\n"))
		return
	}
	_, _ = channel.Write([]byte{0})
	data := make([]byte, size+1)
	if _, err := io.ReadFull(from, data); err != nil || data[size] != 0 {
		return
	}
	d.byScp.Store(data[:size])
	_, _ = channel.Write([]byte{0})
	_, _ = channel.SendRequest("exit-status", false, make([]byte, 4))
}

// has is what the device holds under a name, nil for nothing.
func (d *device) has(t *testing.T, name string) []byte {
	t.Helper()
	files, err := sftp.NewClient(d.dial(t))
	require.NoError(t, err)
	defer files.Close()
	file, err := files.Open(name)
	if err != nil {
		return nil
	}
	data, err := io.ReadAll(file)
	require.NoError(t, err)
	return data
}

type closing struct{ *bytes.Reader }

func (closing) Close() error { return nil }

func random(size int, seed byte) []byte {
	data := make([]byte, size)
	_, _ = mathrand.NewChaCha8([32]byte{seed}).Read(data)
	return data
}

// put sends data once, and returns what was said of it.
func (d *device) put(t *testing.T, data []byte) (said []string, err error) {
	t.Helper()
	_, _, err = Put{
		Client:   d.dial(t),
		Protocol: SFTP,
		To:       "/lark.cgo",
		Size:     int64(len(data)),
		SHA256:   fmt.Sprintf("%x", sha256.Sum256(data)),
		Clock:    clock.Real(),
		Open:     func() (io.ReadSeekCloser, error) { return closing{bytes.NewReader(data)}, nil },
		Say:      func(text string) { said = append(said, text) },
	}.Do(t.Context())
	return said, err
}

// TestAPutOfAFileThatIsChangedSaysSo blames the file, whatever the device made of what came.
func TestAPutOfAFileThatIsChangedSaysSo(t *testing.T) {
	data := random(300_000, 1)
	for _, there := range []int{0, 1, 40_000, 299_999, 300_000, 300_001, 900_000} {
		for _, way := range []struct{ protocol, refuses string }{{SFTP, ""}, {SFTP, ".part-"}, {SCP, ""}} {
			d := newDevice()
			d.refuses = way.refuses
			_, _, err := Put{
				Client:   d.dial(t),
				Protocol: way.protocol,
				To:       "/lark.cgo",
				Size:     int64(len(data)),
				SHA256:   fmt.Sprintf("%x", sha256.Sum256(data)),
				Clock:    clock.Real(),
				Open: func() (io.ReadSeekCloser, error) {
					return closing{bytes.NewReader(slices.Repeat(data, 3)[:there])}, nil
				},
			}.Do(t.Context())
			what := fmt.Sprintf("%d B by %s", there, way)
			if there == len(data) {
				assert.NoError(t, err, what)
				assert.True(t, bytes.Equal(data, d.has(t, "/lark.cgo")) || bytes.Equal(data, d.byScp.Load().([]byte)),
					what)
				continue
			}
			assert.ErrorIs(t, err, transfer.ErrChanged, what)
			assert.NotContains(t, err.Error(), "the device", what)
			assert.Nil(t, d.has(t, "/lark.cgo"), "%s: nothing is taken for the file", what)
			assert.Nil(t, d.byScp.Load(), what)
		}
	}
}

func partOf(data []byte) string { return fmt.Sprintf("/lark.cgo.part-%x", sha256.Sum256(data))[:23] }

func TestAPutThatBrokeOffIsGoneOnWith(t *testing.T) {
	d, data := newDevice(), random(1<<20, 1)
	_, err := d.put(t, random(100, 2))
	require.NoError(t, err)
	d.written.Store(0)
	d.cutAfter.Store(700_000)
	said, err := d.put(t, data)
	require.ErrorContains(t, err, "what came of it stays there as "+partOf(data))
	assert.Contains(t, strings.Join(said, "\n"),
		"/lark.cgo is on the device already (100 B): it stays until the new one is whole")
	assert.Len(t, d.has(t, "/lark.cgo"), 100, "what was there is there")

	d.cutAfter.Store(0)
	d.written.Store(0)
	said, err = d.put(t, data)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(said, "\n"), "are there from an earlier try: it is gone on with")
	assert.Less(t, d.written.Load(), int64(500_000))
	assert.Equal(t, data, d.has(t, "/lark.cgo"))
	assert.Nil(t, d.has(t, partOf(data)), "nothing else is left")
}

// TestWhatIsNotOfTheFileIsSentAgain has something else under the name of a broken-off try.
func TestWhatIsNotOfTheFileIsSentAgain(t *testing.T) {
	data := random(300_000, 1)
	for name, left := range map[string][]byte{"another's": random(200_000,
		9), "longer": append(bytes.Clone(data), 1), "short": data[:10], "whole": data} {
		d := newDevice()
		files, err := sftp.NewClient(d.dial(t))
		require.NoError(t, err)
		file, err := files.Create(partOf(data))
		require.NoError(t, err)
		_, err = file.Write(left)
		require.NoError(t, err)
		require.NoError(t, file.Close())
		_, err = d.put(t, data)
		require.NoError(t, err, name)
		assert.Equal(t, data, d.has(t, "/lark.cgo"), name)
	}
}

func TestADeviceThatTakesOnlyTheWantedName(t *testing.T) {
	d, data := newDevice(), random(300_000, 1)
	d.refuses = ".part-"
	_, err := d.put(t, data)
	require.NoError(t, err)
	assert.Equal(t, data, d.has(t, "/lark.cgo"))

	d = newDevice()
	d.renames = false
	_, err = d.put(t, data)
	require.ErrorContains(t, err, "the device has it whole, as "+partOf(data)+", and does not rename it")

	d = newDevice()
	d.refuses = "lark"
	_, err = d.put(t, data)
	require.ErrorContains(t, err, "the device does not take /lark.cgo")
}

func TestAPutIsEndedAtOnce(t *testing.T) {
	d := newDevice()
	ctx, cancel := context.WithCancelCause(t.Context())
	ended := errors.New("ended by hand")
	_, _, err := Put{
		Client:   d.dial(t),
		Protocol: SFTP,
		To:       "/lark.cgo",
		Size:     1 << 40,
		SHA256:   strings.Repeat("0", 64),
		Clock:    clock.Real(),
		Open:     func() (io.ReadSeekCloser, error) { return endless{func() { cancel(ended) }}, nil },
	}.Do(ctx)
	assert.ErrorIs(t, err, ended)
	assert.ErrorContains(t, err, "stays there as /lark.cgo.part-00000000")
}

// endless is a file without an end, which says when it is read.
type endless struct{ read func() }

func (e endless) Read(p []byte) (int, error) {
	e.read()
	return len(p), nil
}
func (endless) Seek(int64, int) (int64, error) { return 0, nil }
func (endless) Close() error                   { return nil }
