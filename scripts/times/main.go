// Command times reads what go test -json prints, and lists packages and tests from so many
// seconds on, the longest first. It fails when a test fails, with what that said.
package main

import (
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
)

// event is a line of go test -json.
type event struct {
	Action, Package, Test, Output string
	Elapsed                       float64 // seconds
}

func main() {
	least := flag.Float64("least", 5, "seconds that a listed test takes at least")
	flag.Parse()
	failed, err := list(os.Stdin, os.Stdout, *least)
	if err != nil {
		fmt.Fprintln(os.Stderr, "times:", err)
	}
	if failed || err != nil {
		os.Exit(1)
	}
}

// list reports whether a test or a package failed.
func list(from io.Reader, to io.Writer, least float64) (failed bool, err error) {
	var packages, tests []event
	said := map[string]*strings.Builder{}
	for in := json.NewDecoder(from); ; {
		var e event
		if err := in.Decode(&e); err == io.EOF {
			break
		} else if err != nil {
			return failed, fmt.Errorf("reading what go test printed: %w", err)
		}
		of := e.Package + " " + e.Test
		switch e.Action {
		case "output":
			if said[of] == nil {
				said[of] = &strings.Builder{}
			}
			said[of].WriteString(e.Output)
		case "pass", "fail":
			if e.Action == "fail" {
				failed = true
				fmt.Fprintf(to, "failed: %s\n%s", of, cmp.Or(said[of], &strings.Builder{}))
			}
			delete(said, of)
			switch {
			case e.Test == "":
				packages = append(packages, e)
			case !strings.Contains(e.Test, "/") && e.Elapsed >= least:
				tests = append(tests, e)
			}
		}
	}
	for _, what := range [][]event{packages, tests} {
		slices.SortStableFunc(what, func(a, b event) int { return cmp.Compare(b.Elapsed, a.Elapsed) })
	}
	for _, e := range packages {
		if e.Elapsed >= least {
			fmt.Fprintf(to, "%7.1f s  %s\n", e.Elapsed, e.Package)
		}
	}
	fmt.Fprintln(to)
	for _, e := range tests {
		fmt.Fprintf(to, "%7.1f s  %s (%s)\n", e.Elapsed, e.Test, strings.TrimPrefix(e.Package, "undersail/"))
	}
	return failed, nil
}
