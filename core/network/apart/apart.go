// Package apart gives a test two networks of its own, with a wire between them: nothing of what it sends there reaches
// another one. It needs root.
package apart

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"
)

// inside says a test's own process that it is in a network of its own.
const inside = "PILOTRIX_APART"

// Addresses at the two ends of the wire.
const (
	Here  = "192.0.2.10"
	There = "192.0.2.41"
)

// Ends of the wire.
const (
	WireHere  = "wire0"
	WireThere = "wire1"
)

// Elsewhere is the other network.
type Elsewhere struct {
	t   *testing.T
	pid string
}

// With is what a test needs besides.
type With struct {
	Tools    []string // commands that have to be there
	Env      []string // for the test inside
	Parallel bool
}

// Run runs a test once more, in a network of its own, and what is inside of it there. The other network has no address
// yet.
func Run(t *testing.T, test func(t *testing.T, there Elsewhere), with With) {
	t.Helper()
	if os.Getenv(inside) == t.Name() {
		test(t, begin(t))
		return
	}
	if with.Parallel {
		t.Parallel()
	}
	if os.Geteuid() != 0 {
		t.Skip("needs root: network namespaces are made")
	}
	for _, tool := range append(with.Tools, "unshare", "nsenter", "ip") {
		if _, err := exec.LookPath(tool); err != nil {
			t.Fatalf("%s is not here; ./dev/test installs what is needed", tool)
		}
	}
	args := []string{"-n", os.Args[0], "-test.run=^" + t.Name() + "$", "-test.v"}
	flag.Visit(func(f *flag.Flag) { // those of the test's own
		if !strings.HasPrefix(f.Name, "test.") {
			args = append(args, fmt.Sprintf("-%s=%s", f.Name, f.Value))
		}
	})
	again := exec.Command("unshare", args...)
	again.Env = append(append(os.Environ(), with.Env...), inside+"="+t.Name())
	out, err := again.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "--- PASS: "+t.Name()) {
		t.Fatalf("%v\n%s", err, out)
	}
	if testing.Verbose() {
		t.Logf("%s", out)
	}
}

func begin(t *testing.T) Elsewhere {
	there := exec.Command("unshare", "-n", "sleep", "600")
	if err := there.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = there.Process.Kill(); _ = there.Wait() })
	e := Elsewhere{t, fmt.Sprint(there.Process.Pid)}
	own, err := os.Readlink("/proc/self/ns/net")
	for link := own; err == nil && (link == own || link == ""); time.Sleep(5 * time.Millisecond) {
		link, _ = os.Readlink("/proc/" + e.pid + "/ns/net")
	}
	if err != nil {
		t.Fatal(err)
	}
	Says(t, "ip", "link", "set", "lo", "up")
	Says(t, "ip", "link", "add", WireHere, "type", "veth", "peer", "name", WireThere)
	Says(t, "ip", "link", "set", WireThere, "netns", e.pid)
	Says(t, "ip", "addr", "add", Here+"/24", "dev", WireHere)
	Says(t, "ip", "link", "set", WireHere, "up")
	return e
}

// Says runs a command here, and returns what it says.
func Says(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %s: %v: %s", name, strings.Join(args, " "), err, out)
	}
	return string(out)
}

// Command is one that is run there.
func (e Elsewhere) Command(args ...string) *exec.Cmd {
	return exec.Command("nsenter", append([]string{"-t", e.pid, "-n"}, args...)...)
}

// Says runs a command there, and returns what it says.
func (e Elsewhere) Says(args ...string) string {
	e.t.Helper()
	return Says(e.t, "nsenter", append([]string{"-t", e.pid, "-n"}, args...)...)
}
