package test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/line"
	"pilotrix/core/network"
	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/sense"
	"pilotrix/core/session"
	"pilotrix/core/shipped"
	"pilotrix/core/transfer"
	"pilotrix/core/transfer/ftpd"
	"pilotrix/core/transfer/httpd"
	"pilotrix/core/transfer/tftp"
	"pilotrix/demo"
)

// serving is what a protocol's server has.
type serving interface {
	Addr() netip.AddrPort
	Serve(ctx context.Context) error
}

// serveFor lets a server serve until the test ends.
func serveFor(t *testing.T, s serving, err error) netip.AddrPort {
	t.Helper()
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx) }()
	t.Cleanup(func() {
		cancel()
		require.NoError(t, <-ended)
	})
	return s.Addr()
}

// staged is a stage with one random file of that size.
func staged(t *testing.T, size int) (stage *offer.Stage, name string, data []byte) {
	t.Helper()
	path := randomFile(t, size)
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	stage = &offer.Stage{}
	_, err = stage.Offer(offer.File{
		Name: filepath.Base(path),
		Size: int64(size),
		Open: func() (io.ReadSeekCloser, error) { return os.Open(path) },
	})
	require.NoError(t, err)
	return stage, filepath.Base(path), data
}

var anyPort = netip.MustParseAddrPort("127.0.0.1:0")

func output(t *testing.T, name string, args ...string) []byte {
	t.Helper()
	_, err := exec.LookPath(name)
	require.NoError(t, err, "needs the Debian package %s; ./dev/test installs it", name)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var complaint bytes.Buffer
	run := exec.CommandContext(ctx, name, args...)
	run.Stderr = &complaint
	out, err := run.Output()
	require.NoError(t, err, "%s %v: %s", name, args, &complaint)
	return out
}

// TestOtherClientsFetchAndLeaveByTFTP has curl and busybox, whose TFTP is their own, in both directions.
func TestOtherClientsFetchAndLeaveByTFTP(t *testing.T) {
	for _, size := range []int{0, 511, 512, 1024, 300_001} {
		stage, name, data := staged(t, size)
		server, err := listenTFTP(stage, anyPort)
		at := serveFor(t, server, err)
		if size > 0 { // curl itself gives up on an empty file
			assert.True(t, bytes.Equal(data, output(t, "curl", "-sS", "tftp://"+at.String()+"/"+name)), "curl, %d B",
				size)
			assert.True(t,
				bytes.Equal(data, output(t, "curl", "-sS", "--tftp-blksize", "1428", "tftp://"+at.String()+"/"+name)),
				"curl in blocks of 1428, %d B", size)
		}
		folder := tempDir(t)
		port := fmt.Sprint(at.Port())
		for _, block := range []string{"512", "1428"} {
			got := filepath.Join(folder, "got"+block)
			output(t, "busybox", "tftp", "-g", "-b", block, "-r", name, "-l", got, "127.0.0.1", port)
			fetched, err := os.ReadFile(got)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(data, fetched), "busybox in blocks of %s, %d B", block, size)
		}
		source := filepath.Join(folder, "got512")
		for client, leave := range map[string]func(as string){
			"curl": func(as string) { output(t, "curl", "-sS", "-T", source, "tftp://"+at.String()+"/"+as) },
			"busybox": func(as string) {
				output(t, "busybox", "tftp", "-p", "-l", source, "-r", as, "127.0.0.1",
					port)
			},
		} {
			if size == 0 && client == "curl" {
				continue // sends nothing at all for an empty file
			}
			as := "from-" + client
			_, err := stage.OpenSlot(offer.Slot{Name: as, Folder: folder, Most: 1 << 20})
			require.NoError(t, err)
			leave(as)
			require.Eventually(t, func() bool {
				left, err := os.ReadFile(filepath.Join(folder, as))
				return err == nil && bytes.Equal(data, left)
			}, 5*time.Second, 10*time.Millisecond, "%s, %d B", client, size)
		}
	}
}

func listenTFTP(stage *offer.Stage, at netip.AddrPort) (serving, error) {
	return tftp.Listen(at, tftp.Options{Network: network.Host{}, Stage: stage})
}

