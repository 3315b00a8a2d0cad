package evidence

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/state"
)

// story is a change with everything that the charts draw. Some of its texts are what a hostile device
// might write.
func story() *state.State {
	at := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	rows := func(release, runs string) []map[string]string {
		return []map[string]string{
			{"bank": "A", "state": "running", "release": "7.4.2", "saved": "no"},
			{"bank": "B", "state": "standby", "release": release, "next": "yes", "saved": runs},
		}
	}
	const id = "tftp 192.0.2.41:2049"
	s := state.New()
	for i, body := range []event.Body{
		event.SessionBegin{Target: "bench:mare-gw1?x", Device: "mare-gw1"},
		event.RunBegin{Title: "Upgrade <the> standby bank", Steps: []event.StepPlan{
			{ID: "1.1", Phase: "read", Title: "Find it"}, {ID: "1.2", Phase: "read", Title: "Burn it", Irreversible: true}, {ID: "1.3", Phase: "restart", Title: "Restart & wait", Hold: true},
		}},
		event.StepBegin{ID: "1.1"},
		event.StepEnd{ID: "1.1", Outcome: event.Done, Took: 10 * time.Second},
		event.StepEnd{ID: "1.2", Outcome: event.Skipped},
		event.Fact{Name: "running.release", Value: "7.4.2"},
		event.Fact{Name: "banks", Rows: rows("7.2.0", "no")},
		event.Fact{Name: "banks", Rows: rows("7.6.1", "no")},
		event.UpgradePath{From: "7.4.2", To: "8.1.0", Steps: []event.UpgradeStep{{From: "7.4.2", Release: "7.6.1", Image: "lark-7.6.1.cgo"}, {From: "7.6.1", Release: "8.1.0", Image: "lark-8.1.0.cgo", Before: []string{"licence"}}}},
		event.Fact{Name: "systems", Rows: []map[string]string{{"release": "5.2", "unpacked": "yes", "running": "yes", "lasting": "yes"}}},
		event.Fact{Name: "dryrun", Rows: []map[string]string{{"part": "lan", "effect": "restarts", "seconds": "20", "verdict": "goes"}, {"part": "room", "effect": "is needed", "seconds": "26", "verdict": "goes"}}},
		event.Fact{Name: "dryrun", Rows: []map[string]string{{"part": "lan", "effect": "restarts", "seconds": "35", "verdict": "warns", "reason": "the ferry & its ramp"}}},
		event.Fact{Name: "ring.state", Value: "broken"},
		event.Fact{Name: "ring.where", Value: "between unit 2 and unit 3"},
		event.Fact{Name: "units", Rows: []map[string]string{{"unit": "1", "model": "S24", "role": "lead", "release": "3.1", "state": "here"}, {"unit": "2", "role": "deputy", "release": "3.1", "state": "here"}, {"unit": "3", "role": "member", "release": "3.1", "state": "here"}}},
		event.Fact{Name: "units", Rows: []map[string]string{{"unit": "1", "model": "S24", "role": "member", "release": "3.2", "state": "here"}, {"unit": "2", "role": "lead", "release": "3.2", "state": "here"}, {"unit": "3", "role": "none", "release": "3.1", "state": "apart"}}},
		event.Fact{Name: "copies", Rows: []map[string]string{{"unit": "1", "copy": "written", "percent": "100"}, {"unit": "2", "copy": "copying", "percent": "40"}, {"unit": "3", "copy": "failed", "percent": "60", "reason": "broken off"}}},
		event.Pending{Name: "trial", State: event.PendingOpen, Says: "the old release comes back", Until: at.Add(10 * time.Minute)},
		event.Fact{Name: "systems", Rows: []map[string]string{{"release": "5.4\x1b[2J", "packed": "yes", "unpacked": "yes", "running": "yes"}, {"release": "5.2", "unpacked": "yes", "lasting": "yes"}}},
		event.Pending{Name: "trial", State: event.PendingDealt, Says: "the old release comes back"},
		event.Pending{Name: "timed restart", State: event.PendingOpen, Says: "it restarts", Until: at.Add(time.Hour)},
		event.TransferBegin{ID: id, File: "lark\x1b[2J.cgo", Size: 100, Protocol: "TFTP", Peer: "192.0.2.41:2049"},
		event.Rung{Transfer: id, Row: 0, FromDevice: true, What: "RRQ", Text: "lark octet \u009b]&<", Count: 1},
		event.Rung{Transfer: id, Row: 1, What: "DATA", First: 1, Last: 3672, Count: 3672, Resent: 7},
		event.TransferEnd{ID: id, Outcome: event.Done},
		event.StepBegin{ID: "1.3"},
		event.Probe{Watched: "icmp:192.0.2.41", Held: true, Trip: time.Millisecond},
		event.Probe{Watched: "icmp:192.0.2.41"},
		event.Probe{Watched: "icmp:192.0.2.41"},
		event.Reach{Watched: "icmp:192.0.2.41", State: event.Gone, Begin: at.Add(15 * time.Second)},
		event.Reach{Watched: "icmp:192.0.2.41", State: event.Back, Begin: at.Add(15 * time.Second), Length: 90 * time.Second},
		event.Flash{
			Base: 0xbf000000, Sectors: []event.FlashSectors{{Count: 4, Size: 65536}, {Count: 2, Size: 8192}}, Parts: []event.FlashPart{{Name: "loader", Size: 65536, Protected: true}, {Name: "sys<tem\x1b[2J", At: 65536, Size: 131072}},
			Part: "sys<tem\x1b[2J", File: "skua & more.pws", State: event.FlashVerified, EraseFrom: 65536, EraseTo: 131072, WriteFrom: 65536, WriteTo: 70000, Checksum: "cacaea87",
		},
		event.StepEnd{ID: "1.3", Outcome: event.Failed, Took: 2 * time.Minute},
		event.RunEnd{Outcome: event.Failed, Message: "it did not come back", Proved: []string{"nothing"}},
		event.Fact{Name: "layers", Rows: []map[string]string{{"layer": "core", "release": "6.4", "state": "runs"}, {"layer": "mesh", "release": "6.4", "state": "runs"}, {"layer": "board", "release": "6.4", "state": "runs", "brings": "6.4"}}},
		event.Fact{Name: "layers", Rows: []map[string]string{{"layer": "core", "release": "6.2", "state": "runs"}, {"layer": "mesh", "release": "6.4", "state": "rests"}, {"layer": "board", "release": "6.4", "state": "runs", "brings": "6.2"}}},
		event.Fact{Name: "attached", Rows: []map[string]string{{"name": "ap-1", "model": "P2", "release": "3.4", "state": "here"}, {"name": "ap-2", "release": "3.4", "state": "here"}, {"name": "ap-3", "release": "3.4", "state": "here"}}},
		event.Fact{Name: "attached", Rows: []map[string]string{{"name": "ap-1", "model": "P2", "release": "3.4", "state": "away"}, {"name": "ap-2", "release": "3.4", "state": "loading", "percent": "40"}, {"name": "ap-3", "release": "3.4", "state": "here"}}},
		event.NewDevice{MAC: "02:00:5e:10:00:01", Vendor: "Maskel\x1b[2J S8", Addr: "192.0.2.61", Stage: "has fetched", Step: 4, Files: 1, Rounds: 1, Wrong: "no any.cfg here"},
		event.Rung{Transfer: event.RungDHCP, Row: 1, Protocol: "DHCP", FromDevice: true, What: "DISCOVER", Text: "02:00:5e:10:00:01"},
		event.Fact{Name: "attached", Rows: []map[string]string{{"name": "ap-1", "model": "P2", "release": "3.6", "state": "here"}, {"name": "ap-2", "release": "3.4", "state": "failed", "reason": "broken\x1b[2J off"}}},
	} {
		s.Apply(event.Event{Seq: int64(i), At: at.Add(time.Duration(i) * time.Second), Body: body})
	}
	return s
}

