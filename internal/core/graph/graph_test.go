package graph

import (
	"math/rand/v2"
	"slices"
	"testing"
)

func TestOrderPutsNeedsFirst(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(3, 4))
	for range 200 {
		n := 1 + r.IntN(30)
		g := Graph{Needs: make([][]int, n)}
		for i := range n {
			for range r.IntN(4) {
				if i > 0 {
					g.Needs[i] = append(g.Needs[i], r.IntN(i))
				}
			}
		}
		order, cycle := g.Order()
		if cycle != nil || len(order) != n {
			t.Fatalf("order %v, cycle %v", order, cycle)
		}
		for i, needs := range g.Needs {
			for _, m := range needs {
				if slices.Index(order, m) > slices.Index(order, i) {
					t.Fatalf("%d comes before %d, which it needs: %v", i, m, order)
				}
			}
		}
	}
}

func TestOrderNamesTheCycle(t *testing.T) {
	t.Parallel()
	_, cycle := Graph{Needs: [][]int{{}, {0, 3}, {1}, {2}}}.Order()
	if len(cycle) != 3 {
		t.Fatalf("cycle %v, want the three nodes 1, 3, 2 in a circle", cycle)
	}
	g := Graph{Needs: [][]int{{}, {0, 3}, {1}, {2}}}
	for i, n := range cycle {
		if !slices.Contains(g.Needs[n], cycle[(i+1)%len(cycle)]) {
			t.Errorf("%d does not need %d", n, cycle[(i+1)%len(cycle)])
		}
	}
}

func TestCriticalPath(t *testing.T) {
	t.Parallel()
	g := Graph{Needs: [][]int{{}, {0}, {0}, {1, 2}}}
	if path := g.CriticalPath([]float64{1, 5, 2, 1}); !slices.Equal(path, []int{0, 1, 3}) {
		t.Errorf("critical path %v", path)
	}
	if left := g.Remaining([]float64{1, 5, 2, 1}); left[0] != 7 || left[2] != 3 {
		t.Errorf("remaining %v", left)
	}
}
