package lang

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"

	"undersail/internal/core/expr"
	"undersail/internal/core/graph"
	"undersail/internal/core/health"
	"undersail/internal/core/resource"
)

// checker compiles every expression of a template and works out what depends
// on what.
type checker struct {
	*report
	template *Template
	scope    expr.Scope
	envs     map[string]*expr.Env // by the extra variables in scope
	calcUses map[string][]expr.Use
	usedIn   map[string]bool // inputs that something mentions
}

func newChecker(r *report, t *Template) *checker {
	return &checker{report: r, template: t, envs: map[string]*expr.Env{}, calcUses: map[string][]expr.Use{}, usedIn: map[string]bool{}}
}

func (c *checker) check() {
	c.declare()
	c.defaults()
	c.calc()
	for _, req := range c.template.Require {
		c.tree(req.That, resource.Shape{Kind: resource.Boolean}, site{})
		c.tree(req.Else, resource.Shape{Kind: resource.String}, site{})
		c.mustBeKnown("a requirement", req.That, req.Else)
	}
	for _, r := range c.template.Resources {
		c.resource(r)
	}
	for _, o := range c.template.Outputs {
		c.tree(o.Value, resource.Shape{Kind: resource.Open}, site{})
	}
	c.order()
	c.unused()
}

// compile checks one expression where it stands and keeps its program.
func (c *checker) compile(n *Node, s site) *expr.Program {
	env := c.env(s)
	if env == nil {
		return nil
	}
	program, problems := env.Check(n.Text)
	for _, p := range problems {
		at := Position{n.Line + p.Line - 1, p.Column + 1}
		if p.Line <= 1 {
			at.Column = n.Column + p.Column
		}
		c.errorf("expression", at, p.Remedy, "%s", p.Message)
	}
	n.Program = program
	if program != nil {
		for _, u := range program.Uses {
			if u.Name == "inputs" {
				for _, f := range u.Fields {
					c.usedIn[f] = true
				}
			}
		}
	}
	return program
}

// tree checks a value against the shape wanted there.
func (c *checker) tree(n *Node, shape resource.Shape, s site) {
	if n == nil {
		return
	}
	switch n.Kind {
	case Expression:
		program := c.compile(n, s)
		if program != nil && !expr.Assignable(program.Type, shape) {
			c.errorf("type", n.Position, "", "%s is wanted here, and the expression gives %s", shape.Describe(), expr.TypeWords(program.Type))
		}
	case Scalar:
		c.scalar(n, shape)
	case Sequence:
		items := resource.Shape{Kind: resource.Open}
		switch shape.Kind {
		case resource.Open:
		case resource.List:
			items = *shape.Items
		default:
			c.errorf("kind", n.Position, "", "%s is wanted here, not a list", shape.Describe())
			return
		}
		for _, item := range n.Items {
			c.tree(item, items, s)
		}
	case Mapping:
		c.mapping(n, shape, s)
	}
}

func (c *checker) scalar(n *Node, shape resource.Shape) {
	switch {
	case n.Text == placeholder || shape.Kind == resource.Open:
	case !shape.Scalar():
		c.errorf("kind", n.Position, "", "%s is wanted here", shape.Describe())
	case n.empty():
		c.errorf("value", n.Position, "give a value, or remove the key", "%s is wanted here, and there is nothing", shape.Describe())
	default:
		if _, err := shape.ParseScalar(n.Text); err != nil {
			c.errorf("value", n.Position, "give "+shape.Describe(), "%v", err)
		}
	}
}

func (c *checker) mapping(n *Node, shape resource.Shape, s site) {
	switch shape.Kind {
	case resource.Open, resource.Map:
		items := resource.Shape{Kind: resource.Open}
		if shape.Items != nil {
			items = *shape.Items
		}
		for _, e := range n.Entries {
			c.tree(e.Value, items, s)
		}
	case resource.Object:
		c.fields(n, shape.TypeName, shape.Fields, s)
	default:
		c.errorf("kind", n.Position, "", "%s is wanted here, not a mapping", shape.Describe())
	}
}

// fields checks a mapping against declared properties.
func (c *checker) fields(n *Node, owner string, properties []resource.Property, s site) {
	var names []string
	for _, p := range properties {
		names = append(names, p.Name)
		if p.Required && n.Get(p.Name) == nil {
			c.errorf("missing-property", n.Position, fmt.Sprintf("add `%s:`, %s", p.Name, p.Shape.Describe()), "%s needs `%s`", owner, p.Name)
		}
	}
	for _, e := range n.Entries {
		i := slices.IndexFunc(properties, func(p resource.Property) bool { return p.Name == e.Key })
		if i < 0 {
			remedy := "it has " + strings.Join(names, ", ")
			if close := expr.Closest(e.Key, names); close != "" {
				remedy = fmt.Sprintf("did you mean `%s`?", close)
			}
			c.errorf("unknown-property", e.At, remedy, "%s has no property `%s`", owner, e.Key)
			continue
		}
		c.tree(e.Value, properties[i].Shape, s)
		if p := e.Value.Program; p != nil && properties[i].Required && expr.IsOptional(p.Type) && !c.sameCondition(p, s) {
			c.errorf("optional", e.Value.Position, "give a value for when it is not there with .orValue(...), or put the same `when` on both",
				"`%s` is required, and this may have no value", e.Key)
		}
	}
}

// sameCondition reports whether everything optional that a program mentions
// exists whenever the site does.
func (c *checker) sameCondition(p *expr.Program, s site) bool {
	for _, u := range p.Uses {
		if r := c.template.Resource(u.Name); r != nil && r.When != nil && r.When.Text != s.when {
			return false
		}
		if u.Name == "inputs" && slices.ContainsFunc(u.Fields, func(f string) bool { in := c.template.Input(f); return in != nil && in.Optional }) {
			return false
		}
	}
	return s.when != ""
}

