package render

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// inputs validates the given values, fills in defaults and puts the object into
// scope that expressions read. All faults become findings.
func (e *evaluator) inputs() {
	t := e.template
	var names []string
	for _, in := range t.Inputs {
		names = append(names, in.Name)
	}
	for _, name := range slices.Sorted(maps.Keys(e.given)) {
		if t.Input(name) == nil {
			e.find(lang.Error, "unknown-input", e.scope+"inputs."+name,
				expr.Suggest(name, names, "the inputs are "+strings.Join(names, ", ")),
				"the template has no input `%s`", name)
		}
	}
	e.vars.Set("inputs", &expr.Object{Type: "inputs", Source: e.inputCells, Reader: e})
	for _, in := range t.Inputs {
		value, origin := e.input(in)
		shown := value
		if in.Secret && value != nil {
			value, shown = e.secretInput(in, value, origin)
		}
		e.inputCells.put(in.Name, e.inputField(in, value), e.givenReads[in.Name],
			func() (any, []string) { return e.inputAnew(in) })
		if e.parent != nil {
			continue // its values are told where they are given
		}
		e.out.Inputs = append(e.out.Inputs, InputValue{
			Name:   in.Name,
			Title:  in.Title,
			Page:   in.Page,
			Value:  shown,
			Origin: origin,
			Hidden: e.hidden(in),
		})
		if in.Consent != "" && agreeable(value) {
			e.out.Consents = append(e.out.Consents, Consent{in.Name, in.Consent})
		}
	}
}

// inputAnew computes an input that depends on what resources report, or shows
// the value of a secret.
func (e *evaluator) inputAnew(in *lang.Input) (any, []string) {
	var reads []string
	if give := e.gives[in.Name]; give != nil {
		before := e.given[in.Name]
		e.given[in.Name], reads = give()
		if e.revealing || e.marks != unmarked {
			defer func() { e.given[in.Name] = before }()
		}
	}
	value, origin := e.input(in)
	if in.Secret && value != nil {
		value, _ = e.secretInput(in, value, origin)
	}
	return e.inputField(in, value), reads
}

// secretInput gives the value that expressions read of a secret, and the one
// that is shown.
func (e *evaluator) secretInput(in *lang.Input, value any, origin string) (read, shown any) {
	if u, ok := value.(resource.Unresolved); ok {
		return u, u // handed down from the template above
	}
	if _, handed := e.given[in.Name]; e.parent != nil && handed {
		return value, nil // handed down and revealed: the engine is calling
	}
	reference := e.scope + in.Name
	if r, ok := e.request.Secrets[reference]; ok {
		reference = r
	} else if origin == "generated" && e.marks == unmarked {
		e.out.Generated = append(e.out.Generated, Generated{reference, in.Rules})
	}
	return e.secret(reference), resource.Unresolved{Secrets: []string{reference}}
}

// inputField gives a value the type that expressions read.
func (e *evaluator) inputField(in *lang.Input, value any) any {
	switch {
	case in.Optional && value == nil:
		return expr.Absent
	case in.Other != nil:
		name, _ := value.(string)
		value = e.stackValue(in, name)
	default:
		value = expr.Typed(in.Shape, value)
	}
	if in.Optional {
		return expr.Some(value)
	}
	return value
}

func (e *evaluator) hidden(in *lang.Input) bool {
	if in.ShownWhen == nil {
		return false
	}
	v, err := e.eval(in.ShownWhen, resource.Shape{Kind: resource.Boolean}, e.vars)
	shown, ok := v.(bool)
	return err == nil && ok && !shown
}

// agreeable tells whether a value asks for consent: it is there, and not false.
func agreeable(v any) bool {
	switch t := v.(type) {
	case nil:
		return false
	case bool:
		return t
	case string:
		return t != ""
	case []any:
		return len(t) > 0
	}
	return true
}

