package cli

import (
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/core/budget"
	"undersail/internal/core/expr"
	"undersail/internal/core/fit"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/exchange"
	"undersail/internal/review"
)

// renderHere renders without a service, but for the offers of a place that is
// named without saved ones.
func (a *app) renderHere(cmd *cobra.Command, t *lang.Template, g *given) (*exchange.Rendered, error) {
	filled, err := g.fill(cmd, t)
	a.places = filled.places
	if err != nil {
		return nil, err
	}
	if err := a.askMissing(cmd, t, g, &filled); err != nil {
		return nil, err
	}
	layers, err := filled.layers(t, g.preset)
	if err != nil {
		return nil, err
	}
	request := render.Request{
		Template: t,
		Explain:  g.explain,
		Stack:    render.Stack{Name: t.About.Name, ID: render.FixedID, Account: g.account, Region: g.region},
	}
	request.Inputs, request.Origins = render.Merge(layers...)
	var o offer.Offers
	switch {
	case g.offers != "":
		if o, err = savedOffers(g.offers); err != nil {
			return nil, err
		}
		if !o.At.IsZero() && time.Since(o.At) > 24*time.Hour {
			fmt.Fprintln(cmd.ErrOrStderr(), "note: "+asOf(o.At))
		}
	case g.account != "" && g.region != "":
		if o, err = a.offers(cmd, g.account, g.region); err != nil {
			return nil, err
		}
	case g.account != "" || g.region != "":
		return nil, &exit{exitUsage, fmt.Errorf("--account and --region go together")}
	default:
		fmt.Fprintln(cmd.ErrOrStderr(), "note: without --account and --region nothing is checked against what is sold")
		return newRendered(request, nil), nil
	}
	request.Offers = &o
	request.Stack.Cloud, request.Stack.Region = o.Cloud, o.Region
	if request.Stack.Account == "" {
		request.Stack.Account = o.Account
	}
	return newRendered(request, &o), nil
}

func newRendered(request render.Request, o *offer.Offers) *exchange.Rendered {
	request.Rehearse = true
	r := render.Render(budget.Boundless(), request)
	out, offers := &exchange.Rendered{Rendering: r}, offer.Everywhere{Home: o}
	r.Findings = slices.Concat(r.Findings, fit.Rendering(r, offers), fit.Reaching(r, nil, nil, offers))
	today := time.Now().UTC().Format(time.DateOnly)
	r.Findings = append(r.Findings, policy.Check(r, policy.Context{Offers: offers, Today: today}).Findings...)
	r.Findings = append([]render.Finding{}, render.Locate(request.Template, r.Findings)...)
	out.Seconds, out.Longest = r.Duration()
	if o != nil {
		cost := price.Of(r.Resources, offer.At(*o))
		out.Cost = &cost
	}
	return out
}

func savedOffers(file string) (offer.Offers, error) {
	raw, err := os.ReadFile(file)
	if err != nil {
		return offer.Offers{}, &exit{exitUsage, err}
	}
	o, err := offer.Saved(file, raw)
	if err != nil {
		return o, &exit{exitUsage, err}
	}
	return o, nil
}

// drawGraph writes what waits for what, drawn or in a language for graphs.
func drawGraph(w io.Writer, language string, g exchange.Graph) error {
	switch language {
	case "svg":
		return exchange.SVG(w, g)
	case "dot":
		return exchange.DOT(w, g)
	case "mermaid":
		return exchange.Mermaid(w, g)
	}
	return &exit{exitUsage, fmt.Errorf("--graph takes svg, dot or mermaid, not %q", language)}
}

