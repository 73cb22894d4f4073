// Package modeltest changes stacks at random, template and inputs, with faults of
// the cloud and things altered by hand, and holds after each run against each other
// what the cloud has, what is recorded and what a model of its own says was wanted.
package modeltest

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
)

// declaration is one resource of a template, as the model knows it.
type declaration struct {
	name, typ string
	want      map[string]any
	count     int      // members by index; 0 is one without an index
	zones     []string // members by zone
	keep      bool
	guard     bool
	newFirst  bool
	atOnce    int
	was       string
	after     []string
	asks      bool // it has a tag with the word that is given later
}

func (d *declaration) clone() *declaration {
	c := *d
	c.want, c.zones, c.after = deep(d.want).(map[string]any), slices.Clone(d.zones), slices.Clone(d.after)
	return &c
}

func deep(v any) any {
	switch t := v.(type) {
	case map[string]any:
		out := maps.Clone(t)
		for k, x := range out {
			out[k] = deep(x)
		}
		return out
	case []any:
		out := slices.Clone(t)
		for i, x := range out {
			out[i] = deep(x)
		}
		return out
	}
	return v
}

// stack is a whole template of the model. Base is the second octet of all of its
// addresses.
type stack struct {
	random *rand.Rand
	base   int
	list   []*declaration
	names  int
	// word is what was given last, dropped are disks that are kept.
	word    string
	dropped []*declaration
}

func (s *stack) clone() *stack {
	c := *s
	c.list, c.dropped = nil, slices.Clone(s.dropped)
	for _, d := range s.list {
		c.list = append(c.list, d.clone())
	}
	return &c
}

var (
	zones  = []string{"north-fell-a", "north-fell-b", "north-fell-c"}
	sizes  = []string{"plain-1", "plain-2", "brisk-2", "brisk-4"}
	disks  = []string{"10GiB", "20GiB", "25GiB", "40GiB"}
	owners = []string{"ines", "tam", "oda"}
)

// text writes the template.
func (s *stack) text() string {
	resources := map[string]any{}
	for _, d := range s.list {
		r := map[string]any{"type": d.typ, "want": s.written(d), "patience": "6h"}
		if d.count > 0 {
			r["repeat"] = d.count
		}
		if d.zones != nil {
			r["repeat"] = map[string]any{"zone": fmt.Sprintf("=%s", toJSON(d.zones))}
		}
		if d.keep {
			r["at_retire"] = "keep"
		}
		if d.guard {
			r["guard"] = true
		}
		if d.newFirst {
			r["rebuild"] = "new_first"
		}
		if d.atOnce > 0 && (d.count > 0 || d.zones != nil) {
			r["pace"] = map[string]any{"at_once": d.atOnce}
		}
		if d.was != "" {
			r["was"] = d.was
		}
		after := map[string]any{}
		for _, name := range d.after {
			if s.find(name) != nil {
				after[name] = "healthy"
			}
		}
		if len(after) > 0 {
			r["after"] = after
		}
		resources[d.name] = r
	}
	document := map[string]any{
		"undersail": 1,
		"about":     map[string]any{"name": "model", "version": "1.0.0", "title": "Model"},
		"resources": resources,
	}
	if slices.ContainsFunc(s.list, func(d *declaration) bool { return d.asks }) {
		document["inputs"] = map[string]any{"word": map[string]any{"type": "string", "later": true}}
	}
	return toJSON(document)
}

func toJSON(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return string(raw)
}

// written turns references of the model, {"of": NAME}, into expressions.
func (s *stack) written(d *declaration) map[string]any {
	out := map[string]any{}
	for k, v := range d.want {
		out[k] = s.expression(d, k, v)
	}
	if d.asks {
		tags := map[string]any{"word": "=inputs.word"}
		if own, is := d.want["tags"].(map[string]any); is {
			maps.Copy(tags, own)
		}
		out["tags"] = tags
	}
	if d.zones != nil {
		out["zone"] = "=zone"
	}
	if d.typ == "subnet" {
		out["range"] = s.slot(d, 0)
		if d.zones != nil {
			byZone := map[string]any{}
			for i, z := range d.zones {
				byZone[z] = s.slot(d, i)
			}
			out["range"] = fmt.Sprintf("=%s[zone]", toJSON(byZone))
		}
	}
	if d.typ == "network" {
		out["range"] = s.block(d)
	}
	delete(out, "block")
	delete(out, "slot")
	return out
}

// block is the range of a network, slot that of a subnet in it.
func (s *stack) block(d *declaration) string {
	return fmt.Sprintf("10.%d.%d.0/18", s.base, d.want["block"].(int)*64)
}

