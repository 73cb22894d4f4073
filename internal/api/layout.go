package api

import (
	"context"

	"undersail/internal/api/contract"
	"undersail/internal/core/budget"
	"undersail/internal/core/graph"
)

// Arrange lays a graph out for whoever draws it: the console needs no layout of its
// own. An edge to a box that is not there is left out.
func (h *handlers) Arrange(ctx context.Context,
	r contract.ArrangeRequestObject) (contract.ArrangeResponseObject, error) {
	g := graph.Graph{Needs: make([][]int, r.Body.Nodes)}
	for _, e := range r.Body.Edges {
		if e.To < r.Body.Nodes && e.From < r.Body.Nodes {
			g.Needs[e.To] = append(g.Needs[e.To], e.From)
		}
	}
	var d graph.Drawing
	err := h.service.Turns.Compute(ctx, func(*budget.Budget) {
		d = g.Arrange(graph.Sizes{
			NodeWidth:     float64(r.Body.Width),
			NodeHeight:    float64(r.Body.Height),
			BetweenLayers: 40,
			BetweenNodes:  9,
		})
	})
	if err != nil {
		return nil, err
	}
	out := contract.Drawing{
		Width:  float32(d.Width),
		Height: float32(d.Height),
		Nodes:  []contract.DrawnPoint{},
		Edges:  []contract.DrawnEdge{},
	}
	for _, p := range d.Nodes {
		out.Nodes = append(out.Nodes, point(p))
	}
	for _, e := range d.Edges {
		drawn := contract.DrawnEdge{From: e.From, To: e.To, Points: []contract.DrawnPoint{}}
		for _, p := range e.Points {
			drawn.Points = append(drawn.Points, point(p))
		}
		out.Edges = append(out.Edges, drawn)
	}
	return contract.Arrange200JSONResponse(out), nil
}

func point(p graph.Point) contract.DrawnPoint {
	return contract.DrawnPoint{X: float32(p.X), Y: float32(p.Y)}
}
