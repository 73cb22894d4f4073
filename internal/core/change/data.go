package change

import (
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// What is asked for before data is lost, and before something is rebuilt or removed whose guard
// is lifted in the same proposal.
const (
	LoseData  = "lose-data"
	LiftGuard = "lift-guard"
)

// Consents asks for one consent to lose data, naming each resource that holds it,
// and one to rebuild or remove what was guarded until now. With is what goes too without being recorded.
func Consents(changes []Change, recorded []Recorded, with ...string) (out []render.Consent) {
	find := finder(recorded)
	var lost, lifted []string
	for _, c := range changes {
		if c.Unguards {
			lifted = append(lifted, c.Resource)
		}
		if !c.Loses {
			continue
		}
		words := c.Resource
		if was := find(c.recordedAs(), -1); was != nil {
			words += " (" + sized(*was) + ")"
		}
		lost = append(lost, words)
	}
	if lost = append(lost, with...); lost != nil {
		out = append(out, render.Consent{
			Name:  LoseData,
			About: "what these hold is lost for good: " + strings.Join(lost, ", "),
		})
	}
	if lifted != nil {
		out = append(out, render.Consent{
			Name:  LiftGuard,
			About: "these are guarded until now, and are rebuilt or removed: " + strings.Join(lifted, ", "),
		})
	}
	return out
}

// sized names what a resource is, with its capacity.
func sized(r Recorded) string {
	for _, name := range []string{"size", "storage"} {
		if text, ok := r.Want[name].(string); ok {
			if _, err := resource.ParseData(text); err == nil {
				return r.Type + " of " + text
			}
		}
	}
	return r.Type
}

// takeOver makes a kept resource one of the stack, where nothing of it has to be
// made anew for that.
func takeOver(c Change, r render.Resource, was *Recorded, ids *names) (Change, []render.Finding) {
	taken := c
	if was.Found { // of what it was wanted as the cloud tells only what it is
		found := *was
		found.Want = FoundAs(r.Want, was.Want)
		was = &found
	}
	findings := taken.compare(r, was, ids)
	if taken.Change == Rebuild || was.Type != r.Type ||
		slices.ContainsFunc(findings, func(f render.Finding) bool { return f.Severity == lang.Error }) {
		var why []string
		for _, f := range taken.Fields {
			if f.Alter == resource.Rebuild || len(findings) > 0 {
				why = append(why, fmt.Sprintf("`%s` would go from %v to %v", f.Name, orUntold(f.Before),
					orUntold(f.After)))
			}
		}
		return c, []render.Finding{{
			Severity: lang.Warning,
			Code:     "kept-differs",
			Place:    r.Name,
			Message:  fmt.Sprintf("the kept %s cannot become %s: %s", was.Kept, r.Name, strings.Join(why, ", ")),
			Remedy: "wish what it is, to take it over, or leave this: a new one is made and the kept one " +
				"stays as it is",
		}}
	}
	taken.Change, taken.TakesOver = Alter, was.Kept
	taken.Reason = "the kept " + was.Kept + " is taken over with what it holds"
	if was.Found {
		taken.Reason = "it is there with the mark of " + was.Kept +
			" and is recorded nowhere; it is recorded, and nothing is made anew"
	}
	return taken, nil
}

// orUntold is a value as it is told, also where there is none.
func orUntold(v any) any {
	if v == nil {
		return "what nobody tells"
	}
	return plain(v)
}

// FoundAs is what is taken for the recorded wish of something that was found: of what is wanted
// of it now, as the cloud has it. The rest the cloud has by itself.
func FoundAs(want, has map[string]any) map[string]any {
	out := map[string]any{}
	for name := range want {
		if v, tells := has[name]; tells {
			out[name] = v
		}
	}
	return out
}

// Retire removes everything that is recorded, dependents first, but for what is
// kept, and what that comes after. A guarded resource refuses.
func Retire(recorded []Recorded) ([]Change, []render.Finding) {
	findings := []render.Finding{}
	for _, r := range recorded {
		if r.Guard && !r.Lifted {
			findings = append(findings, guarded(r.Name, "removed"))
		}
	}
	kept, gone := keepBack(recorded, "it is kept when the stack is retired")
	return append(append([]Change{}, kept...), removals(gone, "the stack is retired")...), findings
}

// keepBack parts what leaves a stack into what stays in the cloud and what goes.
// What a kept resource comes after stays with it.
func keepBack(leaving []Recorded, why string) (kept []Change, gone []Recorded) {
	byName := map[string]Recorded{}
	for _, r := range leaving {
		byName[r.Name] = r
	}
	because := map[string]string{} // with the one that is why
	var mark func(name, why string)
	mark = func(name, why string) {
		r, there := byName[name]
		if _, done := because[name]; done || !there || r.Missing {
			return
		}
		because[name] = why
		for _, a := range r.After {
			mark(a, why)
		}
	}
	for _, r := range leaving {
		if r.keeps() {
			mark(r.Name, r.Name)
		}
	}
	for _, r := range leaving {
		reason, stays := because[r.Name]
		switch {
		case !stays:
			gone = append(gone, r)
			continue
		case reason == r.Name:
			reason = why
		default:
			reason = "it is kept: " + reason + " is, and comes after it"
		}
		kept = append(kept, Change{
			Resource: r.Name,
			Type:     r.Type,
			Change:   Keep,
			After:    []render.After{},
			Reason:   reason,
		})
	}
	return kept, gone
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
		out = append(out, Change{
			Resource: r.Name,
			Type:     r.Type,
			Change:   Remove,
			After:    after,
			Reason:   reason,
			Loses:    r.loses(),
			Unguards: r.Guard && r.Lifted,
		})
	}
	return out
}

