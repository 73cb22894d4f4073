package render

import (
	"fmt"
	"maps"
	"slices"

	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

func (e *evaluator) calc() {
	e.vars.Set("calc", &expr.Object{Type: "calc", Source: e.calcCells, Reader: e})
	// Computed values may read resources, so each is computed when first
	// needed: those that can be now, the others as resources come along.
	e.fillCalc()
}

// fillCalc computes what has not been computed and whose resources are there.
func (e *evaluator) fillCalc() {
	for _, c := range e.template.Calc {
		if e.calcCells.has(c.Name) || !e.ready(c.Value) {
			continue
		}
		compute := func() (v any, reads []string) {
			reads = e.collecting(func() {
				var err error
				if v, err = e.eval(c.Value, resource.Shape{Kind: resource.Open}, e.vars); err != nil {
					e.broken("calc."+c.Name, c.Value, err)
					e.incomplete = true
				}
				if p := c.Value.Program; p != nil {
					v = expr.TypedAs(p.Type, v)
				}
			})
			return v, reads
		}
		v, reads := compute()
		e.calcCells.put(c.Name, v, reads, compute)
	}
}

// usable gives the computed values that say what is left of disks after redundancy.
func (e *evaluator) usable() []Usable {
	var out []Usable
	for _, c := range e.template.Calc {
		if p := c.Value.Program; p == nil || !slices.Contains(p.Calls, "usable") || !e.calcCells.has(c.Name) {
			continue
		}
		if bytes, err := resource.ParseData(fmt.Sprint(e.calcCells.Field(c.Name))); err == nil {
			out = append(out, Usable{c.Name, bytes})
		}
	}
	return out
}

// ready reports whether everything that a tree reads is in scope by now.
func (e *evaluator) ready(n *lang.Node) bool {
	if n.Kind == lang.Expression {
		for _, u := range n.Program.Uses {
			if u.Name == "calc" {
				for _, f := range u.Fields {
					if !e.calcCells.has(f) {
						return false
					}
				}
			} else if e.template.Resource(u.Name) != nil {
				if _, ok := e.vars.Get(u.Name); !ok {
					return false
				}
			}
		}
	}
	for _, item := range n.Items {
		if !e.ready(item) {
			return false
		}
	}
	for _, en := range n.Entries {
		if !e.ready(en.Value) {
			return false
		}
	}
	return true
}

// eval computes a tree. Leaves that wait stay [resource.Unresolved].
func (e *evaluator) eval(n *lang.Node, s resource.Shape, vars *expr.Vars) (any, error) {
	switch n.Kind {
	case lang.Expression:
		v, cost, err := n.Program.EvalWithin(e.budget.Context(), vars)
		e.budget.Spend(cost)
		if err != nil || v == nil || v == any(expr.Absent) || e.marks != unmarked {
			return v, err
		}
		v = e.around(n, vars, v)
		if u, waits := v.(resource.Unresolved); waits {
			if n.Program.Branches {
				e.readAll(n.Program)
				return v, nil
			}
			return e.itemised(n, s, vars, u), nil
		}
		if e.texts += longTexts(v); e.texts > maxTexts {
			return nil, fmt.Errorf("the texts that the template computes have more than %d MiB together", maxTexts>>20)
		}
		if err := e.plain(v); err != nil {
			return nil, err
		}
		return v, fits(v, s)
	case lang.Sequence:
		out := make([]any, 0, len(n.Items))
		for _, item := range n.Items {
			v, err := e.eval(item, itemsOf(s), vars)
			if err != nil {
				return nil, err
			}
			if v != any(expr.Absent) {
				out = append(out, v)
			}
		}
		return out, nil
	case lang.Mapping:
		out := make(map[string]any, len(n.Entries))
		for _, entry := range n.Entries {
			if err := e.plain(entry.Key); err != nil {
				return nil, err
			}
			inner := itemsOf(s)
			if f, ok := s.Field(entry.Key); ok {
				inner = f.Shape
			}
			v, err := e.eval(entry.Value, inner, vars)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", entry.Key, err)
			}
			if v != nil && v != any(expr.Absent) {
				out[entry.Key] = v
			}
		}
		return out, nil
	}
	if err := e.plain(n.Text); err != nil {
		return nil, err
	}
	if s.Kind == resource.Open {
		return n.Plain(), nil
	}
	return s.ParseScalar(n.Text)
}

// plain refuses texts that read as the place of a secret and are none: a template's, a
// person's, a cloud's or a machine's. What is recorded of a text with a secret in it is
// filled again when it is needed to undo something, and nobody was asked about these.
func (e *evaluator) plain(v any) error {
	if e.marks == unmarked && !e.revealing && resource.SeemsSecret(v) {
		return fmt.Errorf("this text reads as if a secret stood in it: name the secret in an input with `secret: " +
			"true`, and use that")
	}
	return nil
}

// longTexts counts the bytes of the long texts in a tree.
func longTexts(v any) int {
	n := 0
	switch t := v.(type) {
	case string:
		if len(t) >= longText {
			n = len(t)
		}
	case []any:
		for _, x := range t {
			n += longTexts(x)
		}
	case map[string]any:
		for _, x := range t {
			n += longTexts(x)
		}
	}
	return n
}

func itemsOf(s resource.Shape) resource.Shape {
	if s.Items != nil {
		return *s.Items
	}
	return resource.Shape{Kind: resource.Open}
}

// fits checks a computed value against the shape it is wanted in.
func fits(v any, s resource.Shape) error {
	switch t := v.(type) {
	case resource.Unresolved:
		return nil
	case []any:
		for i, x := range t {
			if err := fits(x, itemsOf(s)); err != nil {
				return fmt.Errorf("item %d: %w", i+1, err)
			}
		}
		return nil
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(t)) { // so that the first fault is always the same
			x, inner := t[k], itemsOf(s)
			if f, ok := s.Field(k); ok {
				inner = f.Shape
			} else if s.Kind == resource.Object {
				return fmt.Errorf("%s has no `%s`", s.TypeName, k)
			}
			if err := fits(x, inner); err != nil {
				return fmt.Errorf("%s: %w", k, err)
			}
		}
		for _, f := range s.Fields {
			if f.Required && t[f.Name] == nil {
				return fmt.Errorf("%s needs `%s`", s.TypeName, f.Name)
			}
		}
		return nil
	}
	if s.Kind == resource.Open {
		return nil
	}
	return s.Check(v)
}
