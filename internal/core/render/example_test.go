package render_test

import (
	"fmt"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
)

func ExampleRender() {
	template, _ := lang.Read("pier.sail.yaml", []byte(`undersail: 1
about: {name: pier, version: 1.0.0, title: Pier}
inputs: {range: {type: string, format: cidr}}
calc: {parts: '=carve(inputs.range, ["quay/26", "mole/24"])'}
resources:
  net: {type: network, want: {range: =inputs.range}}
  quay: {type: subnet, want: {network: =net.id, range: =calc.parts.quay}}
`))
	r := render.Render(budget.Boundless(), render.Request{
		Template: template,
		Stack:    render.Stack{Name: "north"},
		Inputs:   map[string]any{"range": "10.4.0.0/22"},
	})
	for _, resource := range r.Resources {
		fmt.Println(resource.Name, resource.Type, resource.Want["range"])
	}
	// Output:
	// net network 10.4.0.0/22
	// quay subnet 10.4.0.0/26
}

func ExampleMerge() {
	inputs, origins := render.Merge(
		render.Layer{From: "preset small", Inputs: map[string]any{"size": "plain-1", "count": 2}},
		render.Layer{From: "north.yaml", Inputs: map[string]any{"count": 3}},
	)
	fmt.Println(inputs["size"], "by", origins["size"])
	fmt.Println(inputs["count"], "by", origins["count"])
	// Output:
	// plain-1 by preset small
	// 3 by north.yaml
}
