package transfer

import (
	"bytes"
	"io"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
)

func TestAFileIsHeldToItsSize(t *testing.T) {
	for name, c := range map[string]struct {
		holds int
		size  int64
		says  string
	}{
		"as long as it was": {1000, 1000, ""},
		"of no known size":  {1000, -1, ""},
		"cut":               {1000, 1001, "it ends 1 B before its 1001 B"},
		"longer":            {1000, 999, "it goes on after its 999 B"},
		"emptied":           {0, 5, "it ends 5 B before its 5 B"},
		"empty all along":   {0, 0, ""},
	} {
		content := make([]byte, c.holds)
		for _, source := range []io.Reader{bytes.NewReader(content), iotest.DataErrReader(bytes.NewReader(content)), iotest.OneByteReader(bytes.NewReader(content))} {
			got, err := io.ReadAll(Whole(source, c.size))
			if c.says == "" {
				assert.NoError(t, err, name)
				assert.Equal(t, c.holds, len(got), name)
				continue
			}
			assert.ErrorContains(t, err, c.says, name)
		}
	}
}
