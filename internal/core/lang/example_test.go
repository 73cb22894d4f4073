package lang_test

import (
	"fmt"

	"undersail/internal/core/lang"
)

func ExampleRead() {
	_, found := lang.Read("pier.sail.yaml", []byte(`undersail: 1
about: {name: pier, version: 1.0.0, title: Pier}
resources:
  net: {type: network, want: {range: 10.4.0.0/16}}
  quay: {type: subnet, want: {network: =nett.id, range: 10.4.1.0/24}}
`))
	for _, d := range found {
		fmt.Printf("%s:%d: %s\n%s\n", d.File, d.Line, d.Message, d.Remedy)
	}
	// Output:
	// pier.sail.yaml:5: nothing here is called `nett`
	// did you mean `net`?
}

func ExampleTidy() {
	tidy, _ := lang.Tidy("pier.sail.yaml", []byte(`undersail: 1
about: {name: pier, version: 1.0.0, title: Pier}
resources:
    net:
        type: network
        want: {range: 10.4.0.0/16}   
`))
	fmt.Print(string(tidy))
	// Output:
	// undersail: 1
	// about: {name: pier, version: 1.0.0, title: Pier}
	// resources:
	//   net:
	//     type: network
	//     want: {range: 10.4.0.0/16}
}
