// Package change works out what has to change: a rendering against what is
// recorded of the stack gives the changes of a proposal, and these the order in
// which they are made.
package change

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/budget"
	"undersail/internal/core/health"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// Kind is what happens to one resource.
type Kind string

// The kinds of changes. What is kept leaves its stack and stays in the cloud.
const (
	Create  Kind = "create"
	Alter   Kind = "alter"
	Rebuild Kind = "rebuild"
	Remove  Kind = "remove"
	Keep    Kind = "keep"
	Same    Kind = "same"
)

// Change is what happens to one resource and why.
type Change struct {
	Resource string         `json:"resource"`
	Type     string         `json:"type"`
	Change   Kind           `json:"change"`
	After    []render.After `json:"after"`
	Fields   []Field        `json:"fields,omitempty"`
	Reason   string         `json:"reason,omitempty"`
	// Was is the name that the resource is recorded under until the run begins.
	Was string `json:"was,omitempty"`
	// Old is the name that the old one of a rebuild has from then on, where the new
	// one is made first.
	Old string `json:"old,omitempty"`
	// Keeps says that the old one of a rebuild is kept, Loses that data is lost for
	// good with the one that goes.
	Keeps bool `json:"keeps,omitempty"`
	Loses bool `json:"loses,omitempty"`
	// Anew says that all of its attributes are reported anew, though it stays.
	Anew bool `json:"anew,omitempty"`
	// Unguards says that the guard is lifted and the resource rebuilt or removed in one go.
	Unguards bool `json:"unguards,omitempty"`
	// TakesOver is the kept resource that becomes this one, such as readings/store.
	TakesOver string `json:"takes_over,omitempty"`
	// Group and AtOnce bound how many members of a repetition change at a time.
	Group  string `json:"group,omitempty"`
	AtOnce int64  `json:"at_once,omitempty"`
	// Unchanged lists properties that stay as they are recorded, since they cannot be put
	// back: those of a run that is undone.
	Unchanged []string `json:"unchanged,omitempty"`
	// Waves is in how many waves the members of a group are replaced by an alteration.
	Waves int `json:"waves,omitempty"`
	// Notes tell how the resource behaves in changes, now and later.
	Notes []string `json:"notes,omitempty"`
}

// UnmarshalJSON reads what an earlier version wrote too, which said kept for unchanged.
func (c *Change) UnmarshalJSON(raw []byte) error {
	type plain Change
	old := struct {
		*plain
		Kept []string `json:"kept"`
	}{plain: (*plain)(c)}
	err := json.Unmarshal(raw, &old)
	c.Unchanged = append(c.Unchanged, old.Kept...)
	return err
}

// recordedAs is the name under which the resource is recorded now.
func (c Change) recordedAs() string { return cmp.Or(c.Was, c.Resource) }

// Field is one property that differs.
type Field struct {
	Name   string              `json:"name"`
	Before any                 `json:"before,omitempty"`
	After  any                 `json:"after,omitempty"`
	Alter  resource.Alteration `json:"alter"`
}

// Plan is a rendering together with the changes it needs, in order: what is
// made or altered by dependency, then what is removed, dependents first. Actions
// are filled in by [Plan.Ordered].
type Plan struct {
	Rendering *render.Rendering
	Changes   []Change
	Findings  []render.Finding
	Actions   []Action
}

// Nothing reports whether no resource changes.
func (p Plan) Nothing() bool {
	for i := range p.Changes {
		if p.Changes[i].Change != Same {
			return false
		}
	}
	return true
}

