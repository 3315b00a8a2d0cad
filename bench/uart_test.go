package bench

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestTheSameSpeedChangesNothing(t *testing.T) {
	text := []byte("sill: store\r\n")
	assert.Equal(t, text, resample(text, 9600, 9600))
}

// TestOtherSpeedsAreUnreadable holds what the hunt lives on: at no usual pair of speeds does text
// come out as text.
func TestOtherSpeedsAreUnreadable(t *testing.T) {
	text := []byte(strings.Repeat("no whole image in the store, staying here\r\nsill: ", 4))
	speeds := []int{1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200}
	for _, from := range speeds {
		for _, to := range speeds {
			if from == to {
				continue
			}
			heard := resample(text, from, to)
			readable := 0
			for _, b := range heard {
				if b >= 0x20 && b < 0x7f || b == '\r' || b == '\n' {
					readable++
				}
			}
			assert.NotContains(t, string(heard), "sill", "%d read at %d", from, to)
			assert.Less(t, float64(readable), 0.75*float64(len(heard))+1, "%d read at %d: %q", from, to, heard)
		}
	}
}

// TestASlowerReceiverHearsFewerBytes is the arithmetic of bits: a frame takes ten of them.
func TestASlowerReceiverHearsFewerBytes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.SliceOfN(rapid.Byte(), 1, 200).Draw(t, "text")
		slow := resample(text, 115200, 9600)
		assert.LessOrEqual(t, len(slow), len(text))
		fast := resample(text, 9600, 115200)
		assert.LessOrEqual(t, len(fast), 5*len(text), "a frame has at most five falling edges")
	})
}

func TestTheStoreKeepsItsLimit(t *testing.T) {
	s := Store{Capacity: 100}
	assert.NoError(t, s.Put(File{Name: "a", Data: make([]byte, 60)}))
	assert.ErrorIs(t, s.Put(File{Name: "b", Data: make([]byte, 50)}), ErrFull)
	assert.NoError(t, s.Put(File{Name: "a", Data: make([]byte, 90)}), "a file makes room for its successor")
	assert.Equal(t, 10, s.Free())
	assert.True(t, s.Drop("a"))
	assert.False(t, s.Drop("a"))
}
