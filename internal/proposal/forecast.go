package proposal

import (
	"undersail/internal/core/change"
	"undersail/internal/core/graph"
	"undersail/internal/core/resource"
)

// Durations tells how long creations take, in milliseconds of real time, learned from
// earlier runs by [Learned]; Rate is the account's clock.
type Durations struct {
	Learned map[Learned]int64
	Rate    float64
}

// Learned is what a duration was learned of: a type, one of its machine sizes where it
// has them, in one region. Empty words stand for all.
type Learned struct{ Type, Region, Size string }

// What a removal, the record of something kept and a proof take, in cloud seconds.
const (
	removing = 8
	proving  = 5
)

// Expect is how long an action usually takes, in milliseconds of real time: what was
// learned of the nearest, else what is typical of the type.
func (d Durations) Expect(do change.Kind, of Learned) int64 {
	switch do {
	case change.Remove:
		return int64(removing / d.Rate * 1000)
	case change.Keep:
		return 0
	case change.Create, change.Alter, change.Rebuild, change.Same:
	}
	for _, near := range []Learned{of, {Type: of.Type, Region: of.Region}, {Type: of.Type}} {
		if ms, ok := d.Learned[near]; ok {
			return ms
		}
	}
	t, _ := resource.ByName(of.Type)
	return int64(float64(t.Expect) / d.Rate * 1000)
}

// ExpectOf is how long an action of a plan takes, in real milliseconds. Altering a group whose
// members are replaced takes a machine's time for each wave.
func (d Durations) ExpectOf(p change.Plan, a change.Action) int64 {
	c := p.Changes[a.Change]
	ms := d.Expect(a.Do, LearnedOfChange(p, c))
	if a.Do == change.Alter && c.Waves > 0 {
		ms += int64(c.Waves) * d.Expect(change.Create, Learned{Type: resource.TypeInstance})
	}
	return ms
}

// LearnedOf tells what a duration of a resource is learned of.
func LearnedOf(typeName, region string, want map[string]any) Learned {
	of := Learned{Type: typeName, Region: region}
	t, _ := resource.ByName(typeName)
	if p, ok := t.Property("size"); ok && p.Picks == "size" {
		of.Size, _ = want["size"].(string)
	}
	return of
}

// ExpectProof is how long the proof of a whole stack usually takes.
func (d Durations) ExpectProof() int64 { return int64(proving / d.Rate * 1000) }

// needsOf is what waits for what among the actions of a plan.
func needsOf(p change.Plan) graph.Graph {
	g := graph.Graph{Needs: make([][]int, len(p.Actions))}
	for i, a := range p.Actions {
		for _, n := range a.Needs {
			g.Needs[i] = append(g.Needs[i], n.Action)
		}
	}
	return g
}

// Forecast tells how long the actions of a plan take together, in seconds of real
// time, and the chain of resources that decides it, in which the removal of one that
// is rebuilt is told as that.
func (d Durations) Forecast(p change.Plan) (seconds float64, longest []string) {
	g := needsOf(p)
	weight := make([]float64, len(p.Actions))
	for i, a := range p.Actions {
		weight[i] = float64(d.ExpectOf(p, a)) / 1000
	}
	longest = []string{}
	if _, cycle := g.Order(); cycle != nil {
		return 0, longest // there is no order, which is told
	}
	for _, i := range g.CriticalPath(weight) {
		seconds += weight[i]
		name := p.Actions[i].Resource
		if a := p.Actions[i]; a.Do == change.Remove && p.Changes[a.Change].Change == change.Rebuild {
			name = "removal of " + name // beside its creation
		}
		longest = append(longest, name)
	}
	if p.Rendering != nil && len(p.Rendering.Prove) > 0 {
		seconds += float64(d.ExpectProof()) / 1000
	}
	return seconds, longest
}

// LearnedOfChange tells what the duration of a change is learned of.
func LearnedOfChange(p change.Plan, c change.Change) Learned {
	if p.Rendering != nil {
		if r := p.Rendering.Resource(c.Resource); r != nil {
			region := r.Region
			if region == "" {
				region = p.Rendering.Stack.Region
			}
			return LearnedOf(c.Type, region, r.Want)
		}
	}
	return Learned{Type: c.Type}
}
