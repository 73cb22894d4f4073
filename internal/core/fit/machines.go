package fit

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// features reports what a resource is said to need of its region and the region has
// not.
func (c *check) features(o *offer.Offers, r *render.Resource) {
	for _, f := range r.Features {
		if _, has := o.Features[f]; has {
			continue
		}
		remedy := "do without, or ask whoever runs the cloud"
		if where := c.having(o, f); where != "" {
			remedy = "choose " + where + ", which has it, or do without"
		}
		c.find(lang.Error, "not-supported", r.Name, remedy, "region %s has no %s", o.Region, f)
	}
}

// having names the other regions that have a feature.
func (c *check) having(o *offer.Offers, feature string) string {
	var out []string
	for _, other := range c.others(o) {
		if _, has := other.Features[feature]; has {
			out = append(out, other.Region)
		}
	}
	return strings.Join(out, " or ")
}

// image checks that an image is sold, and that it can install what the first boot asks
// for.
func (c *check) image(o *offer.Offers, r *render.Resource, place, name string) {
	image, sold := o.Image(name)
	if !sold {
		c.find(lang.Error, "not-offered", place, choose(name, o.Images, func(i offer.Image) string { return i.Name }),
			"region %s has no image %q", o.Region, name)
		return
	}
	data, _ := r.Want["user_data"].(map[string]any)
	packages, _ := data["packages"].([]any)
	for _, item := range packages {
		p, _ := item.(string)
		if p == "" || image.Packages == nil || slices.Contains(image.Packages, p) {
			continue
		}
		var able []string
		for _, other := range o.Images {
			if slices.Contains(other.Packages, p) && other.Architecture == image.Architecture {
				able = append(able, other.Name)
			}
		}
		remedy := choose(p, image.Packages, func(s string) string { return s })
		if len(able) > 0 {
			remedy = "choose an image that can: " + strings.Join(able, ", ")
		}
		severity := lang.Warning // it comes up all the same, without what it is there for
		if len(r.Checks) > 1 {
			severity = lang.Error
		}
		c.find(severity, "package", r.Name+".user_data", remedy,
			"image %s cannot install the package %q, so its first boot fails", name, p)
	}
}

// licence checks that an image is sold with a licence.
func (c *check) licence(o *offer.Offers, r *render.Resource, place, name string) {
	of, _ := r.Want["image"].(string)
	image, sold := o.Image(of)
	if _, has := image.Licence(name); !sold || has {
		return
	}
	remedy := "leave it out: the image has no licences to choose from"
	if len(image.Licences) > 0 {
		remedy = choose(name, image.Licences,
			func(l offer.Licence) string { return fmt.Sprintf("%s (%s)", l.Name, l.About) })
	}
	c.find(lang.Error, "not-offered", place, remedy, "image %s has no licence %q", of, name)
}

// size checks a machine's size against the zone and the image.
func (c *check) size(o *offer.Offers, r *render.Resource, place, size string) {
	zones := c.standsIn(o, r)
	if slices.ContainsFunc(zones, func(z string) bool { return !slices.Contains(o.Zones, z) }) || len(zones) == 0 {
		return // that there is no such zone is told
	}
	zone := zones[0]
	need := offer.Need{Zones: zones, Host: r.Want["host"] != nil}
	if name, ok := r.Want["image"].(string); ok {
		if image, sold := o.Image(name); sold {
			need.MemoryBytes, need.Architecture = image.MinMemoryBytes, image.Architecture
		}
	}
	s, sold := o.Size(size)
	if !sold {
		c.find(lang.Error, "not-offered", place, o.Suggest(need), "cloud %s has no size %q", o.Cloud, size)
		return
	}
	why := o.WhyNot(s, need)
	if len(why) == 0 {
		return
	}
	remedy := o.Suggest(need)
	if s.Host && !need.Host {
		remedy = "allocate a dedicated host and name it under `host`, or choose another size; " + remedy
	}
	if where := c.where(o, zone, func(x *offer.Offers, zones []string) bool {
		return x.Fits(size, offer.Need{Zones: zones, Host: need.Host})
	}); where != "" && len(why) == 1 && !slices.Contains(s.Zones, zone) {
		remedy += "; " + size + " itself is sold in " + where
	}
	f := render.Finding{
		Severity: lang.Error,
		Code:     "not-offered",
		Place:    place,
		Remedy:   remedy,
		Message:  fmt.Sprintf("size %s does not do: %s", size, strings.Join(why, "; ")),
	}
	if fits, err := o.Cheapest(need); err == nil {
		f.Take = fits
	}
	c.add(f)
}

// where names other zones of a region, and other regions, of which something holds.
func (c *check) where(o *offer.Offers, zone string, holds func(o *offer.Offers, zones []string) bool) string {
	var places []string
	for _, z := range o.Zones {
		if z != zone && holds(o, []string{z}) {
			places = append(places, "zone "+z)
		}
	}
	for _, other := range c.others(o) {
		if slices.ContainsFunc(other.Zones, func(z string) bool { return holds(other, []string{z}) }) {
			places = append(places, "region "+other.Region)
		}
	}
	return strings.Join(places, ", ")
}

