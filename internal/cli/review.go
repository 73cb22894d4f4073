package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/core/change"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/service"
)

// printReviewed tells what a reviewer asks of a proposal beside its changes.
func printReviewed(w io.Writer, p service.Proposal) {
	if broken := notKept(p.Compliance); len(p.Compliance) > 0 {
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

func notKept(list []render.Compliance) (out []render.Compliance) {
	for _, x := range list {
		if !x.Kept {
			out = append(out, x)
		}
	}
	return out
}

// costLine tells a cost, beside what is paid now.
func costLine(after, now price.Cost) string {
	if after.Hour == 0 && now.Hour == 0 {
		if len(after.Untold) > 0 {
			return "not told: the cloud tells no price for " + strings.Join(after.Untold, ", ")
		}
		return "nothing that has a price"
	}
	s := fmt.Sprintf("%.3f %s an hour, about %.0f a month", after.Hour, after.Currency, after.Month)
	if after.Ahead > 0 {
		s += fmt.Sprintf(" (%.0f ahead)", after.Ahead)
	}
	if after.Licence > 0 {
		s += fmt.Sprintf(", %.0f of it licences", after.Licence*price.HoursPerMonth)
	}
	if now.Hour > 0 {
		s += fmt.Sprintf("; now %.3f an hour, a difference of %+.0f a month", now.Hour, after.Month-now.Month)
	}
	if len(after.Untold) > 0 {
		s += "; not told for " + strings.Join(after.Untold, ", ")
	}
	return s
}

// durationLine tells how long a proposal takes, beside what its template promises.
func durationLine(p service.Proposal) string {
	text := fmt.Sprintf("about %s", clock(p.Seconds, p.Rate))
	if p.Promise > 0 {
		text += fmt.Sprintf(", where the template says %s", seconds(float64(p.Promise)))
	}
	return text + "; decided by " + orDash(strings.Join(p.Longest, " > "))
}

// markdown writes a proposal as a comment for a review.
func markdown(w io.Writer, p service.Proposal) {
	fmt.Fprintf(w, "# Proposal %d for stack %s: %s\n\n", p.ID, p.Stack, p.Summary)
	fmt.Fprintf(w, "%s in region %s%s, proposed by %s, %s\n", p.Account, p.Region, prefixed(", template ", p.Template), p.CreatedBy, p.State)
	if len(p.Consents) > 0 {
		fmt.Fprint(w, "\n## To agree to\n\n")
		for _, c := range p.Consents {
			mark, who := " ", ""
			for _, g := range p.Given {
				if g.Name == c.Name {
					mark, who = "x", fmt.Sprintf(" (%s, %s)", g.By, g.At.UTC().Format("2006-01-02 15:04 MST"))
				}
			}
			fmt.Fprintf(w, "- [%s] `%s`: %s%s\n", mark, c.Name, inCell(c.About), who)
		}
	}
	if len(p.Findings) > 0 {
		fmt.Fprint(w, "\n## Findings\n\n")
		rows(w, []string{"", "Place", "What", "Remedy"}, len(p.Findings), func(i int) []string {
			f := p.Findings[i]
			return []string{string(f.Severity), "`" + f.Place + "`", f.Message, f.Remedy}
		})
	}
	fmt.Fprint(w, "\n## Changes\n\n")
	var changes []change.Change
	for _, c := range p.Changes {
		if c.Change != change.Same {
			changes = append(changes, c)
		}
	}
	rows(w, []string{"Change", "Resource", "Type", "What"}, len(changes), func(i int) []string {
		c := changes[i]
		return []string{string(c.Change), "`" + c.Resource + "`", c.Type, changeLine(c)}
	})
	for _, c := range changes {
		if len(c.Fields) == 0 {
			continue
		}
		fmt.Fprintf(w, "\n### `%s`\n\n", c.Resource)
		if c.Change == change.Create {
			rows(w, []string{"Wanted", "Value"}, len(c.Fields), func(i int) []string {
				return []string{"`" + c.Fields[i].Name + "`", inFull(c.Fields[i].After)}
			})
			continue
		}
		rows(w, []string{"Value", "Before", "After"}, len(c.Fields), func(i int) []string {
			f := c.Fields[i]
			return []string{"`" + f.Name + "`", orDash(valueLine(f.Before)), orDash(valueLine(f.After))}
		})
	}
	fmt.Fprint(w, "\n## What it comes to\n\n")
	fmt.Fprintf(w, "- cost: %s\n- duration: %s\n", costLine(p.Cost, p.CostNow), durationLine(p))
	for _, x := range []struct {
		label string
		names []string
	}{{"public", p.Public}, {"holds data", p.Data}, {"reads the secrets", p.Reads}} {
		if len(x.names) > 0 {
			fmt.Fprintf(w, "- %s: `%s`\n", x.label, strings.Join(x.names, "`, `"))
		}
	}
	if len(p.Quota) > 0 {
		fmt.Fprint(w, "\n## Quotas\n\n")
		rows(w, []string{"Region", "Quota", "Limit", "Used", "Adds", "Left", "Wanted by others"}, len(p.Quota), func(i int) []string {
			q := p.Quota[i]
			return []string{q.Region, q.Name, fmt.Sprint(q.Limit), fmt.Sprint(q.Used), fmt.Sprint(q.Adds), fmt.Sprint(q.Left), fmt.Sprint(q.Wanted)}
		})
	}
	if len(p.Compliance) > 0 {
		fmt.Fprint(w, "\n## What the template needs\n\n")
		rows(w, []string{"Input", "By", "What", "Needed", "Chosen", "Kept"}, len(p.Compliance), func(i int) []string {
			x := p.Compliance[i]
			return []string{"`" + x.Input + "`", x.By, x.What, x.Needed, x.Chosen, map[bool]string{true: "yes", false: "**no**"}[x.Kept]}
		})
	}
	if len(p.Inputs) > 0 {
		fmt.Fprint(w, "\n## Inputs\n\n")
		rows(w, []string{"Input", "Value", "From"}, len(p.Inputs), func(i int) []string {
			in := p.Inputs[i]
			return []string{"`" + in.Name + "`", orDash(valueLine(in.Value)), in.Origin}
		})
	}
}

// inFull tells a value whole; of a list each item on a line.
func inFull(v any) string {
	if _, isList := v.([]any); isList {
		return strings.ReplaceAll(strings.Trim(inBrief(v), "[]"), "; ", "\n")
	}
	return valueLine(v)
}

// rows writes a table of Markdown.
func rows(w io.Writer, head []string, n int, row func(i int) []string) {
	fmt.Fprintf(w, "| %s |\n|%s\n", strings.Join(head, " | "), strings.Repeat("---|", len(head)))
	for i := range n {
		cells := row(i)
		for j := range cells {
			cells[j] = inCell(cells[j])
		}
		fmt.Fprintf(w, "| %s |\n", strings.Join(cells, " | "))
	}
}

// inCell keeps a text within one cell of a table, and from being read as HTML.
func inCell(s string) string {
	return strings.NewReplacer("|", `\|`, "\r", "", "\n", "<br>", "<", "&lt;", ">", "&gt;").Replace(s)
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
			s, err := decode[service.Spending](c.GetCost(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if tag != "" && s.Tags[tag] == nil {
				return &exit{exitUsage, fmt.Errorf("nothing of stack %s that costs has a tag %q; the tags are %s", s.Stack, tag, orDash(strings.Join(slices.Sorted(maps.Keys(s.Tags)), ", ")))}
			}
			return a.print(cmd, s, func(w io.Writer) { printCost(w, s, tag) })
		}}
	cmd.Flags().StringVar(&tag, "tag", "", "add up by the values of this tag")
	a.outputFlag(cmd)
	return cmd
}

func printCost(w io.Writer, s service.Spending, tag string) {
	fmt.Fprintf(w, "%s: %s\n%.2f %s since it was made on %s\n\n", s.Stack, costLine(s.Cost, price.Cost{}), s.Spent, s.Cost.Currency, s.Since.Local().Format("2006-01-02 15:04"))
	if tag != "" {
		columns(w, strings.ToUpper(tag)+"\tHOUR\tMONTH", func(row func(string, ...any)) {
			for _, value := range slices.Sorted(maps.Keys(s.Tags[tag])) {
				hour := s.Tags[tag][value]
				row("%s\t%s\t%s", orDash(value), money(hour, 4), money(hour*price.HoursPerMonth, 2))
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
