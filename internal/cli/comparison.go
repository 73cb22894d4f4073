package cli

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/core/fit"
	"undersail/internal/core/lang"
	"undersail/internal/core/price"
	"undersail/internal/proposing"
	"undersail/internal/review"
)

func (a *app) compareCommand() *cobra.Command {
	var g given
	var presets, with, vary, fixed, regions []string
	cmd := &cobra.Command{
		Use:   "compare TEMPLATE",
		Short: "Put variants of a template side by side: presets, inputs, licences, regions",
		Args:  cobra.ExactArgs(1),
		Long: "Put variants of a template side by side, with what they have, cost and take, and from which use " +
			"on\none is cheaper than another. Without further flags the presets of the template are compared.",
		Example: "  undersail compare warning-site --account saltmere-lab --region north-fell --inputs " +
			"site.inputs.yaml\n" +
			"  undersail compare warning-site --account saltmere-lab --inputs site.inputs.yaml --regions " +
			"north-fell,long-sound\n" +
			"  undersail compare forecast --account saltmere-lab --region north-fell --vary licence=by-the-hour,own " +
			"--fixed licence=own=90",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, t, err := a.asked(cmd, &g, args[0])
			if err != nil {
				return err
			}
			q := proposing.Compared{NewProposal: n}
			if q.Variants, err = variants(cmd, t, presets, with, vary, regions); err != nil {
				return err
			}
			if q.Fixed, err = amounts(fixed); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			found, err := decode[proposing.Comparison](c.CompareVariants(cmd.Context(), q))
			if err != nil {
				return a.told(cmd, err)
			}
			return a.print(cmd, found, func(w io.Writer) { printComparison(w, found, q.Fixed) })
		},
	}
	g.flags(cmd)
	f := cmd.Flags()
	f.StringSliceVar(&presets, "presets", nil, "presets to compare")
	f.StringArrayVar(&with, "with", nil, "inputs file that is a variant of its own")
	f.StringArrayVar(&vary, "vary", nil, "values of an input to compare, as NAME=VALUE,VALUE")
	f.StringSliceVar(&regions, "regions", nil, "regions to compare")
	f.StringArrayVar(&fixed, "fixed", nil, "what a variant costs a month beside the cloud's bill, as VARIANT=AMOUNT")
	a.libraryFlag(cmd)
	a.outputFlag(cmd)
	return cmd
}

// variants reads what is to be compared; none is the presets of the template.
func variants(cmd *cobra.Command, t *lang.Template,
	presets, with, vary, regions []string) ([]proposing.NewVariant, error) {
	var out []proposing.NewVariant
	for _, p := range presets {
		out = append(out, proposing.NewVariant{Name: p, Preset: p})
	}
	for _, file := range with {
		filled, err := (&given{files: []string{file}}).fill(cmd, t)
		if err != nil {
			return nil, err
		}
		out = append(out, proposing.NewVariant{
			Name:   strings.TrimSuffix(strings.TrimSuffix(filled.files[0].From, ".yaml"), ".inputs")[len("file "):],
			Layers: filled.files,
		})
	}
	for _, pair := range vary {
		name, list, ok := strings.Cut(pair, "=")
		if !ok || list == "" {
			return nil, &exit{exitUsage, fmt.Errorf("--vary takes NAME=VALUE,VALUE, not %q", pair)}
		}
		for _, v := range strings.Split(list, ",") {
			filled, err := (&given{values: []string{name + "=" + v}}).fill(cmd, t)
			if err != nil {
				return nil, err
			}
			out = append(out, proposing.NewVariant{Name: name + "=" + v, Inputs: filled.single.Inputs})
		}
	}
	for _, r := range regions {
		out = append(out, proposing.NewVariant{Name: r, Region: r})
	}
	return out, nil
}

