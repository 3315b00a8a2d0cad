package event

import (
	"bytes"
	"maps"
	"reflect"
	"slices"
	"strings"
)

// A redactor takes secrets out of events before anybody sees them. What was typed as a secret is marked at its
// source; a redactor covers every other way: a device that prints it back, a command or a message that holds it.
// It belongs to the hub.
type redactor struct {
	secrets []string
	drawn   []*pattern // as a device draws them
	written []*pattern // as a message has them
	in      *masker
	out     map[string]*masker // what was typed, by whom
	texts   *masker
	strict  bool     // one of them is on its way
	before  int32    // the last match in what the device wrote before that
	typing  *pattern // one that the operator is typing, as far as it has come; nil for none
}

// Redacted stands where a secret stood.
const Redacted = "[secret]"

const (
	// minSecret is how many bytes a secret has at least: a shorter one cannot be told from ordinary output and is
	// left to the mark at its source.
	minSecret = 3
	// minHeld is how many bytes that may begin a secret are held back of what the device writes. Fewer are
	// shown at once: a screen that hesitates at every such letter is no use.
	minHeld = 3
)

// protect adds a secret, once.
func (r *redactor) protect(secret string) {
	if len(secret) < minSecret || slices.Contains(r.secrets, secret) {
		return
	}
	r.secrets = append(r.secrets, secret)
	r.drawn, r.written = append(r.drawn, patternsOf(secret)...), append(r.written, quotedPatternsOf(secret)...)
	for _, m := range r.maskers() {
		m.know(r.drawn)
	}
	r.texts.know(r.written)
}

// types takes a secret as far as the operator has typed it: a device that shows it letter by letter is masked before it
// is known whole. What was seen of it so far stays seen.
func (r *redactor) types(secret string) {
	letters := bytes.ReplaceAll([]byte(strings.Map(drawnRune, secret)), []byte(" "), nil)
	letters = letters[:min(len(letters), maxPiece)]
	if r.typing == nil {
		r.typing = newPattern(nil, false)
		r.typing.grows = true
		all := r.maskers()
		r.drawn = append(r.drawn, r.typing)
		for _, m := range all {
			m.know(r.drawn)
		}
	}
	r.typing.set(letters)
	for _, m := range r.maskers() {
		m.firsts()
	}
}

// whole ends that: the secret is known, and no longer on its way.
func (r *redactor) whole() {
	if r.typing == nil {
		return
	}
	r.drawn = slices.DeleteFunc(r.drawn, func(p *pattern) bool { return p == r.typing })
	r.typing = nil
	for _, m := range r.maskers() {
		m.know(r.drawn)
	}
}

// maskers are those of the streams.
func (r *redactor) maskers() (all []*masker) {
	if r.in == nil {
		r.in, r.out, r.texts = newMasker(nil, minHeld), map[string]*masker{}, newMasker(nil, 1)
		r.texts.quoted = true
	}
	return append(slices.Collect(maps.Values(r.out)), r.in)
}

// onItsWay says whether a secret is being typed, or may be shown in whatever way the device likes.
func (r *redactor) onItsWay(on bool) {
	if r.strict = on; !on {
		r.whole()
	}
	r.maskers()
	r.before = r.in.match
	for _, m := range r.maskers() {
		m.setStrict(on)
	}
}

// apply returns the body without secrets. None is left where all of its bytes are held back for now.
func (r *redactor) apply(b Body) (clean Body, some bool) {
	if made, ok := b.(Secret); ok {
		r.protect(made.Value)
		return Secret{What: string(r.text([]byte(made.What)))}, true
	}
	if len(r.secrets) == 0 && r.typing == nil {
		return b, true
	}
	switch b := b.(type) {
	case In:
		b.Bytes = r.in.take(b.Bytes)
		return b, len(b.Bytes) > 0
	case Out:
		return r.typed(b)
	}
	// What nobody has shown is quoted by nobody, and words of our own may share letters with it.
	r.texts.setStrict(r.strict && r.in.match > r.before && wordy(b))
	return r.clean(reflect.ValueOf(b)).Interface().(Body), true
}

// wordy reports whether an event may quote what the device shows, or was typed: as it is, spoilt, or a piece of it.
func wordy(b Body) bool {
	switch b.(type) {
	case Note, Ask, Answer, Noise, Prompt, Mode, StepNow, StepEnd, RunEnd, Interlock, Change, Mark, Asked, Answered:
		return true
	}
	return false
}

// typed redacts what was typed, which comes key by key.
func (r *redactor) typed(b Out) (Body, bool) {
	b.Who = string(r.text([]byte(b.Who)))
	m := r.out[b.Who]
	if m == nil {
		m = newMasker(r.drawn, 1)
		m.setStrict(r.strict)
		r.out[b.Who] = m
	}
	if b.Secret > 0 {
		b.Bytes = append(m.flush(), b.Bytes...)
		return b, true
	}
	ended := len(b.Bytes) > 0 && (b.Bytes[len(b.Bytes)-1] == '\r' || b.Bytes[len(b.Bytes)-1] == '\n')
	if b.Bytes = m.take(b.Bytes); ended { // no secret goes on behind an Enter
		b.Bytes = append(b.Bytes, m.flush()...)
		m.reset()
	}
	return b, len(b.Bytes) > 0
}

// holds reports whether something of what the device writes is held back, which may be given out if nothing follows.
func (r *redactor) holds() bool {
	return r.in != nil && r.in.holds() && (!r.strict || r.in.longest() < minSecret) // a letter or two are no secret
}

// flush gives out what was held back: nothing followed that makes a secret of it.
func (r *redactor) flush() (bodies []Body) {
	if r.in == nil {
		return nil
	}
	if rest := r.in.flush(); len(rest) > 0 {
		bodies = append(bodies, In{Bytes: rest})
	}
	for _, who := range []string{Hand, Runbook, Answerer} {
		if m := r.out[who]; m != nil {
			if rest := m.flush(); len(rest) > 0 {
				bodies = append(bodies, Out{Who: who, Bytes: rest})
			}
		}
	}
	return bodies
}

// text replaces the secrets in one text, also where they were quoted in it. It returns a copy.
func (r *redactor) text(text []byte) []byte {
	if len(r.secrets) == 0 {
		return bytes.Clone(text)
	}
	r.texts.reset()
	clean := r.texts.take(text)
	return append(clean, r.texts.flush()...)
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
