package exchange

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"undersail/internal/core/graph"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
)

// Graph is what comes after what, to be drawn.
type Graph struct {
	Title string
	Nodes []GraphNode
}

// GraphNode is one resource or declaration. Count is above 1 where repeated
// resources were folded into one node.
type GraphNode struct {
	Name, Type string
	Count      int
	After      []render.After
	scope      string
}

// foldBeyond is how many nodes are drawn one by one.
const foldBeyond = 60

// OfRendering gives the graph of a rendering. Beyond 60 resources the members of
// a repetition fold into one node.
func OfRendering(r *render.Rendering) Graph {
	g := Graph{Title: r.Template.Title}
	for _, res := range r.Resources {
		g.Nodes = append(g.Nodes, GraphNode{
			Name:  res.Name,
			Type:  res.Type,
			Count: 1,
			After: res.After,
			scope: res.Declared,
		})
	}
	if len(g.Nodes) > foldBeyond {
		return g.folded()
	}
	return g
}

// folded puts the members of each declaration into one node. A node waits for
// another when any member does.
func (g Graph) folded() Graph {
	declared := map[string]string{}
	for _, n := range g.Nodes {
		declared[n.Name] = n.scope
	}
	out := Graph{Title: g.Title}
	at := map[string]int{}
	for _, n := range g.Nodes {
		i, seen := at[n.scope]
		if !seen {
			i = len(out.Nodes)
			at[n.scope] = i
			out.Nodes = append(out.Nodes, GraphNode{Name: n.scope, Type: n.Type, scope: n.scope})
		}
		node := &out.Nodes[i]
		node.Count++
		for _, a := range n.After {
			to := render.After{Name: declared[a.Name], Gate: a.Gate}
			if to.Name != n.scope && !slices.Contains(node.After, to) {
				node.After = append(node.After, to)
			}
		}
	}
	return out
}

// OfTemplate gives the graph of a template's declarations: what its expressions
// mention, before any input is known. Embedded templates are one node each.
func OfTemplate(t *lang.Template) Graph {
	g := Graph{Title: t.About.Title}
	for _, i := range t.Order {
		d := t.Resources[i]
		n := GraphNode{Name: d.Name, Type: d.Type.Name, Count: 1, scope: d.Name}
		switch {
		case d.Embedded != nil:
			n.Type = d.From
		case d.Repeat != nil:
			n.Type += ", repeated"
		case d.When != nil:
			n.Type += ", optional"
		}
		for _, m := range d.Mentions {
			gate := lang.GateHealthy
			for _, a := range d.After {
				if a.Resource == m {
					gate = a.Gate
				}
			}
			n.After = append(n.After, render.After{Name: m, Gate: gate})
		}
		g.Nodes = append(g.Nodes, n)
	}
	return g
}

func (n GraphNode) second() string {
	if n.Count > 1 {
		return fmt.Sprintf("%d of type %s", n.Count, n.Type)
	}
	return n.Type
}

// DOT writes the graph in the DOT language, from what comes first to what waits
// for it. An edge that waits for existence only is dashed.
func DOT(w io.Writer, g Graph) error {
	var b strings.Builder
	fmt.Fprintf(&b, "digraph %s {\n  rankdir=LR;\n  node [shape=box, style=rounded];\n", strconv.Quote(g.Title))
	for _, n := range g.Nodes {
		fmt.Fprintf(&b, "  %s [label=%s];\n", strconv.Quote(n.Name), strconv.Quote(n.Name+"\n"+n.second()))
	}
	for _, n := range g.Nodes {
		for _, a := range n.After {
			style := ""
			if a.Gate == lang.GateMade {
				style = " [style=dashed]"
			}
			fmt.Fprintf(&b, "  %s -> %s%s;\n", strconv.Quote(a.Name), strconv.Quote(n.Name), style)
		}
	}
	b.WriteString("}\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// Mermaid writes the same graph as Mermaid text.
func Mermaid(w io.Writer, g Graph) error {
	var b strings.Builder
	b.WriteString("flowchart LR\n")
	node := map[string]string{}
	for i, n := range g.Nodes {
		node[n.Name] = fmt.Sprintf("r%d", i)
		fmt.Fprintf(&b, "  r%d[\"%s<br/>%s\"]\n", i, n.Name, n.second())
	}
	for _, n := range g.Nodes {
		for _, a := range n.After {
			arrow := "-->"
			if a.Gate == lang.GateMade {
				arrow = "-.->"
			}
			fmt.Fprintf(&b, "  %s %s %s\n", node[a.Name], arrow, node[n.Name])
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// arrange turns the graph into a drawing.
func (g Graph) arrange(s graph.Sizes) (graph.Drawing, map[[2]int]lang.Gate) {
	index := map[string]int{}
	for i, n := range g.Nodes {
		index[n.Name] = i
	}
	needs := graph.Graph{Needs: make([][]int, len(g.Nodes))}
	gates := map[[2]int]lang.Gate{}
	for i, n := range g.Nodes {
		for _, a := range n.After {
			if j, ok := index[a.Name]; ok {
				needs.Needs[i] = append(needs.Needs[i], j)
				gates[[2]int{j, i}] = a.Gate
			}
		}
	}
	return needs.Arrange(s), gates
}
