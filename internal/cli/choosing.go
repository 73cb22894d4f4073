package cli

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/core/fit"
	"undersail/internal/core/lang"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/storage"
	"undersail/internal/service"
)

// wanted are the flags with which a need is told.
type wanted struct {
	need                            fit.Need
	memory, local, disk             string
	figures, prefer, regions, types []string
	template                        string
	most                            int
}

func (a *app) fitCommand() *cobra.Command {
	var n wanted
	var g given
	names, _ := fit.Measures()
	cmd := &cobra.Command{Use: "fit", Short: "Find where a need or a template can be had, best first, and what keeps the others from it", Args: cobra.NoArgs,
		Long: "Rank regions, zones, sizes and disks of an account against a need, by the price or by the price of\nwhat the work is measured by; or, with --template, tell in which regions a template can run as it is.",
		Example: "  undersail fit --account saltmere-lab --vcpus 4 --memory 16GiB --zones 2\n" +
			"  undersail fit --account saltmere-lab --count 3 --memory 32GiB --disk 2TiB --throughput 400 --by disk\n" +
			"  undersail fit --account saltmere-lab --vcpus 8 --figure plain-8=410 --figure brisk-8=530 --by figures\n" +
			"  undersail fit --account saltmere-lab --template warning-site --inputs site.inputs.yaml",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if n.template != "" {
				return a.fitTemplate(cmd, &g, n.template)
			}
			q, err := n.search(g.account)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			found, err := decode[service.Found](c.FitNeed(cmd.Context(), q))
			if err != nil {
				return err
			}
			if err := a.print(cmd, found, func(w io.Writer) { printFound(w, q, n.most, found) }); err != nil {
				return err
			}
			if found.Fitting == 0 {
				return &exit{exitFindings, fmt.Errorf("nothing fits")}
			}
			return nil
		}}
	g.flags(cmd)
	cmd.Flags().Lookup("region").Usage = "" // --regions narrows here
	cmd.Flags().MarkHidden("region")
	f := cmd.Flags()
	m := &n.need.Machine
	f.StringVar(&n.template, "template", "", "template of the library or a file: where can it run as it is?")
	f.Int64Var(&m.VCPUs, "vcpus", 0, "processors of a machine, at least")
	f.StringVar(&n.memory, "memory", "", "memory of a machine, at least, such as 16GiB")
	f.StringVar(&m.Architecture, "architecture", "", "x86_64 or arm64")
	f.Float64Var(&m.Speed, "speed", 0, "speed of a core, at least, beside other sizes of the cloud")
	f.Float64Var(&m.NetworkGbps, "network", 0, "Gbit/s to the network, at least")
	f.StringVar(&n.local, "local", "", "local disk of a machine, at least")
	f.BoolVar(&m.Host, "host", false, "a dedicated host is at hand")
	f.StringSliceVar(&n.prefer, "prefer", nil, "sizes that you would rather have, the first most")
	f.Int64Var(&n.need.Count, "count", 1, "how many machines")
	f.IntVar(&n.need.Zones, "zones", 1, "over how many zones")
	f.StringVar(&n.disk, "disk", "", "disk of each machine, such as 2TiB")
	f.StringVar(&n.need.Disk.Work, "work", "", "what the disk is for: "+strings.Join(storage.WorkNames(), ", "))
	f.Float64Var(&n.need.Disk.MBps, "throughput", 0, "MB/s that machine and disk reach together, at least")
	f.Float64Var(&n.need.Disk.Ops, "operations", 0, "operations a second of the disk, at least")
	f.StringSliceVar(&n.regions, "regions", nil, "regions that are allowed; all of the account when left out")
	f.StringSliceVar(&n.types, "type", nil, "types of resources that the cloud must have")
	f.StringSliceVar(&n.need.Features, "feature", nil, "features that the region must have")
	f.Float64Var(&n.need.MostMonth, "most-month", 0, "the most that a month may cost")
	f.StringVar(&n.need.By, "by", "price", "rank by the price of: "+strings.Join(names, ", "))
	f.StringSliceVar(&n.figures, "figure", nil, "what you measured of a size yourself, as SIZE=FIGURE; more is better")
	f.IntVar(&n.most, "most", 8, "how many answers are shown")
	a.libraryFlag(cmd)
	a.outputFlag(cmd)
	return cmd
}

