package render

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/expr"
	"undersail/internal/core/health"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

// ofResource is what one resource costs beside its expressions.
const ofResource = 200

// instance renders one member and returns the object that expressions read.
func (e *evaluator) instance(d *lang.Resource, local string, index int, loop map[string]any) *expr.Object {
	e.budget.Spend(ofResource)
	name := e.scope + local
	vars := e.scopeOf(d, index, loop)
	reads := []string{}
	e.reads = &reads
	want, behind, zones := e.want(d, local, vars)
	r := Resource{
		Zones:    zones,
		Name:     name,
		Type:     d.Type.Name,
		Patience: d.Patience,
		Declared: e.declared(d),
		Index:    index,
		Loop:     loop,
		Want:     want,
	}
	if len(loop) == 0 {
		r.Loop = nil
	}
	e.conduct(&r, d, local, vars)
	if r.Find != nil {
		r.Want = map[string]any{} // it is what it is; nothing is asked of it
	}
	r.Pending = resource.Waits(r.Want)
	var known map[string]any
	if e.request.Known != nil {
		known = e.request.Known(r)
	}
	r.exists = known != nil
	source := &fields{e: e, t: &d.Type, name: name, want: r.Want, reads: behind, known: known, found: r.Find != nil}
	obj := &expr.Object{Type: d.Type.Name, Name: name, Source: source, Reader: e}
	source.member = &member{e: e, d: d, local: local, vars: vars, object: obj, fields: source, reads: reads}
	if e.readers != nil {
		e.resolvable[name] = source.member
		e.listen(source.member, reads, nil)
	}
	r.Checks = e.checks(d, vars, obj, r.Want)
	r.Marks = source.member.marked()
	r.Makes = e.makes(d, vars, obj)
	r.After = e.after(d, name, reads)
	e.out.index[name] = len(e.out.Resources)
	e.out.Resources = append(e.out.Resources, r)
	e.members[d.Name] = append(e.members[d.Name], name)
	if e.request.Explain == name {
		e.explainResource(d, &e.out.Resources[len(e.out.Resources)-1], vars, obj)
	}
	return obj
}

// declared is the name of a declaration with those that embed its template.
func (e *evaluator) declared(d *lang.Resource) string {
	if e.parent == nil {
		return d.Name
	}
	return e.parent.declared(e.from) + "." + d.Name
}

func (e *evaluator) scopeOf(d *lang.Resource, index int, loop map[string]any) *expr.Vars {
	if d.Repeat == nil {
		return e.vars
	}
	own := make(map[string]any, len(loop)+1)
	own["index"] = int64(index)
	maps.Copy(own, loop)
	return e.vars.With(own)
}

// conduct fills in how a resource behaves in changes.
func (e *evaluator) conduct(r *Resource, d *lang.Resource, local string, vars *expr.Vars) {
	r.NewFirst, r.AtOnce, r.AtRetire, r.Leave, r.Features = d.Rebuild == "new_first", d.AtOnce, d.AtRetire, d.Leave,
		d.Features
	if d.Was != "" {
		r.Was = e.scope + d.Was + strings.TrimPrefix(local, d.Name)
	}
	if d.Guard != nil {
		v, err := e.eval(d.Guard, resource.Shape{Kind: resource.Boolean}, vars)
		if err != nil {
			e.broken(local+".guard", d.Guard, err)
		}
		if u, pending := v.(resource.Unresolved); pending {
			e.unplaced(local, "whether it is guarded", u)
		}
		r.Guard, _ = v.(bool)
	}
	if d.Region != nil {
		v, err := e.eval(d.Region, resource.Shape{Kind: resource.String}, vars)
		if err != nil {
			e.broken(local+".region", d.Region, err)
		}
		if region, _ := v.(string); region != e.out.Stack.Region {
			r.Region = region
		}
	}
	if d.Find != nil {
		r.Find = e.finding(d.Find, local, vars)
	}
	if d.Extra != nil {
		v, err := e.eval(d.Extra, resource.Shape{Kind: resource.Open}, vars)
		if err != nil {
			e.broken(local+".extra", d.Extra, err)
		}
		r.Extra, _ = v.(map[string]any)
	}
}

