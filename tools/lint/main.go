// Command lint is a vet tool that asks everything in one pass over a package: what go vet asks, what
// staticcheck asks, whether an error is left unchecked, and whether a switch has all its cases. The go
// command keeps the answers for each package, and asks again only for what changed:
//
//	go vet -vettool=.cache/lint ./...
package main

import (
	_ "embed"
	"fmt"
	"go/ast"
	"os"
	"slices"
	"strings"

	"github.com/kisielk/errcheck/errcheck"
	"github.com/nishanths/exhaustive/passes/exhaustive"
	"golang.org/x/tools/go/analysis"
	"golang.org/x/tools/go/analysis/suite/vet"
	"golang.org/x/tools/go/analysis/unitchecker"
	"honnef.co/go/tools/analysis/lint"
	"honnef.co/go/tools/simple"
	"honnef.co/go/tools/staticcheck"
	"honnef.co/go/tools/stylecheck"
	"honnef.co/go/tools/unused"
)

// unchecked lists the calls whose errors may go unchecked. It stands in the program, by which the go
// command knows whether what it has answered still holds.
//
//go:embed unchecked.txt
var unchecked []byte

func main() {
	for name, value := range map[string]string{
		"d":        "true", // a default case stands for all others
		"typeonly": `^undersail/internal/(cloud|refusal|store|core/(change|health|schedule))\.`,
	} {
		if err := exhaustive.Analyzer.Flags.Set(name, value); err != nil {
			fmt.Fprintln(os.Stderr, "lint:", err)
			os.Exit(1)
		}
	}
	all := append(vet.Suite, unusedNames, errors, cases)
	for _, some := range [][]*lint.Analyzer{staticcheck.Analyzers, simple.Analyzers, stylecheck.Analyzers} {
		for _, a := range some {
			if !a.Doc.NonDefault {
				all = append(all, a.Analyzer)
			}
		}
	}
	for _, a := range all {
		tellName(a)
	}
	unitchecker.Main(all...)
}

// tellName ends what is reported with who asked.
func tellName(a *analysis.Analyzer) {
	asks := a.Run
	a.Run = func(pass *analysis.Pass) (any, error) {
		some := *pass
		some.Report = func(d analysis.Diagnostic) {
			d.Message += " (" + a.Name + ")"
			pass.Report(d)
		}
		return asks(&some)
	}
}

// unusedNames reports what nothing uses. A package with tests is asked about together with them, so
// that what only they use counts as used.
var unusedNames = &analysis.Analyzer{
	Name:     "unused",
	Doc:      "report names that nothing uses",
	Requires: []*analysis.Analyzer{unused.Analyzer.Analyzer},
	Run: func(pass *analysis.Pass) (any, error) {
		for _, o := range pass.ResultOf[unused.Analyzer.Analyzer].(unused.Result).Unused {
			for _, f := range pass.Files {
				if at := pass.Fset.File(f.Pos()); at.Name() == o.Position.Filename {
					pass.Reportf(at.Pos(o.Position.Offset), "%s %s is unused", o.Kind, o.Name)
				}
			}
		}
		return nil, nil
	},
}

// errors asks about what is written by hand and is no test.
var errors = &analysis.Analyzer{
	Name: "errors",
	Doc:  "report errors that nobody looks at",
	Run: func(pass *analysis.Pass) (any, error) {
		some := *pass
		some.Files = slices.DeleteFunc(slices.Clone(pass.Files), func(f *ast.File) bool {
			return strings.HasSuffix(pass.Fset.File(f.Pos()).Name(), "_test.go") || ast.IsGenerated(f)
		})
		if len(some.Files) == 0 || !isProduct(pass.Pkg.Path()) {
			return nil, nil
		}
		list, err := os.CreateTemp("", "undersail-lint-") // errcheck takes it as a file alone
		if err != nil {
			return nil, err
		}
		defer os.Remove(list.Name())
		if _, err := list.Write(unchecked); err != nil {
			return nil, err
		}
		if err := list.Close(); err != nil {
			return nil, err
		}
		if err := errcheck.Analyzer.Flags.Set("exclude", list.Name()); err != nil {
			return nil, err
		}
		_, err = errcheck.Analyzer.Run(&some)
		return nil, err
	},
}

// isProduct leaves out what only tests and stand-ins are made of.
func isProduct(path string) bool {
	for _, room := range []string{"undersail/internal/", "undersail/cmd/", "undersail/scripts/"} {
		if strings.HasPrefix(path, room) {
			return !strings.HasSuffix(path, "test")
		}
	}
	return false
}

// cases asks about the packages of the service and the command line.
var cases = &analysis.Analyzer{
	Name:      "cases",
	Doc:       "report switches that leave cases out",
	Requires:  exhaustive.Analyzer.Requires,
	FactTypes: exhaustive.Analyzer.FactTypes,
	Run: func(pass *analysis.Pass) (any, error) {
		if !strings.HasPrefix(pass.Pkg.Path(), "undersail/internal/") {
			return nil, nil
		}
		return exhaustive.Analyzer.Run(pass)
	},
}
