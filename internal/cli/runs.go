package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/state"
	"undersail/internal/core/use"
	"undersail/internal/proposing"
	"undersail/internal/review"
	"undersail/internal/stacks"
)

func (a *app) applyCommand() *cobra.Command {
	var follow bool
	var onFailure string
	cmd := &cobra.Command{
		Use:     "apply ID",
		Short:   "Carry out an accepted proposal",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail apply 12 --watch\n  undersail apply 12 --on-failure undo --watch",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := number(args[0])
			if err != nil {
				return err
			}
			return a.applyProposal(cmd, id, follow, onFailure)
		},
	}
	cmd.Flags().BoolVar(&follow, "watch", false,
		"follow the run to its end; exit 0 only when every resource is healthy")
	cmd.Flags().StringVar(&onFailure, "on-failure", "",
		"keep what succeeded (the default), or undo the run; undoing that needs a consent parks the run")
	a.outputFlag(cmd)
	return cmd
}

// applyProposal starts the run and follows it when asked to.
func (a *app) applyProposal(cmd *cobra.Command, id int64, follow bool, onFailure string) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	run, err := decode[stacks.Run](c.ApplyProposal(cmd.Context(), id, &contract.ApplyProposalParams{
		OnFailure: optional(contract.ApplyProposalParamsOnFailure(onFailure)),
	}))
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
	cmd := &cobra.Command{
		Use:     "runs [ID]",
		Short:   "List runs, or show one with its steps",
		Args:    cobra.MaximumNArgs(1),
		Example: "  undersail runs --stack warning-site\n  undersail runs 14",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			if len(args) == 1 {
				id, err := number(args[0])
				if err != nil {
					return err
				}
				run, err := decode[stacks.Run](c.GetRun(cmd.Context(), id))
				if err != nil {
					return err
				}
				return a.print(cmd, run, func(w io.Writer) { printRun(w, run, time.Now()) })
			}
			list, err := decode[[]stacks.Run](c.ListRuns(cmd.Context(), &contract.ListRunsParams{
				Stack: optional(stack),
			}))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				columns(w, "RUN\tSTACK\tKIND\tSTATE\tSTEPS\tBY\tSTARTED\tTOOK", func(row func(string, ...any)) {
					for _, r := range list {
						row("%d\t%s\t%s\t%s\t%d of %d\t%s\t%s\t%s", r.ID, r.Stack, r.Kind, r.State, r.Finished, r.Total,
							r.StartedBy, r.CreatedAt.Local().Format("2006-01-02 15:04:05"), took(r))
					}
				})
			})
		}),
	}
	cmd.Flags().StringVar(&stack, "stack", "", "only those of one stack")
	a.outputFlag(cmd)
	return cmd
}

// took tells how long a run was worked on, and apart from that how long it waited for people.
func took(r stacks.Run) string {
	if r.StartedAt == nil {
		return "-"
	}
	return spent(r.UnderWayS, r.WaitedS, r.Rate)
}

func spent(underWay, waited, rate float64) string {
	text := review.Clock(underWay, rate)
	if waited >= 1 {
		text += ", waited " + review.Clock(waited, rate)
	}
	return text
}

func (a *app) watchCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "watch RUN",
		Short:   "Follow a run to its end",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail watch 14",
		Long: "Follow a run: a live view on a terminal, one line for each event elsewhere.\nThe exit code is 0 when " +
			"every step is healthy, 1 when the run failed or was stopped,\n6 when it waits for a person.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.clientFor(args[0])
			if err != nil {
				return err
			}
			return a.watch(cmd, c, id)
		},
	}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) stopCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "stop RUN",
		Short:   "Stop a run after its calls in flight",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail stop 14",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.clientFor(args[0])
			if err != nil {
				return err
			}
			run, err := decode[stacks.Run](c.StopRun(cmd.Context(), id))
			if err != nil {
				return err
			}
			return a.print(cmd, run,
				func(w io.Writer) { fmt.Fprintf(w, "run %d stops once its calls in flight have returned\n", run.ID) })
		},
	}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) continueCommand() *cobra.Command {
	var follow bool
	var values []string
	cmd := &cobra.Command{
		Use:   "continue STACK",
		Short: "Make what is missing after a run that failed or stopped, or give it the value that it waits for",
		Args:  cobra.ExactArgs(1),
		Example: "  undersail continue warning-site --watch\n  undersail continue cluster --input " +
			"serial=SALT-42 --watch",
		Long: "Make what is missing after a run that failed or stopped, at once where that is only what " +
			"was\naccepted. Where something else changed since, the proposal is left open and shown, and the exit " +
			"code is 6.\nWith --input, give the parked run of the stack the values that it waits for: it goes on.",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			if len(values) > 0 {
				return a.giveValues(cmd, c, args[0], values, follow)
			}
			p, err := decode[proposing.Proposal](c.ContinueStack(cmd.Context(), args[0]))
			if err != nil {
				return a.told(cmd, err)
			}
			switch p.State {
			case proposing.Nothing:
				return a.print(cmd, p, func(w io.Writer) { a.printProposal(w, p) })
			case state.Open:
				if err := a.print(cmd, p, func(w io.Writer) { a.printProposal(w, p) }); err != nil {
					return err
				}
				return &exit{exitWaiting,
					fmt.Errorf("proposal %d goes beyond what was accepted and waits for a person", p.ID)}
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "proposal %d: %s\n", p.ID, p.Summary)
			return a.applyProposal(cmd, p.ID, follow, "")
		}),
	}
	cmd.Flags().BoolVar(&follow, "watch", false, "follow the run to its end")
	cmd.Flags().StringArrayVar(&values, "input", nil, "a value that the parked run waits for, as NAME=VALUE")
	a.outputFlag(cmd)
	return cmd
}

