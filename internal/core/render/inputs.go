package render

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

	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// inputs validates the given values, fills in defaults and returns the object
// that expressions read. All faults become findings.
func (e *evaluator) inputs() {
	t := e.request.Template
	var names []string
	for _, in := range t.Inputs {
		names = append(names, in.Name)
	}
	for _, name := range slices.Sorted(maps.Keys(e.request.Inputs)) {
		if t.Input(name) == nil {
			remedy := "the inputs are " + strings.Join(names, ", ")
			if close := expr.Closest(name, names); close != "" {
				remedy = fmt.Sprintf("did you mean `%s`?", close)
			}
			e.find(lang.Error, "unknown-input", "inputs."+name, remedy, "the template has no input `%s`", name)
		}
	}
	fields := map[string]any{}
	e.vars["inputs"] = &expr.Object{Type: "inputs", Fields: fields}
	for _, in := range t.Inputs {
		value, origin := e.input(in)
		shown := value
		if in.Secret && value != nil {
			reference := in.Name
			if r, ok := e.request.Secrets[in.Name]; ok {
				reference = r
			}
			value = e.secret(reference)
			shown = resource.Unresolved{Secrets: []string{reference}}
		}
		fields[in.Name] = value
		if in.Optional && value == nil {
			fields[in.Name] = expr.Absent
		} else if in.Optional {
			fields[in.Name] = expr.Some(value)
		}
		e.out.Inputs = append(e.out.Inputs, InputValue{Name: in.Name, Title: in.Title, Value: shown, Origin: origin})
	}
}

// input finds the value of one input. A value that breaks its rules is
// reported, and the value is used all the same: one fault hides no other.
func (e *evaluator) input(in *lang.Input) (value any, origin string) {
	given, ok := e.request.Inputs[in.Name]
	place := "inputs." + in.Name
	switch {
	case ok && given != nil:
		return e.given(in, given), "given"
	case in.Secret && e.request.Secrets[in.Name] != "":
		return "", "given"
	case in.Generate:
		return "", "generated"
	case in.Default != nil:
		v, err := e.eval(in.Default, in.Shape, e.vars)
		if err != nil {
			e.find(lang.Error, "default", place, "give a value for "+in.Name, "its default cannot be computed: %v", err)
		}
		return e.checked(in, v), "default"
	case in.Optional:
		return nil, "left out"
	}
	remedy := "give " + in.Shape.Describe()
	if in.Title != "" {
		remedy += " (" + in.Title + ")"
	}
	if in.Secret {
		remedy = fmt.Sprintf("give it with --secret %s=FILE, or - for standard input", in.Name)
	}
	e.find(lang.Error, "missing-input", place, remedy, "it needs a value and has none")
	return e.stand(in.Shape), "missing"
}

// stand gives a value of the right kind for an input that has none, so that
// the rest can still be computed and checked.
func (e *evaluator) stand(s resource.Shape) any {
	e.incomplete = true
	switch s.Kind {
	case resource.Integer:
		return int64(1)
	case resource.Number:
		return 1.0
	case resource.Boolean:
		return false
	case resource.List:
		return []any{}
	case resource.Map, resource.Object, resource.Open:
		return map[string]any{}
	}
	return ""
}

func (e *evaluator) given(in *lang.Input, given any) any {
	v, err := Normalise(given, in.Shape)
	if err != nil {
		e.find(lang.Error, "input-kind", "inputs."+in.Name, "give "+in.Shape.Describe(), "%v", err)
		return e.stand(in.Shape)
	}
	if in.Secret {
		text, _ := v.(string)
		if reference, isReference := strings.CutPrefix(text, "secret:"); isReference {
			e.find(lang.Error, "unknown-secret", "inputs."+in.Name, fmt.Sprintf("give the value with --secret %s=FILE", in.Name), "there is no secret %s to refer to", reference)
			return text
		}
		for _, broken := range in.Rules.Check(text) {
			e.find(lang.Error, "secret-rule", "inputs."+in.Name, "choose one with "+in.Rules.Words(), "the secret breaks its rules: %s", broken)
		}
		return text
	}
	return e.checked(in, v)
}

