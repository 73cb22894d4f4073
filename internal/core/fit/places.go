package fit

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// Totals are what a rendering has in all.
type Totals struct {
	Resources    int   `json:"resources"`
	Machines     int64 `json:"machines"`
	VCPUs        int64 `json:"vcpus"`
	MemoryBytes  int64 `json:"memory_bytes"`
	StorageBytes int64 `json:"storage_bytes"`
}

// Total adds up machines, processors, memory and storage of a rendering. A pool counts
// as many members as it begins with.
func Total(r *render.Rendering, offers offer.Everywhere) Totals {
	var t Totals
	for _, res := range r.Resources {
		if res.Find != nil {
			continue
		}
		t.Resources++
		count, storage := int64(0), ""
		switch res.Type {
		case resource.TypeInstance:
			count = 1
		case resource.TypePool:
			if count, _ = res.Want["members"].(int64); count == 0 {
				count, _ = res.Want["least"].(int64)
			}
		case resource.TypeDatabase:
			count = 1
			storage, _ = res.Want["storage"].(string)
		case resource.TypeDisk, resource.TypeSharedFiles:
			storage, _ = res.Want["size"].(string)
		}
		if bytes, err := resource.ParseData(storage); err == nil {
			t.StorageBytes += bytes
		}
		t.Machines += count
		if o := offers.In(res.Region); o != nil && count > 0 {
			name, _ := res.Want["size"].(string)
			if s, sold := o.Size(name); sold {
				t.VCPUs += count * s.VCPUs
				t.MemoryBytes += count * s.MemoryBytes
			}
		}
	}
	return t
}

// Variant is a template with inputs at a place, as it would come out there.
type Variant struct {
	Name   string `json:"name"`
	Region string `json:"region"`
	Totals
	Cost price.Cost `json:"cost"`
	// Seconds is the expected duration on the account's clock.
	Seconds float64 `json:"seconds"`
	// Errors are what speaks against it; Instead are the zones and such that were taken
	// in the place of those of another region.
	Errors  []render.Finding `json:"errors"`
	Instead []string         `json:"instead,omitempty"`
	// QuotaLeft is what the quotas of the region have left after it.
	QuotaLeft map[string]int64 `json:"quota_left,omitempty"`
}

// Take renders a variant of a request at a place. Everywhere has the offers of the
// place as Home.
func Take(b *budget.Budget, name string, request render.Request, offers offer.Everywhere) Variant {
	v := Variant{Name: name, Errors: []render.Finding{}}
	if offers.Home != nil {
		v.Region = offers.Home.Region
		request.Stack.Region, request.Offers = offers.Home.Region, offers.Home
	}
	request.Rehearse = true
	r := render.Render(b, request)
	findings := slices.Concat(r.Findings, Rendering(r, offers), Reaching(r, nil, nil, offers),
		policy.Check(r, policy.Context{Offers: offers}).Findings)
	for _, f := range findings {
		if f.Severity == lang.Error {
			v.Errors = append(v.Errors, f)
		}
	}
	v.Totals, v.Cost = Total(r, offers), price.Of(r.Resources, offers)
	seconds, _ := r.Duration()
	v.Seconds = float64(seconds)
	v.QuotaLeft = left(r, offers)
	return v
}

// left tells what the quotas of the home region have left after a rendering.
func left(r *render.Rendering, offers offer.Everywhere) map[string]int64 {
	if offers.Home == nil {
		return nil
	}
	out := map[string]int64{}
	for _, res := range r.Resources {
		if o := offers.In(res.Region); res.Find == nil && o == offers.Home {
			t, _ := resource.ByName(res.Type)
			t.Takes(res.Want, o, func(name string, n int64) {
				if q, told := o.Quotas[name]; told {
					if _, there := out[name]; !there {
						out[name] = q.Left()
					}
					out[name] -= n
				}
			})
		}
	}
	return out
}

