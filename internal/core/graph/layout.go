package graph

import (
	"cmp"
	"slices"
)

// Point is a place in a drawing, in the units of the sizes that Arrange got.
type Point struct{ X, Y float64 }

// Drawing places the nodes of a graph in layers from left to right. Nodes are
// centres; each edge runs from the node that is needed to the one that needs
// it, through points that no node lies on.
type Drawing struct {
	Width, Height float64
	Nodes         []Point
	Edges         []Edge
}

// Edge is one line of a drawing.
type Edge struct {
	From, To int
	Points   []Point
}

// Sizes are the measures of a drawing: every node has the same size.
type Sizes struct{ NodeWidth, NodeHeight, BetweenLayers, BetweenNodes float64 }

// slot is a node in a layer, or the place where a long edge passes it.
type slot struct {
	node   int // -1 where an edge passes
	height float64
	y      float64
	left   []int // slots of the layer before
	right  []int // slots of the layer after
}

// Arrange lays the graph out by the method of Sugiyama, Tagawa and Toda (IEEE
// Transactions on Systems, Man, and Cybernetics 11, 1981): layers by the longest
// path, long edges through slots of their own, crossings lowered by barycentres,
// and straightened by shifting towards neighbours. Edges that others imply are
// left out. The same graph always gives the same drawing. The graph must have no
// cycle; one that has gives a zero Drawing.
func (g Graph) Arrange(s Sizes) Drawing {
	order, _ := g.Order()
	if order == nil {
		return Drawing{}
	}
	needs := g.reduced(order)
	a := &arrangement{sizes: s, layerOf: make([]int, len(g.Needs))}
	for _, n := range order {
		for _, m := range needs[n] {
			a.layerOf[n] = max(a.layerOf[n], a.layerOf[m]+1)
		}
	}
	a.nearUsers(needs)
	a.fill(order, needs)
	a.untangle()
	a.straighten()
	return a.drawing(len(g.Needs))
}

// reduced leaves out every edge that a longer way implies.
func (g Graph) reduced(order []int) [][]int {
	words := (len(g.Needs) + 63) / 64
	reach := make([][]uint64, len(g.Needs))
	needs := make([][]int, len(g.Needs))
	position := make([]int, len(g.Needs))
	for i, n := range order {
		position[n] = i
	}
	for _, n := range order {
		reach[n] = make([]uint64, words)
		direct := g.distinct(n)
		// The latest prerequisites first: they may imply the earlier ones.
		slices.SortFunc(direct, func(a, b int) int { return cmp.Compare(position[b], position[a]) })
		for _, m := range direct {
			if reach[n][m/64]&(1<<(m%64)) != 0 {
				continue
			}
			needs[n] = append(needs[n], m)
			reach[n][m/64] |= 1 << (m % 64)
			for w := range words {
				reach[n][w] |= reach[m][w]
			}
		}
		slices.Sort(needs[n])
	}
	return needs
}

type arrangement struct {
	sizes   Sizes
	layerOf []int
	slots   []slot
	layers  [][]int // slots from top to bottom
	chains  []chain
}

// chain is an edge with the slots it passes.
type chain struct {
	from, to int
	through  []int
}

func (a *arrangement) add(layer, node int, height float64) int {
	for len(a.layers) <= layer {
		a.layers = append(a.layers, nil)
	}
	a.slots = append(a.slots, slot{node: node, height: height})
	a.layers[layer] = append(a.layers[layer], len(a.slots)-1)
	return len(a.slots) - 1
}

// nearUsers moves what needs nothing to the layer before the first that needs
// it: a short edge is easier to follow than one across the drawing.
func (a *arrangement) nearUsers(needs [][]int) {
	first := make([]int, len(needs))
	for n := range needs {
		for _, m := range needs[n] {
			if first[m] == 0 || a.layerOf[n] < first[m] {
				first[m] = a.layerOf[n]
			}
		}
	}
	for n := range needs {
		if len(needs[n]) == 0 && first[n] > 0 {
			a.layerOf[n] = first[n] - 1
		}
	}
}

