package line

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
)

// telnetServer starts Debian's telnet server for one connection after the other and returns its address.
func telnetServer(t *testing.T, shell string) string {
	t.Helper()
	require.FileExists(t, "/usr/sbin/telnetd", "needs the Debian package inetutils-telnetd; ./dev/test installs it")
	return serveEach(t, func(conn net.Conn) {
		file, err := conn.(*net.TCPConn).File()
		_ = conn.Close()
		if err != nil {
			return
		}
		server := exec.Command("/usr/sbin/telnetd", "-h", "-E", shell)
		server.Stdin, server.Stdout = file, file
		if server.Start() == nil {
			_ = file.Close()
			_ = server.Wait()
		}
	})
}

// serveEach serves every connection to an address of this machine until the test ends.
func serveEach(t *testing.T, serve func(net.Conn)) (address string) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go serve(conn)
		}
	}()
	return listener.Addr().String()
}

// heard collects what a line says until it has a text.
func heard(t *testing.T, l Line, text string) string {
	t.Helper()
	var all strings.Builder
	limit := time.After(20 * time.Second)
	for !strings.Contains(all.String(), text) {
		select {
		case chunk, open := <-l.Chunks():
			require.True(t, open, "it ended: %v; %q", l.Err(), all.String())
			all.Write(chunk.Bytes)
		case <-limit:
			require.FailNow(t, "not heard: "+text, "%q", all.String())
		}
	}
	return all.String()
}

// TestARealTelnetServer logs nobody in: it has a shell behind Debian's own server.
func TestARealTelnetServer(t *testing.T) {
	target, err := ParseTarget("telnet://" + telnetServer(t, "/bin/sh"))
	require.NoError(t, err)
	l, err := NewOpener(clock.Real()).Open(t.Context(), target)
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, l.(Resizer).Resize(97, 33))
	say := func(text string) { require.NoError(t, l.Write(t.Context(), []byte(text))) }
	say("PS1=; stty -echo; echo be\"\"gun\r")
	heard(t, l, "begun")
	say("echo terminal $TERM size $(stty size)\r")
	assert.Contains(t, heard(t, l, "\n"), "terminal xterm-256color size 33 97")
	require.NoError(t, l.(Resizer).Resize(120, 40))
	say("while [ \"$(stty size)\" != '40 120' ]; do :; done; echo re\"\"sized\r")
	heard(t, l, "resized")
	say("printf 'a\\377b\\r\\000c' | od -An -tx1 > /dev/null; printf '\\377\\376z'; echo\r")
	assert.Contains(t, heard(t, l, "z"), "\xff\xfez", "eight bits come through, and none of telnet's own")
	say("exit\r")
	for range l.Chunks() {
	}
	assert.ErrorIs(t, l.Err(), ErrUnplugged)
}

// hostile is a server that says something and then does as it likes.
func hostile(t *testing.T, serve func(net.Conn)) Target {
	t.Helper()
	target, err := ParseTarget("telnet://" + serveEach(t, func(conn net.Conn) {
		defer conn.Close()
		serve(conn)
	}))
	require.NoError(t, err)
	return target
}

// TestHostileTelnetServers holds that none of them hangs the line or gets its own commands through as data.
func TestHostileTelnetServers(t *testing.T) {
	for name, serve := range map[string]func(net.Conn){
		"a storm of options, and it never reads": func(c net.Conn) {
			for range 1 << 14 {
				if _, err := c.Write([]byte("\xff\xfd\xc8\xff\xfb\xc9\xff\xf6\xff\xfd\x18\xff\xfa\x18\x01\xff\xf0")); err != nil {
					return
				}
			}
			_, _ = c.Write([]byte("over"))
		},
		"a subnegotiation without an end": func(c net.Conn) {
			_, _ = c.Write([]byte("\xff\xfa\x18"))
			for range 1 << 10 {
				if _, err := c.Write([]byte(strings.Repeat("x", 1<<10))); err != nil {
					return
				}
			}
			_, _ = c.Write([]byte("\xff\xf0over"))
		},
		"an end in the middle of a command": func(c net.Conn) { _, _ = c.Write([]byte("over\xff\xfb")) },
	} {
		t.Run(name, func(t *testing.T) {
			l, err := NewOpener(clock.Real()).Open(t.Context(), hostile(t, serve))
			require.NoError(t, err)
			var data []byte
			for chunk := range l.Chunks() {
				data = append(data, chunk.Bytes...)
			}
			assert.NotContains(t, string(data), "\xff")
			require.NoError(t, l.Close())
		})
	}
}

// consoleServer takes every setting as asked, but for the speed, which is what speed says; 0 is no answer.
func consoleServer(c net.Conn, speed func(asked int) int) {
	_, _ = c.Write([]byte("\xff\xfd\x2c\xff\xfa\x2c\x66\x08\xff\xf0"))
	buffer := make([]byte, 4096)
	for {
		n, err := c.Read(buffer)
		if err != nil {
			return
		}
		for i := range n - 3 {
			if buffer[i] != 0xff || buffer[i+1] != 0xfa || buffer[i+2] != 0x2c {
				continue
			}
			answer := []byte{0xff, 0xfa, 0x2c, buffer[i+3] + 100, buffer[i+4], 0xff, 0xf0}
			if buffer[i+3] == 1 {
				now := speed(int(binary.BigEndian.Uint32(buffer[i+4:])))
				if now == 0 {
					continue
				}
				answer = append(binary.BigEndian.AppendUint32(answer[:4:4], uint32(now)), 0xff, 0xf0)
			}
			_, _ = c.Write(answer)
		}
	}
}