// Compute renders against what is recorded. A resource that stays gives its
// attributes to those that depend on it; one that is made or rebuilt gives none
// yet, so that its dependents show what they wait for.
func Compute(b *budget.Budget, request render.Request, recorded []Recorded) Plan {
	find, ids := finder(recorded), &names{recorded: recorded, offers: request.Offers}
	// The rendering asks for its resources in their order, so the changes come in it.
	decided, was := make([]Change, 0, len(recorded)), make([]*Recorded, 0, len(recorded))
	taken := map[string]string{} // new names by recorded ones
	becomes := map[string]*Recorded{}
	for i := range recorded {
		if recorded[i].Becomes != "" {
			becomes[recorded[i].Becomes] = &recorded[i]
		}
	}
	ask := request.Known
	var findings []render.Finding
	request.Known = func(r render.Resource) map[string]any {
		old := recordedOf(r, find, len(decided), becomes)
		c, found := decide(r, old, ids)
		c.Waves = c.wavesOf(r, old)
		c.Notes = append(notes(r), c.waves()...)
		if r.AtOnce > 0 {
			c.Group, c.AtOnce = r.Declared, r.AtOnce
		}
		if old != nil && old.Name != r.Name {
			taken[old.Name] = r.Name
		}
		decided, was = append(decided, c), append(was, old)
		findings = append(findings, found...)
		if r.Find != nil {
			if ask == nil {
				return nil
			}
			return ask(r)
		}
		if c.Change == Create || c.Change == Rebuild || c.Anew {
			return nil
		}
		return old.Attributes
	}
	plan := Plan{Rendering: render.Render(b, request)}
	for i := range decided {
		decided[i].After = plan.Rendering.Resources[i].After
		decided[i].conduct(&plan.Rendering.Resources[i], was[i], taken, plan.Rendering)
	}
	plan.Changes = decided
	var gone []Recorded
	for i := range recorded {
		if i < len(decided) && decided[i].Resource == recorded[i].Name && plan.Rendering.Resources[i].Find == nil {
			continue // most often the order is the same
		}
		r := recorded[i]
		now := plan.Rendering.Resource(r.Name)
		if _, renamed := taken[r.Name]; (now == nil || now.Find != nil) && !renamed && r.Kept == "" {
			gone = append(gone, r)
			if r.Guard && !r.Missing && !r.Lifted {
				findings = append(findings, guarded(r.Name, "removed"))
			}
		}
	}
	kept, leaving := keepBack(gone, "it is no longer part of the stack, and is kept")
	plan.Changes = append(append(plan.Changes, kept...), removals(leaving, "it is no longer part of the stack")...)
	plan.Findings = append(findings, likely(plan, recorded)...)
	return plan
}

func guarded(name, what string) render.Finding {
	return render.Finding{
		Severity: lang.Error,
		Code:     "guard",
		Place:    name,
		Message:  fmt.Sprintf("%s is guarded and would be %s", name, what),
		Remedy:   "keep it as it is, or lift the guard for this once, which asks for a consent: --lift-guard " + name,
	}
}

// decide tells what happens to a resource; was is nil when nothing is recorded.
func decide(r render.Resource, was *Recorded, ids *names) (Change, []render.Finding) {
	c := Change{Resource: r.Name, Type: r.Type, Change: Create}
	switch {
	case r.Find != nil:
		c.Change, c.Reason = Same, "it exists already and is used"
		return c, nil
	case was == nil:
		return c, nil
	case was.Kept != "":
		return takeOver(c, r, was, ids)
	}
	if was.Name != r.Name {
		c.Was = was.Name
	}
	if was.Missing {
		c.Reason = "the cloud has it no more, and it is made again"
		return c, []render.Finding{{
			Severity: lang.Warning,
			Code:     "strayed",
			Place:    r.Name,
			Message:  r.Name + " was removed by hand",
			Remedy:   "it is made again; what it held is lost",
		}}
	}
	var findings []render.Finding
	switch {
	case was.Type != r.Type:
		c.Change, c.Reason = Rebuild, fmt.Sprintf("it was a %s", was.Type)
	case was.Rebuild && !own(r.Type):
		c.Change, c.Reason = Rebuild, "it is made anew, as was asked for"
	case was.Broken && own(r.Type):
		if findings = c.compare(r, was, ids); c.Change == Same {
			c.Change = Alter
		}
		c.Anew = true
		c.Reason = cmp.Or(c.Reason, "it failed and is run again")
	case was.Broken:
		c.Change, c.Reason = Rebuild, "it broke in the cloud"
	default:
		findings = c.compare(r, was, ids)
	}
	if was.Again && own(r.Type) && c.Change != Rebuild {
		c.Change, c.Anew, c.Reason = Alter, true, cmp.Or(c.Reason, "it is run again, as was asked for")
	}
	switch {
	case c.Change == Same && c.Was != "":
		c.Change, c.Reason = Alter, "it was called "+c.Was
	case c.Change == Same && !was.Healthy:
		c.Change, c.Reason = Alter, "it was not proved healthy"
	case c.Change != Rebuild:
	case r.Guard && !was.Wreck && !was.Lifted:
		findings = append(findings, guarded(r.Name, "rebuilt: "+c.Reason))
	case was.keeps() || r.AtRetire == "keep" && was.loses():
		c.Keeps = true
		c.Reason += "; the old one is kept"
	default:
		c.Loses = was.loses()
	}
	c.Unguards = c.Change == Rebuild && was.Guard && (!r.Guard || was.Lifted) && !was.Wreck
	return c, findings
}