// texts reads an SVG as XML and returns what it writes; every place has to be on the sheet.
func texts(t *testing.T, d *Drawing) string {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, d.SVG(&out))
	var all strings.Builder
	for decoder := xml.NewDecoder(&out); ; {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return all.String()
		}
		require.NoError(t, err)
		switch token := token.(type) {
		case xml.CharData:
			all.Write(token)
			all.WriteByte('\n')
		case xml.StartElement:
			onTheSheet(t, d, token)
		}
	}
}

func onTheSheet(t *testing.T, d *Drawing, element xml.StartElement) {
	t.Helper()
	for _, a := range element.Attr {
		limit := map[string]float64{"x": d.Width, "x1": d.Width, "x2": d.Width, "cx": d.Width, "y": d.Height, "y1": d.Height, "y2": d.Height, "cy": d.Height}[a.Name.Local]
		if limit == 0 {
			continue
		}
		n, err := strconv.ParseFloat(a.Value, 64)
		require.NoError(t, err)
		assert.True(t, n >= 0 && n <= limit, "%s %s=%s of %v", element.Name.Local, a.Name.Local, a.Value, limit)
	}
}

func TestEveryChartSaysWhatHappened(t *testing.T) {
	for name, wants := range map[string][]string{
		"course":     {"Upgrade <the> standby bank", "Restart & wait", "failed: it did not come back", "proved: nothing", "deadline: trial", "runs out 14:10:00", "the old release comes back"},
		"upgrades":   {"7.4.2", "8.1.0", "runs", "before: licence", "lark-7.6.1.cgo"},
		"banks":      {"7.2.0 → 7.6.1", "chosen for the next start, not kept", "runs, as before"},
		"systems":    {"5.4·[2J", "runs now", "ran before", "A restart, or a power cut, starts 5.2: what runs is lost by it.", "dealt with at 14:00:19, 09:41 before", "open when the record ends"},
		"stack":      {"lead → member", "deputy → lead", "3.1 → 3.2", "apart", "40 %", "failed", "broken off", "The ring is broken between unit 2 and unit 3."},
		"first-boot": {"02:00:5e:10:00:01 Maskel·[2J S8", "192.0.2.61", "has fetched; 1 file, 1 restart", "no any.cfg here", "DHCP  DISCOVER  02:00:5e:10:00:01", "DATA 1 … 3,672", "this laptop"},
		"layers":     {"core", "6.4 → 6.2", "rests", "waits for 6.2", "The layers do not agree."},
		"attached":   {"ap-1", "P2", "here, 3.4 → 3.6", "failed", "broken·[2J off", "missing", "loads", "14:00:"},
		"flash":      {"part sys<tem·[2J", "0xbf010000 to 0xbf01ffff   65,536 B   64.0 KiB", "0xbf010000 to 0xbf01116f   4,464 B", "the loader's checksum cacaea87 is the file's", "never touched", "skua & more.pws"},
		"dry-run":    {"lan", "35 s", "warns", "the ferry & its ramp; not so in the dry run at 14:00:10", "room: only in the dry run at 14:00:10"},
		"reach":      {"icmp:192.0.2.41", "3 tries, 2 without an answer", "away 01:30", "in “Restart & wait”"},
		"ladder":     {"DATA 1 … 3,672", "7 resent", "RRQ  lark octet ·]&<", "lark·[2J.cgo"},
	} {
		got := texts(t, Charts[name](story()))
		for _, want := range wants {
			assert.Contains(t, got, want, name)
		}
		assert.Contains(t, got, "mare-gw1")
		assert.False(t,
			strings.ContainsFunc(got, func(r rune) bool { return r < 0x20 && r != '\n' || r >= 0x7f && r < 0xa0 }),
			name)
	}
}

