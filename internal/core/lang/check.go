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
	// used are the inputs and calc values that something mentions, as inputs.NAME
	// and calc.NAME, and the functions by their names.
	used map[string]bool
}

func newChecker(r *report, t *Template) *checker {
	return &checker{
		report:   r,
		template: t,
		envs:     map[string]*expr.Env{},
		calcUses: map[string][]expr.Use{},
		used:     map[string]bool{},
	}
}

func (c *checker) check() {
	c.learnLoops()
	c.declare()
	c.defaults()
	c.presets()
	c.calc()
	for _, in := range c.template.Inputs {
		if in.Advice != nil { // it may read what is computed
			c.tree(in.Advice, resource.Shape{Kind: resource.String}, site{})
		}
	}
	for _, req := range c.template.Require {
		c.tree(req.That, resource.Shape{Kind: resource.Boolean}, site{})
		c.tree(req.Else, resource.Shape{Kind: resource.String}, site{})
		c.mustBeKnown("a requirement", req.That, req.Else)
	}
	for _, r := range c.template.Resources {
		c.resource(r)
	}
	for _, check := range c.template.Prove {
		c.healthCheck(check, site{})
	}
	for i := range c.template.Outputs {
		c.output(&c.template.Outputs[i])
	}
	c.guide()
	c.order()
	c.unused()
	c.reach()
}

