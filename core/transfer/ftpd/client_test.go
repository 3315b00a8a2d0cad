package ftpd

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/offer"
	"pilotrix/core/offer/offertest"
)

// TestAFetchIsContinuedWhereItWasSaid says REST before and after how the data is to move, and both ways: what comes is
// the rest of the file, and the fetch after that is whole again.
func TestAFetchIsContinuedWhereItWasSaid(t *testing.T) {
	r := newRig(t)
	random := rand.New(rand.NewPCG(1, 2))
	c := r.login()
	for range 200 {
		from := random.IntN(len(body) + 1)
		before, active := random.IntN(2) == 0, random.IntN(2) == 0
		rest := func() { assert.Contains(t, c.say(fmt.Sprint("REST ", from)), "350") }
		if before {
			rest()
		}
		var take func() net.Conn
		if active {
			listener, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			defer listener.Close()
			port := listener.Addr().(*net.TCPAddr).Port
			assert.Contains(t, c.say(fmt.Sprintf("PORT 127,0,0,1,%d,%d", port>>8, port&0xff)), "200")
			take = func() net.Conn { conn, err := listener.Accept(); require.NoError(t, err); return conn }
		} else {
			conn := c.data(c.passive())
			take = func() net.Conn { return conn }
		}
		if !before {
			rest()
		}
		if random.IntN(3) == 0 {
			assert.Contains(t, c.say("SIZE a.bin"), fmt.Sprint("213 ", len(body)))
		}
		assert.Contains(t, c.say("RETR a.bin"), "150")
		got, err := io.ReadAll(take())
		require.NoError(t, err)
		assert.True(t, bytes.Equal(body[from:], got), "from %d, %d came, REST first %v, active %v", from, len(got),
			before, active)
		assert.Contains(t, c.reply(), "226")
		if random.IntN(10) == 0 {
			data := c.data(c.passive())
			assert.Contains(t, c.say("RETR a.bin"), "150")
			got, err := io.ReadAll(data)
			require.NoError(t, err)
			assert.Len(t, got, len(body), "REST is for one transfer")
			assert.Contains(t, c.reply(), "226")
		}
	}
}

// TestATransferIsBrokenOff says ABOR in the middle, as an old client does with telnet's commands before it, of which
// the last may come out of band and so not at all. What is asked for meanwhile is answered afterwards, in its order.
func TestATransferIsBrokenOff(t *testing.T) {
	r := newRig(t)
	_, err := r.stage.Offer(offertest.File("large.bin", make([]byte, 50<<20)))
	require.NoError(t, err)
	c := r.login()
	for _, before := range []string{"", "\xff\xf4\xff\xf2", "\xff\xf4\xff", "\xff\xf2", "\xff\xfb\x06"} {
		data := c.data(c.passive())
		assert.Contains(t, c.say("RETR large.bin"), "150")
		_, err := io.ReadFull(data, make([]byte, 1000))
		require.NoError(t, err)
		assert.Contains(t, c.say("NOOP"), "200", "in the middle")
		assert.Contains(t, c.say("STAT"), "213 large.bin: ")
		_, err = io.WriteString(c, "PWD\r\n"+before+"ABOR\r\nSYST\r\n")
		require.NoError(t, err)
		assert.Contains(t, c.reply(), "426", "%q", before)
		assert.Contains(t, c.reply(), "226", "%q", before)
		assert.Contains(t, c.reply(), "257")
		assert.Contains(t, c.reply(), "215")
		n, _ := io.Copy(io.Discard, data)
		assert.Less(t, n, int64(50<<20-1000))
	}
	r.watch.mu.Lock()
	defer r.watch.mu.Unlock()
	require.Len(t, r.watch.ended, 5)
	for _, one := range r.watch.ended {
		assert.ErrorIs(t, one.err, errBrokenOff)
	}
}

// TestADeviceMayQuitBeforeItsFileIsThrough says all that it has to say, and hangs up; one that only hangs up has broken
// it off.
func TestADeviceMayQuitBeforeItsFileIsThrough(t *testing.T) {
	for _, quits := range []bool{true, false} {
		r := newRig(t)
		c := r.login()
		data := c.data(c.passive())
		assert.Contains(t, c.say("STOR up.cfg"), "150")
		if quits {
			_, err := io.WriteString(c, "QUIT\r\n")
			require.NoError(t, err)
		}
		require.NoError(t, c.Conn.(*net.TCPConn).CloseWrite())
		if !quits {
			_, err := c.r.ReadByte() // until the session is over
			require.ErrorIs(t, err, io.EOF)
		}
		_, _ = io.WriteString(data, "kept")
		_ = data.Close()
		if quits {
			assert.Contains(t, c.reply(), "226 4 B are here")
			assert.Contains(t, c.reply(), "221")
			assert.FileExists(t, filepath.Join(r.folder, "up.cfg"))
		} else {
			assert.NoFileExists(t, filepath.Join(r.folder, "up.cfg"))
		}
	}
}

