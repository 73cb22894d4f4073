package lang

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"undersail/internal/core/resource"
)

// Fault is what a value breaks of its JSON Schema. Path leads to the place
// within the value, such as .rules.0.port; empty for the value itself.
type Fault struct{ Path, Message string }

var printer = message.NewPrinter(language.English)

// Validate checks a value against the input's JSON Schema.
func (in *Input) Validate(v any) []Fault {
	if in.schema == nil {
		return nil // a fault of the template, reported when it was read
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return nil
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(raw)))
	if err != nil {
		return nil
	}
	var invalid *jsonschema.ValidationError
	if !errors.As(in.schema.Validate(doc), &invalid) {
		return nil
	}
	var out []Fault
	for _, cause := range leafCauses(invalid) {
		at := ""
		for _, part := range cause.InstanceLocation {
			at += "." + part
		}
		out = append(out, Fault{at, cause.ErrorKind.LocalizedString(printer)})
	}
	return out
}

func leafCauses(v *jsonschema.ValidationError) []*jsonschema.ValidationError {
	if len(v.Causes) == 0 {
		return []*jsonschema.ValidationError{v}
	}
	var out []*jsonschema.ValidationError
	for _, c := range v.Causes {
		out = append(out, leafCauses(c)...)
	}
	return out
}

// inputLiteral checks a value that the template itself gives an input.
func (c *checker) inputLiteral(in *Input, n *Node) {
	v, err := Normalise(n, in.Shape)
	if err != nil {
		c.errorf("value", n.Position, "give "+in.Shape.Describe(), "%v", err)
		return
	}
	for _, f := range in.Validate(v) {
		c.errorf("value", n.Position, "give a value that the input allows", "`%s`: %s", in.Name+f.Path, f.Message)
	}
}

// Normalise turns a value as JSON or YAML gave it into what the shape wants:
// int64 for whole numbers, float64 for numbers, and so on down the tree.
func Normalise(v any, s resource.Shape) (any, error) {
	switch t := v.(type) {
	case *Node:
		return normaliseNode(t, s)
	case float64:
		if s.Kind == resource.Integer {
			if t != float64(int64(t)) {
				return nil, fmt.Errorf("%v is not a whole number", t)
			}
			return int64(t), nil
		}
	case int64:
		if s.Kind == resource.Number {
			return float64(t), nil
		}
	case int:
		return Normalise(int64(t), s)
	case json.Number:
		return s.ParseScalar(t.String())
	case []any:
		return normaliseList(t, s)
	case map[string]any:
		return normaliseMap(t, s)
	case resource.Unresolved:
		return t, nil
	}
	if !s.Scalar() && s.Kind != resource.Open {
		return nil, fmt.Errorf("%v is not %s", v, s.Describe())
	}
	return v, s.Check(v)
}

func normaliseList(list []any, s resource.Shape) (any, error) {
	items := resource.Shape{Kind: resource.Open}
	switch s.Kind {
	case resource.List:
		items = *s.Items
	case resource.Open:
	default:
		return nil, fmt.Errorf("a list is not %s", s.Describe())
	}
	out := make([]any, len(list))
	for i, x := range list {
		v, err := Normalise(x, items)
		if err != nil {
			return nil, fmt.Errorf("item %d: %w", i+1, err)
		}
		out[i] = v
	}
	return out, nil
}

func normaliseMap(m map[string]any, s resource.Shape) (any, error) {
	if s.Kind != resource.Map && s.Kind != resource.Object && s.Kind != resource.Open {
		return nil, fmt.Errorf("a mapping is not %s", s.Describe())
	}
	out := make(map[string]any, len(m))
	for _, k := range slices.Sorted(maps.Keys(m)) {
		x := m[k] // in a fixed order, so that the first fault is always the same
		items := resource.Shape{Kind: resource.Open}
		if s.Items != nil {
			items = *s.Items
		}
		if f, ok := s.Field(k); ok {
			items = f.Shape
		}
		v, err := Normalise(x, items)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", k, err)
		}
		out[k] = v
	}
	return out, nil
}

// normaliseNode reads a scalar of an inputs file from its text, so that 0644
// and 3.10 stay what was written where text is wanted.
func normaliseNode(n *Node, s resource.Shape) (any, error) {
	switch {
	case n.Kind == Expression:
		return "=" + n.Text, nil
	case n.Kind == Sequence:
		list := make([]any, len(n.Items))
		for i, item := range n.Items {
			list[i] = item
		}
		return normaliseList(list, s)
	case n.Kind == Mapping:
		m := map[string]any{}
		for _, e := range n.Entries {
			m[e.Key] = e.Value
		}
		return normaliseMap(m, s)
	case s.Kind == resource.Open:
		return n.Plain(), nil
	case !s.Scalar():
		return nil, fmt.Errorf("%q is not %s", n.Text, s.Describe())
	}
	return s.ParseScalar(n.Text)
}
