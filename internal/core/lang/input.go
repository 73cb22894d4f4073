package lang

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/jellydator/ttlcache/v3"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"undersail/internal/core/expr"
	"undersail/internal/core/resource"
	"undersail/internal/core/secretrule"
)

// schemaKeys are the JSON Schema keywords that inputs may use, with ours.
var schemaKeys = strings.Fields(`type enum const default title description minimum maximum exclusiveMinimum exclusiveMaximum
	multipleOf minLength maxLength pattern format items minItems maxItems uniqueItems properties required additionalProperties
	minProperties maxProperties examples`)

var ourKeys = strings.Fields(`picks needs of secret rules generate optional page shown_when asks_consent free sized_by advice later`)

// schemaTypes are the types of JSON Schema that inputs may have.
var schemaTypes = strings.Fields("string integer number boolean array object")

// pickShapes are the kinds of picks with the shape of the picked value.
var pickShapes = map[string]resource.Shape{
	"region":    {Kind: resource.String},
	"zone":      {Kind: resource.String},
	"zones":     {Kind: resource.List, Items: &resource.Shape{Kind: resource.String}},
	"size":      {Kind: resource.String},
	"image":     {Kind: resource.String},
	"disk_type": {Kind: resource.String},
	"engine":    {Kind: resource.String}, // of databases
	"family":    {Kind: resource.String}, // of dedicated hosts
	"network":   {Kind: resource.String}, // and what follows: the id of one that exists
	"subnet":    {Kind: resource.String},
	"key_pair":  {Kind: resource.String},
	"host":      {Kind: resource.String}, // a dedicated one
	"secret":    {Kind: resource.String},
	"domain":    {Kind: resource.String},
	"stack":     {Kind: resource.String}, // the name of one; its outputs are read
}

func (d *decoder) input(e Entry) {
	n := e.Value
	in := &Input{Name: e.Key, Position: e.At}
	d.template.Inputs = append(d.template.Inputs, in)
	if !d.mapping(n, "input "+e.Key, append(slices.Clone(schemaKeys), ourKeys...)...) {
		return
	}
	in.Title, in.Page = d.text(n, "title", false), d.text(n, "page", false)
	in.Secret, in.Generate, in.Optional = d.flag(n, "secret") ||
		n.Get("picks") != nil && n.Get("picks").Text == "secret", d.flag(n, "generate"), d.flag(n, "optional")
	in.Default, in.Consent = n.Get("default"), d.text(n, "asks_consent", false)
	if in.Later = d.flag(n, "later"); in.Later {
		for _, key := range []string{"default", "optional", "secret", "generate", "free", "sized_by", "picks",
			"asks_consent"} {
			if v := n.Get(key); v != nil {
				d.errorf("value", v.Position, "remove one of them",
					"input %s is given later, and `%s` does not go with that", e.Key, key)
			}
		}
	}
	if in.ShownWhen = n.Get("shown_when"); in.ShownWhen != nil && in.ShownWhen.Kind != Expression {
		d.errorf("value", in.ShownWhen.Position, "write a condition, such as =inputs.with_archive",
			"`shown_when` must be an expression")
		in.ShownWhen = nil
	}
	in.Schema = d.schema(n)
	d.picks(n, in)
	d.rules(n, in)
	if in.Secret {
		in.Schema["type"] = "string"
	}
	if v := n.Get("type"); v != nil && (v.Kind != Scalar || !slices.Contains(schemaTypes, v.Text)) {
		remedy := expr.Suggest(v.Text, schemaTypes, "the types are "+strings.Join(schemaTypes, ", "))
		what := "the type `" + v.Text + "`"
		if v.Kind != Scalar {
			what = "several types"
		}
		d.errorf("unknown-type", v.Position, remedy, "an input cannot have %s", what)
		in.Schema["type"] = "string"
	}
	if in.Schema["type"] == nil {
		d.errorf("missing-key", e.At, "add `type:`, `picks:` or `secret: true`", "input %s does not say what it is",
			e.Key)
		in.Schema["type"] = "string"
	}
	in.Shape = shapeOf(e.Key, in.Schema)
	d.choosing(n, in)
	if in.Generate && !in.Secret {
		d.errorf("value", n.Get("generate").Position, "add `secret: true`, or remove `generate`",
			"only secrets are generated")
	}
	if in.Secret && in.Default != nil {
		d.errorf("value", in.Default.Position, "use `generate: true`, or leave it to whoever proposes",
			"a secret has no default: everybody could read it here")
	}
	d.schemaFaults(n, e, in)
}