// TestWhatAConsoleServerReadBefore holds that a prompt which was read at another speed proves none, that one at this
// speed is kept, and that neither silence about the speed nor a device that never stops talking keeps a line closed.
func TestWhatAConsoleServerReadBefore(t *testing.T) {
	const kept = "mare-rtr1> "
	for name, c := range map[string]struct {
		was   int
		flood bool
		keeps bool
	}{
		"at another speed":              {was: 9600},
		"at this speed":                 {was: 115200, keeps: true},
		"it does not tell the speed":    {was: 0},
		"a device that never stops":     {was: 9600, flood: true},
		"one that never stops, at ours": {was: 115200, flood: true, keeps: true},
	} {
		t.Run(name, func(t *testing.T) {
			target := hostile(t, func(conn net.Conn) {
				_, _ = conn.Write([]byte(kept))
				over := make(chan struct{})
				defer close(over)
				if c.flood {
					go func() {
						for {
							select {
							case <-over:
								return
							case <-time.After(time.Millisecond):
								_, _ = conn.Write([]byte("."))
							}
						}
					}()
				}
				consoleServer(conn, func(asked int) int {
					if asked == 0 {
						return c.was
					}
					_, _ = conn.Write([]byte("!")) // what the port read last before it changed
					return asked
				})
			})
			target.Kind, target.Speed = ComPort, 115200
			ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
			defer cancel()
			l, err := NewOpener(clock.Real()).Open(ctx, target)
			require.NoError(t, err)
			_ = l.(*comPort).Purge(ctx) // answered after what came before
			_ = l.Close()
			var data []byte
			for chunk := range l.Chunks() {
				data = append(data, chunk.Bytes...)
			}
			assert.Equal(t, c.keeps, strings.Contains(string(data), kept), "%q", data)
		})
	}
}

// TestWhatAConsoleServerSaysOfTheWire sends its notices (RFC 2217, section 3): the wires that are on, and errors, each
// reported once.
func TestWhatAConsoleServerSaysOfTheWire(t *testing.T) {
	target := hostile(t, func(conn net.Conn) {
		consoleServer(conn, func(asked int) int {
			if asked == 0 {
				_, _ = conn.Write([]byte("\xff\xfa\x2c\x6b\x30\xff\xf0" + "\xff\xfa\x2c\x6a\x08\xff\xf0" + "\xff\xfa\x2c\x6a\x12\xff\xf0"))
			}
			return max(asked, 9600)
		})
	})
	target.Kind, target.Speed = ComPort, 9600
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	l, err := NewOpener(clock.Real()).Open(ctx, target)
	require.NoError(t, err)
	defer l.Close()
	signals, known := l.(Signaller).Signals()
	assert.True(t, known)
	assert.Equal(t, Signals{CTS: true, DSR: true}, signals)
	assert.Equal(t, []string{"framing errors", "an overrun", "a break"}, l.(Troubled).Troubles())
	assert.Empty(t, l.(Troubled).Troubles())
}

func TestAConsoleServerThatIsNone(t *testing.T) {
	for name, c := range map[string]struct {
		serve func(net.Conn)
		says  string
	}{
		"it refuses": {func(c net.Conn) {
			_, _ = c.Write([]byte("\xff\xfe\x2c"))
			_, _ = io.Copy(io.Discard, c)
		}, "it has no com-port control; telnet://"},
		"it closes at once": {func(net.Conn) {}, ""},
		"another speed": {func(c net.Conn) {
			consoleServer(c, func(int) int { return 9600 })
		}, "the console server set 9600 baud instead of 115200"},
	} {
		t.Run(name, func(t *testing.T) {
			target := hostile(t, c.serve)
			target.Kind, target.Speed = ComPort, 115200
			ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
			defer cancel()
			_, err := NewOpener(clock.Real()).Open(ctx, target)
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.False(t, errors.Is(err, context.DeadlineExceeded) && ctx.Err() != nil, "it does not hang")
		})
	}
}

func TestTelnetTargets(t *testing.T) {
	for text, want := range map[string]Target{
		"telnet://gw":                                   {Kind: Telnet, Address: "gw:23"},
		"telnet:gw:2001?size=80x24":                     {Kind: Telnet, Address: "gw:2001", Size: "80x24"},
		"telnet://[2001:db8::1]":                        {Kind: Telnet, Address: "[2001:db8::1]:23"},
		"rfc2217://192.0.2.9:4001?speed=9600&flow=none": {Kind: ComPort, Address: "192.0.2.9:4001", Speed: 9600, Flow: "none"},
	} {
		got, err := ParseTarget(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
		again, err := ParseTarget(got.String())
		require.NoError(t, err, got.String())
		assert.Equal(t, got, again, "it is written so that it can be read")
	}
	for text, says := range map[string]string{
		"rfc2217://gw": "HOST:PORT", "telnet://:23": "HOST:PORT", "telnet://gw?speed=9600": "has no speed", "telnet:": "KIND:ADDRESS", "telnet://gw?x=1": `no option "x"`,
	} {
		_, err := ParseTarget(text)
		assert.ErrorContains(t, err, says, text)
	}
}
