package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/exchange"
)

// comesFrom tells where the template says what a finding is about, and which inputs
// the value there comes from, with their lines where they stand in a file.
func (a *app) comesFrom(f render.Finding) string {
	if f.Line == 0 || strings.HasPrefix(f.Place, "inputs.") {
		return ""
	}
	text := fmt.Sprintf("%s:%d", f.File, f.Line)
	for i, name := range strings.Split(f.Inputs, ",") {
		switch {
		case name == "":
			continue
		case i == 0:
			text += ", from input " + name
		default:
			text += ", " + name
		}
		if at := a.places["inputs."+name]; at != "" {
			text += " (" + at + ")"
		}
	}
	return text
}

// readTemplate reads a template file, or one of the library when there is no
// such file.
func (a *app) readTemplate(cmd *cobra.Command, arg string) (*lang.Template, error) {
	b, err := a.bundle(cmd, arg)
	if err != nil {
		return nil, err
	}
	t, found := lang.ReadBundle(b)
	if a.output == "sarif" {
		var text strings.Builder
		err := exchange.SARIF(&text, a.version, found)
		if err == nil {
			_, err = io.WriteString(raw(cmd.OutOrStdout()), shownJSON(text.String()))
		}
		if err != nil {
			return nil, err
		}
	}
	if a.output == "json" && found.HasErrors() {
		if err := a.print(cmd, map[string]any{"diagnostics": found}, nil); err != nil {
			return nil, err
		}
	}
	printDiagnostics(cmd.ErrOrStderr(), found)
	if t == nil {
		return nil, &exit{exitFindings, fmt.Errorf("%s has %s", b.File, countErrors(found))}
	}
	return t, nil
}

func countErrors(found lang.Diagnostics) string {
	n := 0
	for _, d := range found {
		if d.Severity == lang.Error {
			n++
		}
	}
	if n == 1 {
		return "1 error"
	}
	return fmt.Sprintf("%d errors", n)
}

func isFile(arg string) bool {
	if info, err := os.Stat(arg); err == nil && !info.IsDir() {
		return true
	}
	return strings.HasSuffix(arg, ".yaml") || strings.ContainsRune(arg, filepath.Separator)
}

func (a *app) checkCommand() *cobra.Command {
	var g given
	cmd := &cobra.Command{
		Use:   "check FILE",
		Short: "Check a template file; no service is needed",
		Args:  cobra.ExactArgs(1),
		Long: "Check a template: its text, its types, every reference, cycles, and what can never work whatever " +
			"is\ngiven. With --inputs its rendering is checked too, with --account and --region also against what " +
			"is\nsold there, quotas and policy.",
		Example: "  undersail check site.sail.yaml\n  undersail check site.sail.yaml -o sarif\n  undersail check " +
			"site.sail.yaml --inputs site.inputs.yaml --account saltmere-lab --region north-fell",
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.readTemplate(cmd, args[0])
			if err != nil {
				return err
			}
			if a.output == "sarif" {
				return nil // the log is written, and holds no errors
			}
			var findings []render.Finding
			if g.files != nil || g.values != nil || g.preset != "" || g.account != "" || g.offers != "" {
				r, err := a.renderHere(cmd, t, &g)
				if err != nil {
					return err
				}
				findings = r.Findings
			} else {
				findings = literal(t)
			}
			err = a.print(cmd, map[string]any{"diagnostics": []any{}, "findings": findings}, func(w io.Writer) {
				fmt.Fprintf(w, "%s %s: %d inputs, %d resources, %d outputs; no errors in the text\n", t.About.Name,
					t.About.Version, len(t.Inputs), len(t.Resources), len(t.Outputs))
			})
			if err != nil {
				return err
			}
			return a.failing(cmd, findings)
		},
	}
	g.flags(cmd)
	a.libraryFlag(cmd)
	cmd.Flags().StringVar(&g.offers, "offers", "", "saved offers to check against (from: undersail offers -o json)")
	cmd.Flags().StringVarP(&a.output, "output", "o", "table", "table, json, yaml or sarif (SARIF 2.1.0)")
	return cmd
}

// literal finds what can never work whatever the inputs are: in a template that needs
// none everything, else what no input has a part in.
func literal(t *lang.Template) []render.Finding {
	request := render.Request{Template: t, Stack: render.Stack{Name: t.About.Name, ID: render.FixedID}}
	r := newRendered(request, nil)
	if !slices.ContainsFunc(t.Inputs, (*lang.Input).Required) {
		return r.Findings
	}
	return slices.DeleteFunc(r.Findings,
		func(f render.Finding) bool { return f.Line == 0 || f.Inputs != "" || f.Severity == lang.Note })
}

func (a *app) failing(cmd *cobra.Command, findings []render.Finding) error {
	a.printFindings(cmd.ErrOrStderr(), findings)
	if render.HasErrors(findings) {
		return &exit{exitFindings, fmt.Errorf("there are findings with errors")}
	}
	return nil
}
