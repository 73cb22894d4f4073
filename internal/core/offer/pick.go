package offer

import (
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/resource"
)

// Option is one thing that can be chosen, with what it is and why it does not do. What
// it is in figures stands in the field of its kind.
type Option struct {
	Value    string    `json:"value"`
	About    string    `json:"about,omitempty"`
	WhyNot   []string  `json:"why_not,omitempty"`
	Size     *Size     `json:"size,omitempty"`
	DiskType *DiskType `json:"disk_type,omitempty"`
	Image    *Image    `json:"image,omitempty"`
	// Month is the price of a month, of a disk type that of 1 TiB; it is 0 where the cloud
	// tells none.
	Month float64 `json:"month,omitempty"`
	// MBps and Ops are what 1 TiB of a disk type gives; 0 is not told.
	MBps float64 `json:"mbps,omitempty"`
	Ops  float64 `json:"ops,omitempty"`
	// Reaches tells what a disk type gives as it grows, from its smallest to its largest.
	Reaches []Reached `json:"reaches,omitempty"`
	// Left is how many more of a size its quotas take; nil where none is told.
	Left *int64 `json:"left,omitempty"`
	// Holds names what is in a network, or sold in a zone.
	Holds []string `json:"holds,omitempty"`
}

// Reached is what a disk of a size gives.
type Reached struct {
	Bytes int64   `json:"bytes"`
	MBps  float64 `json:"mbps"`
	Ops   float64 `json:"ops"`
}

// grownTo are the sizes in GiB that disk types are compared at: dense where disks are
// usually chosen.
var grownTo = []int64{16, 32, 64, 128, 256, 384, 512, 768, 1024, 1280, 1536, 1792, 2048, 2560, 3072, 3584, 4096}

// reaches tells what a disk type gives as it grows.
func (d DiskType) reaches() []Reached {
	var out []Reached
	for _, gib := range grownTo {
		if bytes := gib << 30; bytes >= d.MinBytes && bytes <= d.MaxBytes {
			mbps, ops := d.Throughput(bytes)
			out = append(out, Reached{bytes, mbps, ops})
		}
	}
	return out
}

// Options lists what can be picked of a kind, those that fit first. The need narrows
// sizes. False says that offers do not tell of the kind.
func (o *Offers) Options(kind string, n Need) ([]Option, bool) {
	out := []Option{}
	switch kind {
	case "zone", "zones":
		for _, z := range o.Zones {
			x := Option{Value: z}
			for _, size := range o.Sizes {
				if !size.Withdrawn && slices.Contains(size.Zones, z) {
					x.Holds = append(x.Holds, size.Name)
				}
			}
			x.About = fmt.Sprintf("sells %d of %d sizes", len(x.Holds), len(o.Sizes))
			out = append(out, x)
		}
	case "size":
		for _, c := range o.Fit(n) {
			out = append(out, Option{
				Value: c.Size.Name,
				About: fmt.Sprintf("%d vcpus, %s, %s", c.Size.VCPUs, resource.FormatData(c.Size.MemoryBytes),
					o.priced(c.Size.Hour, "h")),
				WhyNot: c.WhyNot,
				Size:   &c.Size,
				Month:  c.Size.Hour * resource.HoursPerMonth,
				Left:   o.more(c.Size.Name),
			})
		}
	case "engine":
		for _, e := range o.Engines {
			out = append(out, Option{Value: e, About: "storage " + o.priced(o.DatabaseGiBHour*1000, "h for 1000GiB")})
		}
	case "family":
		for _, h := range o.Hosts {
			out = append(out, Option{
				Value: h.Family,
				About: fmt.Sprintf("carries %d vcpus, %s, %s", h.VCPUs, resource.FormatData(h.MemoryBytes),
					o.priced(h.Hour, "h")),
				Month: h.Hour * resource.HoursPerMonth,
				Holds: h.Zones,
			})
		}
	case "host":
		for _, h := range o.OwnHosts {
			x := Option{
				Value: h.Name,
				About: fmt.Sprintf("%s in %s, %d of %d vcpus taken, %s", h.Family, h.Zone, h.Used, h.VCPUs, h.ID),
			}
			if h.Used >= h.VCPUs {
				x.WhyNot = append(x.WhyNot, "it has no room left")
			}
			out = append(out, x)
		}
	case "image":
		for _, i := range o.Images {
			out = append(out, Option{
				Value: i.Name,
				About: strings.TrimSpace(fmt.Sprintf("%s %s, %s", i.System, i.Version, i.Architecture)),
				Image: &i,
			})
		}
	case "disk_type":
		for _, d := range o.DiskTypes {
			mbps, ops := d.Throughput(1 << 40)
			out = append(out, Option{
				Value:    d.Name,
				About:    d.About + ", " + o.priced(d.GiBHour*1000, "h for 1000GiB"),
				DiskType: &d,
				Month:    d.GiBHour * 1024 * resource.HoursPerMonth,
				MBps:     mbps,
				Ops:      ops,
				Reaches:  d.reaches(),
			})
		}
	case "network":
		for _, x := range o.Networks {
			n := Option{Value: x.Name, About: x.Range + ", " + x.ID}
			for _, sub := range o.Subnets {
				if sub.Network == x.ID {
					n.Holds = append(n.Holds, fmt.Sprintf("%s %s, %d addresses taken", sub.Name, sub.Range, sub.Used))
				}
			}
			out = append(out, n)
		}
	case "subnet":
		for _, x := range o.Subnets {
			out = append(out, Option{
				Value: o.networkName(x.Network) + "/" + x.Name,
				About: fmt.Sprintf("%s, %s, %d addresses taken", x.Range, x.ID, x.Used),
			})
		}
	case "key_pair":
		for _, x := range o.KeyPairs {
			out = append(out, Option{Value: x.Name, About: x.ID})
		}
	default:
		return nil, false
	}
	return out, true
}

