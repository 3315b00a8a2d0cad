package logbook

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"pilotrix/core/event"
)

// Filter says which entries are wanted. What is left out is any.
type Filter struct {
	Device  string    // its name, or else the target, or a part of either
	Runbook string    // its name, or a part of it
	Ends    []string  // how they ended: done, failed, …, cut off, open
	Since   time.Time // they began then or later
	Until   time.Time // they began before that
	Text    string    // in what came, was typed, or was reported
	Most    int       // at most so many of them, the newest; 0 for all
}

// Select gives the entries that a filter wants, newest first.
func (l *Logbook) Select(f Filter) (entries []Entry, err error) {
	var where []string
	var args []any
	add := func(condition string, values ...any) { where, args = append(where, condition), append(args, values...) }
	if f.Device != "" {
		add(`(device LIKE ? ESCAPE '\' OR target LIKE ? ESCAPE '\')`, like(f.Device), like(f.Device))
	}
	if f.Runbook != "" {
		add(`runbook LIKE ? ESCAPE '\'`, like(f.Runbook))
	}
	if !f.Since.IsZero() {
		add(`began >= ?`, stamp(f.Since))
	}
	if !f.Until.IsZero() {
		add(`began < ?`, stamp(f.Until))
	}
	if f.Text != "" {
		add(`EXISTS (SELECT 1 FROM event WHERE event.session = session.id AND body LIKE ? ESCAPE '\')`,
			like(inJSON(f.Text)))
	}
	text := ""
	if len(where) > 0 {
		text = "WHERE " + strings.Join(where, " AND ")
	}
	all, err := l.query(text+` ORDER BY id DESC`, args...)
	for _, e := range all {
		if (len(f.Ends) == 0 || slices.Contains(f.Ends, e.Outcome)) && (f.Most == 0 || len(entries) < f.Most) {
			entries = append(entries, e)
		}
	}
	return entries, err
}

// Holds reports whether a text is in what an event says.
func Holds(e event.Event, text string) bool {
	data, err := json.Marshal(e.Body)
	return err == nil && bytes.Contains(bytes.ToLower(data), []byte(strings.ToLower(inJSON(text))))
}

// like is a pattern that finds a text anywhere.
func like(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + "%"
}

// inJSON is a text as it stands inside of a string of JSON.
func inJSON(text string) string {
	data, err := json.Marshal(text)
	if err != nil {
		return text
	}
	return strings.Trim(string(data), `"`)
}
