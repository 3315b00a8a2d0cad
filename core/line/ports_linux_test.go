package line

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fakeTTYs lays out what the system says of three ports: a built-in one, a built-in one without hardware,
// and a USB adapter; and of a console.
func fakeTTYs(t *testing.T) string {
	root := filepath.Join(t.TempDir(), "tty")
	write := func(path, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	write(filepath.Join(root, "ttyS0", "type"), "4\n")
	write(filepath.Join(root, "ttyS0", "device", "uevent"), "")
	write(filepath.Join(root, "ttyS1", "type"), "0\n")
	write(filepath.Join(root, "ttyS1", "device", "uevent"), "")
	write(filepath.Join(root, "console", "active"), "tty0")
	adapter := filepath.Join(filepath.Dir(root), "usb1", "1-2")
	write(filepath.Join(adapter, "idVendor"), "0403")
	write(filepath.Join(adapter, "manufacturer"), "Quay Works\n")
	write(filepath.Join(adapter, "product"), "Cable \x1b[2J1\n")
	write(filepath.Join(adapter, "serial"), "QW-17\n")
	write(filepath.Join(adapter, "1-2:1.0", "ttyUSB0", "latency_timer"), "16\n")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "ttyUSB0"), 0o700))
	require.NoError(t,
		os.Symlink(filepath.Join(adapter, "1-2:1.0", "ttyUSB0"), filepath.Join(root, "ttyUSB0", "device")))
	return root
}

func TestPortsAreListedWithoutOpeningAny(t *testing.T) {
	root := fakeTTYs(t)
	paths, err := portPathsIn(root)
	require.NoError(t, err)
	assert.Equal(t, []string{"/dev/ttyS0", "/dev/ttyUSB0"}, paths, "read from what the system tells, no device touched")
	port := Port{Path: "/dev/ttyUSB0"}
	describeIn(root, &port)
	assert.Equal(t, Port{Path: "/dev/ttyUSB0", Maker: "Quay Works", Name: "Cable [2J1", Serial: "QW-17", Place: "1-2"},
		port)
	assert.Equal(t, 16*time.Millisecond, latencyIn(root, "/dev/ttyUSB0"))
	assert.Zero(t, latencyIn(root, "/dev/ttyS0"))
}

func TestTheSameAdapterIsFoundAgain(t *testing.T) {
	was := Port{Path: "/dev/ttyUSB0", Name: "Cable", Serial: "QW-17", Place: "1-2"}
	target := Target{Kind: Serial, Address: "/dev/ttyUSB0", Speed: 9600}
	other := Port{Path: "/dev/ttyUSB0", Name: "Cable", Serial: "QW-99", Place: "1-2"}

	got, err := Same(target, was, []Port{was})
	require.NoError(t, err)
	assert.Equal(t, target, got)

	moved := was
	moved.Path, moved.Place = "/dev/ttyUSB1", "1-4"
	got, err = Same(target, was, []Port{other, moved})
	require.NoError(t, err)
	assert.Equal(t, "/dev/ttyUSB1", got.Address, "under another name, by its serial number")
	assert.Equal(t, 9600, got.Speed)

	_, err = Same(target, was, []Port{other})
	require.Error(t, err)
	assert.ErrorContains(t, err, "QW-99")
	assert.ErrorContains(t, err, "QW-17")

	_, err = Same(target, was, nil)
	assert.ErrorIs(t, err, ErrNoSuch)

	bare := Port{Path: "/dev/ttyUSB0", Name: "Cable", Place: "1-2"}
	elsewhere := bare
	elsewhere.Place = "1-3"
	_, err = Same(target, bare, []Port{elsewhere})
	assert.Error(t, err, "without a serial number the place tells")
	_, err = Same(target, bare, []Port{bare})
	assert.NoError(t, err)
}
