package lang

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write what is found as what is expected")

const golden = "testdata/faults.txt"

// fault is one malformed template with everything that must be said of it.
type fault struct{ about, text, want string }

// readFaults reads blocks of "=== about", the template, "---", the diagnostics.
func readFaults(t *testing.T) (all []fault) {
	t.Helper()
	raw, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	for _, block := range strings.Split(string(raw), "=== ")[1:] {
		about, rest, _ := strings.Cut(block, "\n")
		text, want, _ := strings.Cut(rest, "\n---\n")
		all = append(all, fault{about, text + "\n", want})
	}
	return all
}

// bundle reads a template with the parts that follow it, each begun by a line
// "+++ REFERENCE".
func (f fault) bundle() Bundle {
	texts := strings.Split(f.text, "\n+++ ")
	b := Bundle{File: "t", Source: texts[0] + "\n"}
	for _, part := range texts[1:] {
		ref, text, _ := strings.Cut(part, "\n")
		b.Parts = append(b.Parts, Bundle{Ref: ref, File: strings.TrimPrefix(ref, "./"), Source: text})
	}
	return b
}

// TestMalformedTemplates holds the exact diagnostics of every template in the
// table: place, severity, code, message and remedy.
func TestMalformedTemplates(t *testing.T) {
	t.Parallel()
	var written strings.Builder
	faults := readFaults(t)
	for _, f := range faults {
		_, found := ReadBundle(f.bundle())
		var got strings.Builder
		for _, d := range found {
			if d.File != "t" {
				fmt.Fprintf(&got, "%s:", d.File)
			}
			fmt.Fprintf(&got, "%d:%d %s %s: %s", d.Line, d.Column, d.Severity, d.Code, d.Message)
			if d.Remedy != "" {
				fmt.Fprintf(&got, " | %s", d.Remedy)
			}
			got.WriteString("\n")
		}
		fmt.Fprintf(&written, "=== %s\n%s---\n%s\n", f.about, f.text, got.String())
		if !*update && strings.TrimSpace(got.String()) != strings.TrimSpace(f.want) {
			t.Errorf("%s:\n%s\ngot:\n%s\nwant:\n%s", f.about, f.text, got.String(), f.want)
		}
	}
	if len(faults) < 200 {
		t.Errorf("the table has only %d templates", len(faults))
	}
	if *update {
		if err := os.WriteFile(golden, []byte(written.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