func (c *checker) defaults() {
	for i, in := range c.template.Inputs {
		if in.Default == nil {
			continue
		}
		c.tree(in.Default, in.Shape, site{})
		c.mustBeKnown("a default", in.Default)
		for _, u := range c.allUses(in.Default) {
			switch {
			case u.Name == "calc" || c.template.Resource(u.Name) != nil:
				c.errorf("scope", in.Default.Position, "compute it from inputs that stand above", "a default cannot read `%s`", u.Name)
			case u.Name == "inputs":
				for _, f := range u.Fields {
					if slices.IndexFunc(c.template.Inputs, func(o *Input) bool { return o.Name == f }) >= i {
						c.errorf("scope", in.Default.Position, "move "+f+" above "+in.Name, "a default can read only inputs that stand above it, and `%s` does not", f)
					}
				}
			}
		}
	}
}

// calc orders the computed values, then checks each with the types of those
// before it.
func (c *checker) calc() {
	all := c.template.Calc
	index := map[string]int{}
	for i, v := range all {
		index[v.Name] = i
	}
	g := graph.Graph{Needs: make([][]int, len(all))}
	for i, v := range all {
		for _, u := range rawUses(v.Value) {
			if u.Name != "calc" {
				continue
			}
			for _, f := range u.Fields {
				if j, ok := index[f]; ok {
					g.Needs[i] = append(g.Needs[i], j)
				}
			}
		}
	}
	order, cycle := g.Order()
	if cycle != nil {
		c.cycle("computed values", cycle, func(i int) (string, Position) { return "calc." + all[i].Name, all[i].Position })
		order = make([]int, len(all))
		for i := range order {
			order[i] = i
		}
	}
	sorted := make([]*Calc, len(all))
	for at, i := range order {
		v := all[i]
		sorted[at] = v
		c.tree(v.Value, resource.Shape{Kind: resource.Open}, site{})
		c.scope.Structs["calc"][v.Name] = typeOfTree(v.Value)
		c.calcUses[v.Name] = c.allUses(v.Value)
		clear(c.envs) // the type of `calc` has grown
	}
	c.template.Calc = sorted
}

func (c *checker) resource(r *Resource) {
	if r.Type.Name == "" {
		return
	}
	if r.When != nil {
		c.tree(r.When, resource.Shape{Kind: resource.Boolean}, site{})
		c.mustBeKnown("`when`", r.When)
	}
	s := site{extra: c.loops(r)}
	if r.When != nil {
		s.when = r.When.Text
	}
	if r.Want.Kind != Mapping {
		c.errorf("kind", r.Want.Position, "write its properties as `key: value` lines", "`want` must be a mapping")
		return
	}
	at := *r.Want
	at.Position = r.Position // a missing property is told at the resource
	c.fields(&at, r.Type.Name, r.Type.Properties, s)
	for _, known := range []string{"name", "zone", "size", "image", "type", "public"} {
		c.mustBeKnown("`"+known+"`", r.Want.Get(known))
	}
	if data := r.Want.Get("user_data"); data != nil && data.Kind == Mapping {
		for _, e := range data.Entries {
			if !slices.Contains(resource.UserDataKeys, e.Key) {
				remedy := "known are " + strings.Join(resource.UserDataKeys, ", ")
				if close := expr.Closest(e.Key, resource.UserDataKeys); close != "" {
					remedy = fmt.Sprintf("did you mean `%s`?", close)
				}
				c.errorf("unknown-key", e.At, remedy, "first-boot configuration has no module `%s`", e.Key)
			}
		}
	}
	inCheck := site{extra: maps.Clone(s.extra), when: s.when}
	inCheck.extra["self"] = cel.ObjectType(r.Type.Name)
	for _, check := range r.Health {
		shape := health.Kinds[check.Kind]
		if check.Spec.Kind != Mapping {
			c.errorf("kind", check.Spec.Position, "", "a %s check is a mapping", check.Kind)
			continue
		}
		c.fields(check.Spec, "a "+check.Kind+" check", shape.Fields, inCheck)
	}
}

// loops checks the repetition and returns the variables it brings into scope.
func (c *checker) loops(r *Resource) map[string]*cel.Type {
	extra := map[string]*cel.Type{}
	for i := range r.Repeat {
		loop := &r.Repeat[i]
		n := loop.Over
		c.mustBeKnown("`repeat`", n)
		if _, taken := c.scope.Vars[loop.Name]; taken {
			c.errorf("name", n.Position, "choose another name", "`%s` is already the name of a resource", loop.Name)
		}
		switch {
		case n.Kind == Scalar:
			loop.Count = true
			c.scalar(n, resource.Shape{Kind: resource.Integer})
		case n.Kind == Expression:
			program := c.compile(n, site{})
			if program == nil {
				continue
			}
			switch {
			case expr.Assignable(program.Type, resource.Shape{Kind: resource.Integer}):
				loop.Count = true
			case !loop.Count && program.Type.Kind() == cel.ListKind && expr.Assignable(program.Type.Parameters()[0], resource.Shape{Kind: resource.String}):
			default:
				c.errorf("type", n.Position, "give a whole number, or {NAME: =LIST OF TEXTS}", "`repeat` cannot run over %s", expr.TypeWords(program.Type))
			}
		default:
			c.tree(n, resource.Shape{Kind: resource.List, Items: &resource.Shape{Kind: resource.String}}, site{})
		}
		if loop.Name != "" {
			extra[loop.Name] = cel.StringType
			if loop.Count {
				extra[loop.Name] = cel.IntType
			}
		}
	}
	if r.Repeat != nil {
		extra["index"] = cel.IntType
	}
	return extra
}