func TestEveryChartIsAPageToo(t *testing.T) {
	for name, chart := range Charts {
		for _, s := range []*state.State{state.New(), story()} {
			var out bytes.Buffer
			require.NoError(t, chart(s).PDF(&out), name)
			assert.True(t, bytes.HasPrefix(out.Bytes(), []byte("%PDF-")), name)
			assert.Equal(t, 1, bytes.Count(out.Bytes(), []byte("/Type /Page\n")), name)
			assert.NotEmpty(t, texts(t, chart(s)))
		}
	}
}

// extreme is a change with everything at its largest: steps, releases, names, messages, and signs of every script; it
// is cut off while a target is away.
func extreme(steps, upgrades int) *state.State {
	at := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	long := strings.Repeat("a name of a step that is long ", 4) + "🚢 港 \u0627\u0644 \U0010ffff" + strings.Repeat(
		"unbroken",
		20,
	)
	s := state.New()
	seq := int64(0)
	apply := func(body event.Body) {
		seq++
		s.Apply(event.Event{Seq: seq, At: at.Add(time.Duration(seq) * time.Second), Body: body})
	}
	begin := event.RunBegin{Title: long}
	for i := range steps {
		begin.Steps = append(begin.Steps,
			event.StepPlan{ID: strconv.Itoa(i), Phase: "phase " + long, Title: strconv.Itoa(i) + " " + long})
	}
	path := event.UpgradePath{From: "1.0", To: "2.0", Downgrade: true}
	for i := range upgrades {
		path.Steps = append(path.Steps,
			event.UpgradeStep{Release: strconv.Itoa(i) + ".123456789-rc1", Image: long, Before: []string{long}})
	}
	apply(event.SessionBegin{Target: "bench:x", Device: long})
	apply(begin)
	apply(path)
	const id = "tftp 192.0.2.41:2049"
	apply(event.TransferBegin{ID: id, File: long, Size: 100, Protocol: "TFTP", Peer: "192.0.2.41:2049"})
	for i := range 450 {
		apply(event.Rung{Transfer: id, Row: i, What: "remark", Text: strconv.Itoa(i), Count: 1})
	}
	for i := range steps - 1 {
		apply(event.StepBegin{ID: strconv.Itoa(i)})
		if i < steps-2 {
			apply(event.StepEnd{ID: strconv.Itoa(i), Outcome: event.Done, Took: time.Second})
		}
	}
	apply(event.Probe{Watched: "icmp:192.0.2.41", Held: true, Trip: time.Millisecond})
	apply(event.Reach{Watched: "icmp:192.0.2.41", State: event.Gone, Begin: s.Now})
	for range 90 {
		apply(event.Probe{Watched: "icmp:192.0.2.41"})
	}
	return s
}

