package cases

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Words say what is expected, a line each: findings, numbers, the order, values.
func (x Expectation) Words() []string {
	var out []string
	for _, f := range x.Findings {
		severity := f.Severity
		if severity == "" {
			severity = "finding"
		}
		line := severity
		if f.Code != "" {
			line += " " + f.Code
		}
		if f.Place != "" {
			line += " at " + f.Place
		}
		out = append(out, line)
	}
	var counts []string
	for _, name := range slices.Sorted(maps.Keys(x.Resources)) {
		counts = append(counts, fmt.Sprintf("%d %s", x.Resources[name], name))
	}
	if len(counts) > 0 {
		out = append(out, strings.Join(counts, ", "))
	}
	if len(x.Order) > 1 {
		out = append(out, strings.Join(x.Order, " before "))
	}
	for _, path := range slices.Sorted(maps.Keys(x.Values)) {
		out = append(out, fmt.Sprintf("%s is %v", path, x.Values[path]))
	}
	return out
}

// Given gives the inputs of a case as plain values.
func (c Case) Given() map[string]any {
	out := make(map[string]any, len(c.Inputs))
	for name, n := range c.Inputs {
		out[name] = n.Plain()
	}
	return out
}
