package change

import (
	"fmt"
	"slices"

	"undersail/internal/core/resource"
)

// Strayed lists the properties that a cloud has otherwise than they are wanted, as
// far as it tells them: before is what it has, after what is wanted. A list that
// nobody wants and that is not empty has strayed too; other values that nobody
// wants are the cloud's own. Those that others may alter never stray, and tags
// are compared by their adapter's caller, who knows which of them are ours.
func Strayed(typeName string, want, has map[string]any, leave []string) []Field {
	var out []Field
	t, _ := resource.ByName(typeName)
	for _, name := range fieldNames(has, nil) {
		if name == "tags" || slices.Contains(leave, name) {
			continue
		}
		p, _ := t.Property(name)
		v, wanted := want[name]
		list, isList := has[name].([]any)
		switch {
		case wanted && !Holds(typeName, name, v, has[name]):
			out = append(out, Field{name, plain(has[name]), plain(v), p.Alter})
		case !wanted && isList && len(list) > 0 && p.Shape.Kind == resource.List:
			out = append(out, Field{Name: name, Before: plain(has[name]), Alter: p.Alter})
		}
	}
	return out
}

// Holds reports whether a cloud has a property as it is wanted. Quantities compare
// by their amount, lists without their order, and of an object only the fields
// that are wanted. What is made with a secret cannot be compared and counts as the
// same.
func Holds(typeName, property string, want, has any) bool {
	t, _ := resource.ByName(typeName)
	p, _ := t.Property(property)
	return same(p.Shape, want, has, false)
}

// HoldsExactly reports the same, and that no object has fields that nobody wants: a
// cloud that tells values of its own for them never does.
func HoldsExactly(typeName, property string, want, has any) bool {
	t, _ := resource.ByName(typeName)
	p, _ := t.Property(property)
	return same(p.Shape, want, has, true)
}

func same(s resource.Shape, want, has any, exactly bool) bool {
	switch w := want.(type) {
	case resource.Unresolved:
		return true
	case string:
		if len(resource.Written(w)) > 0 {
			return true
		}
		if s.Kind == resource.Data {
			a, errA := resource.ParseData(w)
			b, errB := resource.ParseData(fmt.Sprint(has))
			return errA == nil && errB == nil && a == b
		}
	case map[string]any:
		if _, pending := w["pending"]; pending {
			return true
		}
		h, ok := has.(map[string]any)
		if !ok {
			return false
		}
		for k, v := range w {
			inner := resource.Shape{Kind: resource.Open}
			if f, known := s.Field(k); known {
				inner = f.Shape
			}
			if !same(inner, v, h[k], exactly) {
				return false
			}
		}
		for _, f := range s.Fields {
			if _, wanted := w[f.Name]; exactly && !wanted && h[f.Name] != nil {
				return false
			}
		}
		return true
	case []any:
		h, ok := has.([]any)
		if !ok && has != nil || len(h) != len(w) {
			return false
		}
		inner := resource.Shape{Kind: resource.Open}
		if s.Items != nil {
			inner = *s.Items
		}
		left := slices.Clone(h)
		for _, v := range w {
			i := slices.IndexFunc(left, func(x any) bool { return same(inner, v, x, exactly) })
			if i < 0 {
				return false
			}
			left = slices.Delete(left, i, i+1)
		}
		return true
	}
	return Equal(plain(want), plain(has))
}
