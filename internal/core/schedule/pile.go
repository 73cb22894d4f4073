package schedule

import "container/heap"

// pile holds steps by a number, the lowest on top. A step may lie in it more
// than once; whoever takes it out sees whether it still means anything.
type pile struct{ entries entries }

type entry struct {
	step int
	by   int64
}

func (p *pile) len() int                { return len(p.entries) }
func (p *pile) push(step int, by int64) { heap.Push(&p.entries, entry{step, by}) }
func (p *pile) pop()                    { heap.Pop(&p.entries) }
func (p *pile) top() (step int, by int64) {
	return p.entries[0].step, p.entries[0].by
}

type entries []entry

func (e entries) Len() int { return len(e) }
func (e entries) Less(i, j int) bool {
	return e[i].by < e[j].by || e[i].by == e[j].by && e[i].step < e[j].step
}
func (e entries) Swap(i, j int) { e[i], e[j] = e[j], e[i] }
func (e *entries) Push(x any)   { *e = append(*e, x.(entry)) }
func (e *entries) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}