// finding tells which resource that exists is meant, or nil to make one.
func (e *evaluator) finding(n *lang.Node, local string, vars *expr.Vars) map[string]any {
	v, err := e.eval(n, resource.Shape{Kind: resource.Open}, vars)
	if err != nil {
		e.broken(local+".find", n, err)
	}
	switch t := v.(type) {
	case string:
		if t != "" {
			return map[string]any{"id": t}
		}
	case map[string]any:
		name, _ := t["name"].(string)
		tags, _ := t["tags"].(map[string]any)
		if name != "" || len(tags) > 0 {
			return t
		}
	}
	return nil
}

// want computes the wanted values, and what stands behind those of them that
// read what other resources report.
// Of values in order of preference it takes the first; zones are all of them.
func (e *evaluator) want(d *lang.Resource, local string,
	vars *expr.Vars) (want map[string]any, behind []behind, zones []string) {
	want = make(map[string]any, len(d.Want.Entries)+1)
	for _, entry := range d.Want.Entries {
		before := len(*e.reads)
		p, ok := d.Type.Property(entry.Key)
		if !ok {
			continue
		}
		v, err := e.eval(entry.Value, p.Shape, vars)
		if err != nil {
			e.broken(local+"."+entry.Key, entry.Value, err)
			continue
		}
		if list, many := v.([]any); many && p.Shape.Preferred {
			if zones = texts(list); len(zones) == 0 {
				e.broken(local+"."+entry.Key, entry.Value, fmt.Errorf("the list of `%s` is empty", entry.Key))
				continue
			}
			v = zones[0]
		}
		if v != nil && v != any(expr.Absent) {
			want[entry.Key] = v
		}
		if reads := (*e.reads)[before:]; len(reads) > 0 {
			behind = append(behind, behindOf(entry.Key, reads))
		}
	}
	if want["name"] == nil {
		want["name"] = e.out.Stack.Name + "-" + e.scope + local
	}
	if tags := e.tagged(d, want["tags"]); tags != nil {
		want["tags"] = tags
	}
	return want, behind, zones
}

// tagged adds the tags of the account to those of a resource, which come first.
func (e *evaluator) tagged(d *lang.Resource, own any) any {
	if _, has := d.Type.Property("tags"); !has || len(e.out.Stack.Tags) == 0 {
		return own
	}
	declared, isMap := own.(map[string]any)
	if own != nil && !isMap {
		return own // it waits for something
	}
	out := make(map[string]any, len(declared)+len(e.out.Stack.Tags))
	for key, value := range e.out.Stack.Tags {
		out[key] = value
	}
	maps.Copy(out, declared)
	return out
}

func texts(list []any) []string {
	var out []string
	for _, v := range list {
		if text, ok := v.(string); ok {
			out = append(out, text)
		}
	}
	return out
}

// behind are the resources whose reports stand behind one wanted value. The list
// is a part of what was collected for the whole resource.
type behind struct {
	property string
	reads    []string
}

func behindOf(property string, reads []string) behind {
	return behind{property, reads[:len(reads):len(reads)]}
}

// behind gives what stands behind a wanted value.
func (f *fields) behind(property string) []string {
	for _, b := range f.reads {
		if b.property == property {
			return b.reads
		}
	}
	return nil
}

// fields are those of a rendered resource: wanted values, and what is known of the reported ones. A
// reported value that is not known yet waits for itself.
type fields struct {
	e           *evaluator
	t           *resource.Type
	name        string
	want, known map[string]any
	reads       []behind
	member      *member
	found       bool // it exists, and is only used
}