// input finds the value of one input. A value that breaks its rules is
// reported, and the value is used all the same: one fault hides no other.
func (e *evaluator) input(in *lang.Input) (value any, origin string) {
	given, ok := e.given[in.Name]
	place := e.scope + "inputs." + in.Name
	switch {
	case ok && given != nil:
		origin := "given"
		if from := e.request.Origins[in.Name]; from != "" && e.parent == nil {
			origin = from
		}
		return e.take(in, given), origin
	case in.Secret && e.request.Secrets[e.scope+in.Name] != "":
		if from := e.request.Origins[in.Name]; from != "" && e.parent == nil {
			return "", from
		}
		return "", "given"
	case in.Generate:
		return "", "generated"
	case in.Default != nil:
		v, err := e.eval(in.Default, in.Shape, e.vars)
		if err != nil {
			e.find(lang.Error, "default", place, "give a value for "+in.Name, "its default cannot be computed: %v", err)
		}
		if in.Default.Kind == lang.Expression {
			return e.checked(in, v), "computed default"
		}
		return e.checked(in, v), "default"
	case in.Free > 0 && e.free(in) != "":
		return e.free(in), FreeRange
	case in.SizedBy != nil && e.request.Offers == nil:
		return resource.Unresolved{Waits: []string{"offers"}}, SizingTable
	case in.SizedBy != nil:
		if name := e.advised(in); name != "" {
			return e.checked(in, name), SizingTable
		}
		return e.stand(in.Shape), "missing" // why none is advised is told
	case in.Optional:
		return nil, "left out"
	case in.Later:
		return resource.Unresolved{Waits: []string{"inputs." + e.scope + in.Name}}, "later"
	}
	remedy := "give " + in.Shape.Describe()
	if in.Title != "" {
		remedy += " (" + in.Title + ")"
	}
	if in.Picks != "" {
		remedy = "choose one that is there"
		if offered := e.offered(in); offered != "" {
			remedy = offered
		}
	}
	if in.Secret {
		remedy = fmt.Sprintf("give it with --secret %s=FILE, or - for standard input", in.Name)
	}
	e.find(lang.Error, "missing-input", place, remedy, "%s", missingWords(in))
	return e.stand(in.Shape), "missing"
}

// missingWords say of an input without a value what it needs.
func missingWords(in *lang.Input) string {
	switch {
	case in.Picks == "" || in.Secret:
		return "it needs a value and has none"
	case in.Picks == "zones":
		return "it needs zones, and none were chosen"
	}
	return "it needs " + lang.Article(resource.Words(in.Picks)) + ", and none was chosen"
}

// offered says what can be chosen for an input that picks, where that is known.
func (e *evaluator) offered(in *lang.Input) string {
	o := e.request.Offers
	if o == nil {
		return ""
	}
	switch in.Picks {
	case "size":
		return o.Suggest(needOf(in.Needs))
	case "zone", "zones":
		return expr.Choose("", o.Zones)
	}
	if list, lacks := sold(in.Picks, o); lacks != "" {
		return expr.Choose("", list)
	}
	return ""
}

