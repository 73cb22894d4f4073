package proposal

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"undersail/internal/core/change"
	"undersail/internal/core/render"
)

// Differs tells what a proposal would do otherwise if it were made anew, by its
// content: changes, wanted values, consents and cost. It is empty when it still
// holds. The order may follow the room that there is in quotas now.
func (d Document) Differs(now Document) string {
	byName := map[string]change.Change{}
	for _, c := range d.Changes {
		byName[c.Resource] = c
	}
	for _, c := range now.Changes {
		was, there := byName[c.Resource]
		delete(byName, c.Resource)
		switch {
		case !there && c.Change == change.Same:
		case !there:
			return fmt.Sprintf("%s would now be %s, which was not proposed", c.Resource, done(c.Change))
		case was.Change != c.Change:
			return fmt.Sprintf("%s was to be %s and would now be %s", c.Resource, done(was.Change), done(c.Change))
		case was.Type != c.Type, was.Was != c.Was, was.Old != c.Old, was.Keeps != c.Keeps, was.Loses != c.Loses,
			was.TakesOver != c.TakesOver:
			return fmt.Sprintf("%s would now be %s in another way", c.Resource, done(c.Change))
		case !sameJSON(was.Fields, c.Fields):
			return fmt.Sprintf("of %s other things would now change: %s", c.Resource, fieldNames(c.Fields))
		}
	}
	for name, c := range byName {
		if c.Change != change.Same {
			return fmt.Sprintf("%s was to be %s and would now stay as it is", name, done(c.Change))
		}
	}
	if d.Rendering != nil && now.Rendering != nil {
		for _, r := range now.Rendering.Resources {
			was := d.Rendering.Resource(r.Name)
			if was == nil {
				return r.Name + " would now be part of it"
			}
			if at, differs := render.Differs("", throughJSON(was.Want), throughJSON(r.Want)); differs {
				return fmt.Sprintf("other values would now be wanted of %s: `%s`", r.Name, at)
			}
		}
	}
	if now.Cost.Hour-d.Cost.Hour > 1e-9 { // what has become cheaper is as good
		return fmt.Sprintf("it would now cost %.3f %s an hour, and not %.3f%s", now.Cost.Hour, now.Cost.Currency,
			d.Cost.Hour, d.dearer(now))
	}
	for _, c := range now.Consents {
		if !covered([]render.Consent{c}, slices.Concat(d.Consents, d.Given)) {
			return fmt.Sprintf("the consent %s would have to be given now: %s", c.Name, c.About)
		}
	}
	return ""
}

// dearer names what has become dearer.
func (d Document) dearer(now Document) string {
	before := map[string]float64{}
	for _, l := range d.Cost.Lines {
		before[l.Resource] = l.Hour
	}
	var names []string
	for _, l := range now.Cost.Lines {
		if l.Hour-before[l.Resource] > 1e-9 {
			names = append(names, l.Resource)
		}
	}
	if len(names) > 4 {
		names = append(names[:4], fmt.Sprintf("%d more", len(names)-4))
	}
	if names == nil {
		return ""
	}
	return ": dearer are " + strings.Join(names, ", ")
}

func done(k change.Kind) string {
	return map[change.Kind]string{
		change.Create:  "created",
		change.Alter:   "altered",
		change.Rebuild: "rebuilt",
		change.Remove:  "removed",
		change.Keep:    "kept",
		change.Same:    "left as it is",
	}[k]
}

func fieldNames(fields []change.Field) string {
	if len(fields) == 0 {
		return "nothing of it"
	}
	text := ""
	for i, f := range fields {
		if i > 0 {
			text += ", "
		}
		text += "`" + f.Name + "`"
	}
	return text
}

// covered reports whether everything that is asked was asked before.
func covered(asked, before []render.Consent) bool {
	return !slices.ContainsFunc(asked, func(c render.Consent) bool { return !slices.Contains(before, c) })
}

// GoesOn is a proposal that goes on from an accepted one: what was agreed to with
// that is not asked again. Beyond tells what it would do that was not accepted.
func (j Judged) GoesOn(accepted Document) (_ Judged, beyond string) {
	beyond = j.Document().Beyond(accepted)
	var asked []render.Consent
	for _, c := range j.Consents {
		if change.OfChanges(c.Name) && beyond == "" ||
			covered([]render.Consent{c}, slices.Concat(accepted.Consents, accepted.Given)) {
			j.Given = append(slices.Clone(j.Given), c)
		} else {
			asked = append(asked, c)
		}
	}
	j.Consents = asked
	return j, beyond
}

func sameJSON(a, b any) bool { return reflect.DeepEqual(throughJSON(a), throughJSON(b)) }

func throughJSON(v any) (out any) {
	raw, err := json.Marshal(v)
	if err != nil {
		return v
	}
	if json.Unmarshal(raw, &out) != nil {
		return v
	}
	return out
}

// Beyond tells what a proposal that goes on would do beyond one that was accepted:
// make, rebuild or remove what that left alone, or want other values. It is empty
// when everything was accepted.
func (d Document) Beyond(accepted Document) string {
	byName := map[string]change.Change{}
	for _, c := range accepted.Changes {
		byName[c.Resource] = c
		if c.Old != "" {
			byName[c.Old] = change.Change{Change: change.Remove}
		}
	}
	for _, c := range d.Changes {
		if c.Change == change.Same {
			continue
		}
		was, there := byName[c.Resource]
		if !there || !allows(was.Change, c.Change) {
			return fmt.Sprintf("%s would be %s, which was not accepted%s", c.Resource, done(c.Change), because(c))
		}
		if c.Loses && !was.Loses && was.Change != change.Create {
			return fmt.Sprintf("what %s holds would be lost, which was not accepted", c.Resource)
		}
	}
	if d.Rendering == nil || accepted.Rendering == nil {
		return ""
	}
	for _, r := range d.Rendering.Resources {
		was := accepted.Rendering.Resource(r.Name)
		if was == nil {
			continue // it was told above, unless it is only used
		}
		if at, differs := render.Differs("", throughJSON(was.Want), throughJSON(r.Want)); differs {
			return fmt.Sprintf("`%s` of %s would be another than was accepted", at, r.Name)
		}
	}
	return ""
}

func because(c change.Change) string {
	if c.Reason != "" {
		return ": " + c.Reason
	}
	if len(c.Fields) > 0 {
		return ": " + fieldNames(c.Fields) + " changed"
	}
	return ""
}

// allows reports whether what was accepted for a resource covers what is to be done
// with it now: going on with it, or making anew what came of it.
func allows(accepted, now change.Kind) bool {
	switch accepted {
	case change.Create, change.Rebuild:
		return now == change.Create || now == change.Alter || now == change.Rebuild
	case change.Alter:
		return now == change.Alter
	case change.Remove, change.Keep, change.Same:
	}
	return accepted == now
}
