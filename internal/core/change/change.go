// Package change works out what has to change: a rendering against what is
// recorded of the stack gives the changes of a proposal.
package change

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// Kind is what happens to one resource.
type Kind string

// The kinds of changes.
const (
	Create  Kind = "create"
	Alter   Kind = "alter"
	Rebuild Kind = "rebuild"
	Remove  Kind = "remove"
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
	// Group and AtOnce bound how many members of a repetition change at a time.
	Group  string `json:"group,omitempty"`
	AtOnce int64  `json:"at_once,omitempty"`
	// Kept lists properties that stay as they are recorded, since they cannot be put
	// back: those of a run that is undone.
	Kept []string `json:"kept,omitempty"`
	// Notes tell how the resource behaves in changes, now and later.
	Notes []string `json:"notes,omitempty"`
}

// Field is one property that differs.
type Field struct {
	Name   string              `json:"name"`
	Before any                 `json:"before,omitempty"`
	After  any                 `json:"after,omitempty"`
	Alter  resource.Alteration `json:"alter"`
}

// Recorded is what is known of a resource of the stack.
type Recorded struct {
	Name       string
	Type       string
	Declared   string
	Want       map[string]any
	Attributes map[string]any
	// Healthy is false when the resource is there and was not proved healthy.
	Healthy bool
	// Broken says that the cloud could not make it, or that it broke since.
	Broken bool
	// Missing says that the cloud has it no more. Strayed lists what the cloud has
	// otherwise than is recorded.
	Missing bool
	Strayed []Field
	// Undoing says that a run is undone: what cannot be put back stays, and is told.
	Undoing bool
	After   []string
	// Guard and AtRetire are as the stack was last applied.
	Guard    bool
	AtRetire string
}

// Plan is a rendering together with the changes it needs, in order: what is
// made or altered by dependency, then what is removed, dependents first.
type Plan struct {
	Rendering *render.Rendering
	Changes   []Change
	Findings  []render.Finding
}

// Compute renders against what is recorded. A resource that stays gives its
// attributes to those that depend on it; one that is made or rebuilt gives none
// yet, so that its dependents show what they wait for.
func Compute(request render.Request, recorded []Recorded) Plan {
	find := finder(recorded)
	// The rendering asks for its resources in their order, so the changes come in it.
	decided, taken := make([]Change, 0, len(recorded)), map[string]bool{}
	ask := request.Known
	var findings []render.Finding
	request.Known = func(r render.Resource) map[string]any {
		was := find(r.Name, len(decided))
		if was == nil && r.Was != "" {
			if was = find(r.Was, -1); was != nil {
				taken[r.Was] = true
			}
		}
		c, found := decide(r, was)
		c.Notes = notes(r)
		if r.AtOnce > 0 {
			c.Group, c.AtOnce = r.Declared, r.AtOnce
		}
		decided = append(decided, c)
		findings = append(findings, found...)
		if r.Find != nil {
			if ask == nil {
				return nil
			}
			return ask(r)
		}
		if c.Change == Create || c.Change == Rebuild {
			return nil
		}
		return was.Attributes
	}
	plan := Plan{Rendering: render.Render(request), Changes: []Change{}}
	plan.Changes = decided
	for i := range decided {
		decided[i].After = plan.Rendering.Resources[i].After
	}
	var gone []Recorded
	for i, r := range recorded {
		if i < len(decided) && decided[i].Resource == r.Name && plan.Rendering.Resources[i].Find == nil {
			continue // most often the order is the same
		}
		if now := plan.Rendering.Resource(r.Name); (now == nil || now.Find != nil) && !taken[r.Name] {
			gone = append(gone, r)
			if r.Guard && !r.Missing {
				findings = append(findings, guarded(r.Name, "removed"))
			}
		}
	}
	plan.Changes = append(plan.Changes, removals(gone, "it is no longer part of the stack")...)
	plan.Findings = findings
	return plan
}

// finder finds recorded resources by name: at the place where one is expected,
// since the order seldom changes, else by an index that is made when first
// needed.
func finder(recorded []Recorded) func(name string, expected int) *Recorded {
	var byName map[string]*Recorded
	return func(name string, expected int) *Recorded {
		if expected >= 0 && expected < len(recorded) && recorded[expected].Name == name {
			return &recorded[expected]
		}
		if byName == nil {
			byName = make(map[string]*Recorded, len(recorded))
			for i := range recorded {
				byName[recorded[i].Name] = &recorded[i]
			}
		}
		return byName[name]
	}
}

// Retire removes everything that is recorded, dependents first, but for what is
// kept when its stack is retired, and what that comes after. A guarded resource
// refuses.
func Retire(recorded []Recorded) ([]Change, []render.Finding) {
	byName := map[string]Recorded{}
	for _, r := range recorded {
		byName[r.Name] = r
	}
	keep := map[string]string{} // with the one that is why
	var mark func(name, why string)
	mark = func(name, why string) {
		if _, done := keep[name]; done {
			return
		}
		keep[name] = why
		for _, a := range byName[name].After {
			mark(a, why)
		}
	}
	findings := []render.Finding{}
	var gone []Recorded
	for _, r := range recorded {
		if r.AtRetire == "keep" {
			mark(r.Name, r.Name)
		}
		if r.Guard {
			findings = append(findings, guarded(r.Name, "removed"))
		}
	}
	changes := []Change{}
	for _, r := range recorded {
		why, kept := keep[r.Name]
		switch {
		case !kept:
			gone = append(gone, r)
			continue
		case why == r.Name:
			why = "it is kept when the stack is retired"
		default:
			why = "it is kept: " + why + " is, and comes after it"
		}
		changes = append(changes, Change{Resource: r.Name, Type: r.Type, Change: Same, After: []render.After{}, Reason: why})
	}
	return append(changes, removals(gone, "the stack is retired")...), findings
}