func (a *arrangement) fill(order []int, needs [][]int) {
	slotOf := make([]int, len(needs))
	for _, n := range order {
		slotOf[n] = a.add(a.layerOf[n], n, a.sizes.NodeHeight)
	}
	for _, n := range order {
		for _, m := range needs[n] {
			c := chain{from: m, to: n, through: []int{slotOf[m]}}
			for layer := a.layerOf[m] + 1; layer < a.layerOf[n]; layer++ {
				c.through = append(c.through, a.add(layer, -1, a.sizes.BetweenNodes/2))
			}
			c.through = append(c.through, slotOf[n])
			for i := 1; i < len(c.through); i++ {
				before, after := c.through[i-1], c.through[i]
				a.slots[before].right = append(a.slots[before].right, after)
				a.slots[after].left = append(a.slots[after].left, before)
			}
			a.chains = append(a.chains, c)
		}
	}
}

// untangle orders the slots of each layer by the mean place of their neighbours,
// back and forth, and keeps the order with the fewest crossings.
func (a *arrangement) untangle() {
	best := a.copyLayers()
	fewest := a.crossings()
	for round := 0; round < 24 && fewest > 0; round++ {
		for i := range a.layers {
			layer := i
			if round%2 == 1 {
				layer = len(a.layers) - 1 - i
			}
			a.sortLayer(layer, round%2 == 0)
		}
		if n := a.crossings(); n < fewest {
			fewest, best = n, a.copyLayers()
		}
	}
	a.layers = best
}

func (a *arrangement) copyLayers() [][]int {
	out := make([][]int, len(a.layers))
	for i, l := range a.layers {
		out[i] = slices.Clone(l)
	}
	return out
}

func (a *arrangement) places() []int {
	at := make([]int, len(a.slots))
	for _, l := range a.layers {
		for i, s := range l {
			at[s] = i
		}
	}
	return at
}

func (a *arrangement) sortLayer(layer int, byLeft bool) {
	at := a.places()
	mean := func(s int) float64 {
		near := a.slots[s].right
		if byLeft {
			near = a.slots[s].left
		}
		if len(near) == 0 {
			return float64(at[s])
		}
		sum := 0.0
		for _, n := range near {
			sum += float64(at[n])
		}
		return sum / float64(len(near))
	}
	slices.SortStableFunc(a.layers[layer], func(x, y int) int { return cmp.Compare(mean(x), mean(y)) })
}

// crossings counts the pairs of edges between neighbouring layers that cross.
func (a *arrangement) crossings() int {
	at := a.places()
	total := 0
	for _, l := range a.layers {
		var ends []int
		for _, s := range l {
			right := make([]int, 0, len(a.slots[s].right))
			for _, r := range a.slots[s].right {
				right = append(right, at[r])
			}
			slices.Sort(right)
			ends = append(ends, right...)
		}
		for i := range ends {
			for j := i + 1; j < len(ends); j++ {
				if ends[i] > ends[j] {
					total++
				}
			}
		}
	}
	return total
}

// straighten moves slots towards their neighbours without changing the order.
func (a *arrangement) straighten() {
	for _, l := range a.layers {
		y := 0.0
		for _, s := range l {
			a.slots[s].y = y + a.slots[s].height/2
			y += a.slots[s].height + a.sizes.BetweenNodes
		}
	}
	for round := range 40 {
		for i := range a.layers {
			layer := i
			if round%2 == 1 {
				layer = len(a.layers) - 1 - i
			}
			a.shift(a.layers[layer], round)
		}
	}
	a.closeBands()
}

// closeBands takes out what is empty over the whole width: parts that nothing connects
// drift apart while each is straightened by itself.
func (a *arrangement) closeBands() {
	byTop := make([]int, len(a.slots))
	for i := range byTop {
		byTop[i] = i
	}
	top := func(s int) float64 { return a.slots[s].y - a.slots[s].height/2 }
	slices.SortFunc(byTop, func(x, y int) int { return cmp.Compare(top(x), top(y)) })
	end, up := 0.0, 0.0 // where what was met so far ends, and how far what comes moves up
	for i, s := range byTop {
		switch from := top(s); {
		case i == 0:
			up = from
		case from-up > end+a.sizes.BetweenNodes:
			up = from - end - a.sizes.BetweenNodes
		}
		a.slots[s].y -= up
		end = max(end, a.slots[s].y+a.slots[s].height/2)
	}
}

