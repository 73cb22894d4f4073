package fit

import (
	"fmt"
	"net/netip"
	"slices"

	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// purposes are the ranges that a private cloud needs.
var purposes = []string{"management", "moves", "storage", "uplink"}

// ownRanges reports ranges of a private cloud that are missing, or that overlap each other, a
// network, or what another private cloud has.
func (c *check) ownRanges(r *render.Resource) {
	ranges, known := r.Want["ranges"].(map[string]any)
	if !known {
		return
	}
	held := c.heldRanges(r)
	for _, purpose := range purposes {
		text, written := ranges[purpose].(string)
		if ranges[purpose] == nil {
			c.wrong(r, "ranges."+purpose, "add one, such as "+purpose+": 10.90.0.0/24",
				"a private cloud needs a range for its %s", purpose)
		}
		at, err := resource.ParseRange(text)
		if !written || err != nil {
			continue
		}
		for _, h := range held {
			if h.at.Overlaps(at) {
				c.wrong(r, "ranges."+purpose, "choose a range that nobody has", "%s overlaps %s, of %s", at, h.at,
					h.words)
				break
			}
		}
		held = append(held, holder{at: at, words: "its " + purpose})
	}
}

// heldRanges are those that a private cloud must keep clear of.
func (c *check) heldRanges(r *render.Resource) []holder {
	var out []holder
	add := func(text, words string) {
		if p, err := netip.ParsePrefix(text); err == nil {
			out = append(out, holder{at: p, words: words})
		}
	}
	for _, other := range c.plan.Rendering.Resources {
		if other.Region != r.Region || other.Name == r.Name {
			continue
		}
		switch text, _ := other.Want["range"].(string); other.Type {
		case resource.TypeNetwork:
			add(text, "the network "+other.Name)
		case resource.TypePrivateCloud:
			theirs, _ := other.Want["ranges"].(map[string]any)
			for _, purpose := range purposes {
				text, _ := theirs[purpose].(string)
				add(text, "the "+purpose+" of "+other.Name)
			}
		}
	}
	if o := c.offers.In(r.Region); o != nil {
		for _, n := range slices.Concat(o.Networks, o.Held) {
			if c.ids[n.ID] == "" {
				add(n.Range, n.Name)
			}
		}
	}
	return out
}

// layout reports hosts that stand where no private cloud can: in one zone, three or more; or
// as many in each of two zones, with a witness in a third that keeps the quorum.
func (c *check) layout(r *render.Resource) {
	list, known := r.Want["layout"].([]any)
	if !known {
		return
	}
	hosts, zones, witnesses := map[string]int64{}, []string{}, 0
	for i, item := range list {
		part, _ := item.(map[string]any)
		n, counted := wholeNumber(part["hosts"])
		zone, named := part["zone"].(string)
		place := fmt.Sprintf("layout[%d]", i)
		switch {
		case !counted || !named:
			return // that comes to be known later
		case part["witness"] == true:
			if witnesses++; n != 1 {
				c.wrong(r, place+".hosts", "write 1", "a witness is one host, and not %d", n)
			}
		case hosts[zone] > 0:
			c.wrong(r, place+".zone", "name each zone once", "zone %s is named twice", zone)
			return
		default:
			hosts[zone] = n
			zones = append(zones, zone)
		}
	}
	one := len(zones) == 1 && witnesses == 0 && hosts[zones[0]] >= 3
	two := len(zones) == 2 && witnesses == 1 && hosts[zones[0]] == hosts[zones[1]]
	if !one && !two {
		c.wrong(r, "layout", "name one zone with three hosts or more, or two zones with as many hosts each and a "+
			"witness in a third",
			"no private cloud stands on this layout: %d zones carry its load, and it has %d witnesses", len(zones),
			witnesses)
	}
}

// hostZones checks that the zones of a layout are there and sell hosts of the family.
func (c *check) hostZones(o *offer.Offers, r *render.Resource) {
	family, _ := r.Want["family"].(string)
	kind, sold := o.Host(family)
	list, _ := r.Want["layout"].([]any)
	for i, item := range list {
		part, _ := item.(map[string]any)
		zone, named := part["zone"].(string)
		if !named || !sold {
			continue
		}
		place := fmt.Sprintf("%s.layout[%d].zone", r.Name, i)
		if !slices.Contains(o.Zones, zone) {
			c.zone(o, place, zone)
		} else if part["witness"] != true && !slices.Contains(kind.Zones, zone) {
			c.find(lang.Error, "not-offered", place, choose(zone, kind.Zones, func(s string) string { return s }),
				"zone %s has no hosts of the family %s", zone, family)
		}
	}
}
