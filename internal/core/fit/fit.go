// Package fit knows whether what is wanted can be had: what the regions sell and
// support, which zones have it, what ranges are free, and whether the values of
// resources go together. It computes on offers it is given and calls nobody.
package fit

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"undersail/internal/core/change"
	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// Rendering checks a rendering that belongs to no stack: everything of it would be
// made anew.
func Rendering(r *render.Rendering, offers offer.Everywhere) []render.Finding {
	plan := change.Plan{Rendering: r}
	for _, res := range r.Resources {
		c := change.Change{Resource: res.Name, Type: res.Type, Change: change.Create, After: res.After}
		if res.Find != nil {
			c.Change = change.Same
		}
		plan.Changes = append(plan.Changes, c)
	}
	return append(Check(plan, nil, nil, offers), plan.Ordered(nil, offers).Findings...)
}

// Check reports what of a plan the regions do not sell or support, and values that
// do not go together. What stays as it is asks nothing of the offers. Found holds
// what is reported of resources that are used and not made. Without offers only
// what needs none is checked.
func Check(plan change.Plan, recorded []change.Recorded, found map[string]map[string]any, offers offer.Everywhere) []render.Finding {
	c := &check{plan: plan, offers: offers, ids: map[string]string{}, told: map[render.Finding]bool{}}
	for _, r := range recorded {
		c.ids[r.ID()] = r.Name
	}
	for name, attributes := range found {
		if id, ok := attributes["id"].(string); ok {
			c.ids[id] = name
		}
	}
	for _, f := range plan.Rendering.Findings {
		if strings.HasPrefix(f.Place, "inputs.") { // not told again of what uses the input
			c.told[render.Finding{Code: f.Code, Message: f.Message}] = true
		}
	}
	if offers.Home != nil {
		for i := range plan.Changes {
			if i < len(plan.Rendering.Resources) {
				c.resource(&plan.Rendering.Resources[i], plan.Changes[i])
			}
		}
		c.networks(recorded)
		c.rooms()
	}
	c.ranges()
	c.clashes()
	return c.out
}

type check struct {
	plan   change.Plan
	offers offer.Everywhere
	ids    map[string]string // names of what is there, by id
	told   map[render.Finding]bool
	out    []render.Finding
}

func (c *check) find(severity lang.Severity, code, place, remedy, format string, args ...any) {
	c.add(render.Finding{Severity: severity, Code: code, Place: place, Message: fmt.Sprintf(format, args...), Remedy: remedy})
}

// add adds a finding that was not told yet.
func (c *check) add(f render.Finding) {
	if !c.told[f] && !c.told[render.Finding{Code: f.Code, Message: f.Message}] {
		c.told[f] = true
		c.out = append(c.out, f)
	}
}

// target finds the rendered resource whose id a property holds, whether the id
// is known or still pending. It is nil for an id from outside the template.
func (c *check) target(id any) *render.Resource {
	switch v := id.(type) {
	case resource.Unresolved:
		if len(v.Waits) == 1 {
			return c.plan.Rendering.Resource(strings.TrimSuffix(v.Waits[0], ".id"))
		}
	case string:
		if name, ok := c.ids[v]; ok && v != "" {
			return c.plan.Rendering.Resource(name)
		}
	}
	return nil
}

// zoneOf tells in which zone a resource will be: its own, that of its subnet,
// or the first of its region.
func (c *check) zoneOf(r *render.Resource) string {
	if z, ok := r.Want["zone"].(string); ok {
		return z
	}
	if subnet := c.target(r.Want["subnet"]); subnet != nil && subnet != r {
		return c.zoneOf(subnet)
	}
	if o := c.offers.In(r.Region); o != nil && len(o.Zones) > 0 {
		return o.Zones[0]
	}
	return ""
}

