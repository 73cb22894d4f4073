// Package examples holds the templates and inputs of the demo scenario, the
// Saltmere Tide Office. Every one is rendered and applied in the tests.
package examples

import "embed"

// Files are all templates (*.sail.yaml) with what they embed (parts), inputs
// (*.inputs.yaml), cases (*.cases.yaml), and the offers of a region.
//
//go:embed *.yaml *.json parts
var Files embed.FS