// sold names what a region sells of a kind, and says how it is told that it does not sell
// something; "" for what is not picked by its name alone.
func sold(kind string, o *offer.Offers) (list []string, lacks string) {
	switch kind {
	case "image":
		return names(o.Images, func(i offer.Image) string { return i.Name }), "has no image"
	case "disk_type":
		return names(o.DiskTypes, func(d offer.DiskType) string { return d.Name }), "has no disk type"
	case "engine":
		return o.Engines, "has no database engine"
	case "family":
		return names(o.Hosts, func(h offer.Host) string { return h.Family }), "sells no dedicated hosts of family"
	}
	return nil, ""
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

// take reads a given value as the input wants it and checks it.
func (e *evaluator) take(in *lang.Input, given any) any {
	place := e.scope + "inputs." + in.Name
	v, err := lang.Normalise(given, in.Shape)
	if err != nil && in.Secret {
		// the error would show it
		e.find(lang.Error, "input-kind", place, "give one line of text", "the secret is no text")
		return e.stand(in.Shape)
	}
	if err != nil {
		e.find(lang.Error, "input-kind", place, "give "+in.Shape.Describe(), "%v", err)
		return e.stand(in.Shape)
	}
	if len(resource.Waits(v))+len(resource.Secrets(v)) > 0 {
		return v // checked once it is known
	}
	if in.Secret {
		text, _ := v.(string)
		if reference, isReference := strings.CutPrefix(text, "secret:"); isReference {
			e.find(lang.Error, "unknown-secret", place,
				fmt.Sprintf("list them with: undersail secrets; or give the value with --secret %s=FILE", in.Name),
				"there is no secret %s to refer to", reference)
			return text
		}
		for _, broken := range in.Rules.Check(text, e.names()...) {
			e.find(lang.Error, "secret-rule", place, "choose one with "+in.Rules.Words(),
				"the secret breaks its rules: %s", broken)
		}
		return text
	}
	return e.checked(in, v)
}

// names are those that a secret must not derive from: that of the stack and the texts
// that were given.
func (e *evaluator) names() []string {
	names := []string{e.request.Stack.Name, e.template.About.Name}
	for name, v := range e.request.Inputs {
		in := e.template.Input(name)
		if text, ok := v.(string); ok && (in == nil || !in.Secret) && len(text) < 64 {
			names = append(names, text)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

func (e *evaluator) checked(in *lang.Input, v any) any {
	for _, f := range in.Validate(v) {
		e.find(lang.Error, "input-value", e.scope+"inputs."+in.Name+f.Path,
			"give "+in.Shape.Describe()+allowed(in.Schema, v), "%s", f.Message)
	}
	return e.picked(in, v)
}

// allowed tells what a schema allows, as the end of a sentence.
func allowed(schema map[string]any, v any) string {
	number := func(key string) (float64, bool) {
		f, err := strconv.ParseFloat(fmt.Sprint(schema[key]), 64)
		return f, err == nil
	}
	least, hasLeast := number("minimum")
	most, hasMost := number("maximum")
	switch {
	case schema["enum"] != nil:
		list, _ := schema["enum"].([]any)
		return " among " + strings.Join(names(list, func(x any) string { return fmt.Sprint(x) }), ", ")
	case hasLeast && hasMost:
		if step, ok := number("multipleOf"); ok && step > 0 {
			got, _ := strconv.ParseFloat(fmt.Sprint(v), 64)
			below := max(math.Floor(got/step)*step, math.Ceil(least/step)*step)
			return fmt.Sprintf(" from %g to %g in steps of %g, such as %g or %g", least, most, step, min(below, most),
				min(below+step, most))
		}
		return fmt.Sprintf(" from %g to %g", least, most)
	case hasLeast:
		return fmt.Sprintf(" of at least %g", least)
	case hasMost:
		return fmt.Sprintf(" of at most %g", most)
	case schema["pattern"] != nil:
		return fmt.Sprintf(" of the form %v", schema["pattern"])
	}
	return " that the input allows"
}

// picked checks a value that must come from the offers. What is there may be named,
// and is read by its id.
func (e *evaluator) picked(in *lang.Input, v any) any {
	o := e.request.Offers
	if o == nil || in.Picks == "" {
		return v
	}
	text, _ := v.(string)
	place := e.scope + "inputs." + in.Name
	switch in.Picks {
	case "zone":
		e.pickedZone(place, text)
	case "zones":
		list, _ := v.([]any)
		for i, z := range list {
			name, _ := z.(string)
			e.pickedZone(fmt.Sprintf("%s[%d]", place, i), name)
		}
	case "network", "subnet", "key_pair", "host":
		if text == "" || in.Picks == "key_pair" && isPublicKey(text) {
			return v
		}
		id, otherwise, names := o.Find(in.Picks, text)
		if id != "" {
			return id
		}
		if otherwise == "" {
			otherwise = expr.Choose(text, names)
		}
		e.find(lang.Error, "not-offered", place, otherwise, "account %s has no %s %q in %s", o.Account,
			resource.Words(in.Picks), text, o.Region)
	case "image", "disk_type", "engine", "family":
		if list, lacks := sold(in.Picks, o); !slices.Contains(list, text) {
			e.find(lang.Error, "not-offered", place, expr.Choose(text, list), "region %s %s %q", o.Region, lacks, text)
		}
	case "size":
		e.pickedSize(place, text, needOf(in.Needs))
		e.complies(in, text)
	}
	return v
}

// isPublicKey tells the public half of a key pair of ours, which is given for its name,
// from the id of one in the cloud.
func isPublicKey(text string) bool {
	_, err := resource.Shape{Kind: resource.PublicKey}.ParseScalar(text)
	return err == nil
}

func (e *evaluator) pickedZone(place, zone string) {
	o := e.request.Offers
	if !slices.Contains(o.Zones, zone) {
		e.find(lang.Error, "not-offered", place, expr.Choose(zone, o.Zones), "region %s has no zone %q", o.Region, zone)
	}
}

func (e *evaluator) pickedSize(place, name string, need offer.Need) {
	o := e.request.Offers
	need.Host = true // whether the machine has one is known of the machine
	if _, ok := o.Size(name); !ok {
		e.find(lang.Error, "not-offered", place, o.Suggest(need), "cloud %s has no size %q", o.Cloud, name)
		return
	}
	for _, c := range o.Fit(need) {
		if c.Size.Name == name && len(c.WhyNot) > 0 {
			e.find(lang.Error, "not-offered", place, o.Suggest(need), "size %s does not do: %s", name,
				strings.Join(c.WhyNot, "; "))
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