func (a *app) renderCommand() *cobra.Command {
	var g given
	var draw string
	cmd := &cobra.Command{
		Use:   "render NAME|FILE",
		Short: "Show the resources that a template gives with inputs, in dependency order",
		Args:  cobra.ExactArgs(1),
		Long: "Compute every resource of a template. What is known only after creation shows what it waits for.\nNo " +
			"stack is named, so stack.id is the fixed id of zeros.",
		Example: "  undersail render gauge-intake.sail.yaml --inputs gauge-intake.inputs.yaml --account " +
			"saltmere-lab --region north-fell\n  undersail render site.sail.yaml --inputs site.inputs.yaml --offers " +
			"offers.json -o json\n" +
			"  undersail render site.sail.yaml --inputs site.inputs.yaml --graph svg > site.svg\n  undersail render " +
			"site.sail.yaml --inputs site.inputs.yaml --explain site      # where every value came from",
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.readTemplate(cmd, args[0])
			if err != nil {
				return err
			}
			r, err := a.renderHere(cmd, t, &g)
			if err != nil {
				return err
			}
			switch {
			case g.explain != "":
				err = a.printExplained(cmd, t, r.Rendering, g.explain)
			case draw != "":
				err = drawGraph(cmd.OutOrStdout(), draw, exchange.OfRendering(r.Rendering))
			default:
				err = a.print(cmd, r, func(w io.Writer) { printRendering(w, r) })
			}
			if err != nil {
				return err
			}
			return a.failing(cmd, r.Findings)
		},
	}
	g.flags(cmd)
	a.libraryFlag(cmd)
	cmd.Flags().StringVar(&draw, "graph", "", "draw what waits for what instead, as svg, dot or mermaid")
	cmd.Flags().StringVar(&g.explain, "explain", "",
		"tell where every value came from: of a resource, or of outputs.NAME, inputs.NAME, calc.NAME")
	cmd.Flags().StringVar(&g.offers, "offers", "", "saved offers to render against (from: undersail offers -o json)")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) printExplained(cmd *cobra.Command, t *lang.Template, r *render.Rendering, name string) error {
	if r.Explained == nil {
		known := render.Explainable(r, t)
		hint := "; it may be one of " + strings.Join(known[:min(len(known), 12)], ", ")
		if close := expr.Closest(name, known); close != "" {
			hint = "; did you mean " + close + "?"
		}
		return &exit{exitUsage, fmt.Errorf("the rendering has nothing called %q%s", name, hint)}
	}
	return a.print(cmd, r.Explained, func(w io.Writer) {
		fmt.Fprintf(w, "%s (%s)\n", r.Explained.Name, r.Explained.Kind)
		for _, o := range r.Explained.Values {
			printOrigin(w, o, 1)
		}
		if len(r.Explained.After) > 0 {
			fmt.Fprintln(w, "\ncomes after")
			for _, x := range r.Explained.After {
				fmt.Fprintf(w, "  %s (%s): %s\n", x.Name, x.Gate, x.Why)
			}
		}
	})
}

// printOrigin tells a value, where it came from, and below it what it was
// computed from.
func printOrigin(w io.Writer, o render.Origin, depth int) {
	indent := strings.Repeat("  ", depth)
	value := ""
	if o.Value != nil {
		value = " = " + clip(review.Line(o.Value), 100)
	}
	fmt.Fprintf(w, "%s%s%s\n%s    %s\n", indent, o.Path, value, indent, o.From)
	if len(o.Waits) > 0 {
		fmt.Fprintf(w, "%s    waits for %s\n", indent, strings.Join(o.Waits, ", "))
	}
	for _, r := range o.Reads {
		printOrigin(w, r, depth+2)
	}
}

func printRendering(w io.Writer, r *exchange.Rendered) {
	fmt.Fprintf(w, "%s %s for %s in %s (rendered outside a stack; its id is the fixed one)\n\n", r.Template.Name,
		r.Template.Version, review.OrDash(r.Stack.Account), review.OrDash(r.Stack.Region))
	columns(w, "RESOURCE\tTYPE\tAFTER\tWANTED", func(row func(string, ...any)) {
		for _, res := range r.Resources {
			var after []string
			for _, x := range res.After {
				after = append(after, x.Name)
			}
			row("%s\t%s\t%s\t%s", res.Name, res.Type, review.OrDash(clip(strings.Join(after, ", "), 44)),
				wantLine(res.Want))
		}
	})
	if len(r.Outputs) > 0 {
		fmt.Fprintln(w)
		columns(w, "OUTPUT\tVALUE\tABOUT", func(row func(string, ...any)) {
			for _, o := range r.Outputs {
				row("%s\t%s\t%s", o.Name, clip(review.Value(o.Value), 100), o.About)
			}
		})
	}
	fmt.Fprintln(w)
	if r.Cost != nil {
		fmt.Fprintf(w, "cost      %s\n", review.CostLine(*r.Cost, price.Cost{}))
	}
	fmt.Fprintf(w, "duration  usually %s; decided by %s\n", resource.FormatSpan(r.Seconds),
		review.OrDash(strings.Join(r.Longest, " > ")))
}

// wantLine tells what is known of a resource on one line; what it waits for is
// told by what it comes after.
func wantLine(want map[string]any) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(want)) {
		if name == "name" || name == "tags" || len(resource.Waits(want[name])) > 0 {
			continue
		}
		parts = append(parts, name+"="+clip(review.Value(want[name]), 60))
	}
	return review.OrDash(strings.Join(parts, " "))
}

func clip(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}
