package telnet

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// opened is a machine that has said what it wants.
func opened(opt Options) *Machine {
	m := New(opt)
	m.Begin()
	return m
}

func TestWhatTheClientOpensWith(t *testing.T) {
	assert.Equal(t, []byte{cmdIAC, cmdDo, 3, cmdIAC, cmdWill, 24, cmdIAC, cmdWill, 31}, New(Options{}).Begin())
	assert.Equal(t, []byte{
		cmdIAC, cmdDo, 3, cmdIAC, cmdWill, 24, cmdIAC, cmdWill, 31, cmdIAC, cmdDo, 0, cmdIAC, cmdWill, 0, cmdIAC,
		cmdWill, 44,
	}, New(Options{ComPort: true}).Begin())
}

func TestAnswersToOptions(t *testing.T) {
	for name, c := range map[string]struct {
		gets, says string
	}{
		"what was asked for is agreed without a word": {"\xff\xfb\x03", ""},
		"echo is let":                     {"\xff\xfb\x01", "\xff\xfd\x01"},
		"echo is let once":                {"\xff\xfb\x01\xff\xfb\x01\xff\xfb\x01", "\xff\xfd\x01"},
		"echo comes and goes":             {"\xff\xfb\x01\xff\xfc\x01", "\xff\xfd\x01\xff\xfe\x01"},
		"we do not echo":                  {"\xff\xfd\x01", "\xff\xfc\x01"},
		"nothing that is not known":       {"\xff\xfb\xc8\xff\xfd\xc8", "\xff\xfe\xc8\xff\xfc\xc8"},
		"a refusal is not answered":       {"\xff\xfc\x01\xff\xfe\x01", ""},
		"com-port control only if wanted": {"\xff\xfd\x2c", "\xff\xfc\x2c"},
		"the size, IAC doubled":           {"\xff\xfd\x1f", "\xff\xfa\x1f\x00\xff\xff\x00\x18\xff\xf0"},
		"the terminal type":               {"\xff\xfd\x18\xff\xfa\x18\x01\xff\xf0", "\xff\xfa\x18\x00vt\xff\xf0"},
		"not before it was agreed":        {"\xff\xfa\x18\x01\xff\xf0", ""},
		"are you there":                   {"\xff\xf6", "\xff\xf1"},
		"one that is never ended":         {"\xff\xfa\x18\x01\xff\xfb\x01", "\xff\xfd\x01"},
	} {
		m := opened(Options{Terminal: "vt", Cols: 255, Rows: 24})
		assert.Empty(t, m.Receive([]byte(c.gets)), "%s: none of it is data", name)
		assert.Equal(t, c.says, string(m.Replies()), name)
	}
}

func TestTheSizeIsReportedWhenItChanges(t *testing.T) {
	m := opened(Options{Cols: 80, Rows: 24})
	assert.Empty(t, m.Resize(100, 30), "not to who does not want to know")
	m.Receive([]byte("\xff\xfd\x1f"))
	assert.Equal(t, "\xff\xfa\x1f\x00\x64\x00\x1e\xff\xf0", string(m.Replies()))
	assert.Equal(t, "\xff\xfa\x1f\x01\x2c\x00\xff\xff\xff\xf0", string(m.Resize(300, 255)))
}

func TestCarriageReturns(t *testing.T) {
	m := opened(Options{})
	assert.Equal(t, "a\r\nb\rc\r\n", string(m.Receive([]byte("a\r\nb\r\x00c\r\n"))))
	assert.Equal(t, "x\r", string(m.Receive([]byte("x\r"))))
	assert.Equal(t, "y", string(m.Receive([]byte("\x00y"))), "however it is cut")
	assert.Equal(t, "look\r\x00", string(m.Encode([]byte("look\r"))))
	assert.Equal(t, "a\r\nb\r\x00c", string(m.Encode([]byte("a\r\nb\rc"))))

	m = opened(Options{Binary: true})
	m.Receive([]byte("\xff\xfb\x00\xff\xfd\x00"))
	assert.True(t, m.Ours(Binary) && m.Theirs(Binary))
	assert.Equal(t, "a\r\x00b", string(m.Receive([]byte("a\r\x00b"))), "binary is as it is")
	assert.Equal(t, "\r\x00\xff\xff", string(m.Encode([]byte("\r\x00\xff"))))
}

// TestDataComesThroughWhole sends any bytes through both directions, cut anywhere, in binary and not.
func TestDataComesThroughWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		data := rapid.SliceOf(rapid.SampledFrom([]byte{0, 1, 'a', '\r', '\n', 240, 250, 251, 255})).Draw(t, "data")
		m, far := opened(Options{Binary: true}), opened(Options{Binary: true})
		m.Receive([]byte("\xff\xfb\x00\xff\xfd\x00"))
		far.Receive([]byte("\xff\xfb\x00\xff\xfd\x00"))
		var got []byte
		for rest := m.Encode(data); len(rest) > 0; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "n")
			got = append(got, far.Receive(rest[:n])...)
			rest = rest[n:]
		}
		assert.True(t, bytes.Equal(data, got), "%q is %q", data, got)
		assert.Empty(t, far.Replies())
	})
}

