package proposal

import (
	"undersail/internal/core/change"
	"undersail/internal/core/graph"
	"undersail/internal/core/resource"
)

// Durations tells how long things take, in milliseconds of real time by
// resource type, learned from earlier runs; Rate is the account's clock.
type Durations struct {
	Learned map[string]int64
	Rate    float64
}

// What a removal, the record of something kept and a proof take, in cloud seconds.
const (
	removing = 8
	proving  = 5
)

// Expect is how long an action usually takes, in milliseconds of real time.
func (d Durations) Expect(do change.Kind, typeName string) int64 {
	t, _ := resource.ByName(typeName)
	switch do {
	case change.Remove:
		return int64(removing / d.Rate * 1000)
	case change.Keep:
		return 0
	}
	if ms, ok := d.Learned[typeName]; ok {
		return ms
	}
	return int64(float64(t.Expect) / d.Rate * 1000)
}

// ExpectProof is how long the proof of a whole stack usually takes.
func (d Durations) ExpectProof() int64 { return int64(proving / d.Rate * 1000) }

// Forecast tells how long the actions of a plan take together, in seconds of real
// time, and the chain of resources that decides it.
func (d Durations) Forecast(p change.Plan) (seconds float64, longest []string) {
	g := graph.Graph{Needs: make([][]int, len(p.Actions))}
	weight := make([]float64, len(p.Actions))
	for i, a := range p.Actions {
		weight[i] = float64(d.Expect(a.Do, p.Changes[a.Change].Type)) / 1000
		for _, n := range a.Needs {
			g.Needs[i] = append(g.Needs[i], n.Action)
		}
	}
	longest = []string{}
	if _, cycle := g.Order(); cycle != nil {
		return 0, longest // there is no order, which is told
	}
	for _, i := range g.CriticalPath(weight) {
		seconds += weight[i]
		longest = append(longest, p.Actions[i].Resource)
	}
	if p.Rendering != nil && len(p.Rendering.Prove) > 0 {
		seconds += float64(d.ExpectProof()) / 1000
	}
	return seconds, longest
}
