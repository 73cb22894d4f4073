package render

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"undersail/internal/core/expr"
	"undersail/internal/core/health"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

// Most bounds how many resources one template may give.
const Most = 200_000

// Render computes the rendering. Faults of inputs, offers and computation are
// findings of the rendering, all of them; the rendering then holds what could
// be computed.
func Render(request Request) *Rendering {
	e := newEvaluator(request)
	e.inputs()
	e.calc()
	for _, i := range request.Template.Order {
		e.declaration(request.Template.Resources[i])
	}
	e.require()
	e.inDependencyOrder()
	e.outputs()
	if request.Offers != nil {
		e.checkOffers()
		e.checkNetworks()
	}
	e.checkAddresses()
	return e.out
}

// evaluator holds one rendering while it is computed.
type evaluator struct {
	request Request
	vars    map[string]any
	out     *Rendering
	// incomplete says that a value stands in for a missing input: follow-up
	// faults are not reported.
	incomplete bool
	// members are the rendered names of each declaration.
	members map[string][]string
	// existing are the resources that are there, ids their names by id.
	existing map[string]bool
	ids      map[string]string
}

func newEvaluator(request Request) *evaluator {
	t, s := request.Template, request.Stack
	if s.ID == "" {
		s.ID = FixedID
	}
	return &evaluator{
		request: request,
		vars: map[string]any{"stack": &expr.Object{Type: "stack", Fields: map[string]any{
			"account": s.Account, "cloud": s.Cloud, "id": s.ID, "name": s.Name, "region": s.Region}}},
		out: &Rendering{
			Template:  TemplateRef{t.About.Name, t.About.Version, t.About.Title, t.Digest},
			Stack:     s,
			index:     map[string]int{},
			Resources: []Resource{}, Outputs: []Output{}, Findings: []Finding{}, Inputs: []InputValue{},
		},
		members: map[string][]string{}, existing: map[string]bool{}, ids: map[string]string{},
	}
}

func (e *evaluator) find(severity lang.Severity, code, place, remedy, format string, args ...any) {
	f := Finding{severity, code, place, fmt.Sprintf(format, args...), remedy}
	// What is told of an input is not told again of every resource that uses it.
	known := func(x Finding) bool {
		return x == f || x.Code == f.Code && x.Message == f.Message && strings.HasPrefix(x.Place, "inputs.")
	}
	if !slices.ContainsFunc(e.out.Findings, known) {
		e.out.Findings = append(e.out.Findings, f)
	}
}

// broken reports a value that cannot be computed, unless a missing input
// already explains it.
func (e *evaluator) broken(place string, n *lang.Node, err error) {
	if e.incomplete {
		return
	}
	e.find(lang.Error, "compute", place, fmt.Sprintf("see line %d of %s", n.Line, e.request.Template.File), "%v", err)
}

func (e *evaluator) secret(reference string) any {
	if e.request.Reveal != nil {
		if v, ok := e.request.Reveal(reference); ok {
			return v
		}
	}
	return resource.Unresolved{Secrets: []string{reference}}
}

func (e *evaluator) require() {
	for _, req := range e.request.Template.Require {
		v, err := e.eval(req.That, resource.Shape{Kind: resource.Boolean}, e.vars)
		if err != nil {
			e.broken("require", req.That, err)
			continue
		}
		if holds, ok := v.(bool); ok && !holds && !e.incomplete {
			words, err := e.eval(req.Else, resource.Shape{Kind: resource.String}, e.vars)
			if err != nil {
				words = req.That.Text
			}
			e.find(lang.Error, "require", "inputs", "change the inputs that it names", "%v", words)
		}
	}
}

