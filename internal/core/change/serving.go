package change

import (
	"slices"
	"strings"

	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// What is asked for before something that serves is stopped for a while, made anew, or removed
// from a stack that stays.
const (
	StopServing    = "stop"
	RebuildServing = "rebuild"
	RemoveServing  = "remove"
)

// Interruption is what happens to something that serves: people or other things use it, and for a
// while, or for good, they cannot.
type Interruption struct {
	Resource string `json:"resource"`
	Type     string `json:"type"`
	// How is the consent that it asks for: stop, rebuild or remove.
	How string `json:"how"`
	// NewFirst says that a rebuild makes the new one before the old one goes.
	NewFirst bool `json:"new_first,omitempty"`
	// Seconds is for how long it is gone, in real seconds, as far as durations were learned; 0 for
	// what is removed.
	Seconds float64 `json:"seconds,omitempty"`
	Causes  []Cause `json:"causes,omitempty"`
}

// Cause is a property that an interruption comes from, and the input behind it where there is one.
type Cause struct {
	Property string `json:"property"`
	Before   any    `json:"before,omitempty"`
	After    any    `json:"after,omitempty"`
	Input    string `json:"input,omitempty"`
	// Was and Is are the values of the input as last applied and now. Was is also the value with
	// which this would not happen.
	Was any `json:"was,omitempty"`
	Is  any `json:"is,omitempty"`
}

// Interruptions lists what the changes do to what serves: it was proved healthy, and is of a type
// that others use. Retiring and undoing say all of it themselves, and are not asked about.
func Interruptions(changes []Change, recorded []Recorded) (out []Interruption) {
	find := finder(recorded)
	for _, c := range changes {
		was := find(c.recordedAs(), -1)
		if was == nil || !was.serves() {
			continue
		}
		i := Interruption{Resource: c.Resource, Type: was.Type}
		switch {
		case c.Change == Remove:
			i.How = RemoveServing
		case c.Change == Rebuild:
			i.How, i.NewFirst = RebuildServing, c.Old != ""
			i.causes(c, resource.Rebuild)
		case c.Change == Alter &&
			slices.ContainsFunc(c.Fields, func(f Field) bool { return f.Alter == resource.NeedsStop }):
			i.How = StopServing
			i.causes(c, resource.NeedsStop)
		default:
			continue
		}
		out = append(out, i)
	}
	return out
}

func (i *Interruption) causes(c Change, by resource.Alteration) {
	for _, f := range c.Fields {
		if f.Alter == by {
			i.Causes = append(i.Causes, Cause{Property: f.Name, Before: f.Before, After: f.After})
		}
	}
}

// serves reports whether others use it and find it well.
func (r Recorded) serves() bool {
	t, _ := resource.ByName(r.Type)
	return t.Serves && r.Healthy && !r.Missing && !r.Broken && r.Kept == "" && !r.Undoing && !r.Fresh
}

// ConsentsTo asks for one consent for each way in which something that serves is interrupted,
// naming each resource. It does not name what may be told otherwise from one look to the next.
func ConsentsTo(list []Interruption) (out []render.Consent) {
	for _, way := range []struct{ how, about string }{
		{StopServing, "these serve, and are stopped for a while: "},
		{RebuildServing, "these serve, and are made anew: "},
		{RemoveServing, "these serve, and leave the stack for good: "},
	} {
		var names []string
		for _, i := range list {
			if i.How == way.how {
				names = append(names, i.Resource+" ("+i.Type+")")
			}
		}
		if names != nil {
			out = append(out, render.Consent{Name: way.how, About: way.about + strings.Join(names, ", ")})
		}
	}
	return out
}

// OfChanges reports whether a consent is about what changes, and so is given with the changes.
func OfChanges(consent string) bool {
	return slices.Contains([]string{LoseData, LiftGuard, StopServing, RebuildServing, RemoveServing}, consent)
}
