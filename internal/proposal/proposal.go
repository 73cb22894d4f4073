// Package proposal makes proposals in stages, each an immutable value that is
// computed from the one before: [Facts] that were read, the [Changed] rendering and
// its changes, what is [Judged] of them, and the [Document] that is saved. Proposing,
// checking whether a proposal still holds, continuing, undoing and retiring all go
// through the same stages.
//
// It is pure: who reads the facts and who saves the document is for the service.
package proposal

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"undersail/internal/core/budget"
	"undersail/internal/core/change"
	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// Facts are everything that a proposal rests on.
type Facts struct {
	Stack render.Stack
	// Template is nil when the stack is only removed.
	Template *lang.Template
	Text     TemplateText
	// TextBy is who wrote the text; empty where nobody knows.
	TextBy string
	// Keys are the named key pairs that inputs were given, by their public halves.
	Keys map[string]string
	// Handed are the secrets that each secret of another stack is made of, by the reference
	// that it has here.
	Handed map[string][]string
	// Carried are what carries secrets that it was given before, by name or id.
	Carried map[string][]string
	// Told are the machines that are given secrets, by name, whatever way.
	Told    map[string][]string
	Inputs  map[string]any // without the values of secrets
	Origins map[string]string
	// Given are the values of secrets that were given now; they take part only in
	// checking their rules.
	Given   map[string]string
	Secrets map[string]string // references by input or key pair
	Draw    []Draw
	Found   map[string]map[string]any
	Stacks  map[string]map[string]any
	Offers  offer.Everywhere
	// Recorded is what is recorded of the stack, as the cloud has it, and what is
	// kept that it may take over.
	Recorded []change.Recorded
	// LastInputs are those that the stack was last applied with.
	LastInputs []render.InputValue
	Durations  Durations
	Basis      int64
	Attempt    int
	Discards   string
	DiscardsAs string // the token of a kept resource that is removed for good
	// Keep names what stays in the cloud when it leaves the stack, whatever its template
	// said of that.
	Keep []string
	// LiftGuard names what may be rebuilt or removed for this once although it is guarded.
	LiftGuard []string
	// Again names tasks that are run again although nothing of them changes.
	Again []string
	// Rebuild names what is made anew although nothing of it changes.
	Rebuild []string
	// Read are findings of whoever read the facts.
	Read []render.Finding
	// Most is how many resources the template may give; 0 is as many as any may.
	Most int
	// Agreed are the consents that were given when the stack was last applied.
	Agreed []render.Consent
	// Rules are the organisation's own.
	Rules *policy.Rules
	// MostMonth is the cost of a month above which a consent is asked for; 0 asks for
	// none.
	MostMonth float64
	// Today is the date of the check, such as 2026-11-25, for what ends.
	Today string
}

// Changed is what would change, in which order.
type Changed struct {
	Facts
	Plan change.Plan
	// Lost is what holds data and goes with what goes, without being recorded.
	Lost []string
}

// Render computes the rendering and its changes.
func (f Facts) Render(b *budget.Budget) Changed {
	plan := change.Compute(b, f.request(), f.Recorded)
	if plan.Rendering.Stopped {
		return Changed{Facts: f, Plan: plan}
	}
	plan.Findings = append(append(append(plan.Findings, f.staying(plan.Changes)...), f.notRun(plan.Changes)...),
		append(f.notRebuilt(plan.Changes), f.notGuarded()...)...)
	return Changed{Facts: f, Plan: plan.Ordered(f.Recorded, f.Offers)}
}

// request is what is rendered.
func (f Facts) request() render.Request {
	inputs := maps.Clone(f.Inputs)
	for name, v := range f.Given {
		if f.Template.Input(name) != nil { // else another stack hands it over
			inputs[name] = v
		}
	}
	return render.Request{
		Template: f.Template,
		Stack:    f.Stack,
		Inputs:   inputs,
		Origins:  f.Origins,
		Secrets:  f.Secrets,
		Offers:   f.Offers.Home,
		Stacks:   f.Stacks,
		Most:     f.Most,
		Rehearse: true,
		Known:    func(r render.Resource) map[string]any { return f.Found[r.Name] },
	}
}