func (e *evaluator) checked(in *lang.Input, v any) any {
	schema, err := lang.CompileSchema(in.Schema)
	if err != nil {
		return v // reported when the template was read
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return v
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(raw)))
	if err != nil {
		return v
	}
	var invalid *jsonschema.ValidationError
	if errors.As(schema.Validate(doc), &invalid) {
		for _, cause := range leafCauses(invalid) {
			at := "inputs." + in.Name
			for _, part := range cause.InstanceLocation {
				at += "." + part
			}
			e.find(lang.Error, "input-value", at, "give "+in.Shape.Describe()+" that the input allows", "%s", cause.ErrorKind.LocalizedString(printer))
		}
	}
	e.picked(in, v)
	return v
}

var printer = message.NewPrinter(language.English)

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

// picked checks a value that must come from the offers.
func (e *evaluator) picked(in *lang.Input, v any) {
	o := e.request.Offers
	if o == nil || in.Picks == "" {
		return
	}
	text, _ := v.(string)
	place := "inputs." + in.Name
	switch in.Picks {
	case "zone":
		e.pickedZone(place, text)
	case "zones":
		list, _ := v.([]any)
		for i, z := range list {
			name, _ := z.(string)
			e.pickedZone(fmt.Sprintf("%s[%d]", place, i), name)
		}
	case "image":
		if _, ok := o.Image(text); !ok {
			e.find(lang.Error, "not-offered", place, choose(text, names(o.Images, func(i offer.Image) string { return i.Name })), "region %s has no image %q", o.Region, text)
		}
	case "disk_type":
		if _, ok := o.DiskType(text); !ok {
			e.find(lang.Error, "not-offered", place, choose(text, names(o.DiskTypes, func(d offer.DiskType) string { return d.Name })), "region %s has no disk type %q", o.Region, text)
		}
	case "size":
		need := offer.Need{VCPUs: in.Needs.VCPUs, MemoryBytes: in.Needs.Memory, Architecture: in.Needs.Architecture}
		e.pickedSize(place, text, need)
	}
}

func (e *evaluator) pickedZone(place, zone string) {
	o := e.request.Offers
	if !slices.Contains(o.Zones, zone) {
		e.find(lang.Error, "not-offered", place, choose(zone, o.Zones), "region %s has no zone %q", o.Region, zone)
	}
}

func (e *evaluator) pickedSize(place, name string, need offer.Need) {
	o := e.request.Offers
	if _, ok := o.Size(name); !ok {
		e.find(lang.Error, "not-offered", place, o.Suggest(need), "cloud %s has no size %q", o.Cloud, name)
		return
	}
	for _, c := range o.Fit(need) {
		if c.Size.Name == name && len(c.WhyNot) > 0 {
			e.find(lang.Error, "not-offered", place, o.Suggest(need), "size %s does not do: %s", name, strings.Join(c.WhyNot, "; "))
		}
	}
}

func names[T any](list []T, of func(T) string) []string {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = of(x)
	}
	return out
}

func choose(got string, from []string) string {
	if close := expr.Closest(got, from); close != "" {
		return fmt.Sprintf("did you mean `%s`? Offered are %s", close, strings.Join(from, ", "))
	}
	return "offered are " + strings.Join(from, ", ")
}

// Normalise turns a value as JSON or YAML gave it into what the shape wants:
// int64 for whole numbers, float64 for numbers, and so on down the tree.
func Normalise(v any, s resource.Shape) (any, error) {
	switch t := v.(type) {
	case *lang.Node:
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
	for k, x := range m {
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
func normaliseNode(n *lang.Node, s resource.Shape) (any, error) {
	switch {
	case n.Kind == lang.Expression:
		return "=" + n.Text, nil
	case n.Kind == lang.Sequence:
		list := make([]any, len(n.Items))
		for i, item := range n.Items {
			list[i] = item
		}
		return normaliseList(list, s)
	case n.Kind == lang.Mapping:
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
