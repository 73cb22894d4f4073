package proposal

import (
	"math"
	"slices"

	"undersail/internal/core/change"
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
		i.Seconds = gone(c.Plan, *i, from, to)
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

// gone is for how long a resource is not there, in seconds: from the first of its actions to the end of the
// last. What goes for good, or only once the new one is there, is not gone for a time.
func gone(p change.Plan, i change.Interruption, from, to []float64) float64 {
	if i.How == change.RemoveServing || i.NewFirst {
		return 0
	}
	begin, end := math.Inf(1), 0.0
	for n, a := range p.Actions {
		if p.Changes[a.Change].Resource == i.Resource && a.Do != change.Keep {
			begin, end = min(begin, from[n]), max(end, to[n])
		}
	}
	return max(0, end-begin)
}

// times are when each action of a plan begins and ends at the earliest, in real seconds from its start.
func (d Durations) times(p change.Plan) (from, to []float64) {
	from, to = make([]float64, len(p.Actions)), make([]float64, len(p.Actions))
	g := needsOf(p)
	order, _ := g.Order()
	for _, i := range order {
		for _, n := range g.Needs[i] {
			from[i] = max(from[i], to[n])
		}
		to[i] = from[i] + float64(d.ExpectOf(p, p.Actions[i]))/1000
	}
	return from, to
}
