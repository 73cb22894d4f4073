// The program that imports what the client imports and does nothing, beside
// which the start of the client is measured.
package main

import _ "undersail/internal/cli"

func main() {}