// declaration renders one declaration and puts it into scope for those after it.
func (e *evaluator) declaration(d *lang.Resource) {
	defer e.fillCalc()
	if d.When != nil {
		v, err := e.eval(d.When, resource.Shape{Kind: resource.Boolean}, e.vars)
		if err != nil {
			e.broken(d.Name, d.When, err)
		}
		if wanted, _ := v.(bool); !wanted {
			e.vars[d.Name] = &expr.Object{Type: d.Type.Name + "?", Optional: true}
			return
		}
	}
	if d.Repeat == nil {
		obj := e.instance(d, d.Name, 0, nil)
		if d.When != nil {
			obj.Type, obj.Optional, obj.Present = d.Type.Name+"?", true, true
		}
		e.vars[d.Name] = obj
		return
	}
	rounds, err := e.rounds(d)
	if err != nil {
		e.broken(d.Name, d.Repeat[0].Over, err)
	}
	if d.Keyed() {
		members := map[string]any{}
		for i, round := range rounds {
			key := fmt.Sprint(round[d.Repeat[0].Name])
			members[key] = e.instance(d, d.Name+"["+key+"]", i, round)
		}
		e.vars[d.Name] = members
		return
	}
	members := []any{}
	for i, round := range rounds {
		members = append(members, e.instance(d, d.Name+roundKey(d, i, round), i, round))
	}
	e.vars[d.Name] = members
}

// roundKey names a member by the values of its loops, so that taking one away
// never renames the others; a plain count has nothing but the index.
func roundKey(d *lang.Resource, index int, round map[string]any) string {
	if len(d.Repeat) == 1 && d.Repeat[0].Name == "" {
		return "[" + strconv.Itoa(index) + "]"
	}
	key := ""
	for _, l := range d.Repeat {
		key += fmt.Sprintf("[%v]", round[l.Name])
	}
	return key
}

// rounds lists the loop values of every member, the first loop outermost.
func (e *evaluator) rounds(d *lang.Resource) ([]map[string]any, error) {
	rounds := []map[string]any{{}}
	for _, loop := range d.Repeat {
		values, err := e.loopValues(loop)
		if err != nil {
			return nil, err
		}
		if len(rounds)*len(values) > Most-len(e.out.Resources) {
			return nil, fmt.Errorf("the template gives more than %d resources", Most)
		}
		next := make([]map[string]any, 0, len(rounds)*len(values))
		for _, round := range rounds {
			for _, v := range values {
				more := maps.Clone(round)
				if loop.Name != "" {
					more[loop.Name] = v
				}
				next = append(next, more)
			}
		}
		rounds = next
	}
	return rounds, nil
}

func (e *evaluator) loopValues(loop lang.Loop) ([]any, error) {
	if !loop.Count {
		text := resource.Shape{Kind: resource.String}
		v, err := e.eval(loop.Over, resource.Shape{Kind: resource.List, Items: &text}, e.vars)
		if err != nil {
			return nil, err
		}
		list, ok := v.([]any)
		if !ok {
			return nil, fmt.Errorf("`repeat` has no list to run over")
		}
		for i, x := range list {
			if slices.Contains(list[:i], x) {
				return nil, fmt.Errorf("`repeat` runs over %v twice", x)
			}
		}
		return list, nil
	}
	v, err := e.eval(loop.Over, resource.Shape{Kind: resource.Integer}, e.vars)
	if err != nil {
		return nil, err
	}
	n, ok := v.(int64)
	if !ok || n < 0 || n > Most {
		return nil, fmt.Errorf("`repeat` wants a number from 0 to %d, not %v", Most, v)
	}
	values := make([]any, n)
	for i := range values {
		values[i] = int64(i)
	}
	return values, nil
}

// instance renders one member and returns the object that expressions read.
func (e *evaluator) instance(d *lang.Resource, name string, index int, loop map[string]any) *expr.Object {
	vars := e.scopeOf(d, index, loop)
	r := Resource{Name: name, Type: d.Type.Name, Patience: d.Patience, Declared: d.Name, Index: index, Loop: loop, Want: e.want(d, name, vars), After: []After{}}
	if len(loop) == 0 {
		r.Loop = nil
	}
	r.Pending = resource.Waits(r.Want)
	var known map[string]any
	if e.request.Known != nil {
		known = e.request.Known(r)
	}
	if known != nil {
		e.existing[name] = true
		if id, ok := known["id"].(string); ok {
			e.ids[id] = name
		}
	}
	obj := e.object(d.Type, name, r.Want, known)
	r.Checks = e.checks(d, vars, obj)
	e.out.index[name] = len(e.out.Resources)
	e.out.Resources = append(e.out.Resources, r)
	e.members[d.Name] = append(e.members[d.Name], name)
	return obj
}

func (e *evaluator) scopeOf(d *lang.Resource, index int, loop map[string]any) map[string]any {
	if d.Repeat == nil {
		return e.vars
	}
	vars := maps.Clone(e.vars)
	vars["index"] = int64(index)
	maps.Copy(vars, loop)
	return vars
}

