package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/render"
	"undersail/internal/review"
)

func printOutputs(w io.Writer, outputs []render.Output) {
	if len(outputs) == 0 {
		return
	}
	fmt.Fprintln(w)
	columns(w, "OUTPUT\tVALUE\tABOUT", func(row func(string, ...any)) {
		for _, o := range outputs {
			row("%s\t%s\t%s", o.Name, review.Line(o.Value), o.About)
		}
	})
}

func (a *app) outputsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "outputs STACK [NAME]",
		Short: "Print the outputs of a stack, or the plain value of one",
		Args:  cobra.RangeArgs(1, 2),
		Example: "  undersail outputs warning-site\n  undersail outputs warning-site -o json\n  curl \"$(undersail " +
			"outputs warning-site address)\"",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			list, err := decode[[]render.Output](c.GetOutputs(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			values := map[string]any{}
			for _, o := range list {
				values[o.Name] = o.Value
			}
			if len(args) == 2 {
				v, ok := values[args[1]]
				if !ok {
					return &exit{exitFailed,
						fmt.Errorf("stack %s has no output %s; list them with: undersail outputs %s", args[0], args[1],
							args[0])}
				}
				out := cmd.OutOrStdout()
				if terminalWidth(out) == 0 {
					out = raw(out) // a script wants it as it is
				}
				fmt.Fprintln(out, review.Value(v))
				return nil
			}
			return a.print(cmd, values, func(w io.Writer) {
				printOutputs(w, list)
				printGuide(cmd.Context(), c, w, args[0])
			})
		}),
	}
	a.outputFlag(cmd)
	return cmd
}