// resource checks what one resource asks of its region.
func (c *check) resource(r *render.Resource, ch change.Change) {
	if r.Find != nil || ch.Change == change.Same {
		return // it exists; nothing is asked of the offers
	}
	o := c.offers.In(r.Region)
	if o == nil && c.offers.Elsewhere == nil {
		return // only the offers of one region are at hand
	}
	if o == nil {
		c.find(lang.Error, "not-offered", r.Name+".region", choose(r.Region, c.regions(), func(s string) string { return s }), "the account has no region %q", r.Region)
		return
	}
	t, _ := resource.ByName(r.Type)
	c.support(o, t, r)
	c.features(o, r)
	made := ch.Change == change.Create || ch.Change == change.Rebuild
	asked := func(property string) bool {
		return made || slices.ContainsFunc(ch.Fields, func(f change.Field) bool { return f.Name == property })
	}
	for _, p := range t.Properties {
		value, ok := r.Want[p.Name].(string)
		if !ok || value == "" || !asked(p.Name) {
			continue // nothing stands for an input that is missing, which is told
		}
		place := r.Name + "." + p.Name
		c.exists(o, place, p.Refers, value)
		if limit, bound := o.Limits[t.Name+"."+p.Name]; bound {
			if why, instead := limit.Breaks(value); why != "" {
				c.find(lang.Error, "limit", place, instead, "%s will not take %s: %s", o.Cloud, value, why)
			}
		}
		switch p.Picks {
		case "zone":
			c.zone(o, place, value)
			for _, z := range r.Zones {
				c.zone(o, place, z)
			}
		case "size":
			c.size(o, r, place, value)
		case "image":
			c.image(o, r, place, value)
		case "licence":
			c.licence(o, r, place, value)
		case "disk_type":
			c.diskType(o, r, place, value)
		}
	}
	if text, ok := r.Want["size"].(string); ok && asked("size") {
		c.diskSize(o, r, text)
	}
	if made {
		c.sameZone(r)
	}
}

// support reports what of a resource the cloud cannot do.
func (c *check) support(o *offer.Offers, t resource.Type, r *render.Resource) {
	if !slices.Contains(o.Types, r.Type) {
		c.find(lang.Error, "not-supported", r.Name, "choose an account of another cloud", "cloud %s has no resources of type %s", o.Cloud, r.Type)
	}
	for _, property := range o.Without[r.Type] {
		if _, wanted := r.Want[property]; wanted {
			var able []string
			for _, other := range c.others(o) {
				if !slices.Contains(other.Without[r.Type], property) {
					able = append(able, other.Region)
				}
			}
			if able != nil {
				c.find(lang.Error, "not-supported", r.Name+"."+property, "leave it out, or choose "+strings.Join(able, " or "), "region %s has no `%s` for the type %s", o.Region, property, r.Type)
				continue
			}
			c.find(lang.Error, "not-supported", r.Name+"."+property, "leave it out, or choose an account of another cloud", "cloud %s has no `%s` for the type %s", o.Cloud, property, r.Type)
		}
	}
	for _, option := range slices.Sorted(maps.Keys(r.Extra)) {
		if !slices.Contains(o.Extra[r.Type], option) {
			remedy := "it has none for this type"
			if known := o.Extra[r.Type]; len(known) > 0 {
				remedy = choose(option, known, func(s string) string { return s })
			}
			c.find(lang.Error, "not-supported", r.Name+".extra."+option, remedy, "cloud %s has no option %q for the type %s", o.Cloud, option, r.Type)
		}
	}
	if r.AtRetire == "snapshot" {
		c.find(lang.Error, "not-supported", r.Name+".at_retire", "write keep, or leave it out", "cloud %s makes no snapshots", o.Cloud)
	}
}

func (c *check) zone(o *offer.Offers, place, zone string) {
	if !slices.Contains(o.Zones, zone) {
		c.find(lang.Error, "not-offered", place, choose(zone, o.Zones, func(z string) string { return z }), "region %s has no zone %q", o.Region, zone)
	}
}

