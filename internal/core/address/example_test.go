package address_test

import (
	"fmt"
	"net/netip"

	"undersail/internal/core/address"
)

// Parts are placed in the order in which they are listed, so that one more at the end moves none.
func ExampleCarve() {
	parts, _ := address.Carve("10.4.0.0/22", []string{"quay/26", "mole/24"})
	fmt.Println(parts["quay"], parts["mole"])
	_, err := address.Carve("10.4.0.0/26", []string{"quay/26", "mole/24"})
	fmt.Println(err)
	// Output:
	// 10.4.0.0/26 10.4.1.0/24
	// carve: mole/24 needs 256 addresses and 10.4.0.0/26 has only 0 free in one piece; take a range of /23 or larger
}

func ExampleFirstFree() {
	taken := []netip.Prefix{netip.MustParsePrefix("10.4.0.0/24"), netip.MustParsePrefix("10.4.1.0/26")}
	free, ok := address.FirstFree(netip.MustParsePrefix("10.4.0.0/22"), taken, 25)
	fmt.Println(free, ok)
	// Output: 10.4.1.128/25 true
}