// likely says of what goes that something like it comes: it may have been renamed.
func likely(p Plan, recorded []Recorded) (out []render.Finding) {
	going := map[string][]*Recorded{} // by type and place in its repetition
	find := finder(recorded)
	for i := range p.Changes {
		g := &p.Changes[i]
		if g.Change != Remove && g.Change != Keep {
			continue
		}
		if was := find(g.Resource, -1); was != nil && was.Declared != "" {
			key := g.Type + " " + suffix(was.Name, was.Declared)
			going[key] = append(going[key], was)
		}
	}
	if len(going) == 0 {
		return nil
	}
	for _, c := range p.Changes {
		r := p.Rendering.Resource(c.Resource)
		if c.Change != Create || r == nil || r.Find != nil {
			continue
		}
		key := r.Type + " " + suffix(r.Name, r.Declared)
		at := slices.IndexFunc(going[key],
			func(was *Recorded) bool { return was.Declared != r.Declared && alike(*r, was) })
		if at < 0 {
			continue
		}
		was := going[key][at]
		going[key] = slices.Delete(going[key], at, at+1)
		severity := lang.Note
		if was.loses() {
			severity = lang.Warning
		}
		out = append(out, render.Finding{
			Severity: severity,
			Code:     "renamed",
			Place:    r.Name,
			Message:  fmt.Sprintf("%s leaves the stack, and %s, which is like it, is made", was.Name, r.Name),
			Remedy: fmt.Sprintf("if it is the same, write `was: %s` under %s: it is then renamed, and nothing "+
				"is made anew", localName(was.Declared), r.Declared),
		})
	}
	return out
}

func suffix(name, declared string) string { return strings.TrimPrefix(name, declared) }

func localName(declared string) string { return declared[strings.LastIndexByte(declared, '.')+1:] }

// alike reports whether a recorded resource could become a wanted one without
// being made anew, as far as is known.
func alike(r render.Resource, was *Recorded) bool {
	t, _ := resource.ByName(r.Type)
	if was.Region != r.Region {
		return false
	}
	for _, name := range differing(t, r.Want, was.Want) {
		p, _ := t.Property(name)
		_, shrinks := shrinking(r, p, was.Want[name], r.Want[name])
		_, waits := r.Want[name].(resource.Unresolved)
		if shrinks || p.Alter == resource.Rebuild && !waits {
			return false
		}
	}
	return true
}