// compare fills in every property that differs, and what altering them takes.
func (c *Change) compare(r render.Resource, was *Recorded, ids *names) (findings []render.Finding) {
	t, _ := resource.ByName(r.Type)
	c.Change = Same
	if was.Region != r.Region {
		c.Change, c.Reason = Rebuild, "it moves to another region"
		c.Fields = append(c.Fields, Field{"region", inWords(was.Region), inWords(r.Region), resource.Rebuild})
	}
	for _, name := range differing(t, r.Want, was.Want) {
		before, after := was.Want[name], r.Want[name]
		if slices.Contains(r.Leave, name) {
			continue
		}
		if zone, ok := before.(string); ok && name == "zone" && slices.Contains(r.Zones, zone) {
			continue // the zone that was found for it is one of those it may be in
		}
		p, _ := t.Property(name)
		f, shrinks := shrinking(r, p, before, after)
		if shrinks && was.Undoing {
			f.Severity, f.Code, f.Remedy = lang.Warning, "not-put-back",
				fmt.Sprintf("it stays as it is; write %v into the template or its inputs before the next proposal",
					before)
			c.Unchanged, findings = append(c.Unchanged, name), append(findings, f)
			continue
		}
		if shrinks {
			findings = append(findings, f)
		}
		alter := cmp.Or(p.Alter, resource.Rebuild)
		if ids.offers != nil && rebuilds(ids.offers.Rebuilds, r.Type+"."+name, p, before, after) {
			alter = resource.Rebuild
		}
		c.Fields = append(c.Fields, leafFields(p, name, before, after, alter, ids)...)
		if alter == resource.Rebuild {
			c.Change = Rebuild
			c.Reason = fmt.Sprintf("`%s` of an existing %s cannot be altered", name, r.Type)
		} else if c.Change == Same {
			c.Change = Alter
		}
		c.Anew = c.Anew || p.Renews
	}
	if f := c.putBack(r, was, ids); f != nil {
		findings = append(findings, *f)
	}
	return findings
}

// own reports whether Under Sail itself sees to a type: nothing of it lies broken in a cloud.
func own(name string) bool {
	t, _ := resource.ByName(name)
	return t.Own
}

func inWords(region string) string { return cmp.Or(region, "that of the stack") }

// conduct shows what changes of how a resource behaves, is ordered and is proved.
// It is altered for that alone, so that its record and its proof are those of the
// template.
func (c *Change) conduct(r *render.Resource, was *Recorded, renamed map[string]string, all *render.Rendering) {
	if was == nil || was.Kept != "" || c.Change != Same && c.Change != Alter || r.Find != nil {
		return
	}
	add := func(name string, before, after any) {
		c.Fields = append(c.Fields, Field{name, before, after, resource.InPlace})
		if c.Change == Same {
			c.Change = Alter
		}
	}
	if was.Guard != r.Guard {
		add("guard", was.Guard, r.Guard)
	}
	if was.AtRetire != r.AtRetire {
		add("at_retire", orNil(was.AtRetire), orNil(r.AtRetire))
	}
	c.order(r, was, renamed, all, add)
	if was.Checks != nil && !sameChecks(was.Checks, r.Checks) {
		for _, f := range leafFields(resource.Property{}, "health", byCheck(was.Checks), byCheck(r.Checks),
			resource.InPlace, nil) {
			add(f.Name, f.Before, f.After)
		}
	}
}

