package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/review"
	"undersail/internal/stacks"
)

func (a *app) stacksCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "stacks [NAME]",
		Short:   "List stacks, or show one with its resources",
		Args:    cobra.MaximumNArgs(1),
		Example: "  undersail stacks\n  undersail stacks warning-site",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			if len(args) == 1 {
				st, err := decode[stacks.Stack](c.GetStack(cmd.Context(), args[0]))
				if err != nil {
					return err
				}
				return a.print(cmd, st, func(w io.Writer) { printStack(w, st) })
			}
			list, err := allStacks(cmd.Context(), c)
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintln(w, "no stacks yet; see: undersail propose --help")
					return
				}
				columns(w, "  STACK\tSTATE\tHEALTHY\tTEMPLATE\tACCOUNT\tREGION\tCOST/H\tVERIFIED",
					func(row func(string, ...any)) {
						for _, s := range list {
							row("%s %s\t%s\t%d of %d\t%s\t%s\t%s\t%.3f %s\t%s", marks[s.State], s.Name, s.State,
								s.Healthy,
								s.Total, review.OrDash(s.Template), s.Account, s.Region, s.Hour, s.Currency,
								ago(s.VerifiedAt, time.Now()))
						}
					})
			})
		}),
	}
	a.outputFlag(cmd)
	return cmd
}

// allStacks reads every page of the list.
func allStacks(ctx context.Context, c *contract.Client) ([]stacks.Stack, error) {
	const page = 500
	all := []stacks.Stack{}
	for after := ""; ; after = all[len(all)-1].Name {
		list, err := decode[[]stacks.Stack](c.ListStacks(ctx, &contract.ListStacksParams{
			After: optional(after),
			Limit: new(page),
		}))
		if all = append(all, list...); err != nil || len(list) < page {
			return all, err
		}
	}
}

func ago(at *time.Time, now time.Time) string {
	if at == nil {
		return "never"
	}
	return review.Seconds(now.Sub(*at).Seconds()) + " ago"
}

func printStack(w io.Writer, st stacks.Stack) {
	fmt.Fprintf(w, "%s %s: %s, %d of %d resources healthy\n", marks[st.State], st.Name, st.State, st.Healthy, st.Total)
	spent := ""
	if st.Spent != nil {
		spent = fmt.Sprintf(", %.2f since it was made", *st.Spent)
	}
	fmt.Fprintf(w, "%s; account %s, region %s; %.3f %s an hour%s; verified %s\n\n", review.OrDash(st.Template),
		st.Account, st.Region, st.Hour, st.Currency, spent, ago(st.VerifiedAt, time.Now()))
	columns(w, "  RESOURCE\tTYPE\tSTATE\tID\tLAST EVIDENCE", func(row func(string, ...any)) {
		for _, r := range st.Resources {
			row("%s %s\t%s\t%s\t%s\t%s", marks[r.State], r.Name, r.Type, r.State, review.OrDash(attribute(r, "id")),
				clip(lastEvidence(r), 80))
		}
	})
	printOutputs(w, st.Outputs)
	if st.Next != "" {
		reason := ""
		if st.LastRun != nil {
			reason = st.LastRun.Reason
		}
		fmt.Fprintf(w, "\nrun %d %s: %s\nnext: %s\n", st.LastRun.ID, endWord(st.LastRun.State), reason, st.Next)
	}
}

func attribute(r stacks.Resource, name string) string {
	s, _ := r.Attributes[name].(string)
	return s
}

func lastEvidence(r stacks.Resource) string {
	if r.State != "healthy" && r.Reason != "" {
		return r.Reason
	}
	for i := len(r.Evidence) - 1; i >= 0; i-- {
		if e := r.Evidence[i]; e.Check != "phase" || i == 0 {
			return e.Asked + ": " + e.Answer
		}
	}
	return ""
}
