package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/runbook"
	"pilotrix/demo"
)

// planned prints the plan of the bank upgrade in a format.
func planned(t *testing.T, more ...string) []byte {
	t.Helper()
	folder := tempDir(t)
	require.NoError(t, demo.GatewayShelf(folder, smallImage))
	shelf := filepath.Join(folder, "shelf")
	args := append([]string{
		"plan", "standby-bank-upgrade", "--dialect", "cormel-g2", "--shelf", shelf, "--set", "image=lark-8.1.0.cgo",
		"--set", "upgrade_paths=cormel-g2", "--set", "user=harbour", "--secret", "password=env:DEVICE_PASSWORD",
	}, more...)
	plan := exec.Command(program, args...)
	plan.Env = append(os.Environ(), "DEVICE_PASSWORD=lamp-and-tide", "XDG_CACHE_HOME="+folder, "XDG_DATA_HOME="+folder)
	out, err := plan.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.NotContains(t, string(out), "lamp-and-tide")
	return out
}

var known = []string{
	"--fact", "running.release=7.4.2", "--fact", "running.bank=A", "--fact", "device.model=G2-4", "--fact",
	"device.architecture=plover64", "--fact", "device.boot=2.1", "--fact", "device.licence=7", "--fact",
	"device.name=mare-gw1",
}

func TestThePlanOfTheUpgradeAsText(t *testing.T) {
	out := string(planned(t, known...))
	for _, want := range []string{
		"upgrade to 7.6.1", "upgrade to 8.1.0", "3b.2", "haul pass", "stages lark-7.6.1.cgo (300205 B) by TFTP", "haul tftp ${serve.address} lark-7.6.1.cgo",
		"favour ${standby.bank}", "stow", "recommence", "Writes lark 8.1.0 over bank ${standby.bank}", "danger    restarts the gateway", "◇ 3a.4", "▲ 5.2",
		"goes on at a prompt of login and when icmp:${device.address} answers", "look haul, every 5s", "tftp, blocks of 1428 B, windows of 16: about 3s (chosen)",
		"the device takes at most 90 kB/s", "rollback: the bank that ran before is not written by a step", "Nothing was sent",
		"types     harbour   (if it is in mode login)", "types     [secret]   (if it asks “word”)", "whenever   y   (if it asks “really”)",
		"skipped   this step does not ask for it", "pending   from here: the choice of the bank", "pending   no more: the choice",
		"checks    choice.stowed == standby.bank",
	} {
		assert.Contains(t, out, want)
	}
}

func TestThePlanSaysWhereItServes(t *testing.T) {
	out := string(planned(t, append(known, "--set", "address=192.0.2.10", "--set", "port=6969")...))
	assert.Contains(t, out, "by TFTP at 192.0.2.10, port 6969")
	assert.Contains(t, out, "haul tftp 192.0.2.10 lark-7.6.1.cgo", "what is known before is filled in")
}

func TestThePlanFillsInTheChosenWay(t *testing.T) {
	out := string(planned(t, append(known, "--set", "protocol=ftp", "--set", "both=yes", "--set", "into=.")...))
	assert.Contains(t, out, "Start the download by ftp")
	assert.Contains(t, out, "haul ftp ${serve.address} lark-8.1.0.cgo")
	assert.Contains(t, out, "[secret]   (if it asks “word there”)")
	assert.NotContains(t, out, "haul http")
}

func TestThePlanWithoutFactsKeepsItsLoop(t *testing.T) {
	out := string(planned(t))
	assert.Contains(t, out, "upgrade to ${upgrade.release}")
	assert.Contains(t, out, "for       each upgrade in upgrades")
}

func TestThePlanAsMarkdownAndJSON(t *testing.T) {
	markdown := string(planned(t, append(known, "--format", "markdown")...))
	for _, want := range []string{"# Upgrade the standby bank", "## upgrade to 8.1.0", "- **3b.12** ◇ Restart into 8.1.0 _(expected 2m30s, timeout 10m)_", "  - types: `recommence`", "## Rollback"} {
		assert.Contains(t, markdown, want)
	}
	var plan runbook.Plan
	require.NoError(t, json.Unmarshal(planned(t, append(known, "--json")...), &plan))
	assert.Equal(t, "standby-bank-upgrade", plan.Runbook)
	holds := 0
	for _, s := range plan.Steps {
		if s.Hold != "" {
			holds++
			assert.NotEmpty(t, s.Rollback, s.ID)
		}
	}
	assert.Equal(t, 7, holds, "three in each upgrade, of which one is not come to, and one for both banks")
}