// more is how many more machines of a size the quotas take; nil where none is told.
func (o *Offers) more(size string) *int64 {
	instance, _ := resource.ByName(resource.TypeInstance)
	var left *int64
	instance.Takes(map[string]any{"size": size}, o, func(name string, n int64) {
		if q, told := o.Quotas[name]; told {
			if m := max(q.Left(), 0) / n; left == nil || m < *left {
				left = &m
			}
		}
	})
	return left
}

func (o *Offers) priced(amount float64, per string) string {
	if amount == 0 {
		return "price not told"
	}
	return fmt.Sprintf("%.3f %s/%s", amount, o.Currency, per)
}

func (o *Offers) networkName(id string) string {
	for _, n := range o.Networks {
		if n.ID == id {
			return n.Name
		}
	}
	return id
}

// there are networks, subnets, key pairs and dedicated hosts, with what they are called: by id, name
// and, for a subnet, NETWORK/NAME.
func (o *Offers) there() map[string][]Named {
	out := map[string][]Named{}
	for _, n := range o.Networks {
		out["network"] = append(out["network"], Named{n.ID, n.Name})
	}
	for _, s := range o.Subnets {
		out["subnet"] = append(out["subnet"], Named{s.ID, s.Name}, Named{s.ID, s.Network + "/" + s.Name},
			Named{s.ID, o.networkName(s.Network) + "/" + s.Name})
	}
	out["key_pair"] = o.KeyPairs
	for _, h := range o.OwnHosts {
		out["host"] = append(out["host"], Named{h.ID, h.Name})
	}
	return out
}

// Find gives the id of a network, subnet, key pair or dedicated host by id or name; a subnet also by
// NETWORK/NAME. Where it is not exactly one it says what there is instead: something of
// another kind, several of the name, or the names there are.
func (o *Offers) Find(kind, text string) (id, otherwise string, names []string) {
	all := o.there()
	var ids []string
	for _, x := range all[kind] {
		if x.ID == text {
			return text, "", nil
		}
		if x.Name == text && !slices.Contains(ids, x.ID) {
			ids = append(ids, x.ID)
		}
		if !slices.Contains(names, x.Name) {
			names = append(names, x.Name)
		}
	}
	if len(ids) == 1 {
		return ids[0], "", nil
	}
	if len(ids) > 1 {
		return "", fmt.Sprintf("%d have that name: choose one by its id, %s", len(ids), strings.Join(ids, " or ")), nil
	}
	for _, other := range []string{"network", "subnet", "key_pair", "host"} {
		for _, x := range all[other] {
			if other != kind && x.ID == text {
				return "", fmt.Sprintf("%s is a %s (%s), and not a %s", text, resource.Words(other), x.Name,
					resource.Words(kind)), names
			}
		}
	}
	return "", "", names
}