// search puts the flags together.
func (n *wanted) search(account string) (service.Search, error) {
	if account == "" {
		return service.Search{}, &exit{exitUsage, fmt.Errorf("name the account with --account; list them with: undersail accounts")}
	}
	for flag, into := range map[string]struct {
		text  string
		bytes *int64
	}{"memory": {n.memory, &n.need.Machine.MemoryBytes}, "local": {n.local, &n.need.Machine.LocalBytes}, "disk": {n.disk, &n.need.Disk.Bytes}} {
		if into.text == "" {
			continue
		}
		bytes, err := resource.ParseData(into.text)
		if err != nil {
			return service.Search{}, &exit{exitUsage, fmt.Errorf("--%s: %w", flag, err)}
		}
		*into.bytes = bytes
	}
	for _, pair := range n.figures {
		size, text, ok := strings.Cut(pair, "=")
		figure, err := strconv.ParseFloat(text, 64)
		if !ok || err != nil || figure <= 0 {
			return service.Search{}, &exit{exitUsage, fmt.Errorf("--figure takes SIZE=FIGURE with a positive figure, not %q", pair)}
		}
		if n.need.Figures == nil {
			n.need.Figures = map[string]float64{}
		}
		n.need.Figures[size] = figure
	}
	if work := n.need.Disk.Work; work != "" && !slices.Contains(storage.WorkNames(), work) {
		return service.Search{}, &exit{exitUsage, fmt.Errorf("--work is one of %s, not %q", strings.Join(storage.WorkNames(), ", "), work)}
	}
	n.need.Machine.Sizes, n.need.Regions, n.need.Types = n.prefer, n.regions, n.types
	return service.Search{Account: account, Need: n.need, Most: max(n.most, rejectedRead)}, nil
}

func printFound(w io.Writer, q service.Search, most int, f service.Found) {
	fmt.Fprintf(w, "%d ways fit and %d do not; ranked by %s\n", f.Fitting, f.Others, rankedBy(q.Need.By))
	fmt.Fprintln(w, told(f.At))
	if len(f.Fits) > 0 {
		fmt.Fprintln(w)
		unit := f.Fits[0].Unit
		head := "REGION\tZONES\tSIZE\tDISK\tHOUR\tMONTH\tAHEAD"
		if unit != "" {
			head += "\tPER UNIT"
		}
		head += "\tSPARE"
		columns(w, head, func(row func(string, ...any)) {
			for _, x := range f.Fits[:min(most, len(f.Fits))] {
				cells := []string{x.Region, zonesIn(x.Region, x.Zones), x.Size.Name, diskOf(x), money(x.Hour, 3), money(x.Month, 0), money(x.Ahead, 0)}
				if unit != "" {
					cells = append(cells, money(x.PerUnit, 2))
				}
				row("%s", strings.Join(append(cells, orDash(strings.ReplaceAll(strings.Join(x.Spare, ", "), " of memory", ""))), "\t"))
			}
		})
		best := f.Fits[0]
		fmt.Fprintln(w)
		wrapped(w, fmt.Sprintf("prices in %s for %d of them; after the first the quotas of %s have left: %s", best.Currency, max(q.Need.Count, 1), best.Region, quotasLeft(best.QuotaLeft)), 0)
	}
	if len(f.Rejected) == 0 {
		return
	}
	fmt.Fprintln(w, "\nnearest of those that do not fit")
	for _, group := range alike(f.Rejected) {
		x := group[0]
		var sizes, regions []string
		for _, y := range group {
			sizes, regions = append(sizes, y.Size.Name), append(regions, y.Region)
		}
		with := ""
		if x.DiskType != "" {
			with = " with " + x.DiskType
		}
		wrapped(w, fmt.Sprintf("%s%s in %s", once(sizes), with, once(regions)), 2)
		for _, why := range x.WhyNot {
			text := why.Message
			if why.Remedy != "" {
				text += "; " + why.Remedy
			}
			wrapped(w, text, 6)
		}
	}
}

