package change_test

import (
	"fmt"

	"undersail/internal/core/budget"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
)

func ExampleCompute() {
	template, _ := lang.Read("pier.sail.yaml", []byte(`undersail: 1
about: {name: pier, version: 1.1.0, title: Pier}
resources:
  data: {type: disk, want: {size: 40GiB, type: solid}}
  front: {type: address}
`))
	plan := change.Compute(budget.Boundless(),
		render.Request{Template: template, Stack: render.Stack{Name: "pier"}},
		[]change.Recorded{{
			Name:       "data",
			Type:       "disk",
			Declared:   "data",
			Want:       map[string]any{"name": "pier-data", "size": "20GiB", "type": "solid"},
			Attributes: map[string]any{"id": "disk-7"},
			Healthy:    true,
		}})
	for _, c := range plan.Changes {
		fmt.Println(c.Change, c.Resource)
		for _, f := range c.Fields {
			fmt.Println(" ", f.Name, f.Before, "->", f.After)
		}
	}
	// Output:
	// alter data
	//   size 20GiB -> 40GiB
	// create front
}

func ExampleSummary() {
	fmt.Println(change.Summary([]change.Change{
		{Resource: "net", Change: change.Same},
		{Resource: "data", Change: change.Alter},
		{Resource: "front", Change: change.Create},
		{Resource: "back", Change: change.Create},
	}))
	// Output: 2 create, 1 alter, 1 same
}