func TestHTTPWithAndWithoutRanges(t *testing.T) {
	stage, name, data := staged(t, 100_000)
	s, err := httpd.Listen(anyPort, offer.Serving{Network: network.Host{}, Stage: stage})
	at := serveFor(t, s, err)
	url := "http://" + at.String() + s.Path(name)
	assert.True(t, bytes.Equal(data, output(t, "curl", "-sSf", url)))
	assert.True(t, bytes.Equal(data[500:600], output(t, "curl", "-sSf", "-r", "500-599", url)))
	assert.True(t, bytes.Equal(data[99_000:], output(t, "curl", "-sSf", "-r", "-1000", url)))
	part := filepath.Join(tempDir(t), "part")
	require.NoError(t, os.WriteFile(part, data[:40_000], 0o600))
	output(t, "curl", "-sSf", "-C", "-", "-o", part, url)
	whole, err := os.ReadFile(part)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, whole), "gone on with after a break")
	for path, code := range map[string]string{
		s.Path("other"): "404", "/" + name: "404", "/": "404", s.Path("../" + name): "200", s.Path("%2e%2e/etc/hostname"): "404",
		s.Path(name + ".old"): "404", s.Path(strings.ToUpper(name)): "200",
	} {
		got := output(t, "curl", "-sS", "--path-as-is", "-o", "/dev/null", "-w", "%{http_code}",
			"http://"+at.String()+path)
		assert.Equal(t, code, string(got), path)
	}
	assert.Contains(t, string(output(t, "curl", "-sS", "http://"+at.String()+s.Path(name+".old"))),
		"asked for with .old after it")
	assert.Equal(t, "405",
		string(output(t, "curl", "-sS", "-o", "/dev/null", "-w", "%{http_code}", "-X", "DELETE", url)))
}

func TestFTPWithItsCredentialsAndWithoutThem(t *testing.T) {
	stage, name, data := staged(t, 100_000)
	s, err := ftpd.Listen(anyPort, offer.Serving{Network: network.Host{}, Stage: stage})
	at := serveFor(t, s, err)
	user, password := s.Login()
	url := "ftp://" + at.String() + "/" + name
	login := user + ":" + password
	assert.True(t, bytes.Equal(data, output(t, "curl", "-sS", "-u", login, url)))
	assert.True(t, bytes.Equal(data, output(t, "curl", "-sS", "--disable-epsv", "-u", login, url)))
	assert.True(t, bytes.Equal(data, output(t, "curl", "-sS", "-P", "127.0.0.1", "-u", login, url)),
		"the device may be called back")
	assert.True(t, bytes.Equal(data[5000:], output(t, "curl", "-sS", "-C", "5000", "-u", login, url)))
	assert.Contains(t, string(output(t, "curl", "-sS", "-u", login, "ftp://"+at.String()+"/")), name)
	folder := tempDir(t)
	source := randomFile(t, 5000)
	_, err = stage.OpenSlot(offer.Slot{Name: "setup.txt", Folder: folder, Most: 1 << 20})
	require.NoError(t, err)
	output(t, "curl", "-sS", "-u", login, "-T", source, "ftp://"+at.String()+"/setup.txt")
	left, err := os.ReadFile(filepath.Join(folder, "setup.txt"))
	require.NoError(t, err)
	assert.Len(t, left, 5000)
	for what, args := range map[string][]string{
		"a wrong password":    {"-u", user + ":wrong", url},
		"no login":            {url},
		"a name not staged":   {"-u", login, "ftp://" + at.String() + "/etc/hostname"},
		"a way out":           {"-u", login, "--path-as-is", "ftp://" + at.String() + "/..%2f..%2fetc/hostname"},
		"no slot":             {"-u", login, "-T", source, "ftp://" + at.String() + "/other"},
		"over a file":         {"-u", login, "-T", source, "ftp://" + at.String() + "/setup.txt"},
		"removing":            {"-u", login, "-Q", "DELE " + name, "ftp://" + at.String() + "/"},
		"another's door":      {"-u", login, "-Q", "PORT 192,0,2,1,80,80", "ftp://" + at.String() + "/"},
		"another's, extended": {"-u", login, "-Q", "EPRT |1|192.0.2.1|8080|", "ftp://" + at.String() + "/"},
	} {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		out, err := exec.CommandContext(ctx, "curl", append([]string{"-sS"}, args...)...).CombinedOutput()
		cancel()
		assert.Error(t, err, "%s: %s", what, out)
	}
	assert.True(t, bytes.Equal(data, output(t, "curl", "-sS", "-u", login, url)),
		"the server is up and the file is there")
}

// endings hears how transfers end.
type endings struct {
	offer.NoWatcher
	reported chan error
}

func (e endings) Ended(_ offer.Transfer, _ transfer.Progress, err error) { e.reported <- err }

