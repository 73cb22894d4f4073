package render

import (
	"fmt"
	"reflect"

	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

// What a secret takes part in is computed three times: as it is, which gives unknowns, and
// with each of two kinds of marks in the place of secrets and of attributes. Where both come
// out alike but for the marks, the secrets are only put in their places, and what is shown
// is what will be sent. Where they do not, more is made of a secret than that (it is encoded,
// cut, measured), and the expression is shown in the place of its value.

// marks says which marks stand in the place of secrets now; none outside of this file.
type marks int

const (
	unmarked marks = iota
	firstMarks
	secondMarks
)

// around finds what stands around the secrets that an expression is computed with.
func (e *evaluator) around(n *lang.Node, vars *expr.Vars, v any) any {
	if e.marks != unmarked || e.revealing || !expr.HoldsSecret(v) {
		return v
	}
	first, errFirst := e.marked(firstMarks, n, vars)
	second, errSecond := e.marked(secondMarks, n, vars)
	alike := errFirst == nil && errSecond == nil && reflect.DeepEqual(resource.Placed(first), resource.Placed(second))
	return placed(v, first, alike, n.Program.Text)
}

func (e *evaluator) marked(m marks, n *lang.Node, vars *expr.Vars) (v any, err error) {
	e.marks = m
	defer func() { e.marks = unmarked }()
	e.collecting(func() { v, err = n.Program.Eval(vars) })
	return v, err
}

// markedTree computes a tree with marks in the places of secrets and attributes, or gives
// nil where it cannot be computed so.
func (e *evaluator) markedTree(n *lang.Node, s resource.Shape, vars *expr.Vars) (v any) {
	e.marks = firstMarks
	defer func() { e.marks = unmarked }()
	e.collecting(func() {
		var err error
		if v, err = e.eval(n, s, vars); err != nil {
			v = nil
		}
	})
	return v
}

// marked are the wanted values of what holds a secret, with marks in their places.
func (m *member) marked() map[string]any {
	if !m.e.secretive || m.e.revealing || !m.d.Type.Own && !expr.HoldsSecret(m.fields.want) {
		return nil
	}
	out := make(map[string]any, len(m.d.Want.Entries))
	for _, entry := range m.d.Want.Entries {
		if p, ok := m.d.Type.Property(entry.Key); ok {
			out[entry.Key] = m.e.markedTree(entry.Value, p.Shape, m.vars)
		}
	}
	return out
}

// secretive reports whether a template has secrets: inputs of its own or of what it embeds,
// or types that report them.
func secretive(t *lang.Template) bool {
	for _, in := range t.Inputs {
		if in.Secret || in.Other != nil {
			return true
		}
	}
	for _, d := range t.Resources {
		if d.Embedded != nil && secretive(d.Embedded) {
			return true
		}
		for _, a := range d.Type.Attributes {
			if a.Secret {
				return true
			}
		}
	}
	return false
}

// placed adds to the leaves of a tree that are made with secrets what stands around these.
func placed(v, marked any, alike bool, text string) any {
	switch t := v.(type) {
	case resource.Unresolved:
		if len(t.Secrets) == 0 {
			return t
		}
		if alike && !open(marked) && reflect.DeepEqual(resource.Marked(marked), t.Secrets) {
			return resource.Spread(marked)
		}
		t.Marked, t.Made = nil, text
		return t
	case []any:
		list, _ := marked.([]any)
		out := make([]any, len(t))
		for i, x := range t {
			fits := alike && len(list) == len(t)
			var m any
			if fits {
				m = list[i]
			}
			out[i] = placed(x, m, fits, text)
		}
		return out
	case map[string]any:
		fields, _ := marked.(map[string]any)
		out := make(map[string]any, len(t))
		for key, x := range t {
			m, there := fields[key]
			out[key] = placed(x, m, alike && there, text)
		}
		return out
	}
	return v
}

// open reports whether something of a tree is not known.
func open(v any) bool {
	unknown := false
	resource.Leaves(v, func(_ string, leaf any) {
		_, is := leaf.(resource.Unresolved)
		unknown = unknown || is || leaf == any(expr.Absent)
	})
	return unknown
}

// mark stands for an attribute that says where something is, or what it is called.
func (f *fields) mark(name string, shape resource.Shape) any {
	one := func(now any) any {
		text := ""
		if now != nil {
			text = fmt.Sprint(now)
		}
		return resource.MarkAttribute(f.name+"."+name, text)
	}
	if shape.Kind != resource.List {
		return one(f.known[name])
	}
	list, _ := f.known[name].([]any)
	if len(list) == 0 {
		return []any{one(nil)}
	}
	out := make([]any, len(list))
	for i, now := range list {
		out[i] = one(now)
	}
	return out
}
