package netfilter

import (
	"encoding/json"
	"fmt"
	"slices"
)

// ruleset is what nft -j list ruleset prints, by what it is looked up by.
type ruleset struct {
	bases   []chain // with a hook, in the order of their priorities
	rules   map[where][]rule
	sets    map[where]named // sets and maps, too
	helpers bool            // conntrack may know what follows
	marks   bool            // something writes marks
	flags   bool            // flowtables: packets may pass by
}

// where is a chain, a set or a map.
type where struct{ family, table, name string }

type chain struct {
	Family, Table, Name, Type, Hook, Policy string
	Prio                                    json.RawMessage
	Dev                                     json.RawMessage // one name or several; nft leaves it out in places
}

// on says whether a chain is an interface's. Others than those of a device's own hooks are every one's.
func (c chain) on(face string) answer {
	if c.Hook != "ingress" && c.Hook != "egress" {
		return yes
	}
	var one string
	var many []string
	if json.Unmarshal(c.Dev, &one) == nil {
		many = []string{one}
	} else if json.Unmarshal(c.Dev, &many) != nil || face == "" {
		return unknown
	}
	return answerOf(slices.Contains(many, face))
}

func (c chain) where() where { return where{c.Family, c.Table, c.Name} }

type rule struct {
	Family, Table, Chain string
	Handle               int
	Expr                 []map[string]json.RawMessage
}

type named struct {
	Family, Table, Name string
	Map                 string
	Flags               []string
	Elem                []json.RawMessage
}

// parse reads a ruleset.
func parse(data []byte) (*ruleset, error) {
	var all struct {
		Objects []map[string]json.RawMessage `json:"nftables"`
	}
	if err := json.Unmarshal(data, &all); err != nil {
		return nil, err
	}
	r := &ruleset{rules: map[where][]rule{}, sets: map[where]named{}}
	priorities := map[where]int{}
	for _, object := range all.Objects {
		for kind, raw := range object {
			var err error
			switch kind {
			case "chain":
				var c chain
				if err = json.Unmarshal(raw, &c); err == nil && c.Hook != "" {
					var prio int
					_ = json.Unmarshal(c.Prio, &prio)
					priorities[c.where()] = prio
					r.bases = append(r.bases, c)
				}
			case "rule":
				var one rule
				if err = json.Unmarshal(raw, &one); err == nil {
					at := where{one.Family, one.Table, one.Chain}
					r.rules[at] = append(r.rules[at], one)
					r.marks = r.marks ||
						slices.ContainsFunc(one.Expr,
							func(part map[string]json.RawMessage) bool { return part["mangle"] != nil })
				}
			case "set", "map":
				var set named
				if err = json.Unmarshal(raw, &set); err == nil {
					r.sets[where{set.Family, set.Table, set.Name}] = set
				}
			case "ct helper":
				r.helpers = true
			case "flowtable":
				r.flags = true
			}
			if err != nil {
				return nil, fmt.Errorf("%s: %w", kind, err)
			}
		}
	}
	slices.SortStableFunc(r.bases, func(a, b chain) int { return priorities[a.where()] - priorities[b.where()] })
	return r, nil
}
