package render

import (
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

// Explanation traces the values of one thing to where they came from.
type Explanation struct {
	Name   string   `json:"name"`
	Kind   string   `json:"kind"` // resource, output, input or calc
	Values []Origin `json:"values"`
	// After tells why a resource comes after others.
	After []Reason `json:"after,omitempty"`
}

// Reason tells why one thing comes after another.
type Reason struct {
	Name string    `json:"name"`
	Gate lang.Gate `json:"gate"`
	Why  string    `json:"why"`
}

// Origin is a value with where it came from. Reads are the values that an
// expression was computed from; Waits is what a pending value waits for.
type Origin struct {
	Path  string   `json:"path"`
	Value any      `json:"value,omitempty"`
	From  string   `json:"from"`
	Reads []Origin `json:"reads,omitempty"`
	Waits []string `json:"waits,omitempty"`
}

const maxTrace = 12

func (e *evaluator) explainResource(d *lang.Resource, r *Resource, vars *expr.Vars, self *expr.Object) {
	x := &Explanation{Name: r.Name, Kind: "resource"}
	for _, entry := range d.Want.Entries {
		e.trace(&x.Values, entry.Key, entry.Value, r.Want[entry.Key], vars, 0)
	}
	if d.Want.Get("name") == nil {
		x.Values = append(x.Values, Origin{
			Path:  "name",
			Value: r.Want["name"],
			From:  "made from the names of stack and resource",
		})
	}
	inCheck := vars.With(map[string]any{"self": self})
	for i, c := range d.Health {
		e.trace(&x.Values, fmt.Sprintf("health[%d].%s", i, c.Kind), c.Spec,
			r.Checks[len(r.Checks)-len(d.Health)+i].Spec, inCheck, 0)
	}
	for _, a := range r.After {
		why := "a value of it reads what " + a.Name + " reports"
		if slices.ContainsFunc(d.After,
			func(w lang.After) bool { return slices.Contains(e.members[w.Resource], a.Name) }) {
			why = fmt.Sprintf("`after` at %s says so", e.at(d.Position))
		} else if slices.ContainsFunc(e.base, func(b After) bool { return b.Name == a.Name }) {
			why = "the template that embeds it says so"
		}
		x.After = append(x.After, Reason{a.Name, a.Gate, why})
	}
	e.out.Explained = x
}

func (e *evaluator) explainValue(kind, name string, n *lang.Node, vars *expr.Vars) {
	v, _ := e.eval(n, resource.Shape{Kind: resource.Open}, vars)
	x := &Explanation{Name: name, Kind: kind}
	e.trace(&x.Values, name, n, v, vars, 0)
	e.out.Explained = x
}

// explainRest explains inputs and computed values of the outer template.
func (e *evaluator) explainRest() {
	if e.out.Explained != nil {
		return
	}
	if name, ok := strings.CutPrefix(e.request.Explain, "inputs."); ok {
		if in := e.template.Input(name); in != nil {
			e.out.Explained = &Explanation{
				Name:   e.request.Explain,
				Kind:   "input",
				Values: []Origin{e.inputOrigin(in, 0)},
			}
		}
	}
	if name, ok := strings.CutPrefix(e.request.Explain, "calc."); ok {
		for _, c := range e.template.Calc {
			if c.Name == name {
				e.explainValue("calc", e.request.Explain, c.Value, e.vars)
			}
		}
	}
}

// Explainable lists what Request.Explain may name.
func Explainable(r *Rendering, t *lang.Template) []string {
	var out []string
	for _, x := range r.Resources {
		out = append(out, x.Name)
	}
	for _, o := range t.Outputs {
		out = append(out, "outputs."+o.Name)
	}
	for _, in := range t.Inputs {
		out = append(out, "inputs."+in.Name)
	}
	for _, c := range t.Calc {
		out = append(out, "calc."+c.Name)
	}
	return out
}

func (e *evaluator) at(p lang.Position) string {
	return fmt.Sprintf("%s:%d:%d", e.template.File, p.Line, p.Column)
}

// trace adds the origins of a tree, leaf by leaf.
func (e *evaluator) trace(out *[]Origin, path string, n *lang.Node, v any, vars *expr.Vars, depth int) {
	switch n.Kind {
	case lang.Mapping:
		m, _ := v.(map[string]any)
		for _, entry := range n.Entries {
			if x, there := m[entry.Key]; there {
				e.trace(out, path+"."+entry.Key, entry.Value, x, vars, depth)
			} else {
				*out = append(*out, Origin{Path: path + "." + entry.Key, From: "left out: " + e.source(entry.Value)})
			}
		}
		return
	case lang.Sequence:
		list, _ := v.([]any)
		for i, item := range n.Items {
			if i < len(list) {
				e.trace(out, fmt.Sprintf("%s[%d]", path, i), item, list[i], vars, depth)
			}
		}
		return
	}
	o := Origin{Path: path, Value: v, From: e.source(n), Waits: resource.Waits(v)}
	if v == nil || v == any(expr.Absent) {
		o.Value, o.From = nil, "left out: "+e.source(n)
	}
	if n.Kind == lang.Expression && depth < maxTrace {
		for _, u := range n.Program.Uses {
			o.Reads = append(o.Reads, e.useOrigins(u, vars, depth+1)...)
		}
	}
	*out = append(*out, o)
}

func (e *evaluator) source(n *lang.Node) string {
	if n.Kind == lang.Expression {
		return fmt.Sprintf("computed at %s: =%s", e.at(n.Position), n.Text)
	}
	return "written at " + e.at(n.Position)
}

// useOrigins tells where what an expression reads came from.
func (e *evaluator) useOrigins(u expr.Use, vars *expr.Vars, depth int) []Origin {
	var out []Origin
	fields := append(slices.Clone(u.Fields), u.Asked...)
	switch d := e.template.Resource(u.Name); {
	case u.Name == "inputs":
		for _, f := range fields {
			if in := e.template.Input(f); in != nil {
				out = append(out, e.inputOrigin(in, depth))
			}
		}
	case u.Name == "calc":
		for _, c := range e.template.Calc {
			if slices.Contains(fields, c.Name) {
				v, _ := e.eval(c.Value, resource.Shape{Kind: resource.Open}, e.vars)
				var inner []Origin
				e.trace(&inner, "calc."+c.Name, c.Value, v, e.vars, depth)
				out = append(out, inner...)
			}
		}
	case u.Name == "stack":
		for _, f := range fields {
			v, _ := vars.Get("stack")
			o, _ := v.(*expr.Object)
			from := "the stack that is rendered for"
			if f == "id" && o.Fields[f] == any(FixedID) {
				from = "the fixed id of a rendering outside a stack"
			}
			out = append(out, Origin{Path: "stack." + f, Value: o.Fields[f], From: from})
		}
	case u.Name == "offers":
		s := e.out.Stack
		out = append(out, Origin{
			Path: "offers." + strings.Join(fields, ", offers."),
			From: fmt.Sprintf("what region %s sells account %s", s.Region, s.Account),
		})
		if e.request.Offers == nil {
			out[0].From, out[0].Waits = "what a region sells", []string{"offers"}
		}
	case d != nil:
		for _, f := range fields {
			out = append(out, e.fieldOrigin(d, f))
		}
	default:
		if v, ok := vars.Get(u.Name); ok && u.Name != "self" {
			out = append(out, Origin{Path: u.Name, Value: v, From: "a value of the repetition"})
		} else if u.Name == "self" {
			out = append(out, Origin{
				Path: "self." + strings.Join(fields, ", self."),
				From: "reported by the resource itself",
			})
		}
	}
	return out
}

// inputOrigin tells where the value of an input came from: for an embedded
// template, from the one above it.
func (e *evaluator) inputOrigin(in *lang.Input, depth int) Origin {
	o := Origin{Path: e.scope + "inputs." + in.Name}
	if e.parent == nil {
		for _, v := range e.out.Inputs {
			if v.Name == in.Name {
				o.Value, o.From = v.Value, "input: "+v.Origin
			}
		}
		if in.Default != nil && strings.HasSuffix(o.From, "default") && depth < maxTrace {
			var inner []Origin
			e.trace(&inner, "default", in.Default, o.Value, e.vars, depth+1)
			o.From += ", " + inner[0].From
			o.Reads = inner[0].Reads
		}
		if by := in.SizedBy; by != nil && o.From == "input: "+SizingTable && depth < maxTrace {
			amount, _ := e.eval(by.For, resource.Shape{Kind: resource.Number}, e.vars)
			var inner []Origin
			e.trace(&inner, "for", by.For, amount, e.vars, depth+1)
			o.From += fmt.Sprintf(" %s, for %v %s, %s", by.Table.Name, amount, by.Table.Unit, inner[0].From)
			o.Reads = inner[0].Reads
		}
		return o
	}
	given := e.from.Inputs.Get(in.Name)
	if given == nil {
		o.From = "default of " + e.template.File
		if in.Default != nil {
			v, _ := e.eval(in.Default, in.Shape, e.vars)
			o.Value, o.From = v, "default, "+e.source(in.Default)
		}
		return o
	}
	var inner []Origin
	e.parent.trace(&inner, o.Path, given, e.given[in.Name], e.fromVars, depth)
	if len(inner) == 1 {
		inner[0].From = "given by the template above, " + inner[0].From
		return inner[0]
	}
	o.Value, o.From, o.Reads = e.given[in.Name], "given by the template above", inner
	return o
}

// fieldOrigin tells whether a field of a resource was wanted or is reported.
func (e *evaluator) fieldOrigin(d *lang.Resource, field string) Origin {
	o := Origin{Path: d.Name + "." + field}
	if n := d.Want.Get(field); n != nil {
		o.From = "wanted of " + d.Name + ", " + e.source(n)
		return o
	}
	names := e.members[d.Name]
	switch {
	case d.Embedded != nil:
		o.From = "output of the embedded template " + d.From
	case len(names) == 0:
		o.From = d.Name + " is not part of this rendering"
	default:
		o.From = "reported by " + strings.Join(names, ", ") + " after creation"
		if e.out.Resource(names[0]).exists {
			o.From = "reported by " + strings.Join(names, ", ")
		}
	}
	return o
}
