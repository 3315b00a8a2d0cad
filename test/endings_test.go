//go:build !race

package test

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// longRunning are commands that go on until they are ended, with what they print once they do.
func longRunning(t *testing.T) map[string]struct {
	args     []string
	says     string
	progress bool // it says that on the standard error, and nothing on the other
} {
	served := tempDir(t)
	require.NoError(t, os.WriteFile(filepath.Join(served, "lark.cgo"), []byte("x"), 0o600))
	text := filepath.Join(served, "text")
	require.NoError(t, os.WriteFile(text, []byte(strings.Repeat("list\n", 1000)), 0o600))
	return map[string]struct {
		args     []string
		says     string
		progress bool
	}{
		"run":   {rescueArgs(t, "none", "--time-scale", "8", "--approve", "all"), "Send the image", false},
		"demo":  {[]string{"demo", "--headless", "--time-scale", "8", "--logbook", "none"}, "Send the image", false},
		"bench": {[]string{"bench", "hollow-rtr1"}, "pilotrix-bench-", false},
		"serve": {
			[]string{
				"serve",
				served,
				"--at",
				"127.0.0.1",
				"--protocol",
				"tftp",
				"--port",
				fmt.Sprintf("tftp=%d", freePort(t)),
			},
			"127.0.0.1",
			false,
		},
		"send": {
			[]string{"send", filepath.Join(served, "lark.cgo"), "--on", "exec:sleep 600", "--logbook", "none"},
			"awaiting the receiver",
			true,
		},
		"receive": {
			[]string{"receive", "--to", filepath.Join(served, "in"), "--on", "exec:sleep 600", "--logbook", "none"},
			"asking the sender",
			true,
		},
		"paste": {[]string{"paste", text, "--on", "exec:sleep 600", "--logbook", "none"}, "line 1 of", true},
	}
}

// TestEveryCommandEndsWhenItIsAsked ends each by a signal, and by whoever reads what it prints going away.
func TestEveryCommandEndsWhenItIsAsked(t *testing.T) {
	t.Parallel()
	for name := range longRunning(t) {
		for how, end := range map[string]func(*exec.Cmd, io.Closer){
			"SIGINT":          func(run *exec.Cmd, _ io.Closer) { _ = run.Process.Signal(syscall.SIGINT) },
			"SIGTERM":         func(run *exec.Cmd, _ io.Closer) { _ = run.Process.Signal(syscall.SIGTERM) },
			"a closed output": func(_ *exec.Cmd, out io.Closer) { _ = out.Close() },
		} {
			if how == "a closed output" && name != "run" && name != "demo" {
				continue // they print nothing more there, so that they do not see it
			}
			t.Run(name+" by "+how, func(t *testing.T) {
				c := longRunning(t)[name] // with a port of its own
				t.Parallel()
				within, stop := context.WithTimeout(t.Context(), 2*time.Minute)
				defer stop()
				run := exec.CommandContext(within, program, c.args...)
				run.Env = append(os.Environ(), "DEVICE_PASSWORD="+secretOfTests)
				out, err := run.StdoutPipe()
				require.NoError(t, err)
				var said strings.Builder
				run.Stderr = &said
				if c.progress {
					run.Stdout, run.Stderr = nil, nil
					out, err = run.StderrPipe()
					require.NoError(t, err)
				}
				require.NoError(t, run.Start())
				lines := bufio.NewReader(out)
				for line := ""; !strings.Contains(line, c.says); {
					piece, err := lines.ReadByte() // what goes on in one line has no end of a line
					require.NoError(t, err, "%s", &said)
					line += string(piece)
				}
				end(run, out)
				rest := make(chan string, 1)
				if how != "a closed output" {
					go func() { all, _ := io.ReadAll(lines); rest <- string(all) }()
				} else {
					rest <- ""
				}
				ended := make(chan error, 1)
				go func() {
					if how != "a closed output" {
						words := <-rest // to its end, before it is waited for
						rest <- words
					}
					ended <- run.Wait()
				}()
				select {
				case <-ended:
				case <-time.After(time.Minute):
					_ = run.Process.Kill()
					require.Fail(t, "it goes on", "%s", &said)
				}
				assert.NotEqual(t, -1, run.ProcessState.ExitCode(), "it was not killed: %v", run.ProcessState)
				assert.NotContains(t, said.String(), "panic")
				assert.NotContains(t, said.String()+<-rest, "context canceled")
				if name == "run" || name == "demo" {
					assert.Equal(t, 3, run.ProcessState.ExitCode(), "%s", &said)
				}
			})
		}
	}
}