// shift places the slots of a layer as near to where their neighbours want them
// as the order and the distances allow: slots that would overlap move together
// as a block (the pool-adjacent-violators method).
func (a *arrangement) shift(layer []int, round int) {
	type block struct {
		want, weight, offset float64 // offset: from the block's first slot to the last
		slots                []int
	}
	var blocks []block
	gap := func(above, below int) float64 {
		return a.slots[above].height/2 + a.slots[below].height/2 + a.sizes.BetweenNodes
	}
	for _, s := range layer {
		b := block{want: a.desired(s, round), weight: 1, slots: []int{s}}
		if a.slots[s].node < 0 {
			b.weight = 4 // long edges are drawn straight before all
		}
		for len(blocks) > 0 {
			above := blocks[len(blocks)-1]
			distance := above.offset + gap(above.slots[len(above.slots)-1], b.slots[0])
			if above.want+distance <= b.want {
				break
			}
			merged := block{
				weight: above.weight + b.weight,
				offset: distance + b.offset,
				slots:  append(slices.Clone(above.slots), b.slots...),
			}
			merged.want = (above.want*above.weight + (b.want-distance)*b.weight) / merged.weight
			blocks, b = blocks[:len(blocks)-1], merged
		}
		blocks = append(blocks, b)
	}
	for _, b := range blocks {
		y := b.want
		for i, s := range b.slots {
			if i > 0 {
				y += gap(b.slots[i-1], s)
			}
			a.slots[s].y = y
		}
	}
}

// desired is where the neighbours of a slot want it: on their middle.
func (a *arrangement) desired(s, round int) float64 {
	near := a.slots[s].left
	if round%2 == 1 || len(near) == 0 {
		near = append(slices.Clone(near), a.slots[s].right...)
	}
	if len(near) == 0 {
		return a.slots[s].y
	}
	sum := 0.0
	for _, n := range near {
		sum += a.slots[n].y
	}
	return sum / float64(len(near))
}

// columns places the layers. Where many edges run, layers stand further apart,
// up to five times, so that each edge can be followed.
func (a *arrangement) columns() []float64 {
	const crowd, most = 24, 5
	at := make([]float64, len(a.layers))
	for layer := range a.layers {
		if layer == 0 {
			at[0] = a.sizes.NodeWidth / 2
			continue
		}
		edges := 0
		for _, s := range a.layers[layer] {
			edges += len(a.slots[s].left)
		}
		at[layer] = at[layer-1] + a.sizes.NodeWidth + a.sizes.BetweenLayers*min(max(1, float64(edges)/crowd), most)
	}
	return at
}

func (a *arrangement) drawing(nodes int) Drawing {
	d := Drawing{Nodes: make([]Point, nodes)}
	at := a.columns()
	x := func(layer int) float64 { return at[layer] }
	for layer, l := range a.layers {
		for _, s := range l {
			if n := a.slots[s].node; n >= 0 {
				d.Nodes[n] = Point{x(layer), a.slots[s].y}
			}
			d.Height = max(d.Height, a.slots[s].y+a.slots[s].height/2)
		}
		d.Width = x(layer) + a.sizes.NodeWidth/2
	}
	for _, c := range a.chains {
		e := Edge{From: c.from, To: c.to}
		first := a.layerOf[c.from]
		for i, s := range c.through {
			half := a.sizes.NodeWidth / 2
			left, right := Point{x(first+i) - half, a.slots[s].y}, Point{x(first+i) + half, a.slots[s].y}
			switch i {
			case 0:
				e.Points = append(e.Points, right)
			case len(c.through) - 1:
				e.Points = append(e.Points, left)
			default:
				e.Points = append(e.Points, left, right)
			}
		}
		d.Edges = append(d.Edges, e)
	}
	return d
}
