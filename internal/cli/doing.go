package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/service"
)

func (a *app) applyCommand() *cobra.Command {
	var follow bool
	cmd := &cobra.Command{Use: "apply ID", Short: "Carry out an accepted proposal", Args: cobra.ExactArgs(1), Example: "  undersail apply 12 --watch",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := number(args[0])
			if err != nil {
				return err
			}
			return a.applyProposal(cmd, id, follow)
		}}
	cmd.Flags().BoolVar(&follow, "watch", false, "follow the run to its end; exit 0 only when every resource is healthy")
	a.outputFlag(cmd)
	return cmd
}

// applyProposal starts the run and follows it when asked to.
func (a *app) applyProposal(cmd *cobra.Command, id int64, follow bool) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	run, err := decode[service.Run](c.ApplyProposal(cmd.Context(), id))
	if err != nil {
		return a.told(cmd, err)
	}
	if follow {
		return a.watch(cmd, c, run.ID)
	}
	return a.print(cmd, run, func(w io.Writer) {
		fmt.Fprintf(w, "run %d of stack %s is %s\nnext: undersail watch %d\n", run.ID, run.Stack, run.State, run.ID)
	})
}

func (a *app) runsCommand() *cobra.Command {
	var stack string
	cmd := &cobra.Command{Use: "runs [ID]", Short: "List runs, or show one with its steps", Args: cobra.MaximumNArgs(1), Example: "  undersail runs --stack warning-site\n  undersail runs 14",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				id, err := number(args[0])
				if err != nil {
					return err
				}
				run, err := decode[service.Run](c.GetRun(cmd.Context(), id))
				if err != nil {
					return err
				}
				return a.print(cmd, run, func(w io.Writer) { printRun(w, run, time.Now()) })
			}
			list, err := decode[[]service.Run](c.ListRuns(cmd.Context(), &contract.ListRunsParams{Stack: optional(stack)}))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				columns(w, "RUN\tSTACK\tKIND\tSTATE\tSTEPS\tBY\tSTARTED\tTOOK", func(row func(string, ...any)) {
					for _, r := range list {
						row("%d\t%s\t%s\t%s\t%d of %d\t%s\t%s\t%s", r.ID, r.Stack, r.Kind, r.State, r.Finished, r.Total, r.StartedBy, r.CreatedAt.Local().Format("2006-01-02 15:04:05"), took(r, time.Now()))
					}
				})
			})
		}}
	cmd.Flags().StringVar(&stack, "stack", "", "only those of one stack")
	a.outputFlag(cmd)
	return cmd
}

func took(r service.Run, now time.Time) string {
	if r.StartedAt == nil {
		return "-"
	}
	if r.EndedAt != nil {
		now = *r.EndedAt
	}
	return seconds(now.Sub(*r.StartedAt).Seconds())
}

func (a *app) watchCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "watch RUN", Short: "Follow a run to its end", Args: cobra.ExactArgs(1), Example: "  undersail watch 14",
		Long: "Follow a run: a live view on a terminal, one line for each event elsewhere.\nThe exit code is 0 when every step is healthy, 1 when the run failed or was stopped.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.clientFor(args[0])
			if err != nil {
				return err
			}
			return a.watch(cmd, c, id)
		}}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) stopCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "stop RUN", Short: "Stop a run after its calls in flight", Args: cobra.ExactArgs(1), Example: "  undersail stop 14",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.clientFor(args[0])
			if err != nil {
				return err
			}
			run, err := decode[service.Run](c.StopRun(cmd.Context(), id))
			if err != nil {
				return err
			}
			return a.print(cmd, run, func(w io.Writer) { fmt.Fprintf(w, "run %d stops once its calls in flight have returned\n", run.ID) })
		}}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) continueCommand() *cobra.Command {
	var follow bool
	cmd := &cobra.Command{Use: "continue STACK", Short: "Make what is missing after a run that failed or stopped", Args: cobra.ExactArgs(1), Example: "  undersail continue warning-site --watch",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := decode[service.Proposal](c.ContinueStack(cmd.Context(), args[0]))
			if err != nil {
				return a.told(cmd, err)
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "proposal %d: %s\n", p.ID, p.Summary)
			return a.applyProposal(cmd, p.ID, follow)
		}}
	cmd.Flags().BoolVar(&follow, "watch", false, "follow the run to its end")
	a.outputFlag(cmd)
	return cmd
}
