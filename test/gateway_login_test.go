package test

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/demo"
)

// TestTheGatewayFetchesWithALogin carries the change out over real sockets: the device logs in with the
// one-time password, which is nowhere to be read afterwards.
func TestTheGatewayFetchesWithALogin(t *testing.T) {
	t.Parallel()
	for _, protocol := range []string{"ftp", "sftp"} {
		t.Run(protocol, func(t *testing.T) { fetchesWithALogin(t, protocol) })
	}
}

func fetchesWithALogin(t *testing.T, protocol string) {
	t.Parallel()
	folder := tempDir(t)
	require.NoError(t, demo.GatewayShelf(folder, smallImage))
	book := filepath.Join(folder, "logbook.db")
	run := exec.Command(program, "run", "standby-bank-upgrade", "--on", "bench:mare-gw1", "--shelf",
		filepath.Join(folder, "shelf"), "--set", "image=lark-7.6.1.cgo", "--set", "upgrade_paths=cormel-g2", "--set",
		"protocol="+protocol, "--set", "user=harbour", "--secret", "password=env:DEVICE_PASSWORD", "--watch",
		"http://192.0.2.41/", "--approve", "all", "--json", "--time-scale", "16", "--logbook", book)
	run.Env = append(os.Environ(), "DEVICE_PASSWORD=lamp-and-tide", "XDG_CACHE_HOME="+folder, "XDG_DATA_HOME="+folder)
	var said bytes.Buffer
	run.Stderr = &said
	out, err := run.Output()
	require.NoError(t, err, "%s\n%s", &said, out[max(0, len(out)-2000):])
	var secrets, fetched, made int
	var end event.RunEnd
	pages := map[bool]int{}
	for _, line := range bytes.Split(bytes.TrimSpace(out), []byte("\n")) {
		var e event.Event
		require.NoError(t, json.Unmarshal(line, &e))
		switch b := e.Body.(type) {
		case event.Out:
			if b.Secret > 0 {
				secrets++
			}
		case event.Secret:
			made++
			assert.Equal(t, event.Secret{What: "password of the " + protocol + " server"}, b)
		case event.TransferEnd:
			if b.ID != "" && b.Outcome == event.Done {
				fetched++
			}
		case event.Probe:
			if b.Watched == "http://192.0.2.41/" {
				pages[b.Held]++
			}
		case event.RunEnd:
			end = b
		}
	}
	assert.Contains(t, end.Proved, "lark 7.6.1 runs on mare-gw1")
	assert.Equal(t, 3, secrets, "two logins, and the word for the server: told by their lengths")
	assert.Equal(t, 1, fetched)
	assert.Positive(t, made, "what keeps the session knew the word before the device could print it")
	assert.Positive(t, pages[true])
	assert.Positive(t, pages[false], "its web page was away, too")
	assert.NotContains(t, string(out), "lamp-and-tide")
	assert.NotContains(t, string(out), `"password"`)

	for chart, says := range map[string]string{"reach": "away 0", "ladder": map[string]string{"ftp": "RETR", "sftp": "OPEN"}[protocol], "banks": "7.2.0 → 7.6.1"} {
		svg := filepath.Join(folder, chart+".svg")
		drawn, err := exec.Command(program, "logbook", "draw", "1", chart, "--out", svg, "--logbook", book).
			CombinedOutput()
		require.NoError(t, err, "%s", drawn)
		data, err := os.ReadFile(svg)
		require.NoError(t, err)
		assert.Contains(t, string(data), says)
		drawn, err = exec.Command(program, "logbook", "draw", "1", chart, "--out", svg, "--logbook", book).
			CombinedOutput()
		require.Error(t, err, "never over a file")
		assert.Contains(t, string(drawn), "exists")
	}
	drawn, err := exec.Command(program, "logbook", "draw", "1", "course", "--out", filepath.Join(folder, "course.gif"),
		"--logbook", book).
		CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(drawn), "ends in .svg or .pdf")
}