// TestAFileThatIsCutWhileItIsSentIsNoWholeOne: the device is told, and so is the operator.
func TestAFileThatIsCutWhileItIsSentIsNoWholeOne(t *testing.T) {
	heard := endings{reported: make(chan error, 10)}
	stage := &offer.Stage{}
	_, err := stage.Offer(offertest.Shrunk("lark.cgo", make([]byte, 100_000), 60_000))
	require.NoError(t, err)
	opt := offer.Serving{Network: network.Host{}, Stage: stage, Watcher: heard}
	overTFTP, err := tftp.Listen(anyPort, tftp.Options{Network: network.Host{}, Stage: stage, Watcher: heard})
	tftpAt := serveFor(t, overTFTP, err)
	overHTTP, err := httpd.Listen(anyPort, opt)
	httpAt := serveFor(t, overHTTP, err)
	overFTP, err := ftpd.Listen(anyPort, opt)
	ftpAt := serveFor(t, overFTP, err)
	user, password := overFTP.Login()
	for _, url := range []string{
		"tftp://" + tftpAt.String() + "/lark.cgo",
		"http://" + httpAt.String() + overHTTP.Path("lark.cgo"),
		"ftp://" + user + ":" + password + "@" + ftpAt.String() + "/lark.cgo",
	} {
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		err := exec.CommandContext(ctx, "curl", "-sS", "-o", filepath.Join(tempDir(t), "got"), url).Run()
		cancel()
		assert.Error(t, err, url)
		assert.ErrorContains(t, <-heard.reported, "it was changed meanwhile", url)
	}
}

// openBoard starts the board and brings it to its prompt.
func openBoard(t *testing.T) *session.Session {
	t.Helper()
	d := loadDialect(t, "u-boot")
	target, err := line.ParseTarget("unix:" + startBoard(t))
	require.NoError(t, err)
	s, err := session.Open(t.Context(),
		session.Options{Target: target, Dialect: d, Opener: line.NewOpener(clock.Real())})
	require.NoError(t, err)
	s.Begin()
	book, err := runbook.Parse("catch.yaml",
		[]byte("runbook: catch\nphases: [{phase: one, steps: [{step: Stop it, catch: {mode: prompt}}]}]\n"))
	require.NoError(t, err)
	prepared, err := book.Prepare(d, nil, runbook.Kit{})
	require.NoError(t, err)
	result, err := s.Run(t.Context(), prepared)
	require.NoError(t, err)
	require.Equal(t, engine.ExitDone, result.Exit, result.Message)
	s.SetInterlocks(false) // what is typed here writes the board's own memory, and is meant to
	return s
}

// typed types a command by hand and returns what was answered until the next prompt.
func typed(t *testing.T, s *session.Session, command string, limit time.Duration) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	defer cancel()
	s.Press([]byte(command + "\r"))
	v, err := s.Await(ctx, func(v sense.State) bool { return v.AtPrompt })
	require.NoError(t, err, "%s: %s", command, v.Output())
	return v.Output()
}

func loadDialect(t *testing.T, name string) *dialect.Dialect {
	t.Helper()
	d, err := shipped.Dialect(name)
	require.NoError(t, err)
	return d
}

// TestServeAlone runs the command: what is inside an archive is offered under its own name, a slot takes
// one file, and the live view shows the ladder.
func TestServeAlone(t *testing.T) {
	t.Parallel()
	folder, into := tempDir(t), tempDir(t)
	require.NoError(t, demo.GatewayShelf(folder, smallImage))
	port := freePort(t)
	term := startTerminal(t, 100, 50, "serve", filepath.Join(folder, "shelf"), "--at", "127.0.0.1", "--protocol",
		"tftp", "--protocol", "ftp", "--port", fmt.Sprintf("tftp=%d,ftp=%d", port, freePort(t)), "--receive",
		"setup.txt", "--into", into)
	term.until("user once, password ")
	term.until("may be left here once")
	got := output(t, "curl", "-sS", fmt.Sprintf("tftp://127.0.0.1:%d/lark-7.6.1.cgo", port))
	assert.Equal(t, sha256.Sum256(demo.GatewayImage("7.6.1", smallImage)), sha256.Sum256(got))
	screen := term.until("whole ✓")
	assert.Contains(t, screen, "RRQ")
	came := randomFile(t, 700_000)
	require.NoError(t, os.Rename(came, filepath.Join(folder, "shelf", "came-later.bin")))
	term.until("came-later.bin")
	assert.Len(t, output(t, "curl", "-sS", fmt.Sprintf("tftp://127.0.0.1:%d/came-later.bin", port)), 700_000)
	require.NoError(t,
		os.WriteFile(filepath.Join(folder, "shelf", "SHA256SUMS"), []byte(strings.Repeat("0", 64)+"  came-later.bin\n"),
			0o600))
	term.until("came-later.bin: its sha256 is not the one published in SHA256SUMS")
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	require.Error(t, exec.CommandContext(ctx, "curl", "-sS", fmt.Sprintf("tftp://127.0.0.1:%d/lark-7.6.1", port)).Run())
	term.until("(asked for without")
	output(t, "curl", "-sS", "-T", randomFile(t, 1000), fmt.Sprintf("tftp://127.0.0.1:%d/setup.txt", port))
	require.FileExists(t, filepath.Join(into, "setup.txt"))
	term.keys("q")
	term.until("exit code 0")
}

