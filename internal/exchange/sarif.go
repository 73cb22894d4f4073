// Package exchange writes the open formats in which other tools take what Under
// Sail knows. It formats; it computes nothing.
package exchange

import (
	"encoding/json"
	"io"
	"slices"

	"undersail/internal/core/lang"
)

// sarifLevels are what severities are called in SARIF.
var sarifLevels = map[lang.Severity]string{lang.Error: "error", lang.Warning: "warning", lang.Note: "note"}

type text struct {
	Text string `json:"text"`
}

type rule struct {
	ID string `json:"id"`
}

type region struct {
	StartLine   int `json:"startLine"`
	StartColumn int `json:"startColumn"`
}

type location struct {
	PhysicalLocation struct {
		ArtifactLocation struct {
			URI string `json:"uri"`
		} `json:"artifactLocation"`
		Region region `json:"region"`
	} `json:"physicalLocation"`
}

type result struct {
	RuleID    string     `json:"ruleId"`
	Level     string     `json:"level"`
	Message   text       `json:"message"`
	Locations []location `json:"locations"`
}

// SARIF writes diagnostics as a SARIF 2.1.0 log with one run. Columns count
// characters, as the log says.
func SARIF(w io.Writer, version string, found lang.Diagnostics) error {
	var rules []rule
	results := []result{}
	for _, d := range found {
		if !slices.Contains(rules, rule{d.Code}) {
			rules = append(rules, rule{d.Code})
		}
		r := result{RuleID: d.Code, Level: sarifLevels[d.Severity], Message: text{d.Message}}
		if d.Remedy != "" {
			r.Message.Text += ". Remedy: " + d.Remedy
		}
		var at location
		at.PhysicalLocation.ArtifactLocation.URI = d.File
		at.PhysicalLocation.Region = region{d.Line, d.Column}
		r.Locations = []location{at}
		results = append(results, r)
	}
	if rules == nil {
		rules = []rule{}
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(map[string]any{
		"version": "2.1.0",
		"runs": []any{map[string]any{
			"tool": map[string]any{
				"driver": map[string]any{"name": "Under Sail", "semanticVersion": version, "rules": rules},
			},
			"columnKind": "unicodeCodePoints",
			"results":    results,
		}},
	})
}
