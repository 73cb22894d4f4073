package graph

import (
	"math"
	"math/rand"
	"slices"
	"testing"
)

var testSizes = Sizes{NodeWidth: 100, NodeHeight: 30, BetweenLayers: 40, BetweenNodes: 10}

func random(seed int64, nodes int) Graph {
	r := rand.New(rand.NewSource(seed))
	g := Graph{Needs: make([][]int, nodes)}
	for n := range nodes {
		for range r.Intn(4) {
			if n > 0 {
				g.Needs[n] = append(g.Needs[n], r.Intn(n))
			}
		}
	}
	return g
}

// onCurve gives points of an edge as it is drawn: level at its ends, bent
// between them.
func onCurve(a, b Point, at float64) Point {
	m := (a.X + b.X) / 2
	u := 1 - at
	bezier := func(p, q, r, s float64) float64 {
		return u*u*u*p + 3*u*u*at*q + 3*u*at*at*r + at*at*at*s
	}
	return Point{bezier(a.X, m, m, b.X), bezier(a.Y, a.Y, b.Y, b.Y)}
}

func TestNoNodeLiesOnAnotherAndNoEdgeOnANode(t *testing.T) {
	t.Parallel()
	for seed := range int64(60) {
		g := random(seed, 5+int(seed))
		d := g.Arrange(testSizes)
		for i, p := range d.Nodes {
			if p.X-testSizes.NodeWidth/2 < -0.01 || p.X+testSizes.NodeWidth/2 > d.Width+0.01 ||
				p.Y-testSizes.NodeHeight/2 < -0.01 || p.Y+testSizes.NodeHeight/2 > d.Height+0.01 {
				t.Fatalf("seed %d: node %d at %v lies outside of %v x %v", seed, i, p, d.Width, d.Height)
			}
			for j, q := range d.Nodes[:i] {
				if math.Abs(p.X-q.X) < testSizes.NodeWidth-0.01 && math.Abs(p.Y-q.Y) < testSizes.NodeHeight-0.01 {
					t.Fatalf("seed %d: nodes %d and %d lie on each other", seed, i, j)
				}
			}
			for _, n := range g.Needs[i] {
				if d.Nodes[n].X >= p.X {
					t.Fatalf("seed %d: node %d is not to the right of %d, which it needs", seed, i, n)
				}
			}
		}
		for _, e := range d.Edges {
			for k := 1; k < len(e.Points); k++ {
				for at := 0.0; at <= 1; at += 0.05 {
					q := onCurve(e.Points[k-1], e.Points[k], at)
					for i, p := range d.Nodes {
						if i != e.From && i != e.To && math.Abs(p.X-q.X) < testSizes.NodeWidth/2-0.01 &&
							math.Abs(p.Y-q.Y) < testSizes.NodeHeight/2-0.01 {
							t.Fatalf("seed %d: the edge from %d to %d crosses node %d", seed, e.From, e.To, i)
						}
					}
				}
			}
		}
	}
}

func TestImpliedEdgesAreLeftOutAndNothingElse(t *testing.T) {
	t.Parallel()
	for seed := range int64(40) {
		g := random(seed, 30)
		d := g.Arrange(testSizes)
		drawn := Graph{Needs: make([][]int, 30)}
		for _, e := range d.Edges {
			drawn.Needs[e.To] = append(drawn.Needs[e.To], e.From)
		}
		for n := range g.Needs {
			all, seen := reachable(g, n), reachable(drawn, n)
			for m := range all {
				if !seen[m] {
					t.Fatalf("seed %d: the drawing does not show that %d needs %d", seed, n, m)
				}
			}
			for i, m := range drawn.Needs[n] {
				for j, other := range drawn.Needs[n] {
					if i != j && reachable(drawn, other)[m] {
						t.Fatalf("seed %d: the edge from %d to %d is implied by %d", seed, m, n, other)
					}
				}
			}
		}
	}
}

func reachable(g Graph, n int) map[int]bool {
	out := map[int]bool{}
	var walk func(n int)
	walk = func(n int) {
		for _, m := range g.Needs[n] {
			if !out[m] {
				out[m] = true
				walk(m)
			}
		}
	}
	walk(n)
	return out
}

func TestACircleGivesNoDrawing(t *testing.T) {
	t.Parallel()
	if d := (Graph{Needs: [][]int{{1}, {0}}}).Arrange(testSizes); d.Nodes != nil || d.Edges != nil {
		t.Errorf("%+v", d)
	}
}

func TestNoBandOfADrawingIsEmpty(t *testing.T) {
	t.Parallel()
	for seed := range int64(60) {
		g := random(seed, 4+int(seed)/2)
		for range 3 { // that nothing connects
			g.Needs = append(g.Needs, nil)
		}
		d := g.Arrange(testSizes)
		tops := make([]float64, len(d.Nodes))
		for i, p := range d.Nodes {
			tops[i] = p.Y - testSizes.NodeHeight/2
		}
		for _, e := range d.Edges {
			for _, p := range e.Points[1 : len(e.Points)-1] { // a long edge needs room too
				tops = append(tops, p.Y-testSizes.NodeHeight/2)
			}
		}
		slices.Sort(tops)
		for i, top := range tops {
			if i > 0 && top > tops[i-1]+testSizes.NodeHeight+testSizes.BetweenNodes+0.01 {
				t.Errorf("seed %d: nothing lies from %.1f to %.1f", seed, tops[i-1]+testSizes.NodeHeight, top)
			}
		}
		if tops[0] < -testSizes.NodeHeight {
			t.Errorf("seed %d: the drawing begins at %.1f", seed, tops[0])
		}
	}
}
