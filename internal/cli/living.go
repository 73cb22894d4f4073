package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/proposing"
	"undersail/internal/review"
	"undersail/internal/stacks"
)

func (a *app) stacksCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "stacks [NAME]", Short: "List stacks, or show one with its resources", Args: cobra.MaximumNArgs(1), Example: "  undersail stacks\n  undersail stacks warning-site",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
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
				columns(w, "  STACK\tSTATE\tHEALTHY\tTEMPLATE\tACCOUNT\tREGION\tCOST/H\tVERIFIED", func(row func(string, ...any)) {
					for _, s := range list {
						row("%s %s\t%s\t%d of %d\t%s\t%s\t%s\t%.3f %s\t%s", marks[s.State], s.Name, s.State, s.Healthy, s.Total, review.OrDash(s.Template), s.Account, s.Region, s.Hour, s.Currency, ago(s.VerifiedAt, time.Now()))
					}
				})
			})
		}}
	a.outputFlag(cmd)
	return cmd
}

// allStacks reads every page of the list.
func allStacks(ctx context.Context, c *contract.Client) ([]stacks.Stack, error) {
	const page = 500
	all := []stacks.Stack{}
	for after := ""; ; after = all[len(all)-1].Name {
		list, err := decode[[]stacks.Stack](c.ListStacks(ctx, &contract.ListStacksParams{After: optional(after), Limit: new(page)}))
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
	fmt.Fprintf(w, "%s; account %s, region %s; %.3f %s an hour%s; verified %s\n\n", review.OrDash(st.Template), st.Account, st.Region, st.Hour, st.Currency, spent, ago(st.VerifiedAt, time.Now()))
	columns(w, "  RESOURCE\tTYPE\tSTATE\tID\tLAST EVIDENCE", func(row func(string, ...any)) {
		for _, r := range st.Resources {
			row("%s %s\t%s\t%s\t%s\t%s", marks[r.State], r.Name, r.Type, r.State, review.OrDash(attribute(r, "id")), clip(lastEvidence(r), 80))
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
	cmd := &cobra.Command{Use: "outputs STACK [NAME]", Short: "Print the outputs of a stack, or the plain value of one", Args: cobra.RangeArgs(1, 2),
		Example: "  undersail outputs warning-site\n  undersail outputs warning-site -o json\n  curl \"$(undersail outputs warning-site address)\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
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
					return &exit{exitFailed, fmt.Errorf("stack %s has no output %s; list them with: undersail outputs %s", args[0], args[1], args[0])}
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
		}}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) verifyCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "verify STACK", Short: "Make every check of a stack now and show the evidence",
		Long: "Make every check of every resource now, and compare what the cloud has with what is recorded.\nThe exit code is 0 when all is healthy, 3 when something was altered or removed by hand, else 1.", Args: cobra.ExactArgs(1), Example: "  undersail verify warning-site",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
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
				return &exit{exitFindings, fmt.Errorf("stack %s is not as it was made; see what would be put back with: undersail propose %s", v.Stack, v.Stack)}
			}
			return &exit{exitFailed, fmt.Errorf("stack %s is not healthy", v.Stack)}
		}}
	a.outputFlag(cmd)
	return cmd
}

// strayed reports whether something was altered or removed by hand.
func strayed(v stacks.Verification) bool {
	return slices.ContainsFunc(v.Resources, func(r stacks.VerifiedResource) bool { return r.State == state.Missing || len(r.Strayed) > 0 })
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
	fmt.Fprintf(w, "\n%s: %d of %d resources healthy at %s\n", v.Stack, healthy, len(v.Resources), v.At.Local().Format("15:04:05"))
}

func (a *app) retireCommand() *cobra.Command {
	var d atOnce
	var keep, lift []string
	cmd := &cobra.Command{Use: "retire STACK", Short: "Propose the removal of a whole stack, dependents first", Args: cobra.ExactArgs(1), Example: "  undersail retire warning-site\n  undersail retire readings-archive --yes --agree lose-data --watch\n  undersail retire readings-archive --keep store",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var params contract.RetireStackParams
			if len(keep) > 0 {
				params.Keep = &keep
			}
			if len(lift) > 0 {
				params.LiftGuard = &lift
			}
			p, err := decode[proposing.Proposal](c.RetireStack(cmd.Context(), args[0], &params))
			return a.proposedAtOnce(cmd, c, p, err, d)
		}}
	a.atOnceFlags(cmd, &d)
	keepFlag(cmd, &keep)
	liftFlag(cmd, &lift)
	return cmd
}

// liftFlag names what goes although it is guarded.
func liftFlag(cmd *cobra.Command, lift *[]string) {
	cmd.Flags().StringArrayVar(lift, "lift-guard", nil, "guarded resource that may be rebuilt or removed for this once; asks for the consent lift-guard")
}

// keepFlag names what stays in the cloud.
func keepFlag(cmd *cobra.Command, keep *[]string) {
	cmd.Flags().StringArrayVar(keep, "keep", nil, "resource that stays in the cloud when it leaves the stack, with what it comes after; see undersail kept")
}

func (a *app) eventsCommand() *cobra.Command {
	var evidence bool
	cmd := &cobra.Command{Use: "events [RUN]", Short: "Print what happened in a run, or in all runs", Args: cobra.MaximumNArgs(1), Example: "  undersail events 14\n  undersail events 14 --evidence",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 0 {
				page, err := decode[contract.EventPage](c.ListEvents(cmd.Context(), &contract.ListEventsParams{}))
				if err != nil {
					return err
				}
				return a.print(cmd, page, func(w io.Writer) { printEvents(w, page.Events, true) })
			}
			id, err := number(args[0])
			if err != nil {
				return err
			}
			if evidence {
				list, err := decode[[]stacks.Evidence](c.ListRunEvidence(cmd.Context(), id, &contract.ListRunEvidenceParams{}))
				if err != nil {
					return err
				}
				return a.print(cmd, list, func(w io.Writer) {
					columns(w, "AT\tRESOURCE\tCHECK\tASKED\tANSWER\tPASSED", func(row func(string, ...any)) {
						for _, e := range list {
							passed := fmt.Sprint(e.Passed)
							if e.Unasked {
								passed = "not asked"
							}
							row("%s\t%s\t%s\t%s\t%s\t%s", e.At.Local().Format("15:04:05.0"), e.Resource, e.Check, clip(e.Asked, 90), clip(e.Answer, 60), passed)
						}
					})
				})
			}
			list, err := decode[[]stacks.Event](c.ListRunEvents(cmd.Context(), id, &contract.ListRunEventsParams{Limit: most()}))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) { printEvents(w, list, false) })
		}}
	cmd.Flags().BoolVar(&evidence, "evidence", false, "print what the checks of the run saw")
	a.outputFlag(cmd)
	return cmd
}

func most() *int { n := 1000; return &n }

func printEvents(w io.Writer, list []stacks.Event, withRun bool) {
	for _, e := range list {
		prefix := fmt.Sprintf("%4d", e.Number)
		if withRun {
			prefix = fmt.Sprintf("run %-4d %4d", e.Run, e.Number)
		}
		fmt.Fprintf(w, "%s  %s  %s\n", prefix, e.At.Local().Format("15:04:05"), strings.TrimSpace(e.Text))
	}
}
