package cli

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/offer"
	"undersail/internal/core/price"
	"undersail/internal/core/resource"
	"undersail/internal/core/storage"
	"undersail/internal/review"
)

// picked are the flags with which offers are narrowed and ordered.
type picked struct {
	lists, families    []string
	architecture, zone string
	memory, sort       string
	work, disk         string
	vcpus              int64
}

// offerLists are the lists that offers have, in the order in which they are shown.
// Limits are shown only where they are asked for.
var offerLists = []string{"sizes", "disks", "images", "features", "quotas", "limits"}

// sizeOrders are what sizes can be ordered by; the best comes first.
var sizeOrders = map[string]func(a, b offer.Size) int{
	"price":   func(a, b offer.Size) int { return cmp.Compare(a.Hour, b.Hour) },
	"vcpus":   func(a, b offer.Size) int { return cmp.Compare(b.VCPUs, a.VCPUs) },
	"memory":  func(a, b offer.Size) int { return cmp.Compare(b.MemoryBytes, a.MemoryBytes) },
	"speed":   func(a, b offer.Size) int { return cmp.Compare(b.Speed, a.Speed) },
	"network": func(a, b offer.Size) int { return cmp.Compare(b.NetworkGbps, a.NetworkGbps) },
	"disk":    func(a, b offer.Size) int { return cmp.Compare(b.DiskMBps, a.DiskMBps) },
	"name":    func(a, b offer.Size) int { return strings.Compare(a.Name, b.Name) },
}

