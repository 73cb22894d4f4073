package fit

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

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
			c.find(lang.Warning, "same-name", r.Name+".name", "give each a name of its own, or leave `name` out",
				"%s and %s are both called %s, and nobody can tell them apart in the cloud", other, r.Name, name)
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
			if o := c.offers.In(b.by.Region); u.Overlap && u.Within == "" && o != nil && o.Overlapping {
				continue // networks of their own, which no router joins
			}
			if !u.Overlap {
				c.find(lang.Error, "taken", b.by.Name+"."+u.Property, "give each its own",
					"%s and %s both want %s, and only one can have it", a.by.Name, b.by.Name, b.value)
				continue
			}
			if a.at.Overlaps(b.at) {
				c.find(lang.Error, "address-plan", b.by.Name+".range",
					"carve both from the network's range with carve(...)", "%s overlaps %s of %s", b.at, a.at,
					a.by.Name)
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
