package fit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// hostKind checks that dedicated hosts of a family are sold where one is wanted.
func (c *check) hostKind(o *offer.Offers, r *render.Resource, place, family string) {
	kind, sold := o.Host(family)
	zone, asked := r.Want["zone"].(string)
	if sold && (!asked || slices.Contains(kind.Zones, zone)) {
		return
	}
	where := c.where(o, zone, func(x *offer.Offers, zones []string) bool {
		h, sold := x.Host(family)
		return sold && slices.Contains(h.Zones, zones[0])
	})
	remedy := choose(family, o.Hosts, func(h offer.Host) string { return h.Family })
	if where != "" {
		remedy = "hosts of that family are sold in " + where
	}
	c.find(lang.Error, "not-offered", place, remedy, "%s has no dedicated hosts of family %q",
		cmp.Or(zone, "region "+o.Region), family)
}

// carrier is a dedicated host that machines are to stand on.
type carrier struct {
	name, family, zone string
	left               int64
}

// hosts reports machines whose dedicated host is of another family or zone, or has no
// room for them: one of the rendering, or one that is there.
func (c *check) hosts() {
	carriers := map[string]*carrier{}
	for i := range c.plan.Rendering.Resources {
		r := &c.plan.Rendering.Resources[i]
		o := c.offers.In(r.Region)
		if r.Type != resource.TypeInstance || r.Find != nil || r.Want["host"] == nil || o == nil {
			continue
		}
		h := c.carrier(o, r, carriers)
		size, known := o.Size(fmt.Sprint(r.Want["size"]))
		if h == nil || !known {
			continue
		}
		place := r.Name + ".host"
		if !(offer.Host{Family: h.family}).Carries(size.Name) {
			c.find(lang.Error, "host-room", place, "choose a size of the family "+h.family+", or another host",
				"%s carries machines of the family %s, and %s is none", h.name, h.family, size.Name)
			continue
		}
		if zone := c.zoneOf(r); h.zone != "" && zone != h.zone {
			c.find(lang.Error, "zones", place, "choose zone "+h.zone+" for it, or a host in "+zone,
				"%s is in zone %s, and its host %s in zone %s", r.Name, zone, h.name, h.zone)
		}
		if h.left -= size.VCPUs; h.left < 0 {
			c.find(lang.Error, "host-room", place, "choose a smaller size, or allocate another host",
				"%s has no room for %s: %d processors are missing", h.name, r.Name, -h.left)
		}
	}
}

// carrier finds the host of a machine; nil where nothing is known of it, or where there
// is none, which is told.
func (c *check) carrier(o *offer.Offers, r *render.Resource, carriers map[string]*carrier) *carrier {
	id, _ := r.Want["host"].(string)
	if of := c.target(r.Want["host"]); of != nil && of.Find == nil {
		if carriers[of.Name] == nil {
			family, _ := of.Want["family"].(string)
			kind, sold := o.Host(family)
			if !sold {
				return nil // that is told of the host
			}
			zone, asked := of.Want["zone"].(string)
			if !asked && len(kind.Zones) > 0 {
				zone = kind.Zones[0]
			}
			carriers[of.Name] = &carrier{name: of.Name, family: family, zone: zone, left: kind.VCPUs}
		}
		return carriers[of.Name]
	} else if of != nil {
		id = c.idOf(of.Name)
	}
	if id == "" {
		return nil
	}
	at := slices.IndexFunc(o.OwnHosts, func(h offer.OwnHost) bool { return h.ID == id || h.Name == id })
	if at < 0 {
		names := []string{}
		for _, h := range o.OwnHosts {
			names = append(names, h.ID+" ("+h.Name+")")
		}
		remedy := "allocate one first, by a resource of type host or in another stack"
		if len(names) > 0 {
			remedy = "choose one that there is: " + strings.Join(names, ", ")
		}
		c.find(lang.Error, "not-there", r.Name+".host", remedy, "the account has no dedicated host %q in %s", id,
			o.Region)
		return nil
	}
	h := o.OwnHosts[at]
	if carriers[h.ID] == nil {
		carriers[h.ID] = &carrier{name: h.Name, family: h.Family, zone: h.Zone, left: h.VCPUs - h.Used}
		for _, known := range c.plan.Rendering.Resources { // what stands on it already counts once
			if !c.made(known.Name) && known.Want["host"] == id && known.Type == resource.TypeInstance {
				if size, ok := o.Size(fmt.Sprint(known.Want["size"])); ok {
					carriers[h.ID].left += size.VCPUs
				}
			}
		}
	}
	return carriers[h.ID]
}