// size checks a machine's size against the zone and the image.
func (c *check) size(o *offer.Offers, r *render.Resource, place, size string) {
	if !slices.Contains(o.Zones, c.zoneOf(r)) {
		return // that there is no such zone is told
	}
	zone := c.zoneOf(r)
	need := offer.Need{Zones: []string{zone}, Host: r.Want["host"] != nil}
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
	f := render.Finding{Severity: lang.Error, Code: "not-offered", Place: place, Remedy: remedy, Message: fmt.Sprintf("size %s does not do: %s", size, strings.Join(why, "; "))}
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
	for _, x := range slices.Concat([]*offer.Offers{c.offers.Home}, c.offers.Others, slices.Collect(maps.Values(c.offers.Elsewhere))) {
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
		c.find(lang.Error, "disk-size", r.Name+".size", fmt.Sprintf("choose from %s to %s", resource.FormatData(dt.MinBytes), resource.FormatData(dt.MaxBytes)),
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
		c.find(lang.Error, "zones", r.Name+".zone", "choose the zone of the subnet, or another subnet", "%s is in zone %s, and its subnet %s in zone %s", r.Name, zone, subnet.Name, within)
	}
	disks, _ := r.Want["disks"].([]any)
	for _, item := range disks {
		fields, _ := item.(map[string]any)
		disk := c.target(fields["disk"])
		if disk == nil || disk.Find != nil || len(r.Zones) > 1 || len(disk.Zones) > 1 {
			continue // where it turns out to be is known only then
		}
		if at := c.zoneOf(disk); at != zone {
			c.find(lang.Error, "zones", r.Name+".disks", fmt.Sprintf("write `zone: %s` under %s", zone, disk.Declared), "%s is in zone %s, and its disk %s in zone %s", r.Name, zone, disk.Name, at)
		}
	}
}

// clashes reports resources that want what only one of them can have.
func (c *check) clashes() {
	byType := map[string][]*render.Resource{}
	for i := range c.plan.Rendering.Resources {
		r := &c.plan.Rendering.Resources[i]
		if t, _ := resource.ByName(r.Type); len(t.Unique) > 0 && r.Find == nil {
			byType[r.Type] = append(byType[r.Type], r)
		}
	}
	c.sameNames()
	for _, name := range slices.Sorted(maps.Keys(byType)) {
		t, _ := resource.ByName(name)
		for _, u := range t.Unique {
			c.clash(u, byType[name])
		}
	}
}

// sameNames tells of resources of one type and region that have the same name in the
// cloud.
func (c *check) sameNames() {
	first := map[string]string{}
	for i := range c.plan.Rendering.Resources {
		r := &c.plan.Rendering.Resources[i]
		name, ok := r.Want["name"].(string)
		if !ok || r.Find != nil {
			continue
		}
		key := r.Type + "\x00" + r.Region + "\x00" + name
		if other := first[key]; other != "" {
			c.find(lang.Warning, "same-name", r.Name+".name", "give each a name of its own, or leave `name` out", "%s and %s are both called %s, and nobody can tell them apart in the cloud", other, r.Name, name)
		} else {
			first[key] = r.Name
		}
	}
}

// clash compares the resources of a type. Values that must be the same to clash are
// found by a table, ranges that overlap in the order of their first addresses.
func (c *check) clash(u resource.Unique, list []*render.Resource) {
	type held struct {
		by    *render.Resource
		value string
		at    netip.Prefix
	}
	groups := map[string][]held{}
	for _, r := range list {
		scope := r.Region
		if u.Within != "" {
			scope = fmt.Sprint(r.Want[u.Within])
			if network := c.target(r.Want[u.Within]); network != nil {
				scope = network.Name
			}
		}
		for _, v := range c.values(u, r) {
			h := held{by: r, value: v}
			if u.Overlap {
				p, err := resource.ParseRange(v)
				if err != nil {
					continue
				}
				h.at, v = p, ""
			}
			groups[scope+"\x00"+v] = append(groups[scope+"\x00"+v], h)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(groups)) {
		group := groups[key]
		slices.SortStableFunc(group, func(a, b held) int { return a.at.Addr().Compare(b.at.Addr()) })
		for i := 1; i < len(group); i++ {
			a, b := group[i-1], group[i]
			if a.by == b.by {
				continue
			}
			if !u.Overlap {
				c.find(lang.Error, "taken", b.by.Name+"."+u.Property, "give each its own", "%s and %s both want %s, and only one can have it", a.by.Name, b.by.Name, b.value)
				continue
			}
			if a.at.Overlaps(b.at) {
				c.find(lang.Error, "address-plan", b.by.Name+".range", "carve both from the network's range with carve(...)", "%s overlaps %s of %s", b.at, a.at, a.by.Name)
				if a.at.Bits() < b.at.Bits() { // the wider one may reach further ones too
					group[i] = a
				}
			}
		}
	}
}

// values gives the values of a unique property, ids that are not known yet by what
// they wait for.
func (c *check) values(u resource.Unique, r *render.Resource) []string {
	var out []string
	name, inner, nested := strings.Cut(u.Property, ".")
	add := func(v any) {
		switch x := v.(type) {
		case string:
			if t := c.target(x); t != nil {
				x = t.Name + ".id"
			}
			if x != "" {
				out = append(out, x)
			}
		case resource.Unresolved:
			if len(x.Waits) == 1 && len(x.Secrets) == 0 {
				out = append(out, x.Waits[0])
			}
		}
	}
	if !nested {
		add(r.Want[name])
		return out
	}
	list, _ := r.Want[name].([]any)
	for _, item := range list {
		fields, _ := item.(map[string]any)
		add(fields[inner])
	}
	return out
}

func choose[T any](got string, from []T, name func(T) string) string {
	names := make([]string, len(from))
	for i, x := range from {
		names[i] = name(x)
	}
	return expr.Choose(got, names)
}
