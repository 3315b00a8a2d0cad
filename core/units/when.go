package units

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// ParseWhen reads a time as people write it: a day, a minute, or how long ago.
func ParseWhen(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n >= 0 {
			return time.Now().AddDate(0, 0, -n), nil
		}
	}
	if ago, err := time.ParseDuration(text); err == nil && ago >= 0 {
		return time.Now().Add(-ago), nil
	}
	for _, form := range []string{time.DateOnly, "2006-01-02 15:04", time.DateTime, time.RFC3339} {
		if t, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf(
		"%q is no time: want one like 2026-03-02, '2026-03-02 14:05', or 30d or 12h for so long ago", text)
}
