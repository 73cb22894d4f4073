// Package offer knows what a cloud sells an account in a region, and whether a
// rendering can be had there: sizes by zone, disk types, images, quotas and
// what of them is used. It computes on offers it is given and fetches none.
package offer

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"undersail/internal/core/resource"
)

// Offers is what one account can have in one region at one moment. Prices are
// in Currency per hour.
type Offers struct {
	Cloud     string           `json:"cloud"`
	Account   string           `json:"account"`
	Region    string           `json:"region"`
	Currency  string           `json:"currency"`
	Zones     []string         `json:"zones"`
	Sizes     []Size           `json:"sizes"`
	DiskTypes []DiskType       `json:"disk_types"`
	Images    []Image          `json:"images"`
	Quotas    map[string]Quota `json:"quotas"`
	// AddressHour is the price of a public address per hour.
	AddressHour float64 `json:"address_hour"`
	// Networks are the ranges that the account's networks have there.
	Networks []Network `json:"networks"`
	// Types lists the resource types that the cloud supports.
	Types []string `json:"types"`
	// Without lists properties by type that the cloud has no equivalent of.
	Without map[string][]string `json:"without,omitempty"`
	// Extra lists, by type, the options of its own that the cloud takes.
	Extra map[string][]string `json:"extra,omitempty"`
	// Limits bound what the cloud takes of a property, by "type.property".
	Limits map[string]Limit `json:"limits,omitempty"`
}

// Everywhere is what an account can have in the region of a stack, and in the
// others that its template names, by region.
type Everywhere struct {
	Home      *Offers
	Elsewhere map[string]*Offers
}

// At gives offers of one region alone.
func At(o Offers) Everywhere { return Everywhere{Home: &o} }

// In gives the offers of a region; "" is the stack's own. It is nil where they are
// not known.
func (e Everywhere) In(region string) *Offers {
	if region == "" || e.Home != nil && e.Home.Region == region {
		return e.Home
	}
	return e.Elsewhere[region]
}

// Limit bounds the values of a property. Zero fields bound nothing.
type Limit struct {
	// Shortest and Longest bound the prefix of a range in bits; IPv4 says that no
	// other family will do.
	Shortest int  `json:"shortest,omitempty"`
	Longest  int  `json:"longest,omitempty"`
	IPv4     bool `json:"ipv4,omitempty"`
	// Step is what an amount of data must be a multiple of, in bytes.
	Step int64 `json:"step,omitempty"`
}

// Breaks tells why a value is beyond the limit, with a value that is not, or "".
func (l Limit) Breaks(text string) (why, instead string) {
	if p, err := resource.ParseRange(text); err == nil {
		switch {
		case l.IPv4 && !p.Addr().Is4():
			return "only IPv4 ranges will do", "choose an IPv4 range, such as 10.40.0.0/20"
		case l.Shortest > 0 && p.Bits() < l.Shortest, l.Longest > 0 && p.Bits() > l.Longest:
			return fmt.Sprintf("ranges go from /%d to /%d", l.Shortest, l.Longest), "choose a range of another length"
		}
	}
	if bytes, err := resource.ParseData(text); err == nil && l.Step > 0 && bytes%l.Step != 0 {
		up := (bytes/l.Step + 1) * l.Step
		return "it comes in whole " + resource.FormatData(l.Step)[1:], "round it up to " + resource.FormatData(up)
	}
	return "", ""
}

// Network is a network that is there, whoever made it.
type Network struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Range string `json:"range"`
}

// Size is one machine size.
type Size struct {
	Name         string   `json:"name"`
	Family       string   `json:"family"`
	VCPUs        int64    `json:"vcpus"`
	MemoryBytes  int64    `json:"memory_bytes"`
	Architecture string   `json:"architecture"`
	Hour         float64  `json:"hour"`
	Zones        []string `json:"zones"`
	Withdrawn    bool     `json:"withdrawn,omitempty"`
}

// DiskType is one kind of disk; GiBHour is the price of a GiB for an hour.
type DiskType struct {
	Name     string   `json:"name"`
	About    string   `json:"about"`
	GiBHour  float64  `json:"gib_hour"`
	MinBytes int64    `json:"min_bytes"`
	MaxBytes int64    `json:"max_bytes"`
	Zones    []string `json:"zones"`
}

// Image is one machine image with the least machine it runs on.
type Image struct {
	Name           string `json:"name"`
	User           string `json:"user"`
	Architecture   string `json:"architecture"`
	MinMemoryBytes int64  `json:"min_memory_bytes"`
}

// Quota is how much of something the account may have and has.
type Quota struct {
	Limit int64 `json:"limit"`
	Used  int64 `json:"used"`
}

// Size finds a size by name.
func (o Offers) Size(name string) (Size, bool) {
	return find(o.Sizes, func(s Size) bool { return s.Name == name })
}

// DiskType finds a disk type by name.
func (o Offers) DiskType(name string) (DiskType, bool) {
	return find(o.DiskTypes, func(d DiskType) bool { return d.Name == name })
}

