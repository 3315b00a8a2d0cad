package units

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSizes(t *testing.T) {
	for text, want := range map[string]float64{"8,388,608": 8388608, "8 MiB": 8 << 20, "4.5MB": 4.5e6, "0x4000": 16384, "512 B": 512, "1k": 1024, "1 310 720": 1310720, "1,310,720.5": 1310720.5, "2 TB": 2e12, "12 kbytes": 12000, "1_024": 1024} {
		got, err := ParseSize(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, bad := range []string{"", "many", "5 apples", "-3", "0xzz", "1,5MB", "1,23", "12,34,567", "1.2.3", "NaN", "Inf", "1e9", ",5"} {
		_, err := ParseSize(bad)
		assert.Error(t, err, bad)
	}
}

func TestNumbers(t *testing.T) {
	for text, want := range map[string]float64{"12": 12, "1,024": 1024, " -3.5 ": -3.5} {
		got, err := ParseNumber(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, bad := range []string{"", "1k", "0x10", "many", "inf", "NaN"} {
		_, err := ParseNumber(bad)
		assert.Error(t, err, bad)
	}
}

func TestSpansAndCounts(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "at once", 30 * time.Millisecond: "30 ms", 2500 * time.Millisecond: "2.5 s", 99 * time.Second: "99 s", 10 * time.Minute: "10 min", 3 * time.Hour: "3 h"} {
		assert.Equal(t, want, Span(d))
	}
	assert.Equal(t, "1:02:03", Clock(time.Hour+2*time.Minute+3*time.Second))
	assert.Equal(t, "5,243,086", Count(5243086))
	assert.Equal(t, "-1,000", Count(-1000))
}

func TestTimesAndSizesInText(t *testing.T) {
	for d, want := range map[time.Duration]string{45 * time.Second: "45 s", 2 * time.Minute: "2 min", 130 * time.Second: "2 min 10 s", 65 * time.Minute: "1 h 5 min"} {
		assert.Equal(t, want, Text(d))
	}
	for d, want := range map[time.Duration]string{2 * time.Hour: "2h", 5 * time.Minute: "5m", 90 * time.Second: "1m30s", 3300 * time.Millisecond: "3.3s"} {
		assert.Equal(t, want, Short(d))
	}
	assert.Equal(t, "512 B", Bytes(512))
	assert.Equal(t, "1.5 KiB", Bytes(1536))
	assert.Equal(t, "5.00 MiB", Bytes(5<<20))
	assert.Equal(t, "just now", Ago(time.Second))
	assert.Equal(t, "01:05 ago", Ago(65*time.Second))
	for d, want := range map[time.Duration]string{time.Second: "just now", 20 * time.Minute: "20 min ago", 3 * time.Hour: "3 h ago", 50 * time.Hour: "2 days ago"} {
		assert.Equal(t, want, Since(d))
	}
	assert.Equal(t, "0.3 ms", Trip(300*time.Microsecond))
	assert.Equal(t, "40 ms", Trip(40*time.Millisecond))
	assert.Equal(t, "11.5 kB/s", Rate(11_520))
}
