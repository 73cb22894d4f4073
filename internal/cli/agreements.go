package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/proposing"
)

func (a *app) agreementsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "agreements",
		Short: "List what may be done in your name when nobody does it",
		Args:  cobra.NoArgs,
		Long: `List the standing agreements that hold: what the service does in somebody's name when nobody does it, such as
undoing a run that fails. One holds until its end, until it is taken back, and as long as whoever gave it may
decide in its account. Whoever administers an account sees all that hold there.`,
		Example: "  undersail agreements\n  undersail agreements end 7",
		RunE: a.asking(func(cmd *cobra.Command, _ []string, c *contract.Client) error {
			list, err := decode[[]proposing.Standing](c.ListAgreements(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintln(w, "nothing is done in your name by itself; one is given with: undersail accept ID "+
						"--on-failure undo")
					return
				}
				columns(w, "ID\tWHAT\tSTACK\tACCOUNT\tPROPOSAL\tGIVEN BY\tSINCE\tUNTIL",
					func(row func(string, ...any)) {
						for _, x := range list {
							row("%d\t%s\t%s\t%s\t%d\t%s\t%s\t%s", x.ID, standingWords(x.Kind), x.Stack, x.Account,
								x.Proposal, x.Giver, x.GivenAt.Local().Format("2006-01-02 15:04"),
								x.EndsAt.Local().Format("2006-01-02"))
						}
					})
			})
		}),
	}
	a.outputFlag(cmd)
	end := &cobra.Command{
		Use:     "end ID",
		Short:   "Take an agreement back",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail agreements end 7",
		Long:    "Take an agreement back. What is under way is finished and recorded; nothing more is begun by it.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := a.clientFor(args[0])
			if err != nil {
				return err
			}
			if _, err := decode[struct{}](c.EndAgreement(cmd.Context(), id)); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "agreement %d holds no more\n", id)
			return nil
		},
	}
	cmd.AddCommand(end)
	return cmd
}

func standingWords(kind string) string {
	if kind == "undo" {
		return "undo the run if it fails"
	}
	return kind
}
