package event

import (
	"bytes"
	"reflect"
	"slices"
)

// A redactor takes secrets out of events before anybody sees them. What was typed as a secret is marked at its
// source; a redactor covers every other way: a device that prints it back, a command or a message that holds it.
// It belongs to the hub.
type redactor struct {
	secrets [][]byte // the longest first
	in      stream
	out     map[string]*stream // what was typed, by whom
	strict  bool               // hold back even one byte that may begin a secret
}

// Redacted stands where a secret stood.
const Redacted = "[secret]"

const (
	// leastSecret is how many bytes a secret has at least: a shorter one cannot be told from ordinary output and is
	// left to the mark at its source.
	leastSecret = 3
	// leastHeld is how many bytes that may begin a secret are held back of what the device writes. Fewer are
	// shown at once: a screen that hesitates at every such letter is no use.
	leastHeld = 3
)

// protect adds a secret, once.
func (r *redactor) protect(secret string) {
	known := slices.ContainsFunc(r.secrets, func(one []byte) bool { return string(one) == secret })
	if len(secret) < leastSecret || known {
		return
	}
	r.secrets = append(r.secrets, []byte(secret))
	slices.SortStableFunc(r.secrets, func(a, b []byte) int { return len(b) - len(a) })
}

// apply returns the body without secrets. None is left where all of its bytes are held back for now.
func (r *redactor) apply(b Body) (clean Body, some bool) {
	if made, is := b.(Secret); is {
		r.protect(made.Value)
		return Secret{What: string(r.text([]byte(made.What)))}, true
	}
	if len(r.secrets) == 0 {
		return b, true
	}
	switch b := b.(type) {
	case In:
		least := leastHeld
		if r.strict {
			least = 1
		}
		b.Bytes = r.in.take(r.secrets, b.Bytes, least)
		return b, len(b.Bytes) > 0
	case Out:
		return r.typed(b)
	}
	return r.clean(reflect.ValueOf(b)).Interface().(Body), true
}

// typed redacts what was typed, which comes key by key.
func (r *redactor) typed(b Out) (Body, bool) {
	if r.out == nil {
		r.out = map[string]*stream{}
	}
	b.Who = string(r.text([]byte(b.Who)))
	s := r.out[b.Who]
	if s == nil {
		s = &stream{}
		r.out[b.Who] = s
	}
	if b.Secret > 0 {
		b.Bytes = append(s.flush(r), b.Bytes...)
		return b, true
	}
	b.Bytes = s.take(r.secrets, b.Bytes, 1)
	return b, len(b.Bytes) > 0
}

// flush gives out what was held back: nothing followed that makes a secret of it.
func (r *redactor) flush() (bodies []Body) {
	if rest := r.in.flush(r); len(rest) > 0 {
		bodies = append(bodies, In{Bytes: rest})
	}
	for _, who := range []string{Hand, Runbook, Answerer} {
		if s := r.out[who]; s != nil {
			if rest := s.flush(r); len(rest) > 0 {
				bodies = append(bodies, Out{Who: who, Bytes: rest})
			}
		}
	}
	return bodies
}

// text replaces the secrets in one text. It returns a copy.
func (r *redactor) text(text []byte) []byte {
	text = bytes.Clone(text)
	for _, secret := range r.secrets {
		text = bytes.ReplaceAll(text, secret, []byte(Redacted))
	}
	return text
}

// clean returns a value of which every text is redacted. What it changes is a copy: others may hold the value.
func (r *redactor) clean(v reflect.Value) reflect.Value {
	switch v.Kind() {
	case reflect.String:
		return r.cleanText(v)
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return reflect.ValueOf(r.text(v.Bytes())).Convert(v.Type())
		}
		return r.cleanList(v)
	case reflect.Map:
		return r.cleanMap(v)
	case reflect.Struct:
		return r.cleanFields(v)
	}
	return v
}

func (r *redactor) cleanText(v reflect.Value) reflect.Value {
	clean := r.text([]byte(v.String()))
	return reflect.ValueOf(string(clean)).Convert(v.Type())
}

func (r *redactor) cleanList(v reflect.Value) reflect.Value {
	if v.IsNil() {
		return v
	}
	list := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
	for i := range v.Len() {
		list.Index(i).Set(r.clean(v.Index(i)))
	}
	return list
}

func (r *redactor) cleanMap(v reflect.Value) reflect.Value {
	if v.IsNil() {
		return v
	}
	all := reflect.MakeMapWithSize(v.Type(), v.Len())
	for each := v.MapRange(); each.Next(); {
		all.SetMapIndex(r.clean(each.Key()), r.clean(each.Value()))
	}
	return all
}

func (r *redactor) cleanFields(v reflect.Value) reflect.Value {
	fields := reflect.New(v.Type()).Elem()
	fields.Set(v)
	for i := range v.NumField() {
		if v.Type().Field(i).IsExported() {
			fields.Field(i).Set(r.clean(v.Field(i)))
		}
	}
	return fields
}

// stream finds secrets in bytes that come in pieces, cut anywhere.
type stream struct {
	held []byte // the end of what came, which may be the beginning of a secret
	told int    // how many of them were given out already
}

// take takes a piece in and returns what can be given out. An end of at least so many bytes that may be the
// beginning of a secret is held back.
func (s *stream) take(secrets [][]byte, piece []byte, least int) (out []byte) {
	data := append(s.held, piece...)
	give := func(from, to int) {
		if from = max(from, s.told); from < to {
			out = append(out, data[from:to]...)
		}
	}
	at := 0
	for {
		rest := data[at:]
		found, length := firstOf(secrets, rest)
		tail := len(rest) - overlap(secrets, rest)
		if found >= 0 && found < tail {
			give(at, at+found)
			out = append(out, Redacted...)
			at += found + length
			s.told = max(s.told, at)
			continue
		}
		give(at, at+tail)
		s.held, s.told = bytes.Clone(rest[tail:]), max(0, s.told-at-tail)
		if len(s.held) < least {
			give(len(data)-len(s.held)+s.told, len(data))
			s.told = len(s.held)
		}
		return out
	}
}

// flush gives out what was held back, which may hold a shorter secret. It stays known: what follows may make a
// secret of it yet.
func (s *stream) flush(r *redactor) []byte {
	rest := r.text(s.held[s.told:])
	s.told = len(s.held)
	return rest
}

// firstOf is where the first secret stands in data, the longest one there; -1 for none.
func firstOf(secrets [][]byte, data []byte) (at, length int) {
	at = -1
	for _, secret := range secrets {
		if i := bytes.Index(data, secret); i >= 0 && (at < 0 || i < at) {
			at, length = i, len(secret)
		}
	}
	return at, length
}

// overlap is the length of the longest end of data that begins a secret, without being all of it.
func overlap(secrets [][]byte, data []byte) (longest int) {
	for _, secret := range secrets {
		for n := min(len(data), len(secret)-1); n > longest; n-- {
			if bytes.HasSuffix(data, secret[:n]) {
				longest = n
			}
		}
	}
	return longest
}
