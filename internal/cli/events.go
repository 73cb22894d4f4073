package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/stacks"
)

func (a *app) eventsCommand() *cobra.Command {
	var evidence bool
	cmd := &cobra.Command{
		Use:     "events [RUN]",
		Short:   "Print what happened in a run, or in all runs",
		Args:    cobra.MaximumNArgs(1),
		Example: "  undersail events 14\n  undersail events 14 --evidence",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
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
				list, err := decode[[]stacks.Evidence](c.ListRunEvidence(cmd.Context(), id,
					&contract.ListRunEvidenceParams{}))
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
							row("%s\t%s\t%s\t%s\t%s\t%s", e.At.Local().Format("15:04:05.0"), e.Resource, e.Check,
								clip(e.Asked, 90), clip(e.Answer, 60), passed)
						}
					})
				})
			}
			list, err := decode[[]stacks.Event](c.ListRunEvents(cmd.Context(), id, &contract.ListRunEventsParams{
				Limit: most(),
			}))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) { printEvents(w, list, false) })
		}),
	}
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
