package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/price"
	"undersail/internal/review"
	"undersail/internal/stacks"
)

func (a *app) costCommand() *cobra.Command {
	var tag string
	cmd := &cobra.Command{
		Use:     "cost STACK",
		Short:   "Show what a stack costs by resource, licence and tag, and has cost so far",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail cost warning-site\n  undersail cost warning-site --tag owner",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			s, err := decode[stacks.Spending](c.GetCost(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if tag != "" && s.Tags[tag] == nil {
				return &exit{exitUsage, fmt.Errorf("nothing of stack %s that costs has a tag %q; the tags are %s",
					s.Stack, tag, review.OrDash(strings.Join(slices.Sorted(maps.Keys(s.Tags)), ", ")))}
			}
			return a.print(cmd, s, func(w io.Writer) { printCost(w, s, tag) })
		}),
	}
	cmd.Flags().StringVar(&tag, "tag", "", "add up by the values of this tag")
	a.outputFlag(cmd)
	return cmd
}

func printCost(w io.Writer, s stacks.Spending, tag string) {
	fmt.Fprintf(w, "%s: %s\n%.2f %s since it was made on %s\n\n", s.Stack, review.CostLine(s.Cost, price.Cost{}),
		s.Spent, s.Cost.Currency, s.Since.Local().Format("2006-01-02 15:04"))
	if tag != "" {
		columns(w, strings.ToUpper(tag)+"\tHOUR\tMONTH", func(row func(string, ...any)) {
			for _, value := range slices.Sorted(maps.Keys(s.Tags[tag])) {
				hour := s.Tags[tag][value]
				row("%s\t%s\t%s", review.OrDash(value), money(hour, 4), money(hour*price.HoursPerMonth, 2))
			}
		})
		return
	}
	columns(w, "RESOURCE\tHOUR\tMONTH\tLICENCE\tAHEAD\tWHAT", func(row func(string, ...any)) {
		for _, l := range s.Cost.Lines {
			row("%s\t%s\t%s\t%s\t%s\t%s", l.Resource, money(l.Hour, 4), money(l.Hour*price.HoursPerMonth, 2),
				money(l.Licence*price.HoursPerMonth, 2), money(l.Ahead, 2), l.About)
		}
	})
}
