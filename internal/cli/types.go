package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/core/expr"
	"undersail/internal/core/resource"
	"undersail/internal/exchange"
)

func (a *app) typesCommand() *cobra.Command {
	var markdown bool
	cmd := &cobra.Command{
		Use:     "types [TYPE]",
		Short:   "List the resource types, or describe one",
		Args:    cobra.MaximumNArgs(1),
		Example: "  undersail templates types\n  undersail templates types instance",
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case markdown:
				return exchange.TypesPage(cmd.OutOrStdout())
			case len(args) == 0:
				return a.print(cmd, resource.Types(), func(w io.Writer) {
					columns(w, "TYPE\tUSUALLY\tWHAT", func(row func(string, ...any)) {
						for _, t := range resource.Types() {
							row("%s\t%s\t%s", t.Name, resource.FormatSpan(t.Expect), t.About)
						}
					})
				})
			}
			t, ok := resource.ByName(args[0])
			if !ok {
				hint := "see: undersail templates types"
				if close := expr.Closest(args[0], resource.TypeNames()); close != "" {
					hint = "did you mean " + close + "?"
				}
				return &exit{exitUsage, fmt.Errorf("there is no resource type %q; %s", args[0], hint)}
			}
			return a.print(cmd, t, func(w io.Writer) { printType(w, t) })
		},
	}
	cmd.Flags().BoolVar(&markdown, "markdown", false, "print the reference of all types as Markdown")
	a.outputFlag(cmd)
	return cmd
}

func printType(w io.Writer, t resource.Type) {
	fmt.Fprintf(w, "%s: %s\nusually healthy after %s, given up after %s\n\n", t.Name, t.About,
		resource.FormatSpan(t.Expect), resource.FormatSpan(t.Patience))
	columns(w, "PROPERTY\tVALUE\tALTERING\tWHAT", func(row func(string, ...any)) {
		for _, p := range t.Properties {
			name := p.Name
			if p.Required {
				name += " *"
			}
			row("%s\t%s\t%s\t%s", name, p.Shape.Describe(), p.Alter, p.About)
		}
	})
	fmt.Fprintln(w, "* must be given")
	fmt.Fprintln(w)
	columns(w, "ATTRIBUTE\tVALUE\tWHAT", func(row func(string, ...any)) {
		for _, at := range t.Attributes {
			about := at.About
			if at.Secret {
				about = strings.TrimSpace(about + " Secret.")
			}
			row("%s\t%s\t%s", at.Name, at.Shape.Describe(), about)
		}
	})
}
