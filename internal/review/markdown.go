// Package review puts proposals into words for whoever decides on them.
package review

import (
	"fmt"
	"io"
	"strings"

	"undersail/internal/core/change"
	"undersail/internal/proposing"
)

// Markdown writes a proposal as a comment for a review.
func Markdown(w io.Writer, p proposing.Proposal) {
	fmt.Fprintf(w, "# Proposal %d for stack %s: %s\n\n", p.ID, p.Stack, p.Summary)
	fmt.Fprintf(w, "%s in region %s%s, proposed by %s, %s\n", p.Account, p.Region, Prefixed(", template ", p.Template),
		p.CreatedBy, p.State)
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
			for _, line := range Interruptions(p.Interruptions, c.Name, p.Rate) {
				fmt.Fprintf(w, "  - %s\n", inCell(line))
			}
		}
	}
	if len(p.Findings) > 0 {
		fmt.Fprint(w, "\n## Findings\n\n")
		rows(w, []string{"", "Place", "What", "Remedy"}, len(p.Findings), func(i int) []string {
			f := p.Findings[i]
			return []string{string(f.Severity), "`" + f.Place + "`", f.Message, f.Remedy}
		})
	}
	if len(p.Uses) > 0 {
		fmt.Fprint(w, "\n## What secrets are opened for\n\n")
		rows(w, []string{"", "Secrets", "For", "At", "Goes to", "With"}, len(p.Uses), func(i int) []string {
			u := p.Uses[i]
			return []string{map[bool]string{true: "**new**", false: ""}[u.New],
				"`" + strings.Join(u.Secrets, "`, `") + "`", Purpose(u), "`" + u.At + "`" + Members(u), u.To,
				strings.Join(UseText(u), "<br>")}
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
		return []string{string(c.Change), "`" + c.Resource + "`", c.Type, ChangeLine(c)}
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
			return []string{"`" + f.Name + "`", OrDash(Value(f.Before)), OrDash(Value(f.After))}
		})
	}
	fmt.Fprint(w, "\n## What it comes to\n\n")
	fmt.Fprintf(w, "- cost: %s\n- duration: %s\n", CostLine(p.Cost, p.CostNow), DurationLine(p))
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
		rows(w, []string{"Region", "Quota", "Limit", "Used", "Adds", "Left", "Wanted by others"}, len(p.Quota),
			func(i int) []string {
				q := p.Quota[i]
				return []string{q.Region, q.Name, fmt.Sprint(q.Limit), fmt.Sprint(q.Used), fmt.Sprint(q.Adds),
					fmt.Sprint(q.Left), fmt.Sprint(q.Wanted)}
			})
	}
	if len(p.Compliance) > 0 {
		fmt.Fprint(w, "\n## What the template needs\n\n")
		rows(w, []string{"Input", "By", "What", "Needed", "Chosen", "Met"}, len(p.Compliance), func(i int) []string {
			x := p.Compliance[i]
			return []string{"`" + x.Input + "`", x.By, x.What, x.Needed, x.Chosen,
				map[bool]string{true: "yes", false: "**no**"}[x.Met]}
		})
	}
	if len(p.Inputs) > 0 {
		fmt.Fprint(w, "\n## Inputs\n\n")
		rows(w, []string{"Input", "Value", "From"}, len(p.Inputs), func(i int) []string {
			in := p.Inputs[i]
			return []string{"`" + in.Name + "`", OrDash(Value(in.Value)), in.Origin}
		})
	}
}

// inFull tells a value whole; of a list each item on a line.
func inFull(v any) string {
	if _, isList := v.([]any); isList {
		return strings.ReplaceAll(strings.Trim(InBrief(v), "[]"), "; ", "\n")
	}
	return Value(v)
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