// portsDrawn counts those that freePort gave out.
var portsDrawn atomic.Uint32

// freePort is a port that nothing listens at, neither by UDP nor by TCP, and that no connection is given by the system:
// those come from above.
func freePort(t *testing.T) uint16 {
	t.Helper()
	for range 1000 {
		const first, many = 20_000, 12_000
		at := netip.AddrPortFrom(anyPort.Addr(), uint16(first+(uint32(os.Getpid())*97+portsDrawn.Add(1)*13)%many))
		conn, err := network.Host{}.ListenPacket(at)
		if err != nil {
			continue
		}
		listener, err := net.Listen("tcp", at.String())
		_ = conn.Close()
		if err == nil {
			_ = listener.Close()
			return at.Port()
		}
	}
	require.Fail(t, "there is no free port")
	return 0
}

// TestPutIntoARecoveryLoader starts the loader only after the command: it is asked again until it is
// there.
func TestPutIntoARecoveryLoader(t *testing.T) {
	t.Parallel()
	folder := tempDir(t)
	port := freePort(t)
	source := randomFile(t, 200_000)
	put := exec.Command(program, "send", source, "--protocol", "tftp", "--to", fmt.Sprintf("127.0.0.1:%d", port),
		"--as", "recovery.img", "--timeout", "1m")
	var said bytes.Buffer
	put.Stdout = &said
	tries, err := put.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, put.Start())
	awaitText(t, tries, "try 2")
	go func() { _, _ = io.Copy(io.Discard, tries) }()
	stage := &offer.Stage{}
	_, err = stage.OpenSlot(offer.Slot{Name: "recovery.img", Folder: folder, Most: 1 << 20})
	require.NoError(t, err)
	server, err := listenTFTP(stage, netip.AddrPortFrom(anyPort.Addr(), port))
	serveFor(t, server, err)
	require.NoError(t, put.Wait(), "%s", &said)
	want, err := os.ReadFile(source)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		got, err := os.ReadFile(filepath.Join(folder, "recovery.img"))
		return err == nil && bytes.Equal(want, got)
	}, 5*time.Second, 10*time.Millisecond)
	assert.Contains(t, said.String(), "done: 200000 B")
}

// awaitText reads until a text came.
func awaitText(t *testing.T, from io.Reader, text string) {
	t.Helper()
	var heard []byte
	piece := make([]byte, 256)
	for !bytes.Contains(heard, []byte(text)) {
		n, err := from.Read(piece)
		require.NoError(t, err, "never said %q: %s", text, heard)
		heard = append(heard, piece[:n]...)
	}
}

// TestPasteIntoADevice types a file into the gateway by its prompt, and is reported the line that it refuses.
func TestPasteIntoADevice(t *testing.T) {
	t.Parallel()
	path := filepath.Join(tempDir(t), "setup"+ownSecret)
	require.NoError(t,
		os.WriteFile(path, []byte("harbour\nlamp-and-tide\nlook banks\nfrobnicate\nlook lines\n"), 0o600))
	args := []string{
		"paste", path, "--on", "bench:mare-gw1", "--time-scale", "8", "--logbook", "none", "--prompt",
		`(name: |word: | / )$`,
	}
	const refused = `line 4 of the text ("frobnicate"): the device answered: no such word: frobnicate`
	out, err := exec.Command(program, args...).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), refused+"; typed before it: 3 lines")
	out, err = exec.Command(program, append(args, "--fail", "room in the standby bank")...).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out),
		`line 3 of the text ("look banks"): the device answered: room in the standby bank; typed before it: 2 lines`)
	out, err = exec.Command(program, append(args, "--go-on")...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "refused: "+refused)
	assert.Contains(t, string(out), "done: 5 lines")

	require.NoError(t, os.WriteFile(path, []byte("look banks\n wipe  bank B\n"), 0o600))
	out, err = exec.Command(program, args...).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), `line 2 ("wipe  bank B") empties a bank`)
}
