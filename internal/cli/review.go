package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/core/price"
	"undersail/internal/proposing"
	"undersail/internal/review"
	"undersail/internal/stacks"
)

// printReviewed tells what a reviewer asks of a proposal beside its changes.
func printReviewed(w io.Writer, p proposing.Proposal) {
	if broken := review.NotKept(p.Compliance); len(p.Compliance) > 0 {
		text := fmt.Sprintf("%d of %d kept", len(p.Compliance)-len(broken), len(p.Compliance))
		for _, x := range broken {
			text += fmt.Sprintf("; %s of %s: %s is needed by %s, %s is chosen", x.What, x.Input, x.Needed, x.By, x.Chosen)
		}
		labelled(w, "needs", text)
	}
	labelled(w, "public", strings.Join(p.Public, ", "))
	labelled(w, "data", strings.Join(p.Data, ", "))
	labelled(w, "reads", strings.Join(p.Reads, ", "))
	var quota []string
	for _, q := range p.Quota {
		text := fmt.Sprintf("%s %d of %d left", q.Name, q.Left, q.Limit)
		if q.Region != p.Region {
			text = q.Region + " " + text
		}
		if q.Wanted > 0 {
			text += fmt.Sprintf(", %d of it wanted by other proposals", q.Wanted)
		}
		quota = append(quota, text)
	}
	labelled(w, "quota", strings.Join(quota, "; "))
}

// labelled writes a line of a proposal's summary, where there is anything to say.
func labelled(w io.Writer, label, text string) {
	if text == "" {
		return
	}
	var out strings.Builder
	wrapped(&out, text, 10)
	first := strings.TrimLeft(out.String(), " ")
	fmt.Fprintf(w, "%-10s%s", label, first)
}

func (a *app) costCommand() *cobra.Command {
	var tag string
	cmd := &cobra.Command{Use: "cost STACK", Short: "Show what a stack costs by resource, licence and tag, and has cost so far", Args: cobra.ExactArgs(1),
		Example: "  undersail cost warning-site\n  undersail cost warning-site --tag owner",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			s, err := decode[stacks.Spending](c.GetCost(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if tag != "" && s.Tags[tag] == nil {
				return &exit{exitUsage, fmt.Errorf("nothing of stack %s that costs has a tag %q; the tags are %s", s.Stack, tag, review.OrDash(strings.Join(slices.Sorted(maps.Keys(s.Tags)), ", ")))}
			}
			return a.print(cmd, s, func(w io.Writer) { printCost(w, s, tag) })
		}}
	cmd.Flags().StringVar(&tag, "tag", "", "add up by the values of this tag")
	a.outputFlag(cmd)
	return cmd
}

func printCost(w io.Writer, s stacks.Spending, tag string) {
	fmt.Fprintf(w, "%s: %s\n%.2f %s since it was made on %s\n\n", s.Stack, review.CostLine(s.Cost, price.Cost{}), s.Spent, s.Cost.Currency, s.Since.Local().Format("2006-01-02 15:04"))
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
			row("%s\t%s\t%s\t%s\t%s\t%s", l.Resource, money(l.Hour, 4), money(l.Hour*price.HoursPerMonth, 2), money(l.Licence*price.HoursPerMonth, 2), money(l.Ahead, 2), l.About)
		}
	})
}
