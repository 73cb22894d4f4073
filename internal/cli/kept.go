package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/proposing"
	"undersail/internal/review"
)

func (a *app) keptCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "kept",
		Short: "List what outlived its stack on purpose, or was found with its mark, with what it costs",
		Args:  cobra.NoArgs,
		Long: "List what outlived its stack on purpose, and what was found in a cloud with the mark of a stack " +
			"and recorded\nnowhere, with what it costs. A stack takes one over that has its\nstack's and its " +
			"resource's name, or to which it is moved; every other one uses it with `find`.",
		Example: "  undersail kept\n  undersail kept remove readings/store --yes --agree lose-data --watch",
		RunE: a.asking(func(cmd *cobra.Command, _ []string, c *contract.Client) error {
			list, err := decode[[]proposing.Kept](c.ListKept(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) { printKept(w, list) })
		}),
	}
	a.outputFlag(cmd)
	cmd.AddCommand(a.discardCommand(), a.moveKeptCommand())
	return cmd
}

func (a *app) moveKeptCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "move STACK/RESOURCE|ID STACK/RESOURCE",
		Short: "Give something kept to another stack, which takes it over as it is",
		Args:  cobra.ExactArgs(2),
		Long: "Give something kept to another stack, under the name that the resource has in the template " +
			"there.\nThe next proposal for that stack takes it over: nothing of it is made anew.",
		Example: "  undersail propose readings --template readings@2.0.0 --keep store      # it leaves the one " +
			"stack and stays\n  undersail kept move readings/store archive/store\n  undersail propose archive       " +
			"                                       # and comes to the other",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			k, err := decode[proposing.Kept](c.MoveKept(cmd.Context(), contract.Move{Name: args[0], To: args[1]}))
			if err != nil {
				return err
			}
			return a.print(cmd, k, func(w io.Writer) {
				fmt.Fprintf(w, "%s (%s %s) is kept for stack %s, which takes it over as its resource %s\nnext: "+
					"undersail propose %s\n", args[0], k.Type, k.ID, k.Stack, k.Resource, k.Stack)
			})
		}),
	}
	a.outputFlag(cmd)
	return cmd
}

func printKept(w io.Writer, list []proposing.Kept) {
	if len(list) == 0 {
		fmt.Fprintln(w, "nothing is kept; `at_retire: keep` in a template keeps a resource when it leaves its stack")
		return
	}
	month, found := map[string]float64{}, 0
	columns(w, "KEPT\tTYPE\tSIZE\tID\tACCOUNT\tREGION\tCOST/H\tSINCE", func(row func(string, ...any)) {
		for _, k := range list {
			month[k.Currency] += k.Month
			since := k.KeptAt.Local().Format(time.DateOnly)
			if k.FoundAt != nil {
				found++
				since = "found " + k.FoundAt.Local().Format(time.DateOnly)
			}
			row("%s/%s\t%s\t%s\t%s\t%s\t%s\t%.3f %s\t%s", k.Stack, k.Resource, k.Type,
				review.OrDash(review.Value(k.Want["size"])), k.ID, k.Account, k.Region, k.Hour, k.Currency, since)
		}
	})
	for _, k := range list {
		if len(k.Carries) > 0 {
			fmt.Fprintf(w, "\n%s/%s carries %s: it was on a machine that was given it, and attaching it to one is a "+
				"use of that\n", k.Stack, k.Resource, strings.Join(k.Carries, ", "))
		}
	}
	if found > 0 {
		fmt.Fprintf(w, "\n%d of these were found in the cloud with the mark of their stack, and recorded nowhere: "+
			"they are newer than the records.\nPropose the stack to record one in it, or remove it.\n", found)
	}
	for currency, cost := range month {
		fmt.Fprintf(w, "\nall together about %.0f %s a month\n", cost, currency)
	}
	fmt.Fprintf(w, "next: propose a stack of the same name to take one over, undersail kept move STACK/RESOURCE "+
		"OTHER/RESOURCE, or undersail kept remove STACK/RESOURCE\n")
}

func (a *app) discardCommand() *cobra.Command {
	var d atOnce
	cmd := &cobra.Command{
		Use:   "remove STACK/RESOURCE|ID",
		Short: "Propose to remove something kept for good",
		Args:  cobra.ExactArgs(1),
		Example: "  undersail kept remove readings/store\n  undersail kept remove readings/store --yes --agree " +
			"lose-data --watch",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			p, err := decode[proposing.Proposal](c.DiscardKept(cmd.Context(), contract.Discard{Name: args[0]}))
			return a.proposedAtOnce(cmd, c, p, err, d)
		}),
	}
	a.atOnceFlags(cmd, &d)
	return cmd
}