// Field gives a value the type that expressions read.
func (f *fields) Field(name string) any {
	field, ok := f.t.Field(name)
	if !ok {
		return nil
	}
	if f.member != nil && f.member.d.Want.Get(name) != nil {
		f.member.refresh()
	}
	marking := f.e.marks != unmarked
	if v, wanted := f.want[name]; wanted {
		if f.member != nil && (f.e.revealing && expr.HoldsSecret(v) ||
			marking && (expr.HoldsUnknown(v) || len(f.behind(name)) > 0)) {
			v = f.member.property(name)
		}
		return expr.Typed(field.Shape, v)
	}
	if marking && !field.Secret && !f.found && f.t.Fills(name) {
		return f.mark(name, field.Shape)
	}
	switch v := f.known[name]; {
	case v != nil && field.Secret:
		return f.e.secret(fmt.Sprint(v))
	case v != nil:
		return expr.Typed(field.Shape, v)
	case field.Secret && f.e.request.Secrets[f.name] != "":
		return f.e.secret(f.e.request.Secrets[f.name])
	}
	return resource.Unresolved{Waits: []string{f.name + "." + name}}
}

// makes computes what a resource will make by itself.
func (e *evaluator) makes(d *lang.Resource, vars *expr.Vars, self *expr.Object) (out []Made) {
	if len(d.Makes) == 0 {
		return nil
	}
	vars = vars.With(map[string]any{"self": self})
	for _, n := range d.Makes {
		v, err := e.eval(n, resource.Making, vars)
		if err != nil {
			e.broken(d.Name+".makes", n, err)
			continue
		}
		spec, _ := v.(map[string]any)
		m := Made{Want: map[string]any{}}
		m.Type, _ = spec["type"].(string)
		m.Tags, _ = spec["tags"].(map[string]any)
		m.Least, _ = spec["least"].(int64)
		m.Most, _ = spec["most"].(int64)
		if size, sized := spec["size"]; sized {
			m.Want["size"] = size
		}
		if m.Least > m.Most {
			e.broken(d.Name+".makes", n,
				fmt.Errorf("it makes at least %d, which is more than at most %d", m.Least, m.Most))
		}
		out = append(out, m)
	}
	return out
}

func (e *evaluator) checks(d *lang.Resource, vars *expr.Vars, self *expr.Object, want map[string]any) []health.Check {
	checks := health.Defaults(d.Type, want)
	if len(d.Health) > 0 {
		vars = vars.With(map[string]any{"self": self})
	}
	return append(checks, e.healthChecks(d.Health, d.Name, vars)...)
}

func (e *evaluator) healthChecks(list []lang.Check, place string, vars *expr.Vars) []health.Check {
	var checks []health.Check
	for i, c := range list {
		v, err := e.eval(c.Spec, health.Kinds[c.Kind].Shape, vars)
		if err != nil {
			e.broken(place+".health", c.Spec, err)
		}
		spec, _ := v.(map[string]any)
		check := health.Check{Name: fmt.Sprintf("%s-%d", c.Kind, i+1), Kind: c.Kind, Spec: spec,
			Within: c.Within, Passes: c.Passes, SteadyFor: c.SteadyFor}
		if e.secretive && !e.revealing {
			check.Marks, _ = e.markedTree(c.Spec, health.Kinds[c.Kind].Shape, vars).(map[string]any)
		}
		checks = append(checks, check)
	}
	return checks
}

// prove computes the checks of the whole stack.
func (e *evaluator) prove() {
	e.out.Prove = e.healthChecks(e.template.Prove, "prove", e.vars)
}

// after lists what a resource comes after, sorted by name: the resources whose
// reported attributes its values read, and what is written under `after`, which
// wins over what references show.
func (e *evaluator) after(d *lang.Resource, name string, reads []string) []After {
	after := make([]After, 0, len(reads)+len(e.base))
	for _, a := range d.After {
		for _, member := range e.members[a.Resource] {
			after = append(after, After{member, a.Gate})
		}
	}
	after = append(after, e.base...)
	for _, read := range reads {
		if read != name {
			after = append(after, After{read, lang.GateHealthy})
		}
	}
	slices.SortStableFunc(after, func(a, b After) int { return cmp.Compare(a.Name, b.Name) })
	return slices.CompactFunc(after, func(a, b After) bool { return a.Name == b.Name })
}