var schemaFault = regexp.MustCompile(`at '/([^'/]+)[^']*': ([^\n]+)`)

// schemaFaults reports keywords whose values JSON Schema does not allow, each at
// its place.
func (d *decoder) schemaFaults(n *Node, e Entry, in *Input) {
	schema, err := CompileSchema(in.Schema)
	if err == nil {
		in.schema = schema
		return
	}
	faults := schemaFault.FindAllStringSubmatch(err.Error(), -1)
	for _, m := range faults {
		at := e.At
		if v := n.Get(m[1]); v != nil {
			at = v.Position
		}
		d.errorf("schema", at, "give the keyword what JSON Schema wants", "`%s`: %s", m[1], m[2])
	}
	if faults == nil {
		d.errorf("schema", e.At, "see the JSON Schema keywords in the documentation",
			"input %s has no valid JSON Schema", e.Key)
	}
}

func (d *decoder) picks(n *Node, in *Input) {
	in.Picks = d.text(n, "picks", false)
	shape, known := pickShapes[in.Picks]
	switch {
	case in.Picks == "":
	case !known:
		kinds := slices.Sorted(maps.Keys(pickShapes))
		d.errorf("value", n.Get("picks").Position,
			expr.Suggest(in.Picks, kinds, "it picks one of "+strings.Join(kinds, ", ")),
			"there is nothing called `%s` to pick", in.Picks)
		in.Schema["type"] = "string"
	case shape.Kind == resource.List:
		in.Schema["type"], in.Schema["items"] = "array", map[string]any{"type": "string"}
	default:
		in.Schema["type"] = "string"
	}
	d.of(n, in)
	switch in.Picks {
	case "network", "subnet", "key_pair", "host": // a name is looked up in the offers
		d.template.UsesOffers = true
	}
	needs := n.Get("needs")
	if needs != nil && in.Picks != "size" {
		d.errorf("value", needs.Position, "remove `needs`, or pick a size", "`needs` narrows sizes only")
	}
	in.Needs = d.needs(needs)
}

// of reads the template whose stack is picked, so that its outputs are typed.
func (d *decoder) of(n *Node, in *Input) {
	of := n.Get("of")
	switch {
	case of == nil && in.Picks == "stack":
		d.errorf("missing-key", in.Position, "add `of: NAME@^1`, the template of the stack",
			"input %s picks a stack and does not say of which template", in.Name)
	case of != nil && in.Picks != "stack":
		d.errorf("value", of.Position, "remove `of`, or write `picks: stack`", "`of` is for inputs that pick a stack")
	case of != nil:
		in.Of = d.text(n, "of", false)
		in.Other = d.part(in.Of, of.Position)
	}
}

func (d *decoder) rules(n *Node, in *Input) {
	rules := n.Get("rules")
	if rules == nil || !d.mapping(rules, "rules", "length", "classes", "kinds", "forbid") {
		return
	}
	if !in.Secret {
		d.errorf("value", rules.Position, "add `secret: true`, or use JSON Schema keywords", "`rules` are for secrets")
	}
	number := func(key string, low, high int64) int {
		v := rules.Get(key)
		if v == nil {
			return 0
		}
		got, err := (resource.Shape{Kind: resource.Integer, Minimum: low, Maximum: high}).ParseScalar(v.Text)
		if err != nil {
			d.errorf("value", v.Position, fmt.Sprintf("write a number from %d to %d", low, high), "`%s`: %v", key, err)
			return 0
		}
		return int(got.(int64))
	}
	in.Rules.Length, in.Rules.Classes = number("length", 1, 200), number("classes", 1, 4)
	d.list(rules.Get("kinds"), "kinds", func(item *Node) {
		if !slices.Contains(secretrule.Kinds(), item.Text) {
			d.errorf("value", item.Position, expr.Choose(item.Text, secretrule.Kinds()),
				"there is no kind of character `%s`", item.Text)
			return
		}
		in.Rules.Kinds = append(in.Rules.Kinds, item.Text)
	})
	d.list(rules.Get("forbid"), "forbid", func(item *Node) { in.Rules.Forbid = append(in.Rules.Forbid, item.Text) })
}

