package lang

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"

	"undersail/internal/core/expr"
	"undersail/internal/core/graph"
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

// StackFields are what expressions may read of `stack`.
var StackFields = []string{"account", "cloud", "id", "name", "region"}

// declare puts the inputs, the stack and every resource into scope.
func (c *checker) declare() {
	structs := map[string]map[string]*cel.Type{"inputs": {}, "calc": {}, "stack": {}}
	for _, f := range StackFields {
		structs["stack"][f] = cel.StringType
	}
	for _, in := range c.template.Inputs {
		t := expr.TypeOf(in.Shape)
		if in.Optional {
			t = cel.OptionalType(t)
		}
		structs["inputs"][in.Name] = t
		declareShape(structs, in.Shape)
	}
	for _, literal := range resource.Literals() {
		declareShape(structs, literal)
	}
	vars := map[string]*cel.Type{"inputs": cel.ObjectType("inputs"), "calc": cel.ObjectType("calc"), "stack": cel.ObjectType("stack")}
	for _, r := range c.template.Resources {
		if r.Type.Name == "" {
			vars[r.Name] = cel.DynType // told already; what reads it is no fault of its own
			continue
		}
		declareType(structs, r.Type)
		t := r.resourceType()
		switch {
		case r.Keyed():
			t = cel.MapType(cel.StringType, t)
		case r.Repeat != nil:
			t = cel.ListType(t)
		}
		vars[r.Name] = t
	}
	c.scope = expr.Scope{Vars: vars, Structs: structs}
}

func declareShape(structs map[string]map[string]*cel.Type, s resource.Shape) {
	if s.Items != nil {
		declareShape(structs, *s.Items)
	}
	if s.Kind != resource.Object || structs[s.TypeName] != nil {
		return
	}
	fields := map[string]*cel.Type{}
	for _, f := range s.Fields {
		fields[f.Name] = expr.TypeOf(f.Shape)
		declareShape(structs, f.Shape)
	}
	structs[s.TypeName] = fields
}

func declareType(structs map[string]map[string]*cel.Type, t resource.Type) {
	if structs[t.Name] != nil {
		return
	}
	plain, optional := map[string]*cel.Type{}, map[string]*cel.Type{}
	note := func(name string, s resource.Shape) {
		declareShape(structs, s)
		plain[name] = expr.TypeOf(s)
		optional[name] = cel.OptionalType(expr.TypeOf(s))
	}
	for _, p := range t.Properties {
		note(p.Name, p.Shape)
	}
	for _, a := range t.Attributes {
		note(a.Name, a.Shape)
	}
	structs[t.Name], structs[t.Name+"?"] = plain, optional
}

// site is where an expression stands: what is in scope beyond the template's
// names, and the condition under which the place exists.
type site struct {
	extra map[string]*cel.Type
	when  string
}