func (s *stack) slot(d *declaration, member int) string {
	net := s.find(d.want["network"].(map[string]any)["of"].(string))
	return fmt.Sprintf("10.%d.%d.0/24", s.base, net.want["block"].(int)*64+(d.want["slot"].(int)+member)%60)
}

// expression writes a value. What belongs to members by index or zone is read of
// their like where both are repeated alike, else of the first.
func (s *stack) expression(d *declaration, property string, v any) any {
	switch t := v.(type) {
	case map[string]any:
		if name, ok := t["of"].(string); ok {
			target := s.find(name)
			switch {
			case target.zones != nil && d.zones != nil:
				return "=" + name + "[zone].id"
			case target.zones != nil:
				return fmt.Sprintf("=%s[%q].id", name, target.zones[0])
			case target.count > 0 && d.count > 0 && target.count >= d.count:
				return "=" + name + "[index].id"
			case target.count > 0:
				return "=" + name + "[0].id"
			}
			return "=" + name + ".id"
		}
		out := map[string]any{}
		for k, x := range t {
			out[k] = s.expression(d, k, x)
		}
		return out
	case []any:
		out := make([]any, len(t))
		for i, x := range t {
			out[i] = s.expression(d, property, x)
		}
		return out
	}
	return v
}

func (s *stack) find(name string) *declaration {
	for _, d := range s.list {
		if d.name == name {
			return d
		}
	}
	return nil
}

// members are the names of the resources that a declaration gives.
func (d *declaration) members() []string {
	switch {
	case d.zones != nil:
		var out []string
		for _, z := range d.zones {
			out = append(out, d.name+"["+z+"]")
		}
		return out
	case d.count > 0:
		var out []string
		for i := range d.count {
			out = append(out, fmt.Sprintf("%s[%d]", d.name, i))
		}
		return out
	}
	return []string{d.name}
}

func (s *stack) of(typ string) []*declaration {
	var out []*declaration
	for _, d := range s.list {
		if d.typ == typ {
			out = append(out, d)
		}
	}
	return out
}

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

// refersTo reports whether a value refers to a declaration.
func refersTo(v any, name string) bool {
	switch t := v.(type) {
	case map[string]any:
		if t["of"] == any(name) {
			return true
		}
		for _, x := range t {
			if refersTo(x, name) {
				return true
			}
		}
	case []any:
		return slices.ContainsFunc(t, func(x any) bool { return refersTo(x, name) })
	}
	return false
}

// drop takes a declaration away with all that cannot be without it.
func (s *stack) drop(name string) {
	if d := s.find(name); d != nil && d.typ == "disk" && d.keep {
		s.dropped = append(s.dropped, d)
	}
	s.list = slices.DeleteFunc(s.list, func(d *declaration) bool { return d.name == name })
	for _, d := range slices.Clone(s.list) {
		for _, property := range []string{"network", "subnet"} {
			if refersTo(d.want[property], name) && s.find(d.name) != nil {
				s.drop(d.name)
			}
		}
		for _, property := range []string{"firewalls", "disks"} {
			if list, ok := d.want[property].([]any); ok {
				list = slices.DeleteFunc(slices.Clone(list), func(v any) bool { return refersTo(v, name) })
				if d.want[property] = list; len(list) == 0 {
					delete(d.want, property)
				}
			}
		}
		for _, property := range []string{"key_pair", "address"} {
			if refersTo(d.want[property], name) {
				delete(d.want, property)
			}
		}
		d.after = slices.DeleteFunc(d.after, func(x string) bool { return x == name })
	}
}

// rename gives a declaration another name everywhere.
func (s *stack) rename(from, to string) {
	raw := toJSON(map[string]any{"of": from})
	for _, d := range s.list {
		if d.name == from {
			d.name = to
		}
		text := strings.ReplaceAll(toJSON(d.want), raw, toJSON(map[string]any{"of": to}))
		var want map[string]any
		if err := json.Unmarshal([]byte(text), &want); err != nil {
			panic(err)
		}
		for _, k := range []string{"block", "slot"} { // whole numbers stay whole
			if n, ok := want[k].(float64); ok {
				want[k] = int(n)
			}
		}
		d.want = want
		for i, x := range d.after {
			if x == from {
				d.after[i] = to
			}
		}
	}
}

func (s *stack) newName(typ string) string {
	s.names++
	return fmt.Sprintf("%s_%d", strings.ReplaceAll(typ, "key_pair", "key"), s.names)
}