// others are the offers of the account's other regions that are known, by region.
func (c *check) others(o *offer.Offers) []*offer.Offers {
	all := map[string]*offer.Offers{}
	for _, x := range slices.Concat([]*offer.Offers{c.offers.Home}, c.offers.Others,
		slices.Collect(maps.Values(c.offers.Elsewhere))) {
		if x != nil && x.Region != o.Region {
			all[x.Region] = x
		}
	}
	var out []*offer.Offers
	for _, region := range slices.Sorted(maps.Keys(all)) {
		out = append(out, all[region])
	}
	return out
}

// regions are the names of the account's regions that are known.
func (c *check) regions() []string {
	out := []string{c.offers.Home.Region}
	for _, x := range c.others(c.offers.Home) {
		out = append(out, x.Region)
	}
	return out
}

func (c *check) diskType(o *offer.Offers, r *render.Resource, place, name string) {
	zone := c.zoneOf(r)
	if !slices.Contains(o.Zones, zone) {
		return
	}
	dt, sold := o.DiskType(name)
	if sold && slices.Contains(dt.Zones, zone) {
		return
	}
	var here []string
	for _, d := range o.DiskTypes {
		if slices.Contains(d.Zones, zone) {
			here = append(here, d.Name)
		}
	}
	remedy := choose(name, here, func(s string) string { return s })
	if where := c.where(o, zone, func(x *offer.Offers, zones []string) bool {
		d, sold := x.DiskType(name)
		return sold && slices.Contains(d.Zones, zones[0])
	}); where != "" {
		remedy += "; " + name + " itself is sold in " + where
	}
	c.find(lang.Error, "not-offered", place, remedy, "zone %s has no disk type %q", zone, name)
}

// diskSize checks a capacity against what its disk type has.
func (c *check) diskSize(o *offer.Offers, r *render.Resource, text string) {
	name, _ := r.Want["type"].(string)
	dt, sold := o.DiskType(name)
	bytes, err := resource.ParseData(text)
	if sold && err == nil && (bytes < dt.MinBytes || bytes > dt.MaxBytes) {
		c.find(lang.Error, "disk-size", r.Name+".size",
			fmt.Sprintf("choose from %s to %s", resource.FormatData(dt.MinBytes), resource.FormatData(dt.MaxBytes)),
			"a %s disk cannot have %s", name, text)
	}
}

// sameZone reports a machine outside the zone of its subnet, and disks that are in
// another zone than the machine they are attached to.
func (c *check) sameZone(r *render.Resource) {
	subnet := c.target(r.Want["subnet"])
	if subnet == nil {
		return
	}
	zone := c.zoneOf(r)
	if within, ok := subnet.Want["zone"].(string); ok && within != zone {
		c.find(lang.Error, "zones", r.Name+".zone", "choose the zone of the subnet, or another subnet",
			"%s is in zone %s, and its subnet %s in zone %s", r.Name, zone, subnet.Name, within)
	}
	disks, _ := r.Want["disks"].([]any)
	for _, item := range disks {
		fields, _ := item.(map[string]any)
		disk := c.target(fields["disk"])
		if disk == nil || disk.Find != nil || len(r.Zones) > 1 || len(disk.Zones) > 1 {
			continue // where it turns out to be is known only then
		}
		if at := c.zoneOf(disk); at != zone {
			c.find(lang.Error, "zones", r.Name+".disks", fmt.Sprintf("write `zone: %s` under %s", zone, disk.Declared),
				"%s is in zone %s, and its disk %s in zone %s", r.Name, zone, disk.Name, at)
		}
	}
}

// wayOut reports machines that install packages in a subnet from which nothing gets out.
func (c *check) wayOut(r *render.Resource) {
	data, _ := r.Want["user_data"].(map[string]any)
	packages, _ := data["packages"].([]any)
	if len(packages) == 0 {
		return
	}
	public := r.Want["address"] != nil || r.Want["public"] == true
	subnets := []any{r.Want["subnet"]}
	if list, several := r.Want["subnets"].([]any); several {
		subnets = list
	}
	cards, _ := r.Want["cards"].([]any)
	for _, item := range cards {
		card, _ := item.(map[string]any)
		subnets, public = append(subnets, card["subnet"]), public || card["address"] != nil
	}
	closed := ""
	for _, id := range subnets {
		subnet := c.target(id)
		if subnet == nil || subnet.Find != nil {
			return // nothing is known of it
		}
		switch subnet.Want["way_out"] {
		case "none":
			closed = subnet.Name + " has no way out"
		case "address":
			if public {
				return
			}
			closed = subnet.Name + " lets out only what has a public address of its own"
		default:
			return
		}
	}
	c.find(lang.Error, "no-way-out", r.Name+".user_data",
		"write `way_out: gateway` in the subnet, or choose an image that has the packages already",
		"%s fetches packages at its first boot, and its subnet %s", r.Name, closed)
}
