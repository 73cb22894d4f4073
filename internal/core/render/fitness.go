package render

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"undersail/internal/core/address"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// target finds the rendered resource whose id a property holds, whether the id
// is known or still pending. It is nil for an id from outside the template.
func (e *evaluator) target(id any) *Resource {
	switch v := id.(type) {
	case resource.Unresolved:
		if len(v.Waits) == 1 {
			return e.out.Resource(strings.TrimSuffix(v.Waits[0], ".id"))
		}
	case string:
		if name, ok := e.ids[v]; ok {
			return e.out.Resource(name)
		}
	}
	return nil
}

// zoneOf tells in which zone a resource will be: its own, that of its subnet,
// or the first of the region.
func (e *evaluator) zoneOf(r *Resource) string {
	if z, ok := r.Want["zone"].(string); ok {
		return z
	}
	if subnet := e.target(r.Want["subnet"]); subnet != nil && subnet != r {
		return e.zoneOf(subnet)
	}
	if e.request.Offers != nil && len(e.request.Offers.Zones) > 0 {
		return e.request.Offers.Zones[0]
	}
	return ""
}

// checkOffers reports what the region does not sell, and quotas that the new
// resources would exceed.
func (e *evaluator) checkOffers() {
	o := e.request.Offers
	need := map[string]int64{}
	for i := range e.out.Resources {
		r := &e.out.Resources[i]
		if r.Find != nil {
			continue // it exists; nothing is asked of the offers
		}
		e.checkSupport(r)
		if !slices.Contains(o.Types, r.Type) {
			e.find(lang.Error, "not-supported", r.Name, "choose an account of another cloud", "cloud %s has no resources of type %s", o.Cloud, r.Type)
		}
		if z, ok := r.Want["zone"].(string); ok {
			e.pickedZone(r.Name+".zone", z)
		}
		for _, z := range r.Zones {
			e.pickedZone(r.Name+".zone", z)
		}
		switch r.Type {
		case "instance":
			e.checkInstance(r)
		case "disk":
			e.checkDisk(r)
		}
		if !r.exists {
			for quota, n := range Draws(*r, *o) {
				need[quota] += n
			}
		}
	}
	for _, s := range o.Short(need) {
		e.find(lang.Error, "quota", "quota."+s.Quota, fmt.Sprintf("ask for %d more, or choose smaller or fewer resources", s.Missing),
			"the account may have %d %s in %s and has %d; this needs %d, %d too many", s.Limit, s.Quota, o.Region, s.Used, s.Need, s.Missing)
	}
}

// checkSupport reports what of a resource the cloud cannot do.
func (e *evaluator) checkSupport(r *Resource) {
	o := e.request.Offers
	for _, property := range o.Without[r.Type] {
		if _, wanted := r.Want[property]; wanted {
			e.find(lang.Error, "not-supported", r.Name+"."+property, "leave it out, or choose an account of another cloud", "cloud %s has no `%s` for the type %s", o.Cloud, property, r.Type)
		}
	}
	for _, option := range slices.Sorted(maps.Keys(r.Extra)) {
		if !slices.Contains(o.Extra[r.Type], option) {
			remedy := "it has none for this type"
			if known := o.Extra[r.Type]; len(known) > 0 {
				remedy = choose(option, known)
			}
			e.find(lang.Error, "not-supported", r.Name+".extra."+option, remedy, "cloud %s has no option %q for the type %s", o.Cloud, option, r.Type)
		}
	}
	if r.AtRetire == "snapshot" {
		e.find(lang.Error, "not-supported", r.Name+".at_retire", "write keep, or leave it out", "cloud %s makes no snapshots", o.Cloud)
	}
	if r.NewFirst {
		e.find(lang.Warning, "not-yet", r.Declared+".rebuild", "plan for the time between", "a rebuild of it still removes the old one before it makes the new one")
	}
}

// Draws tells how much of which quotas a new resource takes.
func Draws(r Resource, o offer.Offers) map[string]int64 {
	t, _ := resource.ByName(r.Type)
	out := map[string]int64{}
	switch r.Type {
	case "instance":
		if size, ok := o.Size(fmt.Sprint(r.Want["size"])); ok {
			out["vcpus"] = size.VCPUs
		}
		if public, _ := r.Want["public"].(bool); public {
			out["addresses"] = 1
		}
	case "disk":
		if bytes, err := resource.ParseData(fmt.Sprint(r.Want["size"])); err == nil {
			out[t.Quota] = bytes >> 30
		}
	default:
		if t.Quota != "" {
			out[t.Quota] = 1
		}
	}
	return out
}