// compile checks one expression where it stands and keeps its program.
func (c *checker) compile(n *Node, s site) *expr.Program {
	program, problems := c.env(s).Check(n.Text)
	for _, p := range problems {
		if c.brokenFunctions[p.Name] {
			continue // told where it is defined
		}
		if n.Flow && p.Early {
			p.Message, p.Remedy = "the expression ends too early: inside braces YAML ends a value at a comma "+
				"or a bracket", "put the whole expression in single quotes"
		}
		c.errorf("expression", n.place(p), p.Remedy, "%s", p.Message)
	}
	n.Program = program
	for _, f := range c.template.Functions {
		if strings.Contains(n.Text, f.Name+"(") {
			c.used[f.Name] = true
		}
	}
	if program == nil {
		return nil
	}
	for _, u := range program.Uses {
		switch u.Name {
		case "inputs", "calc":
			for _, f := range append(slices.Clone(u.Fields), u.Asked...) {
				c.used[u.Name+"."+f] = true
			}
		case "offers":
			c.template.UsesOffers = true
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
		if program != nil && !expr.Assignable(program.Type, shape) &&
			!(shape.Preferred && expr.Assignable(program.Type, shape.Alternatives())) {
			c.errorf("type", n.Position, "", "%s is wanted here, and the expression gives %s", shape.Describe(),
				expr.TypeWords(program.Type))
		}
	case Scalar:
		c.scalar(n, shape)
	case Sequence:
		items := resource.Shape{Kind: resource.Open}
		if shape.Preferred {
			shape = shape.Alternatives()
		}
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
	if shape.Kind == resource.String || shape.Kind == resource.Open {
		c.forgotten(n, Warning)
	}
	switch {
	case n.Text == placeholder || shape.Kind == resource.Open:
	case !shape.Scalar():
		c.errorf("kind", n.Position, "", "%s is wanted here", shape.Describe())
	case n.empty():
		c.errorf("value", n.Position, "give a value, or remove the key", "%s is wanted here, and there is nothing",
			shape.Describe())
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
			c.errorf("missing-property", n.Position, fmt.Sprintf("add `%s:`, %s", p.Name, p.Shape.Describe()),
				"%s needs `%s`", owner, p.Name)
		}
	}
	for _, e := range n.Entries {
		i := slices.IndexFunc(properties, func(p resource.Property) bool { return p.Name == e.Key })
		if i < 0 {
			c.errorf("unknown-property", e.At, expr.Suggest(e.Key, names, "it has "+strings.Join(names, ", ")),
				"%s has no property `%s`", owner, e.Key)
			continue
		}
		c.reference(e.Value, properties[i])
		c.tree(e.Value, properties[i].Shape, s)
		p := e.Value.Program
		if p != nil && properties[i].Required && expr.IsOptional(p.Type) && !c.sameCondition(p, s) {
			c.errorf("optional", e.Value.Position,
				"give a value for when it is not there with .orValue(...), or put the same `when` on both",
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
		if u.Name == "inputs" &&
			slices.ContainsFunc(u.Fields,
				func(f string) bool { in := c.template.Input(f); return in != nil && in.Optional }) {
			return false
		}
	}
	return s.when != ""
}

func (c *checker) defaults() {
	for i, in := range c.template.Inputs {
		if in.ShownWhen != nil {
			c.tree(in.ShownWhen, resource.Shape{Kind: resource.Boolean}, site{})
			c.mustBeKnown("`shown_when`", in.ShownWhen)
			c.onlyAbove("`shown_when`", in.ShownWhen, i, in)
		}
		if by := in.SizedBy; by != nil {
			c.tree(by.For, resource.Shape{Kind: resource.Number}, site{})
			c.mustBeKnown("`sized_by`", by.For)
			c.onlyAbove("`sized_by`", by.For, i, in)
		}
		if in.Default == nil {
			continue
		}
		if in.Default.Kind != Expression && !computed(in.Default) && !in.Default.empty() &&
			in.Default.Text != placeholder {
			c.inputLiteral(in, in.Default)
		} else {
			c.tree(in.Default, in.Shape, site{})
		}
		c.mustBeKnown("a default", in.Default)
		c.onlyAbove("a default", in.Default, i, in)
	}
}

// onlyAbove reports what an input reads beside inputs that stand above it.
func (c *checker) onlyAbove(what string, n *Node, i int, in *Input) {
	for _, u := range c.allUses(n) {
		switch {
		case u.Name == "calc" || c.template.Resource(u.Name) != nil:
			c.errorf("scope", n.Position, "compute it from inputs that stand above", "%s cannot read `%s`", what,
				u.Name)
		case u.Name == "inputs":
			for _, f := range append(slices.Clone(u.Fields), u.Asked...) {
				if slices.IndexFunc(c.template.Inputs, func(o *Input) bool { return o.Name == f }) >= i {
					c.errorf("scope", n.Position, "move "+f+" above "+in.Name,
						"%s can read only inputs that stand above it, and `%s` does not", what, f)
				}
			}
		}
	}
}

// output checks an output and works out what other templates may know of it.
func (c *checker) output(o *Output) {
	c.tree(o.Value, resource.Shape{Kind: resource.Open}, site{})
	o.Type = portable(typeOfTree(o.Value))
	for _, u := range c.allUses(o.Value) {
		if len(c.reported(u)) > 0 {
			o.Reported = true
		}
		if u.Name != "inputs" {
			continue
		}
		for _, f := range u.Fields {
			if !slices.Contains(o.Inputs, f) {
				o.Inputs = append(o.Inputs, f)
			}
			if in := c.template.Input(f); in != nil && in.Secret {
				o.Secret = true
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
		c.cycle("computed values", cycle,
			func(i int) (string, Position) { return "calc." + all[i].Name, all[i].Position })
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
	if r.Type.Name == Embed {
		c.embedded(r, s)
		return
	}
	c.conduct(r, s)
	if r.Want.Kind != Mapping {
		c.errorf("kind", r.Want.Position, "write its properties as `key: value` lines", "`want` must be a mapping")
		return
	}
	at := *r.Want
	at.Position = r.Position // a missing property is told at the resource
	if r.Find != nil && len(r.Want.Entries) == 0 {
		at.Entries = nil // only used, never made
	} else {
		c.fields(&at, r.Type.Name, r.Type.Properties, s)
	}
	for _, p := range r.Type.Properties {
		if p.Picks != "" || p.Name == "name" || p.Name == "public" || p.GrowOnly {
			c.mustBeKnown("`"+p.Name+"`", r.Want.Get(p.Name))
		}
	}
	if data := r.Want.Get("user_data"); data != nil && data.Kind == Mapping {
		for _, e := range data.Entries {
			if !slices.Contains(resource.UserDataKeys, e.Key) {
				c.errorf("unknown-key", e.At,
					expr.Suggest(e.Key, resource.UserDataKeys, "known are "+strings.Join(resource.UserDataKeys, ", ")),
					"first-boot configuration has no module `%s`", e.Key)
			}
		}
	}
	inCheck := site{extra: maps.Clone(s.extra), when: s.when}
	inCheck.extra["self"] = cel.ObjectType(r.Type.Name)
	for _, check := range r.Health {
		c.healthCheck(check, inCheck)
	}
	for _, made := range r.Makes {
		c.fields(made, "what it makes", resource.Making.Fields, inCheck)
		for _, key := range []string{"type", "size", "least", "most"} {
			c.mustBeKnown("`"+key+"` of what it makes", made.Get(key))
		}
	}
}

func (c *checker) healthCheck(check Check, s site) {
	if check.Spec.Kind != Mapping {
		c.errorf("kind", check.Spec.Position, "", "a %s check is a mapping", check.Kind)
		return
	}
	c.fields(check.Spec, "a "+check.Kind+" check", health.Kinds[check.Kind].Shape.Fields, s)
}

// conduct checks the values that say how a resource behaves in changes.
func (c *checker) conduct(r *Resource, s site) {
	text := resource.Shape{Kind: resource.String}
	if r.Find != nil {
		if r.Find.Kind == Mapping {
			c.tree(r.Find.Get("name"), text, s)
			c.tree(r.Find.Get("tags"), resource.Shape{Kind: resource.Map, Items: &text}, s)
		} else {
			c.tree(r.Find, text, s)
		}
		c.mustBeKnown("`find`", r.Find)
	}
	if r.Guard != nil {
		c.tree(r.Guard, resource.Shape{Kind: resource.Boolean}, s)
		c.mustBeKnown("`guard`", r.Guard)
	}
	if r.Region != nil {
		c.tree(r.Region, text, s)
		c.mustBeKnown("`region`", r.Region)
	}
	if r.Was != "" && r.Was != r.Name && c.template.Resource(r.Was) != nil {
		c.errorf("name", r.Position, "remove `was`, or rename the other one",
			"%s was `%s`, and that is the name of another resource", r.Name, r.Was)
	}
	if in := c.template.Input(r.Name); in != nil && in.Secret && r.Type.DrawsKey {
		c.errorf("name", r.Position, "rename one of them",
			"the key pair `%s` has the name of a secret input, and both are kept under it", r.Name)
	}
	c.tree(r.Extra, resource.Shape{Kind: resource.Open}, s)
}
