package fit

import (
	"cmp"
	"fmt"
	"slices"

	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// What stands in several subnets: in which zones that is, and whether it may.

// apart are the types that have a part of them in each of their subnets, for when a zone
// fails: each subnet is in a zone of its own.
var apart = []string{"database", "shared_files"}

// spread reports subnets of a resource that are in one zone where they should be in several,
// or of several networks, and resources that stand in none.
func (c *check) spread(o *offer.Offers, r *render.Resource) {
	t, _ := resource.ByName(r.Type)
	if p, has := t.Property("subnets"); !has || !p.Required {
		return
	}
	list, known := r.Want["subnets"].([]any)
	if !known {
		return
	}
	if len(list) == 0 {
		c.wrong(r, "subnets", "name a subnet", "%s stands in a subnet, and none is named", r.Name)
		return
	}
	inZone := map[string]string{}
	var network string
	for i, id := range list {
		place := fmt.Sprintf("subnets[%d]", i)
		name, zone, of := c.subnet(o, id)
		if name == "" {
			continue // nothing is known of it
		}
		if network == "" {
			network = of
		}
		if of != network && of != "" {
			c.wrong(r, place, "name subnets of one network", "%s is a subnet of %s, and the first is one of %s", name,
				of, network)
			continue
		}
		if other := inZone[zone]; other != "" && slices.Contains(apart, r.Type) {
			where := "zone " + zone
			if zone == "" {
				where = "every zone"
			}
			c.find(lang.Error, "zones", r.Name+"."+place, "name a subnet in another zone, or leave this one out",
				"%s and %s are both in %s: a part of %s stands in each of its subnets, so that one outlives the "+
					"failure of a zone", other, name, where, r.Name)
		}
		inZone[zone] = name
	}
}

// subnet tells the name, the zone and the network of a subnet: of the rendering or one that is
// there. An empty name says that nothing is known of it.
func (c *check) subnet(o *offer.Offers, id any) (name, zone, network string) {
	if of := c.target(id); of != nil && of.Find == nil {
		zone, _ = of.Want["zone"].(string)
		if in := c.target(of.Want["network"]); in != nil {
			return of.Name, zone, in.Name
		}
		network, _ = of.Want["network"].(string)
		return of.Name, zone, cmp.Or(c.ids[network], network)
	}
	text, _ := id.(string)
	if i := slices.IndexFunc(o.Subnets, func(s offer.Subnet) bool { return s.ID == text }); i >= 0 {
		network = o.Subnets[i].Network
		return o.Subnets[i].Name, o.Subnets[i].Zone, cmp.Or(c.ids[network], network)
	}
	return "", "", ""
}

// standsIn are the zones in which a resource will have machines: its own, or that of each of
// its subnets.
func (c *check) standsIn(o *offer.Offers, r *render.Resource) []string {
	list, several := r.Want["subnets"].([]any)
	if !several {
		return []string{c.zoneOf(r)}
	}
	var out []string
	for _, id := range list {
		name, zone, _ := c.subnet(o, id)
		if zone == "" && len(o.Zones) > 0 && name != "" {
			zone = o.Zones[0]
		}
		if zone != "" && !slices.Contains(out, zone) {
			out = append(out, zone)
		}
	}
	if out == nil && len(o.Zones) > 0 {
		out = o.Zones[:1]
	}
	return out
}
