// Package units reads and writes sizes, numbers and times as people and devices do. A figure on the screen, in a
// document and in an error looks the same.
package units

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"
)

// ParseNumber reads a number as devices write it: 12, 1,024, -3.5.
func ParseNumber(text string) (float64, error) {
	n, err := strconv.ParseFloat(strings.NewReplacer(",", "", "_", "", " ", "").Replace(strings.TrimSpace(text)), 64)
	if err != nil || math.IsInf(n, 0) || math.IsNaN(n) {
		return 0, fmt.Errorf("%q is no number", text)
	}
	return n, nil
}

// ParseSize reads a size in bytes: 8,388,608, 8388608 B, 8 MiB, 4.5MB, 0x4000.
func ParseSize(text string) (float64, error) {
	refused := fmt.Errorf("%q is no size: want one like 8388608, 8 MiB or 4 MB", text)
	clean := strings.TrimSpace(text)
	if hex, found := strings.CutPrefix(strings.ToLower(clean), "0x"); found {
		n, err := strconv.ParseUint(strings.ReplaceAll(hex, "_", ""), 16, 64)
		if err != nil {
			return 0, refused
		}
		return float64(n), nil
	}
	end := len(clean)
	for end > 0 && unicode.IsLetter(rune(clean[end-1])) {
		end--
	}
	unit, known := sizeUnits[strings.ToLower(clean[end:])]
	digits := strings.TrimSpace(clean[:end])
	if !known || !sizeDigits.MatchString(digits) { // a comma stands before three digits, or it is one of decimals
		return 0, refused
	}
	n, err := strconv.ParseFloat(strings.NewReplacer(",", "", "_", "", " ", "", "'", "").Replace(digits), 64)
	if err != nil {
		return 0, refused
	}
	return n * unit, nil
}

// sizeDigits is a number, in groups of three perhaps.
var sizeDigits = regexp.MustCompile(`^(?:[0-9]+|[0-9]{1,3}(?:[,_ '][0-9]{3})+)(?:\.[0-9]+)?$`)

var sizeUnits = map[string]float64{
	"": 1, "b": 1, "bytes": 1, "byte": 1, "octets": 1,
	"k": 1 << 10, "kib": 1 << 10, "kb": 1e3, "kbyte": 1e3, "kbytes": 1e3,
	"m": 1 << 20, "mib": 1 << 20, "mb": 1e6, "mbyte": 1e6, "mbytes": 1e6,
	"g": 1 << 30, "gib": 1 << 30, "gb": 1e9, "gbyte": 1e9, "gbytes": 1e9,
	"t": 1 << 40, "tib": 1 << 40, "tb": 1e12,
}

// Clock writes a duration as minutes and seconds.
func Clock(d time.Duration) string {
	d = d.Round(time.Second)
	if d >= time.Hour {
		return fmt.Sprintf("%d:%02d:%02d", int(d.Hours()), int(d.Minutes())%60, int(d.Seconds())%60)
	}
	return fmt.Sprintf("%02d:%02d", int(d.Minutes()), int(d.Seconds())%60)
}

// Span writes a short duration with its unit.
func Span(d time.Duration) string {
	switch {
	case d < time.Millisecond:
		return "at once"
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	}
	return fmt.Sprintf("%.0f h", d.Hours())
}

// Count writes a number with separators.
func Count(n int64) string {
	text := fmt.Sprint(n)
	for i := len(text) - 3; i > 0 && text[i-1] != '-'; i -= 3 {
		text = text[:i] + "," + text[i:]
	}
	return text
}

// Text writes a duration as people say it: 45 s, 2 min 10 s, 1 h 5 min.
func Text(d time.Duration) string {
	d = d.Round(time.Second)
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour && d%time.Minute == 0:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

// Short is a time as it is written in a file, without what is zero: 2h rather than 2h0m0s.
func Short(d time.Duration) string {
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// Bytes writes a size with the unit that suits it.
func Bytes(n int64) string {
	switch {
	case n < 1<<10:
		return fmt.Sprintf("%d B", n)
	case n < 1<<20:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%.2f MiB", float64(n)/(1<<20))
}

// Ago writes how long ago something was.
func Ago(d time.Duration) string {
	if d < 2*time.Second {
		return "just now"
	}
	return Clock(d) + " ago"
}

// Since writes how long ago something of another day may have been: 20 min ago, 3 h ago, 2 days ago.
func Since(d time.Duration) string {
	const day = 24 * time.Hour
	switch {
	case d < time.Minute:
		return "just now"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 2*day:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d/day))
}

// Trip writes a round trip.
func Trip(d time.Duration) string {
	if d < 10*time.Millisecond {
		return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000)
	}
	return fmt.Sprintf("%d ms", d.Milliseconds())
}

// Rate writes bytes a second.
func Rate(perSecond float64) string { return fmt.Sprintf("%.1f kB/s", perSecond/1000) }

// Many is a number of things, by the word for one of them: 1 step, 2 steps.
func Many[N ~int | ~int64](n N, one string) string {
	if n == 1 || n == -1 {
		return fmt.Sprintf("%d %s", n, one)
	}
	return fmt.Sprintf("%d %ss", n, one)
}