// TestTextIsSentAsText by TYPE A, and as it is until somebody says so.
func TestTextIsSentAsText(t *testing.T) {
	r := newRig(t)
	_, err := r.stage.Offer(offertest.File("setup.cfg", []byte("a\nb\r\n\nc")))
	require.NoError(t, err)
	c := r.login()
	fetch := func(want string) {
		data := c.data(c.passive())
		assert.Contains(t, c.say("RETR setup.cfg"), "150")
		got, err := io.ReadAll(data)
		require.NoError(t, err)
		assert.Equal(t, want, string(got))
		assert.Contains(t, c.reply(), "226")
	}
	fetch("a\nb\r\n\nc")
	assert.Contains(t, c.say("TYPE A"), "200")
	fetch("a\r\nb\r\r\n\r\nc")
	assert.Equal(t, "213 10", c.say("SIZE setup.cfg"), "of what a fetch brings")
	assert.Contains(t, c.say("REST 3"), "350")
	data := c.data(c.passive())
	assert.Contains(t, c.say("RETR setup.cfg"), "554")
	_ = data.Close()
	data = c.data(c.passive())
	assert.Contains(t, c.say("STOR up.cfg"), "150")
	_, err = io.WriteString(data, "a\r\nb\r\r\n\r\nc\r")
	require.NoError(t, err)
	require.NoError(t, data.Close())
	assert.Contains(t, c.reply(), "226")
	kept, err := os.ReadFile(filepath.Join(r.folder, "up.cfg"))
	require.NoError(t, err)
	assert.Equal(t, "a\nb\r\n\nc\r", string(kept))
}

// TestWhatIsReportedOfAFile is what RFC 3659 asks for.
func TestWhatIsReportedOfAFile(t *testing.T) {
	r := newRig(t)
	f := offertest.File("dated.bin", []byte("12345"))
	f.Modified = time.Date(2026, 11, 30, 12, 34, 56, 0, time.FixedZone("", 3600))
	_, err := r.stage.Offer(f)
	require.NoError(t, err)
	c := r.login()
	assert.Equal(t, "213 20261130113456", c.say("MDTM dated.bin"))
	assert.Contains(t, c.say("MDTM a.bin"), "550", "not known")
	assert.Equal(t, "250-as it is staged:", c.say("MLST dated.bin"))
	assert.Equal(t, "type=file;size=5;modify=20261130113456;perm=r; dated.bin", c.reply())
	assert.Contains(t, c.reply(), "250 ")
	assert.Equal(t, "211-served here:", c.say("FEAT"))
	features := ""
	for line := ""; !strings.HasPrefix(line, "211 "); features += line + "\n" {
		line = c.reply()
	}
	for _, feature := range []string{"SIZE", "MDTM", "REST STREAM", "MLST ", "EPSV", "EPRT"} {
		assert.Contains(t, features, feature)
	}
}

// TestALoginIsAsked before anything that says something, and not for ever.
func TestALoginIsAsked(t *testing.T) {
	r := newRig(t)
	user, _ := r.Login()
	conn, err := net.Dial("tcp", r.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	c := r.login()
	c.Conn = conn
	c.r.Reset(conn)
	c.reply()
	for word, command := range commands {
		if !command.always {
			assert.Contains(t, c.say(word+" a.bin"), "530", word)
		}
	}
	for n := 1; n <= maxFailures; n++ {
		c.say("USER " + user)
		assert.Contains(t, c.say("PASS x"), map[bool]string{true: "421", false: "530"}[n == maxFailures])
	}
	_, err = c.r.ReadByte()
	assert.ErrorIs(t, err, io.EOF)
}

// TestHostileCommands sends what no client does, in any order, and asks afterwards whether it is served still.
func TestHostileCommands(t *testing.T) {
	r := newRig(t)
	random := rand.New(rand.NewPCG(3, 4))
	var words []string
	for word := range commands {
		words = append(words, word)
	}
	for range 60 {
		conn, err := net.Dial("tcp", r.Addr().String())
		require.NoError(t, err)
		user, password := r.Login()
		fmt.Fprintf(conn, "USER %s\r\nPASS %s\r\n", user, password)
		go func() { _, _ = io.Copy(io.Discard, conn) }()
		for range random.IntN(60) {
			line := words[random.IntN(len(words))] + " " + []string{"", "a.bin", "up.cfg", "1", "-1", "99999999999999999999", "127,0,0,1,31,144", "|1|127.0.0.1|8080|", strings.Repeat("x", 5000), "\xff\xf4\xff\xf2", "\x00\xff"}[random.IntN(11)] + "\r\n"
			piece := random.IntN(len(line)) + 1
			_, _ = io.WriteString(conn, line[:piece])
			_, _ = io.WriteString(conn, line[piece:])
		}
		_ = conn.Close()
	}
	c := r.login()
	data := c.data(c.passive())
	assert.Contains(t, c.say("RETR a.bin"), "150")
	got, err := io.ReadAll(data)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(body, got))
}

