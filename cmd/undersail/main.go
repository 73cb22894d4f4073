// Command undersail is the service, its client and its demo in one program.
package main

import (
	"os"

	"undersail/console"
	"undersail/internal/cli"
)

// version is set by the build.
var version = "0.1.0"

func main() { os.Exit(cli.Run(os.Args[1:], console.Files(), version)) }
