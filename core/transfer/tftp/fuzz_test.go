package tftp

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
)

// FuzzParse reads any packet: nothing may panic, what is shown is fit to be shown, and what is
// understood means the same when it is written again.
func FuzzParse(f *testing.F) {
	f.Add(putRequest(request{name: "image", mode: Octet, options: []option{{optBlock, "1428"}, {optWindow, "16"}}}))
	f.Add(putRequest(request{
		write:   true,
		name:    "setup.txt",
		mode:    Netascii,
		options: []option{{optSize, "0"}, {optTimeout, "3"}},
	}))
	f.Add(putOptions([]option{{optBlock, "512"}}))
	f.Add(putError(CodeNotFound, "no such file"))
	f.Add([]byte{0, opData, 0, 1, 'x'})
	f.Add([]byte{0, opAck, 255, 255})
	f.Add([]byte("\x00\x01image\x00octet\x00blksize\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		got, err := parse(data)
		assert.NotContains(t, got.refused.Message, "\x1b")
		if err != nil {
			assert.NotContains(t, err.Error(), "\x1b")
			return
		}
		switch got.op {
		case opRead, opWrite:
			put := putRequest(got.request)
			if len(bytes.TrimRight(put, "\x00")) > maxRequest {
				return // with what had been left out it is longer than a request
			}
			again, err := parse(put)
			assert.NoError(t, err)
			assert.Equal(t, got.request, again.request)
		case opOptions:
			again, err := parse(putOptions(got.options))
			assert.NoError(t, err)
			assert.Equal(t, got.options, again.options)
		case opData, opAck:
			out := append(make([]byte, headSize), got.data...)
			putHead(out, got.op, got.block)
			assert.True(t, bytes.Equal(data, out))
		}
	})
}

// FuzzOptions agrees on any options: the terms stay inside what the standards and our limits allow, and
// the answer holds nothing that was not asked for.
func FuzzOptions(f *testing.F) {
	f.Add("blksize", "1428", "windowsize", "16", true)
	f.Add("tsize", "0", "timeout", "255", false)
	f.Add("blksize", "-5", "windowsize", "99999999999999999999", false)
	f.Fuzz(func(t *testing.T, name1, value1, name2, value2 string, write bool) {
		asked := []option{{name1, value1}, {name2, value2}}
		limits := Limits{Block: 8192, Window: 16}
		answer, terms := agree(asked, limits, 4711, write)
		assert.True(t, terms.Block >= minBlock && terms.Block <= limits.Block)
		assert.True(t, terms.Window >= 1 && terms.Window <= limits.Window)
		assert.LessOrEqual(t, terms.Timeout.Seconds(), 255.0)
		for _, o := range answer {
			assert.True(t, o.name == name1 || o.name == name2)
		}
		if got, err := accept(asked, answer, write, terms.Size); err == nil {
			assert.Equal(t, terms.Block, got.Block)
			assert.Equal(t, terms.Window, got.Window)
		}
		if got, err := accept(asked, asked, write, 0); err == nil {
			assert.True(t, got.Block >= minBlock && got.Window >= 1)
		}
	})
}