// TestDrawingsOfExtremesNeitherLieNorBreak draws all charts of small and of large changes.
func TestDrawingsOfExtremesNeitherLieNorBreak(t *testing.T) {
	for _, size := range [][2]int{{3, 1}, {300, 12}} {
		s := extreme(size[0], size[1])
		for name, chart := range Charts {
			d := chart(s)
			said := texts(t, d)
			var pdf bytes.Buffer
			require.NoError(t, d.PDF(&pdf), name)
			if size[0] == 300 && name == "course" {
				assert.Greater(t, bytes.Count(pdf.Bytes(), []byte("/Type /Page\n")), 5, "in pages")
			}
			for _, want := range map[string][]string{
				"course":   {"The record ends here, in the middle of the run", "cut off"},
				"reach":    {"away 01:31", "until the end of the record"},
				"ladder":   {"50 earlier messages are left out here."},
				"upgrades": {"A downgrade"},
			}[name] {
				assert.Contains(t, said, want, name)
			}
		}
	}
}

// TestStepsThatNeverBeganHaveNoBar counts the boxes of a course.
func TestStepsThatNeverBeganHaveNoBar(t *testing.T) {
	s := extreme(10, 1)
	boxes := 0
	for _, one := range Course(s).items {
		if p, ok := one.(polygon); ok && len(p.points) == 4 && p.points[0][0] >= 330 {
			boxes++
		}
	}
	assert.Equal(t, 9, boxes, "eight that ended, one that was cut off, none for the one that never began")
}

func TestSignsThatAFontDoesNotHave(t *testing.T) {
	assert.Equal(t, "lark → □ □ ø", inFont("lark → 🚢 港 ø"))
}

// TestPagesCutThroughNoText holds every break against every text.
func TestPagesCutThroughNoText(t *testing.T) {
	d := Course(extreme(300, 1))
	breaks := d.breaks()
	require.Greater(t, len(breaks), 5)
	for _, at := range breaks[1 : len(breaks)-1] {
		for _, one := range d.items {
			if w, ok := one.(words); ok {
				from, to := extent(one)
				assert.False(t, from < at && to > at, "%q", w.text)
			}
		}
	}
}
