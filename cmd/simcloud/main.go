// Command simcloud runs the simulated public clouds.
package main

import (
	"os"

	"undersail/sim"
)

func main() {
	if sim.Command().Execute() != nil {
		os.Exit(1)
	}
}