func (c *checker) env(s site) *expr.Env {
	var key strings.Builder
	for _, name := range slices.Sorted(maps.Keys(s.extra)) {
		fmt.Fprintf(&key, "%s %s;", name, s.extra[name])
	}
	if env, ok := c.envs[key.String()]; ok {
		return env
	}
	scope := c.scope
	for name, t := range s.extra {
		scope = scope.With(name, t)
	}
	env, err := expr.NewEnv(scope)
	if err != nil {
		c.errorf("scope", Position{1, 1}, "", "%v", err)
		return nil
	}
	c.envs[key.String()] = env
	return env
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
		c.cycle("calc", cycle, func(i int) (string, Position) { return "calc." + all[i].Name, all[i].Position })
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

func typeOfTree(n *Node) *cel.Type {
	switch n.Kind {
	case Expression:
		if n.Program != nil {
			return n.Program.Type
		}
	case Sequence:
		return cel.ListType(cel.DynType)
	case Mapping:
		return cel.MapType(cel.StringType, cel.DynType)
	case Scalar:
		switch coreScalar(n).(type) {
		case string:
			return cel.StringType
		case int64:
			return cel.IntType
		case float64:
			return cel.DoubleType
		case bool:
			return cel.BoolType
		}
	}
	return cel.DynType
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
		shape := kindsOfChecks[check.Kind]
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

// mustBeKnown reports expressions that read a reported attribute or a secret
// where the value must be known at rendering.
func (c *checker) mustBeKnown(what string, nodes ...*Node) {
	for _, n := range nodes {
		if n == nil {
			continue
		}
		for _, u := range c.allUses(n) {
			if u.Name == "inputs" {
				for _, f := range u.Fields {
					if in := c.template.Input(f); in != nil && in.Secret {
						c.errorf("secret", n.Position, "decide it by an input that is no secret", "%s must be known before anything is made and cannot read the secret `inputs.%s`", what, f)
					}
				}
			}
			if fields := c.reported(u); len(fields) > 0 {
				c.errorf("pending", n.Position, "compute it from inputs or from wanted properties",
					"%s must be known before anything is made, and `%s.%s` is known only afterwards", what, u.Name, fields[0])
			}
		}
	}
}

// reported lists the fields of a use that are known only after creation.
func (c *checker) reported(u expr.Use) []string {
	r := c.template.Resource(u.Name)
	if r == nil {
		return nil
	}
	var out []string
	for _, f := range u.Fields {
		if f != "name" && r.Want.Get(f) == nil {
			out = append(out, f)
		}
	}
	return out
}

// allUses lists what the expressions of a tree mention, through calc.
func (c *checker) allUses(n *Node) []expr.Use {
	var out []expr.Use
	for _, u := range rawUses(n) {
		out = append(out, u)
		if u.Name == "calc" {
			for _, f := range u.Fields {
				out = append(out, c.calcUses[f]...)
			}
		}
	}
	return out
}

// rawUses lists what the expressions of a tree mention themselves.
func rawUses(n *Node) []expr.Use {
	if n == nil {
		return nil
	}
	var out []expr.Use
	if n.Kind == Expression {
		if n.Program != nil {
			return n.Program.Uses
		}
		return expr.Mentions(n.Text)
	}
	for _, item := range n.Items {
		out = append(out, rawUses(item)...)
	}
	for _, e := range n.Entries {
		out = append(out, rawUses(e.Value)...)
	}
	return out
}

// order works out what must come before what and refuses cycles.
func (c *checker) order() {
	index := map[string]int{}
	for i, r := range c.template.Resources {
		index[r.Name] = i
	}
	g := graph.Graph{Needs: make([][]int, len(c.template.Resources))}
	for i, r := range c.template.Resources {
		need := map[string]Gate{}
		trees := []*Node{r.Want, r.When}
		for _, l := range r.Repeat {
			trees = append(trees, l.Over)
		}
		for _, h := range r.Health {
			trees = append(trees, h.Spec)
		}
		for _, tree := range trees {
			for _, u := range c.allUses(tree) {
				j, ok := index[u.Name]
				if !ok {
					continue
				}
				g.Needs[i] = append(g.Needs[i], j)
				if len(c.reported(u)) > 0 {
					need[u.Name] = GateHealthy
				}
			}
		}
		for _, a := range r.After {
			j, ok := index[a.Resource]
			if !ok {
				remedy := ""
				if close := expr.Closest(a.Resource, slices.Collect(maps.Keys(index))); close != "" {
					remedy = fmt.Sprintf("did you mean `%s`?", close)
				}
				c.errorf("unknown-name", r.Position, remedy, "`after` of %s names `%s`, and there is no such resource", r.Name, a.Resource)
				continue
			}
			g.Needs[i] = append(g.Needs[i], j)
			need[a.Resource] = a.Gate // what is written wins over what references show
		}
		for _, j := range g.Needs[i] {
			name := c.template.Resources[j].Name
			if !slices.Contains(r.Mentions, name) {
				r.Mentions = append(r.Mentions, name)
			}
		}
		for _, name := range slices.Sorted(maps.Keys(need)) {
			r.Needs = append(r.Needs, After{name, need[name]})
		}
	}
	order, cycle := g.Order()
	if cycle != nil {
		c.cycle("resources", cycle, func(i int) (string, Position) {
			return c.template.Resources[i].Name, c.template.Resources[i].Position
		})
	}
	c.template.Order = order
}

func (c *checker) cycle(what string, cycle []int, of func(int) (string, Position)) {
	var path []string
	for _, i := range append(slices.Clone(cycle), cycle[0]) {
		name, at := of(i)
		path = append(path, fmt.Sprintf("%s (line %d)", name, at.Line))
	}
	_, at := of(cycle[0])
	c.errorf("cycle", at, "break the circle: one of them must do without the other", "%s need each other: %s", what, strings.Join(path, " needs "))
}

func (c *checker) unused() {
	if c.found.HasErrors() {
		return
	}
	for _, in := range c.template.Inputs {
		if !c.usedIn[in.Name] {
			c.add(Warning, "unused-input", in.Position, fmt.Sprintf("nothing reads the input `%s`", in.Name), "use it or remove it")
		}
	}
}
