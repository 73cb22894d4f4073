package exchange

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"undersail/internal/core/graph"
	"undersail/internal/core/lang"
)

const (
	svgMargin = 24.0
	svgHead   = 34.0
	charWidth = 7.1 // of the 12 px type, measured on its widest common letters
)

// svgStyle draws on paper by day and on ink by night, by what the reader's
// system prefers.
const svgStyle = `
:root{--paper:#f6f4ef;--sheet:#fffdf9;--ink:#17252e;--second:#51636d;--line:#b9b3a4}
@media (prefers-color-scheme:dark){:root{--paper:#0f1a20;--sheet:#15232b;--ink:#e8edee;--second:#9db0b8;--line:#3d5059}}
text{font:12px "Hanken Grotesk","DejaVu Sans",sans-serif;fill:var(--ink)}
.title{font-size:14px;font-weight:600}.type{fill:var(--second);font-size:11px}
.node{fill:var(--sheet);stroke:var(--line)}.edge{fill:none;stroke:var(--second);stroke-width:1.2;opacity:.75}.made{stroke-dasharray:4 3}
`

// SVG draws the graph in layers from left to right. Edges that follow from
// others are left out, so that it stays readable; DOT and Mermaid hold all.
func SVG(w io.Writer, g Graph) error {
	longest := 0
	for _, n := range g.Nodes {
		longest = max(longest, len([]rune(n.Name)), len([]rune(n.second())))
	}
	sizes := graph.Sizes{
		NodeWidth:     min(max(float64(longest)*charWidth+20, 90), 230),
		NodeHeight:    36,
		BetweenLayers: 46,
		BetweenNodes:  10,
	}
	d, gates := g.arrange(sizes)
	width, height := d.Width+2*svgMargin, d.Height+2*svgMargin+svgHead
	var b strings.Builder
	fmt.Fprintf(&b,
		`<svg xmlns="http://www.w3.org/2000/svg" width="%.0f" height="%.0f" viewBox="0 0 %.0f %.0f" role="img" aria-label="%s">`, width, height, width, height, escaped(g.Title))
	fmt.Fprintf(&b, "<style>%s</style>\n", svgStyle)
	b.WriteString(`<defs><marker id="end" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto"><path d="M0 0L8 4L0 8z" fill="var(--second)"/></marker></defs>` + "\n")
	fmt.Fprintf(&b, `<rect width="100%%" height="100%%" fill="var(--paper)"/><text class="title" x="%.0f" y="%.0f">%s</text>`+"\n", svgMargin, svgMargin+8, escaped(g.Title))
	fmt.Fprintf(&b, `<g transform="translate(%.0f %.0f)">`+"\n", svgMargin, svgMargin+svgHead)
	for _, e := range d.Edges {
		class := "edge"
		if gates[[2]int{e.From, e.To}] == lang.GateMade {
			class += " made"
		}
		fmt.Fprintf(&b, `<path class="%s" marker-end="url(#end)" d="%s"/>`+"\n", class, curve(e.Points))
	}
	most := int((sizes.NodeWidth - 16) / charWidth)
	for i, n := range g.Nodes {
		p := d.Nodes[i]
		x, y := p.X-sizes.NodeWidth/2, p.Y-sizes.NodeHeight/2
		if n.Count > 1 {
			fmt.Fprintf(&b, `<rect class="node" x="%.1f" y="%.1f" width="%.1f" height="%.1f" rx="6"/>`, x+4, y+4,
				sizes.NodeWidth, sizes.NodeHeight)
		}
		fmt.Fprintf(&b,
			`<g><title>%s, %s</title><rect class="node" x="%.1f" y="%.1f" width="%.1f" height="%.1f" rx="6"/>`,
			escaped(n.Name), escaped(n.second()), x, y, sizes.NodeWidth, sizes.NodeHeight)
		fmt.Fprintf(&b, `<text x="%.1f" y="%.1f">%s</text><text class="type" x="%.1f" y="%.1f">%s</text></g>`+"\n",
			x+8, y+15, escaped(shortened(n.Name, most)), x+8, y+29, escaped(shortened(n.second(), most)))
	}
	b.WriteString("</g></svg>\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// curve joins points by flat curves: level at the layers, bent between them.
func curve(points []graph.Point) string {
	var b strings.Builder
	fmt.Fprintf(&b, "M%.1f %.1f", points[0].X, points[0].Y)
	for i := 1; i < len(points); i++ {
		from, to := points[i-1], points[i]
		if from.Y == to.Y {
			fmt.Fprintf(&b, "L%.1f %.1f", to.X, to.Y)
			continue
		}
		middle := (from.X + to.X) / 2
		fmt.Fprintf(&b, "C%.1f %.1f %.1f %.1f %.1f %.1f", middle, from.Y, middle, to.Y, to.X, to.Y)
	}
	return b.String()
}

// shortened keeps the end of a long name, which tells its siblings apart.
func shortened(s string, most int) string {
	r := []rune(s)
	if len(r) <= most {
		return s
	}
	head := most / 3
	return string(r[:head]) + "…" + string(r[len(r)-(most-head-1):])
}

func escaped(s string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(s))
	return b.String()
}