// schema takes the JSON Schema keywords of an input out of its tree.
func (d *decoder) schema(n *Node) map[string]any {
	out := map[string]any{}
	for _, e := range n.Entries {
		if !slices.Contains(schemaKeys, e.Key) || e.Key == "default" {
			continue
		}
		switch e.Key {
		case "items", "additionalProperties":
			if e.Value.Kind == Mapping {
				d.mapping(e.Value, e.Key, schemaKeys...)
				out[e.Key] = d.schema(e.Value)
				continue
			}
			out[e.Key] = d.literal(e.Value)
		case "properties":
			fields := map[string]any{}
			if d.isMapping(e.Value, "properties") {
				for _, f := range e.Value.Entries {
					d.mapping(f.Value, "property "+f.Key, schemaKeys...)
					fields[f.Key] = d.schema(f.Value)
				}
			}
			out[e.Key] = fields
		case "pattern":
			if _, err := regexp.Compile(e.Value.Text); err != nil {
				d.errorf("pattern", e.Value.Position, "patterns are RE2 regular expressions",
					"the pattern does not compile: %v", err)
				continue
			}
			out[e.Key] = e.Value.Text
		default:
			out[e.Key] = d.literal(e.Value)
		}
	}
	return out
}

// literal turns a tree without expressions into plain values.
func (d *decoder) literal(n *Node) any {
	if n.Kind == Expression {
		d.errorf("value", n.Position, "write the value itself", "this cannot be computed")
		return nil
	}
	return n.Plain()
}

// Plain turns a tree without expressions into values by the YAML 1.2 core
// schema: true, false, null, whole and fractional numbers, text.
func (n *Node) Plain() any {
	switch n.Kind {
	case Sequence:
		out := make([]any, len(n.Items))
		for i, item := range n.Items {
			out[i] = item.Plain()
		}
		return out
	case Mapping:
		out := map[string]any{}
		for _, e := range n.Entries {
			out[e.Key] = e.Value.Plain()
		}
		return out
	}
	return coreScalar(n)
}

func coreScalar(n *Node) any {
	if n.Quoted {
		return n.Text
	}
	switch n.Text {
	case "", "~", "null":
		return nil
	case "true":
		return true
	case "false":
		return false
	}
	if i, err := strconv.ParseInt(n.Text, 10, 64); err == nil && !leadingZero(n.Text) {
		return i
	}
	if f, err := strconv.ParseFloat(n.Text, 64); err == nil && numberLike.MatchString(n.Text) {
		return f
	}
	return n.Text
}

var numberLike = regexp.MustCompile(`^[-+]?[0-9]+(\.[0-9]+)?([eE][-+]?[0-9]+)?$`)

func leadingZero(s string) bool {
	s = strings.TrimLeft(s, "+-")
	return len(s) > 1 && s[0] == '0'
}

// shapeOf derives the shape of a value from its JSON Schema.
func shapeOf(name string, schema map[string]any) resource.Shape {
	sub := func(key string) (map[string]any, bool) { m, ok := schema[key].(map[string]any); return m, ok }
	switch schema["type"] {
	case "integer":
		return resource.Shape{Kind: resource.Integer}
	case "number":
		return resource.Shape{Kind: resource.Number}
	case "boolean":
		return resource.Shape{Kind: resource.Boolean}
	case "array":
		items := resource.Shape{Kind: resource.Open}
		if s, ok := sub("items"); ok {
			items = shapeOf(name, s)
		}
		return resource.Shape{Kind: resource.List, Items: &items}
	case "object":
		if fields, ok := sub("properties"); ok && len(fields) > 0 {
			out := resource.Shape{Kind: resource.Object, TypeName: "input " + name}
			for _, f := range slices.Sorted(maps.Keys(fields)) {
				s, _ := fields[f].(map[string]any)
				out.Fields = append(out.Fields, resource.Property{Name: f, Shape: shapeOf(name+"."+f, s)})
			}
			return out
		}
		items := resource.Shape{Kind: resource.Open}
		if s, ok := sub("additionalProperties"); ok {
			items = shapeOf(name, s)
		}
		return resource.Shape{Kind: resource.Map, Items: &items}
	case "string":
		format, _ := schema["format"].(string)
		if kind, ok := formats[format]; ok {
			return resource.Shape{Kind: kind}
		}
		return resource.Shape{Kind: resource.String}
	}
	return resource.Shape{Kind: resource.Open}
}

