// Package graph orders things that depend on each other. It is a leaf: the
// template reader, the renderer and the engine all ask it, and it knows none of
// them.
package graph

import (
	"container/heap"
	"slices"
)

// Graph is a set of numbered nodes (0 to Len-1) and the nodes each one needs.
// Needs may repeat a node; a node out of range is ignored.
type Graph struct {
	Needs [][]int
}

// Order returns the nodes so that each comes after all it needs, and among
// those that are free the lowest number first: the same graph always gives the
// same order. When the graph has a cycle, Order returns nil and the nodes of
// one cycle, in the order in which each needs the next.
func (g Graph) Order() (order, cycle []int) {
	missing := make([]int, len(g.Needs))
	users := g.Users()
	free := &lowest{}
	for n := range g.Needs {
		missing[n] = len(g.distinct(n))
		if missing[n] == 0 {
			heap.Push(free, n)
		}
	}
	order = make([]int, 0, len(g.Needs))
	for free.Len() > 0 {
		n := heap.Pop(free).(int)
		order = append(order, n)
		for _, u := range users[n] {
			if missing[u]--; missing[u] == 0 {
				heap.Push(free, u)
			}
		}
	}
	if len(order) == len(g.Needs) {
		return order, nil
	}
	return nil, g.cycleAmong(missing)
}

// Users returns for each node the nodes that need it, in ascending order.
func (g Graph) Users() [][]int {
	users := make([][]int, len(g.Needs))
	for n := range g.Needs {
		for _, m := range g.distinct(n) {
			users[m] = append(users[m], n)
		}
	}
	return users
}

func (g Graph) distinct(n int) []int {
	needs := slices.DeleteFunc(slices.Clone(g.Needs[n]), func(m int) bool { return m < 0 || m >= len(g.Needs) })
	slices.Sort(needs)
	return slices.Compact(needs)
}

// cycleAmong walks from any node with unmet needs along unmet needs until a
// node repeats; every such walk ends in a cycle.
func (g Graph) cycleAmong(missing []int) []int {
	n := slices.IndexFunc(missing, func(m int) bool { return m > 0 })
	seen := map[int]int{}
	var path []int
	for {
		if at, ok := seen[n]; ok {
			return path[at:]
		}
		seen[n] = len(path)
		path = append(path, n)
		for _, m := range g.distinct(n) {
			if missing[m] > 0 {
				n = m
				break
			}
		}
	}
}

// Remaining returns for each node the length of the longest chain that starts
// with it and goes on through its users: what is left once it may start. The
// weights are in the caller's unit. The graph must have no cycle.
func (g Graph) Remaining(weight []float64) []float64 {
	order, _ := g.Order()
	users := g.Users()
	left := make([]float64, len(g.Needs))
	for _, n := range slices.Backward(order) {
		for _, u := range users[n] {
			left[n] = max(left[n], left[u])
		}
		left[n] += weight[n]
	}
	return left
}

// CriticalPath returns the longest chain of nodes by weight, first node first.
func (g Graph) CriticalPath(weight []float64) []int {
	left := g.Remaining(weight)
	users := g.Users()
	best := -1
	for n := range left {
		if len(g.distinct(n)) == 0 && (best < 0 || left[n] > left[best]) {
			best = n
		}
	}
	var path []int
	for best >= 0 {
		path = append(path, best)
		next := -1
		for _, u := range users[best] {
			if next < 0 || left[u] > left[next] {
				next = u
			}
		}
		best = next
	}
	return path
}

type lowest []int

func (h lowest) Len() int           { return len(h) }
func (h lowest) Less(i, j int) bool { return h[i] < h[j] }
func (h lowest) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *lowest) Push(x any)        { *h = append(*h, x.(int)) }
func (h *lowest) Pop() any {
	old := *h
	n := old[len(old)-1]
	*h = old[:len(old)-1]
	return n
}