func (a *app) offersCommand() *cobra.Command {
	var at place
	var p picked
	var refresh bool
	orders := slices.Sorted(maps.Keys(sizeOrders))
	cmd := &cobra.Command{
		Use:   "offers",
		Short: "Show what a region sells an account, with prices and quotas",
		Args:  cobra.NoArgs,
		Example: "  undersail offers --account saltmere-lab --region north-fell\n  undersail offers --account " +
			"saltmere-lab --region north-fell --only sizes --vcpus 4 --memory 16GiB --sort price\n" +
			"  undersail offers --account saltmere-lab --region north-fell --only images,disks --zone " +
			"north-fell-a\n  undersail offers --account saltmere-lab --region north-fell --work small-writes --disk " +
			"2TiB\n  undersail offers --account saltmere-lab --region north-fell -o json > offers.json",
		RunE: func(cmd *cobra.Command, args []string) error {
			for _, l := range p.lists {
				if !slices.Contains(offerLists, l) {
					return &exit{exitUsage, fmt.Errorf("--only takes %s, not %q", strings.Join(offerLists, ", "), l)}
				}
			}
			if p.work != "" && !slices.Contains(storage.WorkNames(), p.work) {
				return &exit{exitUsage, fmt.Errorf("--work is one of %s, not %q",
					strings.Join(storage.WorkNames(), ", "), p.work)}
			}
			if sizeOrders[p.sort] == nil && p.sort != "" {
				return &exit{exitUsage, fmt.Errorf("--sort takes %s, not %q", strings.Join(orders, ", "), p.sort)}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := at.settled(a, cmd, c); err != nil {
				return err
			}
			params := &contract.GetOffersParams{Region: at.region}
			if refresh {
				params.Refresh = &refresh
			}
			o, err := decode[offer.Offers](c.GetOffers(cmd.Context(), at.account, params))
			if err != nil {
				return err
			}
			if err := p.narrow(&o); err != nil {
				return err
			}
			if p.work != "" || p.disk != "" {
				return a.printAdvice(cmd, p, o)
			}
			return a.print(cmd, o, func(w io.Writer) { p.print(w, o) })
		},
	}
	at.flags(cmd)
	f := cmd.Flags()
	f.StringSliceVar(&p.lists, "only", nil,
		"lists to show: "+strings.Join(offerLists, ", ")+"; limits only when they are named")
	f.StringSliceVar(&p.families, "family", nil, "sizes of these families")
	f.StringVar(&p.architecture, "architecture", "", "sizes and images of this architecture")
	f.Int64Var(&p.vcpus, "vcpus", 0, "sizes with so many processors, at least")
	f.StringVar(&p.memory, "memory", "", "sizes with so much memory, at least")
	f.StringVar(&p.zone, "zone", "", "sizes and disks that this zone sells")
	f.StringVar(&p.work, "work", "", "advise disks for this work: "+strings.Join(storage.WorkNames(), ", "))
	f.StringVar(&p.disk, "disk", "", "size of the disk that is advised, such as 2TiB")
	f.StringVar(&p.sort, "sort", "", "order sizes by "+strings.Join(orders, ", "))
	f.BoolVar(&refresh, "refresh", false, "ask the cloud now")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) offers(cmd *cobra.Command, account, region string) (offer.Offers, error) {
	c, err := a.client()
	if err != nil {
		return offer.Offers{}, err
	}
	return decode[offer.Offers](c.GetOffers(cmd.Context(), account, &contract.GetOffersParams{Region: region}))
}

// narrow leaves of the offers what the flags ask for, in the order they ask for.
func (p picked) narrow(o *offer.Offers) error {
	memory := int64(0)
	if p.memory != "" {
		bytes, err := resource.ParseData(p.memory)
		if err != nil {
			return &exit{exitUsage, fmt.Errorf("--memory: %w", err)}
		}
		memory = bytes
	}
	if p.zone != "" && !slices.Contains(o.Zones, p.zone) {
		return &exit{exitUsage, fmt.Errorf("region %s has no zone %q; its zones are %s", o.Region, p.zone,
			strings.Join(o.Zones, ", "))}
	}
	sold := func(zones []string) bool { return p.zone == "" || slices.Contains(zones, p.zone) }
	o.Sizes = slices.DeleteFunc(o.Sizes, func(s offer.Size) bool {
		return s.VCPUs < p.vcpus || s.MemoryBytes < memory ||
			p.architecture != "" && s.Architecture != p.architecture || !sold(s.Zones) ||
			len(p.families) > 0 && !slices.Contains(p.families, s.Family) &&
				!slices.Contains(p.families, strings.SplitN(s.Name, "-", 2)[0])
	})
	o.DiskTypes = slices.DeleteFunc(o.DiskTypes, func(d offer.DiskType) bool { return !sold(d.Zones) })
	o.Images = slices.DeleteFunc(o.Images,
		func(i offer.Image) bool { return p.architecture != "" && i.Architecture != p.architecture })
	if order := sizeOrders[p.sort]; order != nil {
		slices.SortStableFunc(o.Sizes, order)
	}
	return nil
}

func (p picked) print(w io.Writer, o offer.Offers) {
	fmt.Fprintf(w, "%s, region %s, zones %s; %s\n%s\n", o.Cloud, o.Region, zonesIn(o.Region, o.Zones), pricesIn(o),
		asOf(o.At))
	for _, list := range []struct {
		name  string
		print func(io.Writer, offer.Offers)
	}{
		{"sizes", printSizes},
		{"disks", printDisks},
		{"images", printImages},
		{"features", printFeatures},
		{"quotas", printQuotas},
		{"limits", printLimits},
	} {
		if len(p.lists) == 0 && list.name != "limits" || slices.Contains(p.lists, list.name) {
			fmt.Fprintln(w)
			list.print(w, o)
		}
	}
}

// soldIn tells in which zones something is sold, in short.
func soldIn(o offer.Offers, zones []string) string {
	switch len(zones) {
	case 0:
		return "not here"
	case len(o.Zones):
		return "all"
	}
	return zonesIn(o.Region, zones)
}

func printSizes(w io.Writer, o offer.Offers) {
	columns(w, "SIZE\tFAMILY\tVCPUS\tMEMORY\tSPEED\tNETWORK\tDISKS\tLOCAL\tHOUR\tMONTH AHEAD\tZONES",
		func(row func(string, ...any)) {
			for _, s := range o.Sizes {
				where := soldIn(o, s.Zones)
				if s.Withdrawn {
					where = "withdrawn"
				} else if s.Host && len(s.Zones) > 0 {
					where += ", on a host"
				}
				row("%s\t%s\t%d\t%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s", s.Name, s.Family, s.VCPUs, dataWords(s.MemoryBytes),
					money(s.Speed, 2), figure(s.NetworkGbps), figure(s.DiskMBps), dataWords(s.LocalBytes),
					money(s.Hour, 4), money(s.Month, 0), where)
			}
		})
	fmt.Fprintln(w, "network in Gbit/s, disks in MB/s; a speed of 2 is twice that of 1")
}

func printDisks(w io.Writer, o offer.Offers) {
	columns(w, "DISK TYPE\tFOR\tFROM\tTO\tMB/S OF 1TIB\tOPERATIONS\tMONTH OF 1TIB\tZONES",
		func(row func(string, ...any)) {
			for _, d := range o.DiskTypes {
				mbps, ops := d.Throughput(1 << 40)
				row("%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s", d.Name, strings.Join(d.For, " "), dataWords(d.MinBytes),
					dataWords(d.MaxBytes), figure(mbps), figure(ops), money(d.GiBHour*1024*price.HoursPerMonth, 0),
					soldIn(o, d.Zones))
			}
		})
}

// printAdvice ranks the disk types for some work, with what speaks for and against each.
func (a *app) printAdvice(cmd *cobra.Command, p picked, o offer.Offers) error {
	need := storage.Need{Work: p.work, Zone: p.zone}
	if p.disk != "" {
		bytes, err := resource.ParseData(p.disk)
		if err != nil {
			return &exit{exitUsage, fmt.Errorf("--disk: %w", err)}
		}
		need.Bytes = bytes
	}
	advice, err := storage.Advise(need, &o)
	if err != nil {
		return &exit{exitUsage, err}
	}
	return a.print(cmd, advice, func(w io.Writer) {
		fmt.Fprintf(w, "disks of region %s, the advised first; %s\n%s\n\n", o.Region, pricesIn(o), asOf(o.At))
		columns(w, "DISK TYPE\tSIZE\tMB/S\tOPERATIONS\tMONTH\tZONES", func(row func(string, ...any)) {
			for _, x := range advice {
				row("%s\t%s\t%s\t%s\t%s\t%s", x.Type, dataWords(x.Bytes), figure(x.MBps), figure(x.Ops),
					money(x.Hour*price.HoursPerMonth, 2), soldIn(o, x.Zones))
			}
		})
		for _, x := range advice {
			fmt.Fprintln(w)
			wrapped(w, x.Type+": "+strings.Join(slices.Concat(x.WhyNot, x.Why), "; "), 0)
		}
	})
}

func printImages(w io.Writer, o offer.Offers) {
	columns(w, "IMAGE\tUSER\tCPU\tMEMORY\tDISK\tENDS\tTERMS\tLICENCES\tPACKAGES", func(row func(string, ...any)) {
		for _, i := range o.Images {
			terms := "-"
			if i.Terms != nil {
				if terms = i.Terms.Name; i.Terms.Accepted {
					terms += " (accepted)"
				}
			}
			var licences []string
			for _, l := range i.Licences {
				licences = append(licences, l.Name)
			}
			packages := "not told"
			if i.Packages != nil {
				packages = fmt.Sprint(len(i.Packages))
			}
			row("%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s", i.Name, i.User, i.Architecture, dataWords(i.MinMemoryBytes),
				dataWords(i.MinDiskBytes), review.OrDash(i.Ends), terms, review.OrDash(strings.Join(licences, " ")),
				packages)
		}
	})
}

func printFeatures(w io.Writer, o offer.Offers) {
	columns(w, "FEATURE\tABOUT", func(row func(string, ...any)) {
		for _, name := range slices.Sorted(maps.Keys(o.Features)) {
			about := o.Features[name]
			if slices.Contains(o.Off, name) {
				about += " (off until a proposal uses it)"
			}
			row("%s\t%s", name, about)
		}
	})
}

func printQuotas(w io.Writer, o offer.Offers) {
	columns(w, "QUOTA\tUSED\tLIMIT\tLEFT", func(row func(string, ...any)) {
		for _, name := range slices.Sorted(maps.Keys(o.Quotas)) {
			q := o.Quotas[name]
			row("%s\t%d\t%d\t%d", name, q.Used, q.Limit, q.Left())
		}
	})
}

// printLimits tells what the cloud takes of values, by type and property.
func printLimits(w io.Writer, o offer.Offers) {
	columns(w, "VALUE\tTAKEN", func(row func(string, ...any)) {
		for _, name := range slices.Sorted(maps.Keys(o.Limits)) {
			if shape, there := resource.ShapeOf(name); there {
				row("%s\t%s", name, o.Limits[name].Words(shape))
			}
		}
	})
}

// pricesIn says in which currency prices are, or that nobody tells any.
func pricesIn(o offer.Offers) string {
	if o.Currency == "" {
		return "prices not told: give them with undersail accounts prices"
	}
	return "prices in " + o.Currency
}