// giveValues gives a parked run what it waits for. The service reads a text as the
// type that its input wants.
func (a *app) giveValues(cmd *cobra.Command, c *contract.Client, stack string, values []string, follow bool) error {
	inputs := map[string]any{}
	for _, v := range values {
		name, text, ok := strings.Cut(v, "=")
		if !ok || name == "" {
			return &exit{exitUsage, fmt.Errorf("%q is not NAME=VALUE", v)}
		}
		inputs[name] = text
	}
	run, err := decode[stacks.Run](c.GiveValues(cmd.Context(), stack, contract.GivenValues{Inputs: inputs}))
	if err != nil {
		return a.told(cmd, err)
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "run %d goes on\n", run.ID)
	if !follow {
		return a.print(cmd, run, func(w io.Writer) { fmt.Fprintf(w, "follow it with: undersail watch %d\n", run.ID) })
	}
	return a.watch(cmd, c, run.ID)
}

func (a *app) undoCommand() *cobra.Command {
	var d atOnce
	cmd := &cobra.Command{
		Use:     "undo RUN",
		Short:   "Propose to undo the newest run of a stack",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail undo 14\n  undersail undo 14 --yes --watch",
		Long: "Propose to undo the newest run of a stack: what it made is removed, dependents first, and what " +
			"it\naltered is put back. What cannot be put back is told before anything happens.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.clientFor(args[0])
			if err != nil {
				return err
			}
			p, err := decode[proposing.Proposal](c.UndoRun(cmd.Context(), id))
			return a.proposedAtOnce(cmd, c, p, err, d)
		},
	}
	a.atOnceFlags(cmd, &d)
	return cmd
}

// atOnce says whether a proposal that a command makes is accepted and applied with it.
type atOnce struct {
	yes, follow bool
	agree       []string
}

func (a *app) atOnceFlags(cmd *cobra.Command, d *atOnce) {
	cmd.Flags().BoolVar(&d.yes, "yes", false, "accept and apply the proposal at once; consents are given with --agree")
	agreeFlag(cmd, &d.agree)
	cmd.Flags().BoolVar(&d.follow, "watch", false, "follow the run to its end")
	a.outputFlag(cmd)
}

// proposedAtOnce shows a proposal that was made, or carries it out at once; what was
// found about it is told first.
func (a *app) proposedAtOnce(cmd *cobra.Command, c *contract.Client, p proposing.Proposal, err error, d atOnce) error {
	if err != nil {
		return a.told(cmd, err)
	}
	if !d.yes {
		return a.print(cmd, p, func(w io.Writer) { a.printProposal(w, p) })
	}
	a.printFindings(cmd.ErrOrStderr(), p.Findings)
	printUses(cmd.ErrOrStderr(), slices.DeleteFunc(slices.Clone(p.Uses), func(u use.Use) bool { return !u.New }))
	if _, err := accepted(cmd, c, p.ID, d.agree, "", ""); err != nil {
		return a.told(cmd, err)
	}
	return a.applyProposal(cmd, p.ID, d.follow, "")
}

func (a *app) retryCommand() *cobra.Command {
	var follow bool
	cmd := &cobra.Command{
		Use:     "retry RUN [STEP]",
		Short:   "Let an ended run go on with a step that failed",
		Args:    cobra.RangeArgs(1, 2),
		Example: "  undersail retry 14 gateway --watch\n  undersail retry 14",
		Long: "Let an ended run go on: the step that failed, named by its resource or number, is tried again, " +
			"and\nwhat was skipped because of it follows. Without a step every step that failed is tried " +
			"again.\nRefused once a newer run has changed the stack.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.clientFor(args[0])
			if err != nil {
				return err
			}
			step := ""
			if len(args) == 2 {
				step = args[1]
			}
			run, err := decode[stacks.Run](c.RetryRun(cmd.Context(), id, &contract.RetryRunParams{
				Step: optional(step),
			}))
			if err != nil {
				return a.told(cmd, err)
			}
			if follow {
				return a.watch(cmd, c, run.ID)
			}
			return a.print(cmd, run, func(w io.Writer) {
				fmt.Fprintf(w, "run %d of stack %s goes on\nnext: undersail watch %d\n", run.ID, run.Stack, run.ID)
			})
		},
	}
	cmd.Flags().BoolVar(&follow, "watch", false, "follow the run to its end")
	a.outputFlag(cmd)
	return cmd
}