func (e *evaluator) checkInstance(r *Resource) {
	o := e.request.Offers
	size, okSize := r.Want["size"].(string)
	imageName, okImage := r.Want["image"].(string)
	need := offer.Need{Zones: []string{e.zoneOf(r)}}
	image, sold := o.Image(imageName)
	switch {
	case okImage && !sold:
		e.find(lang.Error, "not-offered", r.Name+".image", choose(imageName, names(o.Images, func(i offer.Image) string { return i.Name })), "region %s has no image %q", o.Region, imageName)
	case okImage:
		need.MemoryBytes, need.Architecture = image.MinMemoryBytes, image.Architecture
	}
	if okSize {
		e.pickedSize(r.Name+".size", size, need)
	}
}

func (e *evaluator) checkDisk(r *Resource) {
	o := e.request.Offers
	name, ok := r.Want["type"].(string)
	if !ok {
		return
	}
	dt, sold := o.DiskType(name)
	if !sold || !slices.Contains(dt.Zones, e.zoneOf(r)) {
		var here []string
		for _, d := range o.DiskTypes {
			if slices.Contains(d.Zones, e.zoneOf(r)) {
				here = append(here, d.Name)
			}
		}
		e.find(lang.Error, "not-offered", r.Name+".type", choose(name, here), "zone %s has no disk type %q", e.zoneOf(r), name)
		return
	}
	text, _ := r.Want["size"].(string)
	bytes, err := resource.ParseData(text)
	if err == nil && (bytes < dt.MinBytes || bytes > dt.MaxBytes) {
		e.find(lang.Error, "disk-size", r.Name+".size", fmt.Sprintf("choose from %s to %s", resource.FormatData(dt.MinBytes), resource.FormatData(dt.MaxBytes)),
			"a %s disk cannot have %s", name, text)
	}
}

// checkNetworks reports new networks whose range the account already uses, with
// the next range of the same length that is free.
func (e *evaluator) checkNetworks() {
	var taken []netip.Prefix
	for _, n := range e.request.Offers.Networks {
		if p, err := netip.ParsePrefix(n.Range); err == nil && e.ids[n.ID] == "" {
			taken = append(taken, p)
		}
	}
	for i := range e.out.Resources {
		r := &e.out.Resources[i]
		at, err := resource.ParseRange(fmt.Sprint(r.Want["range"]))
		if r.Type != "network" || err != nil || r.exists {
			continue
		}
		for _, n := range e.request.Offers.Networks {
			p, err := netip.ParsePrefix(n.Range)
			if err != nil || e.ids[n.ID] != "" || !p.Overlaps(at) {
				continue
			}
			remedy := "choose another range"
			if free, ok := address.FirstFree(netip.MustParsePrefix("10.0.0.0/8"), taken, at.Bits()); ok {
				remedy = fmt.Sprintf("choose another range, such as %s, which is free", free)
			}
			e.find(lang.Error, "range-in-use", r.Name+".range", remedy, "%s overlaps %s of the network %s, which is there already", at, p, n.Name)
		}
		taken = append(taken, at)
	}
}

// checkAddresses reports subnets outside their network and ranges that overlap.
func (e *evaluator) checkAddresses() {
	type placed struct {
		name, network string
		at            netip.Prefix
	}
	var subnets []placed
	for i := range e.out.Resources {
		r := &e.out.Resources[i]
		if r.Type != "subnet" {
			continue
		}
		at, err := resource.ParseRange(fmt.Sprint(r.Want["range"]))
		network := e.target(r.Want["network"])
		if err != nil || network == nil {
			continue
		}
		whole, err := resource.ParseRange(fmt.Sprint(network.Want["range"]))
		if err == nil && !address.Inside(at, whole) {
			e.find(lang.Error, "address-plan", r.Name+".range", "choose a part of "+whole.String(), "%s lies outside the network %s, which has %s", at, network.Name, whole)
		}
		for _, other := range subnets {
			if other.network == network.Name && other.at.Overlaps(at) {
				e.find(lang.Error, "address-plan", r.Name+".range", "carve both from the network's range with carve(...)", "%s overlaps %s of %s", at, other.at, other.name)
			}
		}
		subnets = append(subnets, placed{r.Name, network.Name, at})
	}
}
