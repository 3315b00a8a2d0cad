package state

import (
	"cmp"
	"slices"
	"strconv"
	"time"
)

// Layer is a part of the device with firmware of its own.
type Layer struct {
	Name, Release, State string
	ReleaseThen          string // when it was first read
	Brings               string // the release that waits for it, empty for none
}

// layerRows keeps the rows of the list called layers.
func (s *State) layerRows(rows []map[string]string) {
	was := s.Layers
	s.Layers = nil
	for _, row := range rows {
		layer := Layer{
			Name:        row["layer"],
			Release:     row["release"],
			State:       row["state"],
			Brings:      row["brings"],
			ReleaseThen: row["release"],
		}
		if at := slices.IndexFunc(was, func(l Layer) bool { return l.Name == layer.Name }); at >= 0 {
			layer.ReleaseThen = was[at].ReleaseThen
		}
		s.Layers = append(s.Layers, layer)
	}
}

// LayersAgree reports whether all of them run, and have one release.
func (s *State) LayersAgree() bool {
	return !slices.ContainsFunc(s.Layers,
		func(l Layer) bool { return l.Release != s.Layers[0].Release || l.State != "runs" && l.State != "" })
}

// States of a device that is attached to another one.
const (
	AttachedHere    = "here"
	AttachedAway    = "away"
	AttachedLoading = "loading"
	AttachedMissing = "missing" // it is not listed any more
)

// Attached is a device that hangs on this one: what it is now, and the history since it was first read.
type Attached struct {
	Name, Model, Release, State, Reason string
	Percent                             int
	ReleaseThen                         string
	Spans                               []Span
}

// Span is a time in one state with one release; To is when it was last seen so.
type Span struct {
	State, Release string
	From, To       time.Time
}

// maxSpans bounds what is kept of one that goes to and fro without an end; the oldest are left out.
const maxSpans = 200

// attachedRows keeps the rows of the list called attached. What is not listed any more is missing from then on.
func (s *State) attachedRows(at time.Time, rows []map[string]string) {
	seen := map[string]bool{}
	for _, row := range rows {
		name := row["name"]
		seen[name] = true
		i := slices.IndexFunc(s.Attached, func(a Attached) bool { return a.Name == name })
		if i < 0 {
			s.Attached = append(s.Attached, Attached{Name: name, ReleaseThen: row["release"]})
			i = len(s.Attached) - 1
		}
		a := &s.Attached[i]
		a.Model, a.Release, a.State, a.Reason = row["model"], cmp.Or(row["release"],
			a.Release), row["state"], row["reason"]
		a.Percent, _ = strconv.Atoi(row["percent"])
		a.saw(at)
	}
	for i := range s.Attached {
		if a := &s.Attached[i]; !seen[a.Name] {
			a.State, a.Percent = AttachedMissing, 0
			a.saw(at)
		}
	}
}

// saw goes on with the present span, or begins another.
func (a *Attached) saw(at time.Time) {
	if n := len(a.Spans); n > 0 {
		last := &a.Spans[n-1]
		last.To = at
		if last.State == a.State && last.Release == a.Release {
			return
		}
	}
	a.Spans = append(a.Spans, Span{a.State, a.Release, at, at})
	if len(a.Spans) > maxSpans {
		a.Spans = slices.Delete(a.Spans, 0, len(a.Spans)-maxSpans)
	}
}

// AttachedSince is when the first of them was read, and AttachedUntil when they were read last.
func (s *State) AttachedSince() (since, until time.Time) {
	for _, a := range s.Attached {
		if n := len(a.Spans); n > 0 {
			if since.IsZero() || a.Spans[0].From.Before(since) {
				since = a.Spans[0].From
			}
			if a.Spans[n-1].To.After(until) {
				until = a.Spans[n-1].To
			}
		}
	}
	return since, until
}

// NewRelease reports whether one has another release than when it was first read.
func (a Attached) NewRelease() bool { return a.Release != a.ReleaseThen }