// once lists names, each once, the first few.
func once(names []string) string {
	var out []string
	for _, n := range names {
		if !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	if len(out) > 6 {
		return strings.Join(out[:6], ", ") + fmt.Sprintf(" and %d more", len(out)-6)
	}
	return strings.Join(out, ", ")
}

// rejectedShown is how many kinds of rejections are shown, and how many are read for
// them.
const (
	rejectedShown = 4
	rejectedRead  = 60
)

// alike gathers rejections for the same reasons, the first few.
func alike(list []fit.Answer) [][]fit.Answer {
	var out [][]fit.Answer
	for _, x := range list {
		same := func(group []fit.Answer) bool {
			y := group[0]
			plain := func(a fit.Answer, text string) string {
				return strings.NewReplacer(a.Region, "", a.Size.Name, "").Replace(text)
			}
			return y.DiskType == x.DiskType && slices.EqualFunc(x.WhyNot, y.WhyNot, func(a, b fit.Reason) bool { return plain(x, a.Message) == plain(y, b.Message) })
		}
		if i := slices.IndexFunc(out, same); i >= 0 {
			out[i] = append(out[i], x)
		} else if len(out) < rejectedShown {
			out = append(out, []fit.Answer{x})
		}
	}
	return out
}

func rankedBy(by string) string {
	names, about := fit.Measures()
	return about[max(slices.Index(names, cmp.Or(by, "price")), 0)]
}

// told says how old offers are.
func told(at time.Time) string {
	if at.IsZero() {
		return "it is not known when the offers were told"
	}
	age := time.Since(at)
	text := "offers as of " + at.Local().Format("2006-01-02 15:04")
	switch {
	case age < 90*time.Second:
		return text
	case age < 2*time.Hour:
		text += fmt.Sprintf(", %d minutes ago", int(age.Minutes()))
	default:
		text += fmt.Sprintf(", %s ago", resource.FormatSpan(int64(age.Hours())*3600))
	}
	if age > 15*time.Minute {
		text += ": they are old"
	}
	return text
}

// zonesIn tells zones in short: what they share with the region's name is left out.
func zonesIn(region string, zones []string) string {
	short := make([]string, len(zones))
	for i, z := range zones {
		short[i] = strings.TrimPrefix(z, region+"-")
	}
	return orDash(strings.Join(short, " "))
}

func diskOf(x fit.Answer) string {
	if x.DiskType == "" {
		return "-"
	}
	return x.DiskType + " " + dataWords(x.Disk)
}

// dataWords tells an amount of data in few characters.
func dataWords(bytes int64) string {
	exact := resource.FormatData(bytes)
	switch {
	case bytes == 0:
		return "-"
	case len(exact) <= 7:
		return exact
	case bytes >= 1<<40:
		return fmt.Sprintf("%.3gTiB", float64(bytes)/(1<<40))
	}
	return fmt.Sprintf("%.3gGiB", float64(bytes)/(1<<30))
}

// money tells an amount; 0 is one that is not told or not sold.
func money(amount float64, digits int) string {
	if amount == 0 {
		return "-"
	}
	return strconv.FormatFloat(amount, 'f', digits, 64)
}

// tightest tells the quotas of which least is left.
func tightest(left map[string]int64) string {
	all := strings.Split(quotasLeft(left), ", ")
	if len(all) > 2 {
		return strings.Join(all[:2], ", ") + ", ..."
	}
	return strings.Join(all, ", ")
}

func quotasLeft(left map[string]int64) string {
	var parts []string
	names := slices.SortedFunc(maps.Keys(left), func(a, b string) int { return cmp.Or(cmp.Compare(left[a], left[b]), strings.Compare(a, b)) })
	for _, name := range names {
		parts = append(parts, fmt.Sprintf("%s %d", name, left[name]))
	}
	return orDash(strings.Join(parts, ", "))
}

// wrapped writes a text in lines of at most 96 characters, indented.
func wrapped(w io.Writer, text string, indent int) {
	line := strings.Repeat(" ", indent)
	for i, word := range strings.Fields(text) {
		if i > 0 && len([]rune(line))+1+len([]rune(word)) > 96 {
			fmt.Fprintln(w, line)
			line = strings.Repeat(" ", indent+2) + word
			continue
		}
		if i > 0 {
			line += " "
		}
		line += word
	}
	fmt.Fprintln(w, line)
}

// asked is a template with inputs as calls about it take them.
func (a *app) asked(cmd *cobra.Command, g *given, template string) (service.NewProposal, *lang.Template, error) {
	n := service.NewProposal{Stack: "draft", Account: g.account, Region: g.region}
	if g.account == "" {
		return n, nil, &exit{exitUsage, fmt.Errorf("name the account with --account; list them with: undersail accounts")}
	}
	t, err := a.proposedTemplate(cmd, &n, template)
	if err != nil {
		return n, nil, err
	}
	filled, err := g.fill(cmd, t)
	a.places = filled.places
	n.Preset, n.Layers, n.Inputs = g.preset, filled.files, filled.single.Inputs
	return n, t, err
}

func (a *app) fitTemplate(cmd *cobra.Command, g *given, template string) error {
	n, _, err := a.asked(cmd, g, template)
	if err != nil {
		return err
	}
	c, err := a.client()
	if err != nil {
		return err
	}
	found, err := decode[service.Comparison](c.FitTemplate(cmd.Context(), n))
	if err != nil {
		return a.told(cmd, err)
	}
	if err := a.print(cmd, found, func(w io.Writer) { printPlaces(w, found) }); err != nil {
		return err
	}
	if len(found.Variants) > 0 && len(found.Variants[0].Errors) > 0 {
		return &exit{exitFindings, fmt.Errorf("it runs nowhere as it is")}
	}
	return nil
}

func printPlaces(w io.Writer, c service.Comparison) {
	runs := 0
	for _, v := range c.Variants {
		if len(v.Errors) == 0 {
			runs++
		}
	}
	fmt.Fprintf(w, "%s runs as it is in %d of %d regions of %s\n%s\n\n", c.Template, runs, len(c.Variants), c.Account, told(c.At))
	columns(w, "REGION\tRUNS\tMACHINES\tVCPUS\tHOUR\tMONTH\tAHEAD\tQUOTAS LEFT", func(row func(string, ...any)) {
		for _, v := range c.Variants {
			verdict := "yes"
			if n := len(v.Errors); n > 0 {
				verdict = fmt.Sprintf("no (%d)", n)
			}
			row("%s\t%s\t%d\t%d\t%s\t%s\t%s\t%s", v.Region, verdict, v.Machines, v.VCPUs, money(v.Cost.Hour, 3), money(v.Cost.Month, 0), money(v.Cost.Ahead, 0), tightest(v.QuotaLeft))
		}
	})
	for _, v := range c.Variants {
		if len(v.Errors)+len(v.Instead) == 0 {
			continue
		}
		fmt.Fprintf(w, "\n%s\n", v.Region)
		if len(v.Instead) > 0 {
			wrapped(w, "taken there: "+strings.Join(v.Instead, ", "), 2)
		}
		printErrors(w, v.Errors)
	}
}

// printErrors tells findings of a variant, what is alike once.
func printErrors(w io.Writer, list []render.Finding) {
	seen := map[string]int{}
	for _, f := range list {
		seen[f.Message]++
	}
	for _, f := range list {
		n := seen[f.Message]
		if n == 0 {
			continue
		}
		seen[f.Message] = 0
		place := f.Place
		if n > 1 {
			place += fmt.Sprintf(" and %d more", n-1)
		}
		wrapped(w, place+": "+f.Message, 2)
		if f.Remedy != "" {
			wrapped(w, "remedy: "+f.Remedy, 6)
		}
	}
}

func (a *app) compareCommand() *cobra.Command {
	var g given
	var presets, with, vary, fixed, regions []string
	cmd := &cobra.Command{Use: "compare TEMPLATE", Short: "Put variants of a template side by side: presets, inputs, licences, regions", Args: cobra.ExactArgs(1),
		Long: "Put variants of a template side by side, with what they have, cost and take, and from which use on\none is cheaper than another. Without further flags the presets of the template are compared.",
		Example: "  undersail compare warning-site --account saltmere-lab --region north-fell --inputs site.inputs.yaml\n" +
			"  undersail compare warning-site --account saltmere-lab --inputs site.inputs.yaml --regions north-fell,long-sound\n" +
			"  undersail compare forecast --account saltmere-lab --region north-fell --vary licence=by-the-hour,own --fixed licence=own=90",
		RunE: func(cmd *cobra.Command, args []string) error {
			n, t, err := a.asked(cmd, &g, args[0])
			if err != nil {
				return err
			}
			q := service.Compared{NewProposal: n}
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
			found, err := decode[service.Comparison](c.CompareVariants(cmd.Context(), q))
			if err != nil {
				return a.told(cmd, err)
			}
			return a.print(cmd, found, func(w io.Writer) { printComparison(w, found, q.Fixed) })
		}}
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
func variants(cmd *cobra.Command, t *lang.Template, presets, with, vary, regions []string) ([]service.NewVariant, error) {
	var out []service.NewVariant
	for _, p := range presets {
		out = append(out, service.NewVariant{Name: p, Preset: p})
	}
	for _, file := range with {
		filled, err := (&given{files: []string{file}}).fill(cmd, t)
		if err != nil {
			return nil, err
		}
		out = append(out, service.NewVariant{Name: strings.TrimSuffix(strings.TrimSuffix(filled.files[0].From, ".yaml"), ".inputs")[len("file "):], Layers: filled.files})
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
			out = append(out, service.NewVariant{Name: name + "=" + v, Inputs: filled.single.Inputs})
		}
	}
	for _, r := range regions {
		out = append(out, service.NewVariant{Name: r, Region: r})
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
			return nil, &exit{exitUsage, fmt.Errorf("--fixed takes VARIANT=AMOUNT with an amount of money, not %q", pair)}
		}
		out[pair[:i]] = v
	}
	return out, nil
}

// sideBySide is how many variants a line of 100 characters has room for.
const sideBySide = 4

func printComparison(w io.Writer, c service.Comparison, fixed map[string]float64) {
	fmt.Fprintf(w, "%s in %s; prices in %s\n%s\n", c.Template, c.Account, currencyOf(c.Variants), told(c.At))
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
				line("of it licences", func(v fit.Variant) string { return money(v.Cost.Licence*price.HoursPerMonth, 0) })
			}
			if len(fixed) > 0 {
				line("and a month beside", func(v fit.Variant) string { return money(fixed[v.Name], 0) })
			}
			line("duration", func(v fit.Variant) string { return seconds(v.Seconds) })
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
			wrapped(w, fmt.Sprintf("from %.0f hours of use a month on, %s is cheaper paid a month ahead", o.Hours, o.Than), 0)
			continue
		}
		wrapped(w, fmt.Sprintf("from %.0f hours of use a month on, %s is cheaper than %s", o.Hours, o.Cheaper, o.Than), 0)
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
