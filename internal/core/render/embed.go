package render

import (
	"strings"

	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

// embed renders an embedded template. Its resources join the rendering with
// names in its scope; what it gives is read through its outputs.
func (e *evaluator) embed(d *lang.Resource, local string, index int, loop map[string]any) *expr.Object {
	vars := e.scopeOf(d, index, loop)
	child := e.session.evaluator(d.Embedded, e.scope+local+".", map[string]any{})
	child.parent, child.from, child.fromVars = e, d, vars
	for _, entry := range d.Inputs.Entries {
		in := d.Embedded.Input(entry.Key)
		if in == nil {
			continue
		}
		give := func() (v any, reads []string) {
			reads = e.collecting(func() {
				var err error
				if v, err = e.eval(entry.Value, in.Shape, vars); err != nil {
					e.broken(local+".inputs."+entry.Key, entry.Value, err)
					v = e.stand(in.Shape)
				}
			})
			return v, reads
		}
		if v, reads := give(); v != nil && v != any(expr.Absent) {
			child.given[entry.Key], child.givenReads[entry.Key], child.gives[entry.Key] = v, reads, give
		}
	}
	child.base = e.after(d, "", nil)
	first := len(e.out.Resources)
	child.render()
	for _, r := range e.out.Resources[first:] {
		e.members[d.Name] = append(e.members[d.Name], r.Name)
	}
	given := e.session.cells()
	for _, o := range child.template.Outputs {
		compute := func() (any, []string) {
			v, reads := child.output(o)
			return expr.TypedAs(o.Type, v), reads
		}
		if v, reads := child.output(o); v != any(expr.Absent) && v != nil {
			given.put(o.Name, expr.TypedAs(o.Type, v), reads, compute)
			if e.request.Explain == child.scope+"outputs."+o.Name {
				child.explainValue("output", e.request.Explain, o.Value, child.vars)
			}
		}
	}
	outputs := &expr.Object{Type: "outputs " + d.Name, Name: local, Source: given, Reader: e}
	if d.When != nil {
		outputs.Optional, outputs.Present = true, true
	}
	return &expr.Object{Type: lang.Embed + " " + d.Name, Fields: map[string]any{"outputs": outputs}}
}

// Read notes what stands behind a field that an expression reads.
func (e *evaluator) Read(o *expr.Object, field string) {
	switch from := o.Source.(type) {
	case *cells:
		*e.reads = append(*e.reads, from.reads(field)...)
	case *fields:
		if _, wanted := from.want[field]; wanted {
			*e.reads = append(*e.reads, from.behind(field)...)
		} else if field != "name" {
			*e.reads = append(*e.reads, o.Name)
		}
	}
}

// readAll notes everything that a program may read: it waits for something, so
// what else it will read cannot be told yet.
func (e *evaluator) readAll(p *expr.Program) {
	for _, u := range p.Uses {
		switch u.Name {
		case "inputs":
			for _, f := range u.Fields {
				*e.reads = append(*e.reads, e.inputCells.reads(f)...)
			}
		case "calc":
			for _, f := range u.Fields {
				*e.reads = append(*e.reads, e.calcCells.reads(f)...)
			}
		default:
			if d := e.template.Resource(u.Name); d != nil && reported(d, u) {
				*e.reads = append(*e.reads, e.members[d.Name]...)
			}
		}
	}
}

// reported tells whether a use reads something that is known after creation.
func reported(d *lang.Resource, u expr.Use) bool {
	for _, f := range u.Fields {
		if d.Embedded != nil || f != "name" && d.Want.Get(f) == nil {
			return true
		}
	}
	return false
}

// collecting computes something apart and returns what stands behind it.
func (e *evaluator) collecting(compute func()) []string {
	before, reads := e.reads, []string{}
	e.reads = &reads
	compute()
	e.reads = before
	return reads
}

// stackValue is the value of an input that picks another stack.
func (e *evaluator) stackValue(in *lang.Input, name string) any {
	outputs, known := e.request.Stacks[name]
	source := &stackOutputs{e.session, name, known, outputs, map[string]*lang.Output{}}
	for i := range in.Other.Outputs {
		source.declared[in.Other.Outputs[i].Name] = &in.Other.Outputs[i]
	}
	typeName := lang.Embed + " inputs." + in.Name
	return &expr.Object{
		Type: typeName,
		Fields: map[string]any{
			"name":    name,
			"outputs": &expr.Object{Type: "outputs inputs." + in.Name, Source: source},
		},
	}
}

// stackOutputs are the outputs of another stack. Secret ones are references until
// the moment of a call.
type stackOutputs struct {
	session  *session
	stack    string
	known    bool
	values   map[string]any
	declared map[string]*lang.Output
}

// Field gives an output the type that expressions read.
func (s *stackOutputs) Field(name string) any {
	o := s.declared[name]
	v, there := s.values[name]
	switch {
	case o == nil:
		return nil
	case !there && !s.known:
		return resource.Unresolved{Waits: []string{"stack " + s.stack + ".outputs." + name}}
	case !there:
		return nil
	}
	if text, ok := v.(string); ok && o.Secret {
		if reference, isReference := strings.CutPrefix(text, "secret:"); isReference {
			return s.session.secret(reference)
		}
	}
	return expr.TypedAs(o.Type, s.referred(v))
}

// Reference stands for a secret in the outputs that are read of another stack: a value of
// its own kind, which no text is.
func Reference(reference string) map[string]any {
	return map[string]any{resource.ReferenceKey: reference}
}

// referred puts secrets in the places of their references.
func (s *stackOutputs) referred(v any) any {
	switch t := v.(type) {
	case map[string]any:
		if reference, is := t[resource.ReferenceKey].(string); is && len(t) == 1 {
			return s.session.secret(reference)
		}
		out := make(map[string]any, len(t))
		for k, x := range t {
			out[k] = s.referred(x)
		}
		return out
	case []any:
		out := make([]any, len(t))
		for i, x := range t {
			out[i] = s.referred(x)
		}
		return out
	}
	return v
}
