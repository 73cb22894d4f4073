package cli

import (
	"fmt"
	"io"
	"slices"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/state"
	"undersail/internal/stacks"
)

func (a *app) verifyCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "verify STACK",
		Short: "Make every check of a stack now and show the evidence",
		Long: "Make every check of every resource now, and compare what the cloud has with what is " +
			"recorded.\nThe exit code is 0 when all is healthy, 3 when something was altered or removed by " +
			"hand, else 1.",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail verify warning-site",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			v, err := decode[stacks.Verification](c.VerifyStack(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if err := a.print(cmd, v, func(w io.Writer) { printVerification(w, v) }); err != nil {
				return err
			}
			switch {
			case v.Healthy:
				return nil
			case strayed(v):
				return &exit{exitFindings,
					fmt.Errorf("stack %s is not as it was made; see what would be put back with: undersail propose %s",
						v.Stack, v.Stack)}
			}
			return &exit{exitFailed, fmt.Errorf("stack %s is not healthy", v.Stack)}
		}),
	}
	a.outputFlag(cmd)
	return cmd
}

// strayed reports whether something was altered or removed by hand.
func strayed(v stacks.Verification) bool {
	return slices.ContainsFunc(v.Resources,
		func(r stacks.VerifiedResource) bool { return r.State == state.Missing || len(r.Strayed) > 0 })
}

func printVerification(w io.Writer, v stacks.Verification) {
	columns(w, "  RESOURCE\tSTATE\tTOOK\tASKED\tANSWER", func(row func(string, ...any)) {
		for _, r := range v.Resources {
			if len(r.Evidence) == 0 {
				row("%s %s\t%s\t%s\t\t", marks[r.State], r.Name, r.State, r.Reason)
			}
			for i, e := range r.Evidence {
				name, state := marks[r.State]+" "+r.Name, r.State
				if i > 0 {
					name, state = " ", ""
				}
				row("%s\t%s\t%d ms\t%s\t%s", name, state, e.TookMS, clip(e.Asked, 90), e.Answer)
			}
		}
	})
	healthy := 0
	for _, r := range v.Resources {
		if r.State == state.Healthy {
			healthy++
		} else if len(r.Evidence) > 0 && r.Reason != "" {
			fmt.Fprintf(w, "\n%s %s: %s", marks[r.State], r.Name, r.Reason)
		}
	}
	if healthy < len(v.Resources) {
		fmt.Fprintln(w)
	}
	fmt.Fprintf(w, "\n%s: %d of %d resources healthy at %s\n", v.Stack, healthy, len(v.Resources),
		v.At.Local().Format("15:04:05"))
}