// formats are the formats of our own beside those of JSON Schema.
var formats = map[string]resource.Kind{"cidr": resource.Range, "amount": resource.Data, "span": resource.Span}

// CompileSchema compiles the JSON Schema (2020-12) of one input. Formats are
// asserted and no reference is followed.
func CompileSchema(schema map[string]any) (*jsonschema.Schema, error) {
	// Through JSON, so that numbers are what the library expects.
	raw, err := json.Marshal(schema)
	if err != nil {
		return nil, fmt.Errorf("compiling the schema: %w", err)
	}
	if known := schemas.Get(string(raw)); known != nil {
		return known.Value(), nil
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(raw)))
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	for name, kind := range formats {
		c.RegisterFormat(&jsonschema.Format{Name: name, Validate: func(v any) error {
			if s, ok := v.(string); ok {
				return resource.Shape{Kind: kind}.Check(s)
			}
			return nil
		}})
	}
	c.UseLoader(noLoader{})
	if err := c.AddResource("urn:undersail:input", doc); err != nil {
		return nil, err
	}
	compiled, err := c.Compile("urn:undersail:input")
	if err == nil {
		schemas.Set(string(raw), compiled, ttlcache.NoTTL)
	}
	return compiled, err
}

// schemas keeps compiled schemas by their text.
var schemas = ttlcache.New(ttlcache.WithCapacity[string, *jsonschema.Schema](2048))

type noLoader struct{}

func (noLoader) Load(url string) (any, error) {
	return nil, fmt.Errorf("references are not followed: %s", url)
}

// ReadInputs reads an inputs file (YAML or JSON): a mapping of input names to
// values, without expressions. Values stay trees, so that their text can be read
// by the type that the template wants.
func ReadInputs(file string, source []byte) (map[string]*Node, Diagnostics) {
	r := newReport(file, source)
	tree := readTree(r, source)
	out := map[string]*Node{}
	switch {
	case tree == nil:
	case tree.empty():
	case tree.Kind != Mapping:
		r.errorf("kind", tree.Position, "write `name: value` lines", "an inputs file is a mapping of inputs to values")
	default:
		for _, e := range tree.Entries {
			plainOnly(r, e.Value)
			out[e.Key] = e.Value
		}
	}
	return out, r.sorted()
}

func plainOnly(r *report, n *Node) {
	if n.Kind == Expression {
		r.errorf("value", n.Position, "write the value itself, or begin text with == for a literal =",
			"an inputs file holds no expressions")
	}
	for _, item := range n.Items {
		plainOnly(r, item)
	}
	for _, e := range n.Entries {
		plainOnly(r, e.Value)
	}
}

// InputTypes, PickKinds and SchemaKeys list what inputs may say, for the
// format's own schema.
func InputTypes() []string { return slices.Clone(schemaTypes) }

// PickKinds lists what an input may pick.
func PickKinds() []string { return slices.Sorted(maps.Keys(pickShapes)) }

// SchemaKeys lists the JSON Schema keywords that inputs may use.
func SchemaKeys() []string { return slices.Clone(schemaKeys) }

// Typed reads one value that somebody typed, as an inputs file would hold it; what is no
// YAML is a text.
func Typed(name, text string) *Node {
	nodes, found := ReadInputs(name, []byte(name+": "+text))
	if found.HasErrors() || nodes[name] == nil {
		return &Node{Text: text, Quoted: true}
	}
	return nodes[name]
}

// Read gives a value in the type that the input wants. What does not fit is handed on as
// it is: the rendering says what is wrong with it.
func (i *Input) Read(n *Node) any {
	if v, err := Normalise(n, i.Shape); err == nil {
		return v
	}
	return n.Plain()
}