// givenNow are the values of the secrets that are given now, by their references.
func (f Facts) givenNow() map[string]string {
	out := make(map[string]string, len(f.Given))
	for name, v := range f.Given {
		out[cmp.Or(f.Secrets[name], name)] = v
	}
	return out
}

// reported are the attributes of what is there, by name.
func (c Changed) reported() func(r render.Resource) map[string]any {
	there := map[string]map[string]any{}
	for _, r := range c.Recorded {
		if !r.Missing && r.Kept == "" {
			there[r.Name] = r.Attributes
		}
	}
	for _, ch := range c.Plan.Changes {
		if ch.Change == change.Rebuild || ch.Change == change.Create || ch.Anew {
			delete(there, ch.Resource)
		}
	}
	return func(r render.Resource) map[string]any {
		if found := c.Found[r.Name]; found != nil {
			return found
		}
		return there[r.Name]
	}
}

// Remove computes the removal of everything recorded.
func (f Facts) Remove() Changed {
	changes, findings := change.Retire(f.Recorded)
	plan := change.Plan{Changes: changes, Findings: append(append(findings, f.staying(changes)...), f.notGuarded()...)}
	return Changed{Facts: f, Plan: plan.Ordered(f.Recorded, f.Offers)}
}

// staying finds what was named to be kept and does not leave.
func (f Facts) staying(changes []change.Change) (findings []render.Finding) {
	for _, name := range f.Keep {
		there := slices.ContainsFunc(f.Recorded, func(r change.Recorded) bool { return r.Name == name && r.Kept == "" })
		leaves := slices.ContainsFunc(changes, func(c change.Change) bool {
			return c.Resource == name && (c.Change == change.Keep || c.Keeps) || c.Was == name && c.Keeps
		})
		switch {
		case !there:
			findings = append(findings, render.Finding{
				Severity: lang.Error,
				Code:     "keep",
				Place:    name,
				Message:  fmt.Sprintf("%s is to be kept, and the stack has none", name),
				Remedy:   "list them with: undersail stacks " + f.Stack.Name,
			})
		case !leaves:
			findings = append(findings, render.Finding{
				Severity: lang.Error,
				Code:     "keep",
				Place:    name,
				Message:  fmt.Sprintf("%s is to be kept, and does not leave the stack", name),
				Remedy:   "take it out of the template, or let the template `find` it",
			})
		}
	}
	return findings
}

// notGuarded finds names whose guard is to be lifted and that have none.
func (f Facts) notGuarded() (findings []render.Finding) {
	for _, name := range f.LiftGuard {
		if !slices.ContainsFunc(f.Recorded, func(r change.Recorded) bool { return r.Name == name && r.Guard }) {
			findings = append(findings, render.Finding{
				Severity: lang.Error,
				Code:     "lift-guard",
				Place:    name,
				Message:  fmt.Sprintf("the guard of %s is to be lifted, and nothing of that name is guarded", name),
				Remedy:   "list what the stack has with: undersail stacks " + f.Stack.Name,
			})
		}
	}
	return findings
}

// notRebuilt finds what was named to be made anew and is no resource that stays in the stack.
func (f Facts) notRebuilt(changes []change.Change) (findings []render.Finding) {
	for _, name := range f.Rebuild {
		made := slices.ContainsFunc(changes, func(c change.Change) bool {
			return c.Resource == name && (c.Change == change.Rebuild || c.Change == change.Create)
		})
		if !made {
			findings = append(findings, render.Finding{
				Severity: lang.Error,
				Code:     "rebuild",
				Place:    name,
				Message:  fmt.Sprintf("%s is to be made anew, and the stack has no such resource of its own", name),
				Remedy:   "list them with: undersail stacks " + f.Stack.Name,
			})
		}
	}
	return findings
}

// notRun finds what was named to be run again and is no task of the stack.
func (f Facts) notRun(changes []change.Change) (findings []render.Finding) {
	var tasks []string
	for _, c := range changes {
		if t, _ := resource.ByName(c.Type); t.Own && c.Change != change.Remove {
			tasks = append(tasks, c.Resource)
		}
	}
	for _, name := range f.Again {
		if !slices.Contains(tasks, name) {
			findings = append(findings, render.Finding{
				Severity: lang.Error,
				Code:     "again",
				Place:    name,
				Message:  fmt.Sprintf("%s is to be run again, and is no task of the stack", name),
				Remedy:   expr.Choose(name, tasks),
			})
		}
	}
	return findings
}