// TestThePlanOfATrialHasItsDeadlines, and whether they are kept by what the steps are expected to take.
func TestThePlanOfATrialHasItsDeadlines(t *testing.T) {
	folder := tempDir(t)
	require.NoError(t, demo.EdgeShelf(folder, smallImage))
	planned := func(more ...string) string {
		args := append([]string{
			"plan",
			"install-and-confirm",
			"--dialect",
			"tamsin-e8",
			"--shelf",
			filepath.Join(folder, "shelf"),
			"--set",
			"image=marl-5.4.tms",
			"--set",
			"user=harbour",
			"--secret",
			"password=env:DEVICE_PASSWORD",
			"--fact",
			"running.release=5.2",
			"--fact",
			"lasting.release=5.2",
			"--fact",
			"trial.state=open",
		}, more...)
		plan := exec.Command(program, args...)
		plan.Env = append(os.Environ(), append(homeAt(folder), "DEVICE_PASSWORD=lamp-and-tide")...)
		out, err := plan.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	assert.Contains(t, planned(),
		"pending   from here: the release that runs is on trial, and the device goes back to the lasting one by itself, within 20m")
	assert.Regexp(t, `pending   no more: the release that runs is on trial.*; about 18m\d*s are left then`, planned())
	assert.Regexp(t,
		`pending   no more: the release that runs is on trial.*; TOO LATE: by what the steps take it has run out \d+s before`,
		planned("--set", "minutes=1"))
	assert.Contains(t, planned("--format", "markdown"), "  - pending: from here: the release that runs is on trial")
	var plan runbook.Plan
	require.NoError(t, json.Unmarshal([]byte(planned("--json")), &plan))
	var deadlines []runbook.Deadline
	for _, s := range plan.Steps {
		deadlines = append(deadlines, s.Deadlines...)
	}
	require.Len(t, deadlines, 2)
	assert.Equal(t, runbook.Deadline{Name: "trial", Opens: true, Within: 20 * time.Minute}, deadlines[0])
	assert.Equal(t, "trial", deadlines[1].Name)
	assert.Greater(t, deadlines[1].Left, 15*time.Minute)
	assert.Less(t, plan.Expected, 6*time.Minute,
		"the command that does all in one is not counted: it is not for this release")
	assert.Contains(t, planned("--set", "once=yes"),
		"skipped   5.2 has no “bring-and-activate”: it is there from 5.4 on; bring, unpack and activate are done one by one")
}

// TestTheShelfFromTheCommandLine adds a folder, lists it, holds it against a device and plans the way.
func TestTheShelfFromTheCommandLine(t *testing.T) {
	folder := tempDir(t)
	require.NoError(t, demo.GatewayShelf(folder, smallImage))
	shelf := func(fails bool, args ...string) string {
		t.Helper()
		run := exec.Command(program, append([]string{"shelf"}, args...)...)
		run.Env = append(os.Environ(), "XDG_DATA_HOME="+filepath.Join(folder, "data"),
			"XDG_CACHE_HOME="+filepath.Join(folder, "cache"), "XDG_CONFIG_HOME="+filepath.Join(folder, "config"))
		out, err := run.CombinedOutput()
		assert.Equal(t, fails, err != nil, "%v: %s", args, out)
		return string(out)
	}
	assert.Contains(t, shelf(false, "list"), "no folder is on the shelf")
	out := shelf(false, "add", filepath.Join(folder, "shelf"))
	assert.Contains(t, out, "in lark-7.6.1.zip")
	assert.Contains(t, out, "✗ broken")
	assert.Contains(t, out, "licence for 8")
	assert.Contains(t, shelf(true, "add", filepath.Join(folder, "nowhere")), "no such file")
	show := shelf(false, "show", "lark-8.1.0.cgo")
	for _, want := range []string{"models         G2-4, G2-8", "boot           2.0", "sha512", "sha256         as published in SHA256SUMS", "by tftp"} {
		assert.Contains(t, show, want)
	}
	assert.Contains(t,
		shelf(true, "add", filepath.Join(folder, "shelf", "lark-8.1.0.cgo"), "--digest", "SHA256: "+randomHex),
		"does not have that sha256")
	assert.Contains(t, shelf(true, "fit", "--fact", "oops"), "want name=value")
	fit := shelf(false, append([]string{"fit"}, known...)...)
	assert.Contains(t, fit, "✗ lark-8.1.0-g2-16.cgo")
	assert.Contains(t, fit, "its sha256 is not the one published in pasted")
	plan := shelf(true, append([]string{"fit", "--upgrade-paths", "cormel-g2", "--to", "lark-8.1.0.cgo"}, known...)...)
	assert.Contains(t, plan, "does not fit this device: its sha256 is not the one published in pasted")
	require.NoError(t, os.Remove(filepath.Join(folder, "data", "pilotrix", "shelf.json")))
	plan = shelf(
		false,
		append(
			[]string{
				"fit",
				"--shelf",
				filepath.Join(folder, "shelf"),
				"--upgrade-paths",
				"cormel-g2",
				"--to",
				"lark-8.1.0.cgo",
			},
			known...)...)
	assert.Contains(t, plan, "7.4.2 ━▶ 7.6.1")
	assert.Contains(t, plan, "7.6.1 ━▶ 8.1.0      lark-8.1.0.cgo  before: licence  after: rebuild")

	require.NoError(t, os.MkdirAll(filepath.Join(folder, "config", "pilotrix"), 0o700))
	own := filepath.Join(folder, "config", "pilotrix", "images.yaml")
	require.NoError(t,
		os.WriteFile(own, []byte("image:\n  - {name: release, pattern: '^tide-gauge-(\\d+)\\.', in: name}\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "shelf", "tide-gauge-7.bin"), []byte("anything"), 0o600))
	assert.Contains(t, shelf(false, "list", "--shelf", filepath.Join(folder, "shelf")), "7          tide-gauge-7.bin",
		"a pattern of the user's own")
	require.NoError(t, os.WriteFile(own, []byte("image:\n  - {name: release, pattern: '('}\n"), 0o600))
	assert.Contains(t, shelf(true, "list"), "images.yaml:2:30: bad pattern")
}

const randomHex = "00112233445566778899aabbccddeeff00112233445566778899aabbccddeeff"

// TestCalculationsFromTheCommandLine asks for what is computed elsewhere and tested there: here its words.
func TestCalculationsFromTheCommandLine(t *testing.T) {
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"reckon", "blocks", "512"}, "33553919 B (32.0 MiB)"},
		{[]string{"reckon", "erase", "--at", "0x40001", "--size", "0x20000", "--sector", "64KiB"}, "sectors 3 of 0x10000"},
		{[]string{"reckon", "burn", "system", "3000001", "--base", "0x9f000000", "--sectors", "8x8KiB,127x64KiB", "--part", "boot=0+0x8000", "--protect", "boot", "--part", "system=0x10000+0x700000"}, "erase  0x9f010000 to 0x9f2effff"},
		{[]string{"reckon", "time", "9MiB", "--baud", "115200", "--trip", "2ms"}, "xmodem-1k"},
		{[]string{"reckon", "time", "40MiB"}, "the block counter begins anew"},
	} {
		out, err := exec.Command(program, c.args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, string(out), c.says)
	}
	for _, args := range [][]string{{"reckon", "blocks", "7"}, {"reckon", "time", "fast"}, {"reckon", "time", "1MiB", "--link", "fast"}, {"reckon", "erase", "--at", "x", "--size", "1"}} {
		out, err := exec.Command(program, args...).CombinedOutput()
		require.Error(t, err, "%v: %s", args, out)
		assert.Contains(t, string(out), "is no ")
	}
}
