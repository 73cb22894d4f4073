// Package fit knows whether what is wanted can be had: what the regions sell and
// support, which zones have it, what ranges are free, and whether the values of
// resources go together. It computes on offers it is given and calls nobody.
package fit

import (
	"fmt"
	"maps"
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
	return append(Check(plan, nil, nil, offers, nil), plan.Ordered(nil, offers).Findings...)
}

// Check reports what of a plan the regions do not sell or support, and values that
// do not go together. What stays as it is asks nothing of the offers. Found holds
// what is reported of resources that are used and not made. Without offers only
// what needs none is checked. Given are the values of secrets that are given now, by their
// references: of those limits of the cloud are checked, and nothing of them is told.
func Check(plan change.Plan, recorded []change.Recorded, found map[string]map[string]any, offers offer.Everywhere,
	given map[string]string) []render.Finding {
	c := &check{
		plan:    plan,
		offers:  offers,
		given:   given,
		ids:     map[string]string{},
		told:    map[render.Finding]bool{},
		limited: map[string]bool{},
	}
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
	c.hosts()
	c.sense()
	c.ranges()
	c.clashes()
	return c.out
}

type check struct {
	plan    change.Plan
	offers  offer.Everywhere
	given   map[string]string // secrets that are given now, by reference
	ids     map[string]string // names of what is there, by id
	told    map[render.Finding]bool
	limited map[string]bool // places that are beyond a limit of the cloud
	out     []render.Finding
}

func (c *check) find(severity lang.Severity, code, place, remedy, format string, args ...any) {
	c.add(render.Finding{
		Severity: severity,
		Code:     code,
		Place:    place,
		Message:  fmt.Sprintf(format, args...),
		Remedy:   remedy,
	})
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
		c.find(lang.Error, "not-offered", r.Name+".region",
			choose(r.Region, c.regions(), func(s string) string { return s }), "the account has no region %q", r.Region)
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
		case "engine":
			c.engine(o, place, value)
		case "family":
			c.hostKind(o, r, place, value)
		case "disk_type":
			c.diskType(o, r, place, value)
		}
	}
	c.limits(o, t, r, asked)
	if asked("protection") || asked("layout") {
		c.protection(o, r)
		c.hostZones(o, r)
	}
	if asked("subnets") {
		c.spread(o, r)
	}
	if text, ok := r.Want["size"].(string); ok && asked("size") {
		c.diskSize(o, r, text)
	}
	if made {
		c.sameZone(r)
		c.wayOut(r)
	}
}

// support reports what of a resource the cloud cannot do.
func (c *check) support(o *offer.Offers, t resource.Type, r *render.Resource) {
	if !t.Own && !slices.Contains(o.Types, r.Type) {
		var able []string
		for _, other := range c.others(o) {
			if slices.Contains(other.Types, r.Type) {
				able = append(able, other.Region)
			}
		}
		if able != nil {
			c.find(lang.Error, "not-supported", r.Name, "choose "+strings.Join(able, " or "),
				"region %s has no resources of type %s", o.Region, r.Type)
			return
		}
		c.find(lang.Error, "not-supported", r.Name, "choose an account of another cloud",
			"cloud %s has no resources of type %s", o.Cloud, r.Type)
	}
	for _, property := range o.Without[r.Type] {
		if value, wanted := r.Want[property]; wanted && value != false {
			var able []string
			for _, other := range c.others(o) {
				if !slices.Contains(other.Without[r.Type], property) {
					able = append(able, other.Region)
				}
			}
			if able != nil {
				c.find(lang.Error, "not-supported", r.Name+"."+property,
					"leave it out, or choose "+strings.Join(able, " or "), "region %s has no `%s` for the type %s",
					o.Region, property, r.Type)
				continue
			}
			c.find(lang.Error, "not-supported", r.Name+"."+property,
				"leave it out, or choose an account of another cloud", "cloud %s has no `%s` for the type %s", o.Cloud,
				property, r.Type)
		}
	}
	for _, option := range slices.Sorted(maps.Keys(r.Extra)) {
		if !slices.Contains(o.Extra[r.Type], option) {
			remedy := "it has none for this type"
			if known := o.Extra[r.Type]; len(known) > 0 {
				remedy = choose(option, known, func(s string) string { return s })
			}
			c.find(lang.Error, "not-supported", r.Name+".extra."+option, remedy,
				"cloud %s has no option %q for the type %s", o.Cloud, option, r.Type)
		}
	}
	if r.AtRetire == "snapshot" {
		c.find(lang.Error, "not-supported", r.Name+".at_retire", "write keep, or leave it out",
			"cloud %s makes no snapshots", o.Cloud)
	}
}

func (c *check) zone(o *offer.Offers, place, zone string) {
	if !slices.Contains(o.Zones, zone) {
		c.find(lang.Error, "not-offered", place, choose(zone, o.Zones, func(z string) string { return z }),
			"region %s has no zone %q", o.Region, zone)
	}
}

func choose[T any](got string, from []T, name func(T) string) string {
	names := make([]string, len(from))
	for i, x := range from {
		names[i] = name(x)
	}
	return expr.Choose(got, names)
}
