package event

import (
	"bytes"
	"slices"
)

// Redactor takes secrets out of the byte stream before it is kept. What was typed as a secret is
// marked at its source; a Redactor covers the other way, a device that prints a secret back.
//
// It is not safe for concurrent use: each view that keeps events has its own.
type Redactor struct {
	secrets [][]byte
	held    []byte
}

// redacted stands where a secret stood.
var redacted = []byte("[secret]")

// Protect adds a secret, once. One of fewer than three bytes cannot be told from ordinary output and is
// left to the mark at its source.
func (r *Redactor) Protect(secret []byte) {
	known := slices.ContainsFunc(r.secrets, func(one []byte) bool { return bytes.Equal(one, secret) })
	if len(secret) >= 3 && !known {
		r.secrets = append(r.secrets, bytes.Clone(secret))
	}
}

// Apply returns the event with secrets replaced, and learns those that were made in the session. Bytes that may be the beginning of a secret are
// held back until what follows them shows whether they are.
func (r *Redactor) Apply(e Event) Event {
	if made, is := e.Body.(Secret); is {
		r.Protect([]byte(made.Value))
		e.Body = Secret{What: made.What}
		return e
	}
	in, isIn := e.Body.(In)
	if !isIn || len(r.secrets) == 0 {
		return e
	}
	data := append(r.held, in.Bytes...)
	for _, secret := range r.secrets {
		data = bytes.ReplaceAll(data, secret, redacted)
	}
	keep := 0
	for _, secret := range r.secrets {
		keep = max(keep, overlap(data, secret))
	}
	r.held = bytes.Clone(data[len(data)-keep:])
	e.Body = In{Bytes: Text(bytes.Clone(data[:len(data)-keep]))}
	return e
}

// overlap is the length of the longest end of data that begins secret, without being all of it.
func overlap(data, secret []byte) int {
	for n := min(len(data), len(secret)-1); n > 0; n-- {
		if bytes.HasSuffix(data, secret[:n]) {
			return n
		}
	}
	return 0
}