// TestHashingEndsWhenItIsAsked interrupts it in the middle of a file that takes long.
func TestHashingEndsWhenItIsAsked(t *testing.T) {
	t.Parallel()
	folder := t.TempDir() // nothing is written there, and it is too large to be looked through
	file, err := os.Create(filepath.Join(folder, "large.cgo"))
	require.NoError(t, err)
	require.NoError(t, file.Truncate(64<<30)) // of holes
	require.NoError(t, file.Close())
	run := exec.Command(program, "shelf", "list", "--shelf", folder)
	run.Env = append(os.Environ(), homeAt(tempDir(t))...)
	said, err := run.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, run.Start())
	piece := make([]byte, 1)
	_, err = said.Read(piece) // it says of its progress once it takes more than a second
	require.NoError(t, err)
	require.NoError(t, run.Process.Signal(syscall.SIGTERM))
	_, _ = io.Copy(io.Discard, said)
	ended := make(chan error, 1)
	go func() { ended <- run.Wait() }()
	select {
	case <-ended:
		assert.Equal(t, 1, run.ProcessState.ExitCode())
	case <-time.After(time.Minute):
		_ = run.Process.Kill()
		require.Fail(t, "it goes on")
	}
}

// TestLastText holds what a command ends with where something around it is not as it should be.
func TestLastText(t *testing.T) {
	home := tempDir(t)
	require.NoError(t, os.WriteFile(filepath.Join(home, "file"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(home, "long"), make([]byte, 2<<20), 0o600))
	for name, c := range map[string]struct {
		args []string
		env  []string
		full bool
		code int
		says string
	}{
		"a full output":              {[]string{"shelf", "list", "--shelf", home}, nil, true, 1, "the standard output cannot be written"},
		"help to a full output":      {[]string{"--help"}, nil, true, 1, "the standard output cannot be written"},
		"version to a full output":   {[]string{"version"}, nil, true, 1, "no space left"},
		"no HOME":                    {[]string{"shelf", "list", "--shelf", home}, []string{"HOME=", "XDG_DATA_HOME=", "XDG_CACHE_HOME=" + home}, false, 0, "HOME is not set"},
		"a logbook that is a folder": {[]string{"logbook", "list", "--logbook", home}, nil, false, 1, "logbook " + home},
		"no logbook yet": {[]string{"logbook", "list", "--logbook", filepath.Join(home,
			"none.db")}, nil, false, 0, "there is no logbook yet"},
		"a cache that is a file": {[]string{"shelf", "list", "--shelf", home}, []string{"XDG_CACHE_HOME=" + filepath.Join(home, "file")}, false, 1, "not kept for the next time"},
		"a folder that is gone": {[]string{"shelf", "list", "--shelf", filepath.Join(home,
			"gone")}, nil, false, 1, "gone"},
		"a word that is none":       {[]string{"logbok"}, nil, false, 2, "did you mean logbook?"},
		"a word in a group":         {[]string{"shelf", "lst"}, nil, false, 2, "or list?"},
		"an empty word":             {[]string{"shelf", "add", ""}, nil, false, 2, "word 1 of pilotrix shelf add is empty"},
		"too few words":             {[]string{"run"}, nil, false, 2, "which takes: pilotrix run RUNBOOK"},
		"a theme":                   {[]string{"version", "--theme", "blue"}, nil, false, 2, "there are auto, dark, light"},
		"a leader":                  {[]string{"version", "--leader", "f5"}, nil, false, 2, "want a key such as ctrl+g"},
		"a fact":                    {[]string{"shelf", "fit", "--fact", "device.modle=x", "--shelf", home}, nil, false, 2, "no image is held against that"},
		"a size with a comma":       {[]string{"reckon", "time", "1,5MB"}, nil, false, 2, "is no size"},
		"a negative size":           {[]string{"reckon", "time", "--", "-5"}, nil, false, 2, "is no size"},
		"a negative speed":          {[]string{"reckon", "time", "1MB", "--baud", "-9600"}, nil, false, 2, "a speed is above 0"},
		"a block that TFTP has not": {[]string{"reckon", "time", "1MB", "--block", "70000"}, nil, false, 2, "8 to 65464"},
		"a step that is none":       {[]string{"run", "rescue-over-serial", "--on", "bench:hollow-rtr1", "--set", "image=" + filepath.Join(home, "file"), "--set", "user=x", "--secret", "password=env:HOME", "--approve", "9.9"}, nil, false, 2, "2.1 “Remove the broken image”"},
		"a line without end": {[]string{"dialect", "try", "brindle-r40", filepath.Join(home,
			"long")}, nil, false, 2, "long: line 1 is longer than 1.00 MiB"},
		"no export": {[]string{"logbook", "import", filepath.Join(home,
			"long"), "--logbook", filepath.Join(home, "in.db")}, nil, false, 1, "long: line 1: "},
		"a time": {[]string{"logbook", "list", "--since", "yesterday"}, nil, false, 2, "is no time"},
	} {
		t.Run(name, func(t *testing.T) {
			run := exec.Command(program, c.args...)
			run.Env = append(os.Environ(), c.env...)
			var said strings.Builder
			run.Stderr = &said
			if c.full {
				full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
				require.NoError(t, err)
				defer full.Close()
				run.Stdout = full
			}
			_ = run.Run()
			assert.Equal(t, c.code, run.ProcessState.ExitCode(), "%s", &said)
			assert.Contains(t, said.String(), c.says)
		})
	}
}

// TestFoldersThatTakeNothing has every command that writes on a disk that is full and one that may only be read. What
// it leaves is looked at in there: no half file passes for a whole one.
func TestFoldersThatTakeNothing(t *testing.T) {
	t.Parallel()
	home := tempDir(t)
	book := filepath.Join(home, "book.db")
	out, err := exec.Command(program, "demo", "--headless", "--time-scale", "8", "--logbook", book).CombinedOutput()
	require.NoError(t, err, "%s", out)
	exported := filepath.Join(home, "book.jsonl")
	out, err = exec.Command(program, "logbook", "export", "1", "--logbook", book, "--out", exported).CombinedOutput()
	require.NoError(t, err, "%s", out)
	disk := filepath.Join(home, "disk")
	require.NoError(t, os.Mkdir(disk, 0o700))
	for folder, options := range map[string]struct{ mount, says string }{
		"a full disk":        {"size=16k", "no space left on device"},
		"a read-only folder": {"ro", "read-only file system"},
	} {
		for name, c := range map[string]struct {
			args string
			env  string // what is on that disk besides
			fill bool   // to the last byte
			code int
			says string // instead of what the system says
		}{
			"export":             {args: "logbook export 1 --logbook BOOK --out DISK/x", code: 1},
			"a drawing":          {args: "logbook draw 1 course --logbook BOOK --out DISK/x.svg", fill: true, code: 1},
			"import":             {args: "logbook import JSONL --logbook DISK/l.db", fill: true, code: 1, says: "logbook DISK/l.db: "},
			"a run":              {args: "demo --headless --time-scale 8 --logbook DISK/l.db", fill: true, code: 6, says: "nothing was changed on the device"},
			"a folder of images": {args: "shelf add SELF", env: "XDG_DATA_HOME=DISK", fill: true, code: 1},
			"a device":           {args: "device add a serial:/dev/ttyS0", env: "XDG_CONFIG_HOME=DISK", fill: true, code: 1},
			"a demo's own files": {args: "demo --headless --logbook none", env: "TMPDIR=DISK", code: 1},
		} {
			t.Run(name+" on "+folder, func(t *testing.T) {
				t.Parallel() // each has a disk that nobody else sees
				given := strings.NewReplacer("BOOK", book, "JSONL", exported, "SELF", home, "DISK", disk)
				quoted := strings.NewReplacer("BOOK", "'"+book+"'", "JSONL", "'"+exported+"'", "SELF", "'"+home+"'",
					"DISK", "'"+disk+"'")
				script := "mount -t tmpfs -o " + options.mount + " tmpfs '" + disk + "' || exit 99\n"
				if c.fill {
					script += "cat /dev/zero > '" + disk + "/fill' 2>/dev/null\n"
				}
				script += quoted.Replace(
					"env "+c.env+" '"+program+"' "+c.args) + "\ncode=$?; ls -A '" + disk + "'; exit $code"
				run := exec.Command("unshare", "--user", "--map-root-user", "--mount", "sh", "-c", script)
				run.Env = append(os.Environ(), homeAt(home)...)
				out, err := run.CombinedOutput()
				if run.ProcessState == nil {
					require.NoError(t, err)
				}
				assert.Equal(t, c.code, run.ProcessState.ExitCode(), "%s", out)
				assert.Contains(t, string(out), given.Replace(cmp.Or(c.says, options.says)))
				said := strings.TrimSpace(string(out))
				left := said[strings.LastIndexByte(said, '\n')+1:]
				assert.NotRegexp(t, `^(x|x\.svg|\.new.*|\.probe.*)$`, left, "half a file stays")
			})
		}
	}
}

// TestSignalsLeaveNoDeadScreen ends the interface by signals: the terminal is as it was.
func TestSignalsLeaveNoDeadScreen(t *testing.T) {
	t.Parallel()
	term := startTerminal(t, 100, 30, "open", "exec:sleep 600", "--logbook", "none")
	term.until("helm")
	pid := strings.TrimSpace(term.tmux("display-message", "-p", "-t", "s", "#{pane_pid}"))
	child, err := exec.Command("pgrep", "-P", pid).Output()
	require.NoError(t, err)
	for range 2 { // the second one finds nobody where the first was enough
		_ = exec.Command("kill", "-TERM", strings.TrimSpace(string(child))).Run()
	}
	screen := term.until("exit code")
	assert.NotContains(t, screen, "F1 help", "the other screen is left")
	assert.Equal(t, "0 1",
		strings.TrimSpace(term.tmux("display-message", "-p", "-t", "s", "#{alternate_on} #{cursor_flag}")))
}

// TestEightAtOnceKeepAllEight puts folders on the shelf from several programs.
func TestEightAtOnceKeepAllEight(t *testing.T) {
	t.Parallel()
	home := tempDir(t)
	folders := make([]string, 8)
	done := make(chan string, len(folders))
	for i := range folders {
		folders[i] = filepath.Join(home, "images", string(rune('a'+i)))
		require.NoError(t, os.MkdirAll(folders[i], 0o700))
	}
	for _, folder := range folders {
		go func() {
			run := exec.Command(program, "shelf", "add", folder)
			run.Env = append(os.Environ(), homeAt(home)...)
			out, _ := run.CombinedOutput()
			done <- string(out)
		}()
	}
	for range folders {
		<-done
	}
	kept, err := os.ReadFile(filepath.Join(home, "data", "pilotrix", "shelf.json"))
	require.NoError(t, err)
	for _, folder := range folders {
		assert.Contains(t, string(kept), folder)
	}
	pilotrixAt(t, home, "shelf", "remove", folders[3])
	kept, err = os.ReadFile(filepath.Join(home, "data", "pilotrix", "shelf.json"))
	require.NoError(t, err)
	assert.NotContains(t, string(kept), folders[3])
}