// order shows what a resource comes after now and did not before, or no longer.
func (c *Change) order(r *render.Resource, was *Recorded, renamed map[string]string, all *render.Rendering,
	add func(name string, before, after any)) {
	if slices.EqualFunc(was.After, r.After, func(name string, a render.After) bool { return name == a.Name }) {
		return
	}
	before, after := []string{}, []string{}
	for _, name := range was.After {
		if now, ok := renamed[name]; ok {
			name = now
		}
		if all.Resource(name) != nil { // what leaves the stack is no order any more
			before = append(before, name)
		}
	}
	for _, a := range r.After {
		after = append(after, a.Name)
	}
	slices.Sort(before)
	if !slices.Equal(before, after) {
		add("after", strings.Join(before, ", "), strings.Join(after, ", "))
	}
}

// sameChecks compares checks with recorded ones, which went through JSON.
func sameChecks(was, now []health.Check) bool {
	return slices.EqualFunc(was, now, func(a, b health.Check) bool {
		return a.Name == b.Name && a.Kind == b.Kind && a.Within == b.Within && a.Passes == b.Passes &&
			a.SteadyFor == b.SteadyFor && Equal(b.Spec, a.Spec)
	})
}

func orNil(text string) any {
	if text == "" {
		return nil
	}
	return text
}

// byCheck gives checks by their names, so that one more shows as that.
func byCheck(checks []health.Check) map[string]any {
	out := map[string]any{}
	for _, c := range checks {
		out[c.Name] = plain(c)
	}
	return out
}

// putBack adds what was altered by hand, which goes back to what is wanted.
func (c *Change) putBack(r render.Resource, was *Recorded, ids *names) *render.Finding {
	t, _ := resource.ByName(r.Type)
	var names []string
	for _, f := range was.Strayed {
		named := slices.ContainsFunc(c.Fields, func(x Field) bool {
			return x.Name == f.Name || strings.HasPrefix(x.Name, f.Name+".") || strings.HasPrefix(x.Name, f.Name+"[")
		})
		if slices.Contains(r.Leave, f.Name) || named {
			continue
		}
		names = append(names, "`"+f.Name+"`")
		p, _ := t.Property(f.Name)
		c.Fields = append(c.Fields, leafFields(p, f.Name, f.Before, f.After, cmp.Or(f.Alter, resource.Rebuild), ids)...)
		if f.Alter == resource.InPlace || f.Alter == resource.NeedsStop {
			if c.Change == Same {
				c.Change = Alter
			}
		} else {
			c.Change = Rebuild
		}
	}
	if names == nil {
		return nil
	}
	list := strings.Join(names, ", ")
	for _, f := range was.Strayed { // what was grown by hand never shrinks again
		p, _ := t.Property(f.Name)
		if grown, ok := shrinking(r, p, f.Before, f.After); ok && slices.Contains(names, "`"+f.Name+"`") {
			grown.Message = fmt.Sprintf("`%s` of %s was grown by hand to %v, and a %s never shrinks", f.Name, r.Name,
				f.Before, r.Type)
			grown.Remedy = fmt.Sprintf("write %v into the template or its inputs", f.Before)
			return &grown
		}
	}
	c.Reason = strings.TrimPrefix(c.Reason+"; "+list+" was altered by hand and is put back", "; ")
	return &render.Finding{
		Severity: lang.Warning,
		Code:     "strayed",
		Place:    r.Name,
		Message:  fmt.Sprintf("%s of %s was altered by hand", list, r.Name),
		Remedy:   "it is put back; to keep it, write it into the template or its inputs, or name it under `leave`",
	}
}

// Summary counts changes in words, such as "4 create, 1 alter".
func Summary(changes []Change) string {
	var parts []string
	for _, k := range []Kind{Create, Alter, Rebuild, Remove, Keep, Same} {
		n := 0
		for _, c := range changes {
			if c.Change == k {
				n++
			}
		}
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, k))
		}
	}
	if parts == nil {
		return "nothing to change"
	}
	return strings.Join(parts, ", ")
}