func (e *evaluator) want(d *lang.Resource, name string, vars map[string]any) map[string]any {
	want := map[string]any{}
	for _, entry := range d.Want.Entries {
		p, ok := d.Type.Property(entry.Key)
		if !ok {
			continue
		}
		v, err := e.eval(entry.Value, p.Shape, vars)
		if err != nil {
			e.broken(name+"."+entry.Key, entry.Value, err)
			continue
		}
		if v != nil && v != any(expr.Absent) {
			want[entry.Key] = v
		}
	}
	if want["name"] == nil {
		want["name"] = e.out.Stack.Name + "-" + name
	}
	return want
}

// object joins wanted values and what is known of the reported ones. A
// reported value that is not known yet waits for itself.
func (e *evaluator) object(t resource.Type, name string, want, known map[string]any) *expr.Object {
	fields := make(map[string]any, len(t.Properties)+len(t.Attributes))
	for _, field := range t.Names() {
		if v, ok := want[field]; ok {
			fields[field] = v
			continue
		}
		a, isAttribute := t.Attribute(field)
		v, ok := known[field]
		switch {
		case ok && v != nil && isAttribute && a.Secret:
			fields[field] = e.secret(fmt.Sprint(v))
		case ok && v != nil:
			fields[field] = v
		case isAttribute && a.Secret && e.request.Secrets[name] != "":
			fields[field] = e.secret(e.request.Secrets[name])
		default:
			fields[field] = resource.Unresolved{Waits: []string{name + "." + field}}
		}
	}
	return &expr.Object{Type: t.Name, Fields: fields}
}

func (e *evaluator) checks(d *lang.Resource, vars map[string]any, self *expr.Object) []health.Check {
	checks := health.Defaults(d.Type)
	if len(d.Health) > 0 {
		vars = maps.Clone(vars)
		vars["self"] = self
	}
	for i, c := range d.Health {
		shape := health.Kinds[c.Kind]
		v, err := e.eval(c.Spec, shape, vars)
		if err != nil {
			e.broken(d.Name+".health", c.Spec, err)
		}
		spec, _ := v.(map[string]any)
		checks = append(checks, health.Check{Name: fmt.Sprintf("%s-%d", c.Kind, i+1), Kind: c.Kind, Spec: spec,
			Within: c.Within, Passes: c.Passes, SteadyFor: c.SteadyFor})
	}
	return checks
}

// inDependencyOrder fills in what each resource comes after. The declarations
// were rendered in an order that already respects it.
func (e *evaluator) inDependencyOrder() {
	for i := range e.out.Resources {
		r := &e.out.Resources[i]
		d := e.request.Template.Resource(r.Declared)
		for _, need := range d.Needs {
			for _, member := range e.partners(d, r, need.Resource) {
				r.After = append(r.After, After{member, need.Gate})
			}
		}
	}
}

// partners lists the members of a declaration that a resource comes after. When
// the values name single members, only those count: worker[1] waits for
// data[1], not for all of data.
func (e *evaluator) partners(d *lang.Resource, r *Resource, of string) []string {
	all := e.members[of]
	if len(all) < 2 {
		return all
	}
	waits := resource.Waits(r.Want)
	for _, c := range r.Checks {
		waits = append(waits, resource.Waits(c.Spec)...)
	}
	var named []string
	for _, member := range all {
		prefix := member + "."
		if slices.ContainsFunc(waits, func(w string) bool { return len(w) > len(prefix) && w[:len(prefix)] == prefix }) {
			named = append(named, member)
		}
	}
	explicit := slices.ContainsFunc(d.After, func(a lang.After) bool { return a.Resource == of })
	if explicit || len(named) == 0 {
		return all
	}
	return named
}

func (e *evaluator) outputs() {
	for _, o := range e.request.Template.Outputs {
		v, err := e.eval(o.Value, resource.Shape{Kind: resource.Open}, e.vars)
		if err != nil {
			e.broken("outputs."+o.Name, o.Value, err)
			continue
		}
		if v == any(expr.Absent) || v == nil {
			continue
		}
		e.out.Outputs = append(e.out.Outputs, Output{Name: o.Name, About: o.About, Value: v, Secret: len(resource.Secrets(v)) > 0})
	}
}
