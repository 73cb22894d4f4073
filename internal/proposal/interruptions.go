package proposal

import (
	"slices"

	"undersail/internal/core/change"
	"undersail/internal/core/graph"
	"undersail/internal/core/render"
)

// interruptions are what the changes do to what serves, for how long, and which inputs have them
// happen: those that the property is written with and that are others than when the stack was applied.
func (c Changed) interruptions() []change.Interruption {
	list := change.Interruptions(c.Plan.Changes, c.Recorded)
	if len(list) == 0 {
		return nil
	}
	from, to := c.Durations.times(c.Plan)
	for n := range list {
		i := &list[n]
		i.Seconds = gone(c.Plan, i.Resource, i.How, i.NewFirst, from, to)
		for m := range i.Causes {
			c.behind(i.Resource, &i.Causes[m])
		}
	}
	return list
}

// behind finds the input that a cause comes from.
func (c Changed) behind(resource string, cause *change.Cause) {
	value := func(list []render.InputValue, name string) (render.InputValue, bool) {
		at := slices.IndexFunc(list, func(v render.InputValue) bool { return v.Name == name })
		if at < 0 {
			return render.InputValue{}, false
		}
		return list[at], true
	}
	for _, name := range render.InputsOf(c.Template, resource+"."+cause.Property) {
		was, recorded := value(c.LastInputs, name)
		is, given := value(c.Plan.Rendering.Inputs, name)
		if !recorded || !given || change.Equal(was.Value, is.Value) || cause.Input != "" {
			continue
		}
		cause.Input = name
		if in := c.Template.Input(name); in == nil || !in.Secret {
			cause.Was, cause.Is = was.Value, is.Value
		}
	}
}

// gone is for how long a resource is not there, in seconds.
func gone(p change.Plan, resource, how string, newFirst bool, from, to []float64) float64 {
	var begin, end float64
	removed := false
	for i, a := range p.Actions {
		if p.Changes[a.Change].Resource != resource {
			continue
		}
		if a.Do == change.Remove {
			begin, removed = from[i], true
		} else if end = to[i]; !removed {
			begin = from[i]
		}
	}
	switch {
	case how == change.RemoveServing, newFirst: // for good, or not at all
		return 0
	default:
		return max(0, end-begin)
	}
}

// times are when each action of a plan begins and ends at the earliest, in real seconds from its start.
func (d Durations) times(p change.Plan) (from, to []float64) {
	from, to = make([]float64, len(p.Actions)), make([]float64, len(p.Actions))
	g := graph.Graph{Needs: make([][]int, len(p.Actions))}
	for i, a := range p.Actions {
		for _, n := range a.Needs {
			g.Needs[i] = append(g.Needs[i], n.Action)
		}
	}
	order, _ := g.Order()
	for _, i := range order {
		for _, n := range g.Needs[i] {
			from[i] = max(from[i], to[n])
		}
		to[i] = from[i] + float64(d.ExpectOf(p, p.Actions[i]))/1000
	}
	return from, to
}
