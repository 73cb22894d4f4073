package render

import (
	"undersail/internal/core/graph"
	"undersail/internal/core/resource"
)

// Duration tells how long it usually takes until every resource is healthy, in
// cloud seconds, and the chain of resources that decides it: the critical path
// with what each type usually takes. What exists already takes nothing.
func (r *Rendering) Duration() (seconds int64, longest []string) {
	index := map[string]int{}
	g := graph.Graph{Needs: make([][]int, len(r.Resources))}
	weight := make([]float64, len(r.Resources))
	for i, res := range r.Resources {
		index[res.Name] = i
		if t, ok := resource.ByName(res.Type); ok && res.Find == nil {
			weight[i] = float64(t.Expect)
		}
		for _, a := range res.After {
			if j, ok := index[a.Name]; ok {
				g.Needs[i] = append(g.Needs[i], j)
			}
		}
	}
	total := 0.0
	for _, i := range g.CriticalPath(weight) {
		total += weight[i]
		longest = append(longest, r.Resources[i].Name)
	}
	return int64(total), longest
}
