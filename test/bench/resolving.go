package main

import (
	"fmt"
	"runtime"

	"undersail/internal/core/budget"
	"undersail/internal/core/render"
)

// resolving measures what it costs to compute the resources of a run one by one,
// each after what it reads has reported, over the same evaluations bare.
func resolving(rounds int) ([]row, error) {
	var rows []row
	allocations := map[int]float64{}
	for _, n := range []int{800, 8_000} {
		s, err := newStack(n, true)
		if err != nil {
			return nil, err
		}
		var fault error
		resolve := func() {
			session, rendering := render.Accept(budget.Boundless(), s.request)
			for _, r := range rendering.Resources {
				shown, _, err := session.Resolve(r.Name, nil)
				if err != nil || len(shown.Pending) > 0 {
					fault = fmt.Errorf("%s: %v, waits for %v", r.Name, err, shown.Pending)
				}
				session.Report(r.Name, map[string]any{"id": "dsk-" + r.Name})
			}
		}
		bare := func() {
			// The acceptance and the resolving of each evaluate every expression: twice.
			for range 2 {
				for i, vars := range s.vars {
					for _, p := range s.programs[i*5 : i*5+5] {
						if _, err := p.Eval(vars); err != nil {
							fault = err
						}
					}
				}
			}
		}
		often := max(1, 8_000/n)
		m, r, ratio := paired(rounds, repeated(often, resolve), repeated(often, bare))
		if fault != nil {
			return nil, fault
		}
		allocations[n] = allocated(n, resolve)
		rows = append(rows, row{
			id:        "R1",
			what:      fmt.Sprintf("resolve %d resources of a run one by one, over the evaluations bare", n),
			measured:  short(m / timesOf(often)),
			reference: short(r / timesOf(often)),
			ratio:     ratio,
			target:    3,
		})
	}
	return append(rows, row{
		id:        "R1",
		what:      "allocations for each of 8 000 resources over those for each of 800",
		measured:  fmt.Sprintf("%.1f", allocations[8_000]),
		reference: fmt.Sprintf("%.1f", allocations[800]),
		ratio:     allocations[8_000] / allocations[800],
		target:    1.1,
	}), nil
}

// allocated counts the allocations of f for each of n resources: it does not
// depend on what else the machine does.
func allocated(n int, f func()) float64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	f()
	runtime.ReadMemStats(&after)
	return float64(after.Mallocs-before.Mallocs) / float64(n)
}