// Image finds an image by name.
func (o Offers) Image(name string) (Image, bool) {
	return find(o.Images, func(i Image) bool { return i.Name == name })
}

// Amount tells how much of something an item that is sold gives or costs: the
// vcpus, memory or hour of a size, the gib_hour, least and most of a disk type,
// the memory that an image needs, the hour of an address. It makes offers a
// [resource.Market].
func (o Offers) Amount(list, item, amount string) (float64, bool) {
	switch list {
	case "size":
		if s, ok := o.Size(item); ok {
			switch amount {
			case "vcpus":
				return float64(s.VCPUs), true
			case "memory":
				return float64(s.MemoryBytes), true
			case "hour":
				return s.Hour, true
			}
		}
	case "disk_type":
		if d, ok := o.DiskType(item); ok {
			switch amount {
			case "gib_hour":
				return d.GiBHour, true
			case "least":
				return float64(d.MinBytes), true
			case "most":
				return float64(d.MaxBytes), true
			}
		}
	case "image":
		if i, ok := o.Image(item); ok && amount == "memory" {
			return float64(i.MinMemoryBytes), true
		}
	case "address":
		return o.AddressHour, amount == "hour"
	}
	return 0, false
}

func find[T any](list []T, is func(T) bool) (T, bool) {
	if i := slices.IndexFunc(list, is); i >= 0 {
		return list[i], true
	}
	var zero T
	return zero, false
}

// Need is what a machine must have. Zero fields ask nothing.
type Need struct {
	VCPUs        int64
	MemoryBytes  int64
	Architecture string
	Zones        []string // all of them must sell it
}

// Choice is one size with the reasons why it does not do; none means it fits.
type Choice struct {
	Size   Size     `json:"size"`
	WhyNot []string `json:"why_not,omitempty"`
}

// Fit ranks all sizes against a need: those that fit first, cheapest first;
// then the others with every reason.
func (o Offers) Fit(n Need) []Choice {
	choices := make([]Choice, 0, len(o.Sizes))
	for _, s := range o.Sizes {
		choices = append(choices, Choice{s, o.whyNot(s, n)})
	}
	slices.SortStableFunc(choices, func(a, b Choice) int {
		return cmp.Or(cmp.Compare(len(a.WhyNot), len(b.WhyNot)), cmp.Compare(a.Size.Hour, b.Size.Hour), cmp.Compare(a.Size.Name, b.Size.Name))
	})
	return choices
}

func (o Offers) whyNot(s Size, n Need) []string {
	var why []string
	if s.Withdrawn {
		why = append(why, "it is no longer sold")
	} else if len(s.Zones) == 0 {
		why = append(why, fmt.Sprintf("it is not sold in %s", o.Region))
	}
	if s.VCPUs < n.VCPUs {
		why = append(why, fmt.Sprintf("it has %d vcpus and %d are needed", s.VCPUs, n.VCPUs))
	}
	if s.MemoryBytes < n.MemoryBytes {
		why = append(why, fmt.Sprintf("it has %s of memory and %s are needed", resource.FormatData(s.MemoryBytes), resource.FormatData(n.MemoryBytes)))
	}
	if n.Architecture != "" && s.Architecture != n.Architecture {
		why = append(why, fmt.Sprintf("it is %s and %s is needed", s.Architecture, n.Architecture))
	}
	if len(s.Zones) > 0 {
		for _, z := range n.Zones {
			if !slices.Contains(s.Zones, z) {
				why = append(why, fmt.Sprintf("zone %s does not sell it, only %s", z, strings.Join(s.Zones, ", ")))
			}
		}
	}
	return why
}

// Suggest names up to three sizes that fit a need, with their price.
func (o Offers) Suggest(n Need) string {
	var fits []string
	for _, c := range o.Fit(n) {
		if len(c.WhyNot) == 0 && len(fits) < 3 {
			fits = append(fits, fmt.Sprintf("%s (%d vcpus, %s, %.3f %s/h)", c.Size.Name, c.Size.VCPUs, resource.FormatData(c.Size.MemoryBytes), c.Size.Hour, o.Currency))
		}
	}
	if fits == nil {
		return "nothing sold here fits; choose another region"
	}
	return "these fit: " + strings.Join(fits, ", ")
}

// Shortage is a quota that does not suffice.
type Shortage struct {
	Quota                      string
	Limit, Used, Need, Missing int64
}

// Short lists the quotas that a need would exceed, by name. A quota that the
// cloud does not report has no limit.
func (o Offers) Short(need map[string]int64) []Shortage {
	var out []Shortage
	for _, name := range slices.Sorted(maps.Keys(need)) {
		q, known := o.Quotas[name]
		if missing := q.Used + need[name] - q.Limit; known && need[name] > 0 && missing > 0 {
			out = append(out, Shortage{name, q.Limit, q.Used, need[name], missing})
		}
	}
	return out
}