// TestClientsThatShareNoCodeWithOurServer fetch, continue and leave files.
func TestClientsThatShareNoCodeWithOurServer(t *testing.T) {
	r := newRig(t)
	user, password := r.Login()
	url := fmt.Sprintf("ftp://%s/", r.Addr())
	t.Run("curl", func(t *testing.T) {
		if _, err := exec.LookPath("curl"); err != nil {
			t.Skip("no curl here")
		}
		for _, way := range [][]string{{}, {"--disable-epsv"}, {"--ftp-port", "127.0.0.1"}, {"--ftp-port", "127.0.0.1", "--disable-eprt"}, {"--ftp-method", "nocwd"}} {
			to := filepath.Join(t.TempDir(), "got")
			require.NoError(t, os.WriteFile(to, body[:33_333], 0o600))
			out, err := exec.CommandContext(t.Context(), "curl",
				append(way, "-sS", "-m", "20", "-C", "-", "-u", user+":"+password, "-o", to, url+"a.bin")...).
				CombinedOutput()
			require.NoError(t, err, "%v: %s", way, out)
			got, err := os.ReadFile(to)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(body, got), "%v", way)
		}
		out, err := exec.CommandContext(t.Context(), "curl", "-sS", "-m", "20", "-u", user+":"+password, url).
			CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, string(out), "a.bin")
	})
	t.Run("ftplib", func(t *testing.T) {
		if _, err := exec.LookPath("python3"); err != nil {
			t.Skip("no python3 here")
		}
		_, err := r.stage.OpenSlot(offer.Slot{Name: "left.txt", Folder: r.folder, Most: 1 << 20})
		require.NoError(t, err)
		script := fmt.Sprintf(`
import ftplib, io
f = ftplib.FTP(); f.connect("127.0.0.1", %d, 20); f.login(%q, %q)
print(f.nlst(), f.size("a.bin"), sorted(dict(f.mlsd())))
for passive in (True, False):
    f.set_pasv(passive); got = []
    f.retrbinary("RETR a.bin", got.append, rest=1234); print(len(b"".join(got)))
f.storlines("STOR left.txt", io.BytesIO(b"one\r\ntwo\r\n"))
c = f.transfercmd("RETR a.bin"); c.recv(10); c.close()
try: print("abor", f.abort())
except ftplib.Error as e: print("abor", e)
try: f.voidcmd("NOOP")
except ftplib.Error as e: print(e)
f.quit()
`, r.Addr().Port(), user, password)
		out, err := exec.CommandContext(t.Context(), "python3", "-c", script).CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, string(out),
			fmt.Sprintf("['a.bin'] %d ['a.bin']\n%d\n%d\nabor ", len(body), len(body)-1234, len(body)-1234))
		kept, err := os.ReadFile(filepath.Join(r.folder, "left.txt"))
		require.NoError(t, err)
		assert.Equal(t, "one\ntwo\n", string(kept))
	})
}

// FuzzControl looks for bytes that a command is not read from to its end.
func FuzzControl(f *testing.F) {
	f.Add([]byte("RETR a\r\n\xff\xf4\xffABOR\r\n"))
	f.Fuzz(func(t *testing.T, in []byte) {
		c := control{in: bufio.NewReader(bytes.NewReader(in))}
		for range len(in) + 1 {
			word, param, err := c.command()
			if err != nil {
				return
			}
			if len(word)+len(param) > maxCommand {
				t.Fatal("a longer command than is read")
			}
		}
		t.Fatal("more commands than bytes")
	})
}
