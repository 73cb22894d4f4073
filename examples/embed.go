// Package examples holds the templates and inputs of the demo scenario, the
// Saltmere Tide Office. Every one is rendered and applied in the tests.
package examples

import "embed"

// Files are all templates (*.sail.yaml) and inputs (*.inputs.yaml).
//
//go:embed *.yaml
var Files embed.FS