// TestNoLoopCanBeProvoked has two machines talk to each other, and a server that never has enough.
func TestNoLoopCanBeProvoked(t *testing.T) {
	a, b := New(Options{ComPort: true, Cols: 80, Rows: 24}), New(Options{ComPort: true, Binary: true})
	fromA, fromB := a.Begin(), b.Begin()
	for n := 0; len(fromA)+len(fromB) > 0; n++ {
		require.Less(t, n, 10, "they never come to an end")
		a.Receive(fromB)
		b.Receive(fromA)
		fromA, fromB = a.Replies(), b.Replies()
	}
	for _, storm := range []string{"\xff\xfd\xc8", "\xff\xfb\x01\xff\xfc\x01", "\xff\xfd\x1f\xff\xfe\x1f", "\xff\xfa\x18\x01\xff\xf0", "\xff\xfb\xc8\xff\xfc\xc8"} {
		m := opened(Options{Terminal: "vt"})
		m.Receive([]byte("\xff\xfd\x18"))
		m.Receive(bytes.Repeat([]byte(storm), 10_000))
		assert.Less(t, len(m.Replies()), 400, "%q", storm)
	}
}

func TestALongSubnegotiationIsReadOver(t *testing.T) {
	m := opened(Options{ComPort: true})
	m.Receive([]byte("\xff\xfd\x2c"))
	long := Sub(ComPort, bytes.Repeat([]byte{'x'}, 1<<20))
	assert.Equal(t, "ok", string(m.Receive(append(long, "ok"...))))
	assert.Empty(t, m.Messages())
	assert.LessOrEqual(t, cap(m.sub), 2*maxSub)
	m.Receive(Sub(ComPort, []byte{101, 0, 0, 0xff, 0xff}))
	assert.Equal(t, []Message{{ComPort, []byte{101, 0, 0, 0xff, 0xff}}}, m.Messages(),
		"and IAC stands for itself in it")
}

func TestComPortControl(t *testing.T) {
	assert.Equal(t, []byte{cmdIAC, cmdSB, 44, 1, 0, 1, 0xc2, 0, cmdIAC, cmdSE}, Baud(115200).Request())
	assert.Equal(t, []byte{cmdIAC, cmdSB, 44, 1, 0, 0, 0xff, 0xff, 0x00, cmdIAC, cmdSE}, Baud(0xff00).Request(),
		"IAC is doubled in it")
	for set, want := range map[string]byte{"7 data bits": 7, "parity E": 3, "2 stop bits": 2} {
		found := false
		for _, one := range Framing(7, 'E', 2) {
			found = found || one.String() == set && one.Value() == int(want)
		}
		assert.True(t, found, set)
	}
	says, err := ParsePort([]byte{101, 0, 0, 0x25, 0x80})
	require.NoError(t, err)
	value, ok := Baud(9600).Answers(says)
	assert.True(t, ok)
	assert.Equal(t, 9600, value)
	_, ok = Flow("none").Answers(says)
	assert.False(t, ok, "that answers something else")
	says, err = ParsePort([]byte{107, 0xb0})
	require.NoError(t, err)
	assert.True(t, says.IsModem)
	assert.EqualValues(t, 0xb0, says.Modem)
	for _, bad := range [][]byte{nil, {}, {101}, {101, 1, 2}, {101, 0, 0, 0, 0, 0}, {102}, {102, 1, 2}, {106}, {1, 0, 0, 0, 0}, {99}, {120}, {255, 1}} {
		_, err := ParsePort(bad)
		assert.Error(t, err, "%v", bad)
	}
}

// FuzzReceive holds that no bytes make it panic, grow, or let a command of telnet's own out as data.
func FuzzReceive(f *testing.F) {
	f.Add([]byte("\xff\xfd\x18\xff\xfa\x18\x01\xff\xf0login: \r\x00"))
	f.Add([]byte("\xff\xfa\x2c\x65\x00\x00\xff\xff\xff\xf0\xff"))
	f.Fuzz(func(t *testing.T, p []byte) {
		m := opened(Options{ComPort: true, Terminal: "vt", Cols: 80, Rows: 24})
		data := m.Receive(p)
		if len(data) > len(p) {
			t.Fatal("more came out than went in")
		}
		if bytes.Count(data, []byte{cmdIAC})*2 > bytes.Count(p, []byte{cmdIAC}) {
			t.Fatal("an IAC that was not doubled is data")
		}
		if len(m.Replies()) > 4*len(p)+64 {
			t.Fatal("more is answered than was asked")
		}
		for _, message := range m.Messages() {
			_, _ = ParsePort(message.Data)
		}
	})
}
