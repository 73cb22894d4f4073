package render

import (
	"fmt"
	"hash/fnv"
	"reflect"
	"regexp"
	"slices"
	"strconv"

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
	e.collecting(func() {
		var cost int64
		v, cost, err = n.Program.EvalWithin(e.budget.Context(), vars)
		e.budget.Spend(cost)
	})
	return e.numbered(v), err
}

// numbered puts the marks of attributes in the places of the numbers that stood for them.
func (s *session) numbered(v any) any {
	if len(s.numbers) == 0 {
		return v
	}
	switch t := v.(type) {
	case int64:
		if mark, stands := s.numbers[strconv.FormatInt(t, 10)]; stands {
			return mark
		}
	case string:
		return bigNumber.ReplaceAllStringFunc(t, func(digits string) string {
			if mark, stands := s.numbers[digits]; stands {
				return mark
			}
			return digits
		})
	case []any:
		out := make([]any, len(t))
		for i, x := range t {
			out[i] = s.numbered(x)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(t))
		for k, x := range t {
			out[k] = s.numbered(x)
		}
		return out
	}
	return v
}

// bigNumber is what numbers that stand for attributes look like: no port is one.
var bigNumber = regexp.MustCompile(`[0-9]{16}`)

// numberFor stands for an attribute that is a number, another one with each kind of marks:
// what is more than written down comes out otherwise with each.
func numberFor(name string, second bool) int64 {
	h := fnv.New64a()
	h.Write([]byte(name))
	if second {
		h.Write([]byte{0})
	}
	const least, span = 2_000_000_000_000_000, 7_000_000_000_000_000
	return least + int64(h.Sum64()%span)
}

// markedTree computes a tree with marks in the places of secrets and attributes, or gives
// nil where it cannot be computed so.
func (e *evaluator) markedTree(n *lang.Node, s resource.Shape, vars *expr.Vars) (v any) {
	defer func() { e.marks = unmarked }()
	var both [2]any
	for i, m := range []marks{firstMarks, secondMarks} {
		e.marks = m
		var err error
		if e.collecting(func() { both[i], err = e.eval(n, s, vars) }); err != nil {
			return nil
		}
		both[i] = e.numbered(both[i])
	}
	return alikeIn(both[0], both[1])
}

// alikeIn leaves of two marked trees what is alike but for the marks.
func alikeIn(a, b any) any {
	switch x := a.(type) {
	case map[string]any:
		y, ok := b.(map[string]any)
		out := make(map[string]any, len(x))
		for k, v := range x {
			if ok {
				out[k] = alikeIn(v, y[k])
			}
		}
		return out
	case []any:
		if y, ok := b.([]any); ok && len(y) == len(x) {
			out := make([]any, len(x))
			for i, v := range x {
				out[i] = alikeIn(v, y[i])
			}
			return out
		}
		return nil
	}
	if !reflect.DeepEqual(resource.Placed(a), resource.Placed(b)) {
		return nil
	}
	return a
}

// itemised gives a computed list of which something is not known yet item by item: an expression
// knows all of it or nothing, and whoever reads what changes wants to see which item is new.
// It stays as it is where the items depend on more than what they hold.
func (e *evaluator) itemised(n *lang.Node, s resource.Shape, vars *expr.Vars, u resource.Unresolved) any {
	if s.Kind != resource.List || e.revealing || len(u.Secrets) > 0 || slices.Contains(n.Program.Calls, "filter") ||
		slices.Contains(n.Program.Calls, "size") {
		return u
	}
	var both [2]any
	for i, m := range []marks{firstMarks, secondMarks} {
		v, err := e.marked(m, n, vars)
		if list, is := v.([]any); err != nil || !is || open(list) {
			return u
		}
		both[i] = v
	}
	list := resource.Spread(both[0])
	if !reflect.DeepEqual(resource.Placed(both[0]), resource.Placed(both[1])) ||
		!slices.Equal(resource.Waits(list), u.Waits) || fits(list, s) != nil {
		return u
	}
	return plainly(list)
}

// plainly takes from the leaves of a tree what stands around the attributes that they wait for:
// no secret is among it.
func plainly(tree any) any {
	switch t := tree.(type) {
	case []any:
		for i, v := range t {
			t[i] = plainly(v)
		}
	case map[string]any:
		for k, v := range t {
			t[k] = plainly(v)
		}
	case resource.Unresolved:
		t.Marked = nil
		return t
	}
	return tree
}

// marked are the wanted values of what holds a secret, with marks in their places.
func (m *member) marked() map[string]any {
	if !m.e.secretive || m.e.revealing {
		return nil
	}
	whole := m.d.Type.Own || expr.HoldsSecret(m.fields.want)
	if !whole && !m.d.Type.Machine {
		return nil
	}
	out := make(map[string]any, len(m.d.Want.Entries))
	for _, entry := range m.d.Want.Entries {
		if p, ok := m.d.Type.Property(entry.Key); ok && (whole || slices.Contains(tells, entry.Key)) {
			out[entry.Key] = m.e.markedTree(entry.Value, p.Shape, m.vars)
		}
	}
	return out
}

// tells are the properties of a machine that are marked though it holds no secret: who signs
// in to it, and the disks that it has, which a command or a disk may have given one.
var tells = []string{"key_pair", "disks"}

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
	if shape.Kind == resource.Integer {
		n := numberFor(f.name+"."+name, f.e.marks == secondMarks)
		if f.e.numbers == nil {
			f.e.numbers = map[string]string{}
		}
		f.e.numbers[strconv.FormatInt(n, 10)] = one(f.known[name]).(string)
		return n
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
