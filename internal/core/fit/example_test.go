package fit_test

import (
	"fmt"

	"undersail/internal/core/budget"
	"undersail/internal/core/fit"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
)

var northFell = &offer.Offers{
	Region: "north-fell",
	Zones:  []string{"north-fell-a"},
	Types:  []string{"network", "instance", "disk"},
	Sizes: []offer.Size{
		{Name: "plain-1", VCPUs: 1, MemoryBytes: 2 << 30, Architecture: "x86_64", Zones: []string{"north-fell-a"}},
		{Name: "plain-2", VCPUs: 2, MemoryBytes: 8 << 30, Architecture: "x86_64", Zones: []string{"north-fell-a"}},
	},
	DiskTypes: []offer.DiskType{
		{Name: "solid", MinBytes: 4 << 30, MaxBytes: 100 << 30, Zones: []string{"north-fell-a"}},
	},
}

func ExampleRendering() {
	template, _ := lang.Read("pier.sail.yaml", []byte(`undersail: 1
about: {name: pier, version: 1.0.0, title: Pier}
resources:
  data: {type: disk, want: {size: 200GiB, type: solid}}
`))
	r := render.Render(budget.Boundless(), render.Request{Template: template, Stack: render.Stack{Name: "pier"}})
	for _, found := range fit.Rendering(r, offer.Everywhere{Home: northFell}) {
		fmt.Println(found.Place, found.Message)
	}
	// Output:
	// data.size a solid disk cannot have 200GiB
}

func ExampleSearch() {
	need := fit.Need{Machine: offer.Need{VCPUs: 2}, Count: 1, Zones: 1, By: "price"}
	answers, err := fit.Search(need, []*offer.Offers{northFell})
	if err != nil {
		fmt.Println(err)
	}
	for _, a := range answers {
		fmt.Println(a.Size.Name, len(a.WhyNot) == 0)
	}
	// Output:
	// plain-2 true
	// plain-1 false
}