// Document is what is saved and carried out.
func (j Judged) Document() Document {
	d := Document{
		Template:      j.Text,
		Stack:         j.Stack,
		Inputs:        j.Inputs,
		Found:         j.Found,
		Stacks:        j.Stacks,
		Secrets:       j.Secrets,
		Draw:          j.Draw,
		Elsewhere:     j.Offers.Elsewhere,
		Rendering:     j.Plan.Rendering,
		Changes:       j.Plan.Changes,
		Actions:       j.Plan.Actions,
		Findings:      j.Findings,
		Consents:      j.Consents,
		Given:         j.Given,
		Cost:          j.Cost,
		CostNow:       j.CostNow,
		Seconds:       j.Seconds,
		Longest:       j.Longest,
		Interruptions: j.Interruptions,
		Rate:          j.Durations.Rate,
		Basis:         j.Basis,
		Attempt:       j.Attempt,
		Discards:      j.Discards,
		DiscardsAs:    j.DiscardsAs,
		Keep:          j.Keep,
		LiftGuard:     j.LiftGuard,
		Again:         j.Again,
		Rebuild:       j.Rebuild,
		Uses:          j.Uses,
		UsesListed:    true,
		TextBy:        j.TextBy,
		Keys:          j.Keys,
		Handed:        j.Handed,
		Carried:       j.Carried,
		Told:          j.Told,
	}
	if j.Offers.Home != nil {
		d.Offers = *j.Offers.Home
	}
	d.Reserves = j.Reserves()
	if j.Plan.Rendering == nil {
		return d
	}
	if j.Template != nil {
		d.Promise = j.Template.About.Takes
	}
	for _, in := range j.Plan.Rendering.Inputs { // a free range is drawn once
		if in.Origin == render.FreeRange {
			if d.Inputs = maps.Clone(d.Inputs); d.Inputs == nil {
				d.Inputs = map[string]any{}
			}
			d.Inputs[in.Name] = in.Value
		}
	}
	return d
}

// Regions are the other regions that a rendering names.
func Regions(r *render.Rendering) []string {
	var out []string
	for _, res := range r.Resources {
		if res.Region != "" && !slices.Contains(out, res.Region) {
			out = append(out, res.Region)
		}
	}
	return out
}

// Drawn adds the key pairs that have no public key of their own, and the secrets
// that embedded templates generate, to the secrets of the facts. Reference gives a
// new reference for a name. False says that nothing was added.
func (f Facts) Drawn(r *render.Rendering, reference func(name string) string) (Facts, bool) {
	more := false
	draw := func(name string, d Draw) {
		if !more {
			f.Secrets, f.Draw, more = maps.Clone(f.Secrets), slices.Clone(f.Draw), true
		}
		f.Secrets[name] = d.Reference
		f.Draw = append(f.Draw, d)
	}
	for _, g := range r.Generated {
		if f.Secrets[g.Name] == "" {
			draw(g.Name, Draw{Reference: reference(g.Name), Kind: "generated", Rules: g.Rules})
		}
	}
	for _, res := range r.Resources {
		if !resource.DrawsKey(res.Type) || res.Find != nil || res.Want["public_key"] != nil ||
			f.Secrets[res.Name] != "" {
			continue
		}
		if known := f.keyOf(res); known != "" {
			if !more {
				f.Secrets, f.Draw, more = maps.Clone(f.Secrets), slices.Clone(f.Draw), true
			}
			f.Secrets[res.Name] = known
			continue
		}
		draw(res.Name, Draw{Reference: reference(res.Name), Kind: "private_key"})
	}
	return f, more
}

// keyOf is the reference of the private half that a recorded key pair has.
func (f Facts) keyOf(res render.Resource) string {
	for _, was := range f.Recorded {
		known, ok := was.Attributes["private_key"].(string)
		if ok && was.Type == res.Type && (was.Name == res.Name || was.Name == res.Was) {
			return known
		}
	}
	return ""
}