func guarded(name, what string) render.Finding {
	return render.Finding{Severity: lang.Error, Code: "guard", Place: name, Message: fmt.Sprintf("%s is guarded and would be %s", name, what),
		Remedy: "keep it as it is, or take `guard` out of the template and apply that first"}
}

// removals turns the arrows around: a resource is removed after all that
// depend on it.
func removals(gone []Recorded, reason string) []Change {
	users := map[string][]render.After{}
	there := map[string]bool{}
	for _, r := range gone {
		there[r.Name] = true
	}
	for _, r := range gone {
		for _, a := range r.After {
			if there[a] {
				users[a] = append(users[a], render.After{Name: r.Name, Gate: lang.GateHealthy})
			}
		}
	}
	out := []Change{}
	for _, r := range slices.Backward(gone) {
		after := users[r.Name]
		if after == nil {
			after = []render.After{}
		}
		out = append(out, Change{Resource: r.Name, Type: r.Type, Change: Remove, After: after, Reason: reason})
	}
	return out
}

// decide tells what happens to a resource; was is nil when nothing is recorded.
func decide(r render.Resource, was *Recorded) (Change, []render.Finding) {
	c := Change{Resource: r.Name, Type: r.Type, Change: Create}
	if r.Find != nil {
		c.Change, c.Reason = Same, "it exists already and is used"
		return c, nil
	}
	if was == nil {
		return c, nil
	}
	if was.Name != r.Name {
		c.Was = was.Name
	}
	if was.Type != r.Type {
		c.Change, c.Reason = Rebuild, fmt.Sprintf("it was a %s", was.Type)
		return c, nil
	}
	if was.Missing {
		c.Reason = "the cloud has it no more, and it is made again"
		return c, []render.Finding{{Severity: lang.Warning, Code: "strayed", Place: r.Name, Message: r.Name + " was removed by hand", Remedy: "it is made again; what it held is lost"}}
	}
	if was.Broken {
		c.Change, c.Reason = Rebuild, "it broke in the cloud"
		return c, nil
	}
	var findings []render.Finding
	t, _ := resource.ByName(r.Type)
	c.Change = Same
	for _, name := range differing(r.Want, was.Want) {
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
			f.Severity, f.Code, f.Remedy = lang.Warning, "not-put-back", fmt.Sprintf("it stays as it is; write %v into the template or its inputs before the next proposal", before)
			c.Kept, findings = append(c.Kept, name), append(findings, f)
			continue
		}
		if shrinks {
			findings = append(findings, f)
		}
		alter := p.Alter
		if alter == "" {
			alter = resource.Rebuild
		}
		c.Fields = append(c.Fields, leafFields(name, before, after, alter)...)
		if alter == resource.Rebuild {
			c.Change = Rebuild
			c.Reason = fmt.Sprintf("`%s` of an existing %s cannot be altered", name, r.Type)
		} else if c.Change == Same {
			c.Change = Alter
		}
	}
	if f := c.putBack(r, was); f != nil {
		findings = append(findings, *f)
	}
	switch {
	case c.Change == Same && c.Was != "":
		c.Change, c.Reason = Alter, "it was called "+c.Was
	case c.Change == Same && !was.Healthy:
		c.Change, c.Reason = Alter, "it was not proved healthy"
	case c.Change == Rebuild && (r.Guard || was.Guard):
		findings = append(findings, guarded(r.Name, "rebuilt: "+c.Reason))
	}
	return c, findings
}

// putBack adds what was altered by hand, which goes back to what is wanted.
func (c *Change) putBack(r render.Resource, was *Recorded) *render.Finding {
	var names []string
	for _, f := range was.Strayed {
		named := slices.ContainsFunc(c.Fields, func(x Field) bool {
			return x.Name == f.Name || strings.HasPrefix(x.Name, f.Name+".") || strings.HasPrefix(x.Name, f.Name+"[")
		})
		if slices.Contains(r.Leave, f.Name) || named {
			continue
		}
		names = append(names, "`"+f.Name+"`")
		c.Fields = append(c.Fields, leafFields(f.Name, f.Before, f.After, cmp.Or(f.Alter, resource.Rebuild))...)
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
	c.Reason = strings.TrimPrefix(c.Reason+"; "+list+" was altered by hand and is put back", "; ")
	return &render.Finding{Severity: lang.Warning, Code: "strayed", Place: r.Name, Message: fmt.Sprintf("%s of %s was altered by hand", list, r.Name),
		Remedy: "it is put back; to keep it, write it into the template or its inputs, or name it under `leave`"}
}

// Summary counts changes in words, such as "4 create, 1 alter".
func Summary(changes []Change) string {
	var parts []string
	for _, k := range []Kind{Create, Alter, Rebuild, Remove, Same} {
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
