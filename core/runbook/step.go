package runbook

import (
	"slices"

	"github.com/invopop/jsonschema"

	"pilotrix/core/source"
)

// Step does one thing: it has one verb, or is a hold alone. It is decoded by the registry of verbs.
type Step struct {
	Common
	verb  *Verb
	body  Body
	verbs []string // all that were given
}

// Loops reports whether the step is one of a phase with a loop that is not unrolled yet.
func (s *PreparedStep) Loops() bool { return s.loop != nil }

// Keys implements source.Mapping.
func (s *Step) Keys() []string {
	keys := source.KeysOf(&s.Common)
	for _, verb := range Verbs() {
		keys = append(keys, verb.Name)
	}
	slices.Sort(keys)
	return keys
}

// Required implements source.Mapping.
func (s *Step) Required() map[string]string {
	return map[string]string{"step": "what it does, in words"}
}

// Field implements source.Mapping.
func (s *Step) Field(key string) (any, source.Rules) {
	if verb := verbNamed(key); verb != nil {
		s.verbs = append(s.verbs, key)
		s.verb, s.body = verb, verb.New()
		return s.body, source.Rules{}
	}
	return source.FieldOf(&s.Common, key)
}

// JSONSchema implements the schema package's interface: the keys that every step may have, and the verbs.
func (Step) JSONSchema() *jsonschema.Schema {
	schema := source.InlineSchema(&Common{})
	for _, verb := range Verbs() {
		body := source.InlineSchema(verb.New())
		body.Description = verb.Does
		schema.Properties.Set(verb.Name, body)
	}
	return schema
}

// Repeatable reports whether the step may be done again without asking, after the line was lost.
func (s *PreparedStep) Repeatable() bool { return s.Verb == nil || s.Verb.Repeatable }

// Rests are the names that a hold rests on: what it says, and what its step is about to type.
func (s *PreparedStep) Rests() (names []string) {
	if s.Hold == "" {
		return nil
	}
	for _, o := range s.ops {
		switch o.kind {
		case opChange:
			return names
		case opUse:
			names = append(names, o.name)
		}
	}
	return names
}
