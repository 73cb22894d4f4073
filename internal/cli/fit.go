package cli

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/core/fit"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
	"undersail/internal/core/storage"
	"undersail/internal/proposing"
	"undersail/internal/review"
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
	cmd := &cobra.Command{
		Use:   "fit",
		Short: "Find where a need or a template can be had, best first, and what keeps the others from it",
		Args:  cobra.NoArgs,
		Long: "Rank regions, zones, sizes and disks of an account against a need, by the price or by the price " +
			"of\nwhat the work is measured by; or, with --template, tell in which regions a template can run as it is.",
		Example: "  undersail fit --account saltmere-lab --vcpus 4 --memory 16GiB --zones 2\n" +
			"  undersail fit --account saltmere-lab --count 3 --memory 32GiB --disk 2TiB --throughput 400 --by disk\n" +
			"  undersail fit --account saltmere-lab --vcpus 8 --figure plain-8=410 --figure brisk-8=530 " +
			"--by figures\n" +
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
			found, err := decode[proposing.Found](c.FitNeed(cmd.Context(), q))
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
		},
	}
	g.flags(cmd)
	cmd.Flags().MarkHidden("region") // --regions narrows here
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
func (n *wanted) search(account string) (proposing.Search, error) {
	if account == "" {
		return proposing.Search{}, &exit{exitUsage,
			fmt.Errorf("name the account with --account; list them with: undersail accounts")}
	}
	for flag, into := range map[string]struct {
		text  string
		bytes *int64
	}{
		"memory": {n.memory, &n.need.Machine.MemoryBytes},
		"local":  {n.local, &n.need.Machine.LocalBytes},
		"disk":   {n.disk, &n.need.Disk.Bytes},
	} {
		if into.text == "" {
			continue
		}
		bytes, err := resource.ParseData(into.text)
		if err != nil {
			return proposing.Search{}, &exit{exitUsage, fmt.Errorf("--%s: %w", flag, err)}
		}
		*into.bytes = bytes
	}
	for _, pair := range n.figures {
		size, text, ok := strings.Cut(pair, "=")
		figure, err := strconv.ParseFloat(text, 64)
		if !ok || err != nil || figure <= 0 {
			return proposing.Search{}, &exit{exitUsage,
				fmt.Errorf("--figure takes SIZE=FIGURE with a positive figure, not %q", pair)}
		}
		if n.need.Figures == nil {
			n.need.Figures = map[string]float64{}
		}
		n.need.Figures[size] = figure
	}
	if work := n.need.Disk.Work; work != "" && !slices.Contains(storage.WorkNames(), work) {
		return proposing.Search{}, &exit{exitUsage,
			fmt.Errorf("--work is one of %s, not %q", strings.Join(storage.WorkNames(), ", "), work)}
	}
	n.need.Machine.Sizes, n.need.Regions, n.need.Types = n.prefer, n.regions, n.types
	return proposing.Search{Account: account, Need: n.need, Most: max(n.most, rejectedRead)}, nil
}

func printFound(w io.Writer, q proposing.Search, most int, f proposing.Found) {
	fmt.Fprintf(w, "%d ways fit and %d do not; ranked by %s\n", f.Fitting, f.Others, rankedBy(q.Need.By))
	fmt.Fprintln(w, asOf(f.At))
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
				cells := []string{x.Region, zonesIn(x.Region, x.Zones), x.Size.Name, diskOf(x), money(x.Hour, 3),
					money(x.Month, 0), money(x.Ahead, 0)}
				if unit != "" {
					cells = append(cells, money(x.PerUnit, 2))
				}
				row("%s", strings.Join(append(cells,
					review.OrDash(strings.ReplaceAll(strings.Join(x.Spare, ", "), " of memory", ""))), "\t"))
			}
		})
		best := f.Fits[0]
		fmt.Fprintln(w)
		wrapped(w, fmt.Sprintf("prices in %s for %d of them; after the first the quotas of %s have left: %s",
			best.Currency, max(q.Need.Count, 1), best.Region, quotasLeft(best.QuotaLeft)), 0)
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
			return y.DiskType == x.DiskType &&
				slices.EqualFunc(x.WhyNot, y.WhyNot,
					func(a, b fit.Reason) bool { return plain(x, a.Message) == plain(y, b.Message) })
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

func diskOf(x fit.Answer) string {
	if x.DiskType == "" {
		return "-"
	}
	return x.DiskType + " " + dataWords(x.Disk)
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
	names := slices.SortedFunc(maps.Keys(left),
		func(a, b string) int { return cmp.Or(cmp.Compare(left[a], left[b]), strings.Compare(a, b)) })
	for _, name := range names {
		parts = append(parts, fmt.Sprintf("%s %d", name, left[name]))
	}
	return review.OrDash(strings.Join(parts, ", "))
}

// asked is a template with inputs as calls about it take them.
func (a *app) asked(cmd *cobra.Command, g *given, template string) (proposing.NewProposal, *lang.Template, error) {
	n := proposing.NewProposal{Stack: "draft", Account: g.account, Region: g.region}
	if g.account == "" {
		return n, nil, &exit{exitUsage,
			fmt.Errorf("name the account with --account; list them with: undersail accounts")}
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
	found, err := decode[proposing.Comparison](c.FitTemplate(cmd.Context(), n))
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

func printPlaces(w io.Writer, c proposing.Comparison) {
	runs := 0
	for _, v := range c.Variants {
		if len(v.Errors) == 0 {
			runs++
		}
	}
	fmt.Fprintf(w, "%s runs as it is in %d of %d regions of %s\n%s\n\n", c.Template, runs, len(c.Variants), c.Account,
		asOf(c.At))
	columns(w, "REGION\tRUNS\tMACHINES\tVCPUS\tHOUR\tMONTH\tAHEAD\tQUOTAS LEFT", func(row func(string, ...any)) {
		for _, v := range c.Variants {
			verdict := "yes"
			if n := len(v.Errors); n > 0 {
				verdict = fmt.Sprintf("no (%d)", n)
			}
			row("%s\t%s\t%d\t%d\t%s\t%s\t%s\t%s", v.Region, verdict, v.Machines, v.VCPUs, money(v.Cost.Hour, 3),
				money(v.Cost.Month, 0), money(v.Cost.Ahead, 0), tightest(v.QuotaLeft))
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
