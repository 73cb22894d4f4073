package exchange

import (
	"fmt"
	"io"
	"strconv"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
)

// DOT writes the dependencies of a rendering as a graph in the DOT language, from
// what comes first to what waits for it. An edge that waits for existence only is
// dashed.
func DOT(w io.Writer, r *render.Rendering) error {
	var b strings.Builder
	fmt.Fprintf(&b, "digraph %s {\n  rankdir=LR;\n  node [shape=box, style=rounded];\n", strconv.Quote(r.Template.Name))
	for _, res := range r.Resources {
		fmt.Fprintf(&b, "  %s [label=%s];\n", strconv.Quote(res.Name), strconv.Quote(res.Name+"\n"+res.Type))
	}
	for _, res := range r.Resources {
		for _, a := range res.After {
			style := ""
			if a.Gate == lang.GateMade {
				style = " [style=dashed]"
			}
			fmt.Fprintf(&b, "  %s -> %s%s;\n", strconv.Quote(a.Name), strconv.Quote(res.Name), style)
		}
	}
	b.WriteString("}\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// Mermaid writes the same graph as Mermaid text.
func Mermaid(w io.Writer, r *render.Rendering) error {
	var b strings.Builder
	b.WriteString("flowchart LR\n")
	node := map[string]string{}
	for i, res := range r.Resources {
		node[res.Name] = fmt.Sprintf("r%d", i)
		fmt.Fprintf(&b, "  r%d[\"%s<br/>%s\"]\n", i, res.Name, res.Type)
	}
	for _, res := range r.Resources {
		for _, a := range res.After {
			arrow := "-->"
			if a.Gate == lang.GateMade {
				arrow = "-.->"
			}
			fmt.Fprintf(&b, "  %s %s %s\n", node[a.Name], arrow, node[res.Name])
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}
