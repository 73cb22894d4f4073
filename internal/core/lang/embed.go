package lang

import (
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/expr"
	"undersail/internal/core/resource"

	"cel.dev/cel-go/cel"
)

// embed reads the template that a declaration embeds. Its faults are reported
// in its own file.
func (d *decoder) embed(n *Node, res *Resource) {
	res.From, res.Inputs = d.text(n, "from", true), n.Get("inputs")
	if res.Inputs == nil {
		res.Inputs = &Node{Position: res.Position, Kind: Mapping}
	} else if !d.isMapping(res.Inputs, "`inputs`") {
		res.Inputs = &Node{Position: res.Position, Kind: Mapping}
	}
	if at := n.Get("from"); at != nil && res.From != "" {
		res.Embedded = d.part(res.From, at.Position)
	}
}

// part reads a template that this one refers to, or reports why it cannot.
func (d *decoder) part(ref string, at Position) *Template {
	if wrong := CheckRef(ref); wrong != "" || !IsTemplateRef(ref) {
		if wrong == "" {
			wrong = "write ./NAME.sail.yaml for a file beside this one, or NAME@^2 for one of the library"
		}
		d.errorf("reference", at, wrong, "%q does not name a template", ref)
		return nil
	}
	if d.depth >= maxEmbedding {
		d.errorf("too-deep", at, "a template cannot embed itself, not even through others",
			"templates are embedded more than %d deep", maxEmbedding)
		return nil
	}
	part, ok := d.bundle.Part(ref)
	if !ok {
		remedy := "put the file there, or correct the path"
		if !IsLocalRef(ref) {
			remedy = "publish it, sign in to the service that has it, or name its folder with --library"
		}
		d.errorf("reference", at, remedy, "there is no template %s", ref)
		return nil
	}
	t, found := readBundle(part, d.depth+1)
	d.found = append(d.found, found...)
	if t == nil {
		d.errorf("reference", at, "mend the errors of that file", "the template %s has errors", ref)
	}
	return t
}

// embedded checks what is given to an embedded template.
func (c *checker) embedded(r *Resource, s site) {
	t := r.Embedded
	if t == nil {
		c.tree(r.Inputs, resource.Shape{Kind: resource.Open}, s)
		return
	}
	var names []string
	for _, in := range t.Inputs {
		names = append(names, in.Name)
		if in.Required() && r.Inputs.Get(in.Name) == nil {
			c.errorf("missing-input", r.Inputs.Position, fmt.Sprintf("add `%s:`, %s", in.Name, in.Shape.Describe()),
				"%s needs the input `%s`", r.From, in.Name)
		}
	}
	for _, e := range r.Inputs.Entries {
		in := t.Input(e.Key)
		if in == nil {
			c.errorf("unknown-input", e.At, expr.Suggest(e.Key, names, "its inputs are "+strings.Join(names, ", ")),
				"%s has no input `%s`", r.From, e.Key)
			continue
		}
		switch {
		case in.Secret && !computed(e.Value):
			c.errorf("secret", e.Value.Position, "give it a secret input of this template",
				"a secret cannot stand in a template: everybody could read it here")
		case computed(e.Value):
			c.tree(e.Value, in.Shape, s)
		default:
			c.inputLiteral(in, e.Value)
		}
		if p := e.Value.Program; p != nil && in.Required() && expr.IsOptional(p.Type) && !c.sameCondition(p, s) {
			c.errorf("optional", e.Value.Position,
				"give a value for when it is not there with .orValue(...), or put the same `when` on both",
				"the input `%s` is required, and this may have no value", e.Key)
		}
		if what := t.MustKnow[e.Key]; what != "" {
			c.mustBeKnown(fmt.Sprintf("the input `%s` of %s (%s there reads it)", e.Key, r.From, what), e.Value)
		}
	}
}

// reportedOutputs lists the outputs of an embedded template that are known only
// after creation: of it, or of what it is given.
func (c *checker) reportedOutputs(r *Resource, u expr.Use) []string {
	var out []string
	if r.Embedded == nil {
		return nil
	}
	for _, o := range r.Embedded.Outputs {
		if !slices.Contains(u.Fields, "outputs."+o.Name) && !slices.Contains(u.Fields, "outputs") {
			continue
		}
		later := o.Reported
		for _, f := range o.Inputs {
			for _, given := range c.allUses(r.Inputs.Get(f)) {
				later = later || len(c.reported(given)) > 0
			}
		}
		if later {
			out = append(out, "outputs."+o.Name)
		}
	}
	return out
}

// declareOutputs declares the outputs of another template as the field
// `outputs` of a name.
func declareOutputs(structs map[string]map[string]*cel.Type, name string, t *Template, optional bool) {
	fields := map[string]*cel.Type{}
	for _, o := range t.Outputs {
		fields[o.Name] = o.Type
		if optional && !expr.IsOptional(o.Type) {
			fields[o.Name] = cel.OptionalType(o.Type)
		}
	}
	structs["outputs "+name] = fields
	structs[Embed+" "+name] = map[string]*cel.Type{"outputs": cel.ObjectType("outputs " + name)}
}

// portable is the type of an output for other templates. What only this
// template has a name for is any value there.
func portable(t *cel.Type) *cel.Type {
	switch t.Kind() {
	case cel.StringKind, cel.IntKind, cel.DoubleKind, cel.BoolKind:
		return t
	case cel.ListKind:
		return cel.ListType(portable(t.Parameters()[0]))
	case cel.MapKind:
		return cel.MapType(cel.StringType, portable(t.Parameters()[1]))
	}
	switch {
	case t.TypeName() == "amount" || t.TypeName() == "span":
		return t
	case expr.IsOptional(t):
		return cel.OptionalType(portable(t.Parameters()[0]))
	}
	return cel.DynType
}