// Places renders a request in every region: where it can run as it is, for how much,
// and what is missing elsewhere. Zones that inputs pick in one region are replaced by
// those in the same places of another. What runs comes first, the cheapest first.
func Places(b *budget.Budget, request render.Request, offers []*offer.Offers) []Variant {
	var out []Variant
	for _, o := range offers {
		out = append(out, Place(b, o.Region, request, offers, o))
	}
	slices.SortStableFunc(out, func(a, b Variant) int {
		return cmp.Or(cmp.Compare(min(len(a.Errors), 1), min(len(b.Errors), 1)),
			cmp.Compare(len(a.Errors), len(b.Errors)), cmp.Compare(a.Cost.Hour, b.Cost.Hour),
			cmp.Compare(a.Region, b.Region))
	})
	return out
}

// Place renders a request in one region of an account whose offers are given.
func Place(b *budget.Budget, name string, request render.Request, offers []*offer.Offers, o *offer.Offers) Variant {
	all := map[string]*offer.Offers{}
	for _, x := range offers {
		all[x.Region] = x
	}
	var instead []string
	request.Inputs, instead = translated(request.Template, request.Inputs, offers, o)
	v := Take(b, name, request, offer.Everywhere{Home: o, Elsewhere: all})
	v.Instead = instead
	return v
}

// translated gives inputs in which zones of other regions are replaced by those of one,
// and tells which.
func translated(t *lang.Template, inputs map[string]any, offers []*offer.Offers,
	to *offer.Offers) (map[string]any, []string) {
	out := maps.Clone(inputs)
	var told []string
	zone := func(v any) any {
		name, _ := v.(string)
		if slices.Contains(to.Zones, name) {
			return v
		}
		for _, o := range offers {
			if i := slices.Index(o.Zones, name); i >= 0 && i < len(to.Zones) {
				told = append(told, fmt.Sprintf("%s for %s", to.Zones[i], name))
				return to.Zones[i]
			}
		}
		return v
	}
	for _, in := range t.Inputs {
		switch v := out[in.Name].(type) {
		case string:
			if in.Picks == "zone" {
				out[in.Name] = zone(v)
			}
		case []any:
			if in.Picks == "zones" {
				list := make([]any, len(v))
				for i := range v {
					list[i] = zone(v[i])
				}
				out[in.Name] = list
			}
		}
	}
	return out, told
}

// Overtaking tells from which use on one variant is cheaper than another. Use is hours
// in a month; what is paid for a month costs the same whether it is used or not.
type Overtaking struct {
	Cheaper string `json:"cheaper"`
	Than    string `json:"than"`
	// Ahead says that it is the same variant, paid for a month in advance.
	Ahead bool    `json:"ahead,omitempty"`
	Hours float64 `json:"hours"` // in a month, from which on it is cheaper
}

// Bill is that of a month by its use: Fixed + Hour for each hour of use. Ahead says
// that it is paid in advance.
type Bill struct {
	Name        string
	Fixed, Hour float64
	Ahead       bool
}

// Bills gives the bills of variants: by the hour, and in advance where that is sold.
// Fixed adds what a variant costs a month beside the cloud's bill, such as a licence of
// one's own, by name.
func Bills(variants []Variant, fixed map[string]float64) []Bill {
	var out []Bill
	for _, v := range variants {
		out = append(out, Bill{v.Name, fixed[v.Name], v.Cost.Hour, false})
		if v.Cost.Ahead > 0 {
			out = append(out, Bill{v.Name, fixed[v.Name] + v.Cost.Ahead, 0, true})
		}
	}
	return out
}

// Overtakings compares every two bills by the hour, and each with the same one paid in
// advance, where they cross within a month. The one with the
// lower fixed part is cheaper below the crossing, the other above it:
// fixed1 + hour1 x = fixed2 + hour2 x.
func Overtakings(bills []Bill) []Overtaking {
	out := []Overtaking{}
	for i, a := range bills {
		for _, b := range bills[i+1:] {
			if a.Name != b.Name && (a.Ahead || b.Ahead) {
				continue
			}
			low, high := a, b
			if low.Fixed > high.Fixed {
				low, high = b, a
			}
			if low.Hour <= high.Hour {
				continue // one is cheaper at every use
			}
			if at := (high.Fixed - low.Fixed) / (low.Hour - high.Hour); at > 0 && at < price.HoursPerMonth {
				out = append(out, Overtaking{high.Name, low.Name, high.Ahead, at})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Overtaking) int {
		return cmp.Or(cmp.Compare(a.Hours, b.Hours), strings.Compare(a.Cheaper, b.Cheaper))
	})
	return out
}