// amounts reads VARIANT=AMOUNT; a variant's own name may hold an equals sign.
func amounts(pairs []string) (map[string]float64, error) {
	out := map[string]float64{}
	for _, pair := range pairs {
		i := strings.LastIndex(pair, "=")
		if i < 0 {
			return nil, &exit{exitUsage, fmt.Errorf("--fixed takes VARIANT=AMOUNT, not %q", pair)}
		}
		v, err := strconv.ParseFloat(pair[i+1:], 64)
		if err != nil || v < 0 {
			return nil, &exit{exitUsage,
				fmt.Errorf("--fixed takes VARIANT=AMOUNT with an amount of money, not %q", pair)}
		}
		out[pair[:i]] = v
	}
	return out, nil
}

// sideBySide is how many variants a line of 100 characters has room for.
const sideBySide = 4

func printComparison(w io.Writer, c proposing.Comparison, fixed map[string]float64) {
	fmt.Fprintf(w, "%s in %s; prices in %s\n%s\n", c.Template, c.Account, currencyOf(c.Variants), asOf(c.At))
	for list := range slices.Chunk(c.Variants, sideBySide) {
		fmt.Fprintln(w)
		head := ""
		for _, v := range list {
			head += "\t" + clip(v.Name, 20)
		}
		columns(w, head, func(row func(string, ...any)) {
			line := func(name string, of func(fit.Variant) string) {
				text := name
				for _, v := range list {
					text += "\t" + of(v)
				}
				row("%s", text)
			}
			line("region", func(v fit.Variant) string { return v.Region })
			line("machines", func(v fit.Variant) string { return fmt.Sprint(v.Machines) })
			line("vcpus", func(v fit.Variant) string { return fmt.Sprint(v.VCPUs) })
			line("memory", func(v fit.Variant) string { return dataWords(v.MemoryBytes) })
			line("storage", func(v fit.Variant) string { return dataWords(v.StorageBytes) })
			line("an hour", func(v fit.Variant) string { return priced(v.Cost, v.Cost.Hour, 3) })
			line("a month", func(v fit.Variant) string { return priced(v.Cost, v.Cost.Month, 0) })
			line("a month ahead", func(v fit.Variant) string { return money(v.Cost.Ahead, 0) })
			if slices.ContainsFunc(c.Variants, func(v fit.Variant) bool { return v.Cost.Licence > 0 }) {
				line("of it licences", func(v fit.Variant) string {
					return money(v.Cost.Licence*price.HoursPerMonth, 0)
				})
			}
			if len(fixed) > 0 {
				line("and a month beside", func(v fit.Variant) string { return money(fixed[v.Name], 0) })
			}
			line("duration", func(v fit.Variant) string { return review.Seconds(v.Seconds) })
			line("can be made", func(v fit.Variant) string {
				if n := len(v.Errors); n > 0 {
					return fmt.Sprintf("no (%d)", n)
				}
				return "yes"
			})
		})
	}
	for _, v := range c.Variants {
		if len(v.Errors) > 0 {
			fmt.Fprintf(w, "\n%s\n", v.Name)
			printErrors(w, v.Errors)
		}
	}
	if len(c.Overtakings) > 0 {
		fmt.Fprintln(w)
	}
	for _, o := range c.Overtakings {
		if o.Ahead {
			wrapped(w, fmt.Sprintf("from %.0f hours of use a month on, %s is cheaper paid a month ahead", o.Hours,
				o.Than), 0)
			continue
		}
		wrapped(w, fmt.Sprintf("from %.0f hours of use a month on, %s is cheaper than %s", o.Hours, o.Cheaper, o.Than),
			0)
	}
}

func currencyOf(list []fit.Variant) string {
	for _, v := range list {
		if v.Cost.Currency != "" {
			return v.Cost.Currency
		}
	}
	return "no currency"
}

// priced tells a cost, and where a part of it is not told that it is more.
func priced(c price.Cost, amount float64, digits int) string {
	text := money(amount, digits)
	switch {
	case len(c.Untold) > 0 && amount == 0:
		return "not told"
	case len(c.Untold) > 0:
		return text + " and more"
	}
	return text
}
