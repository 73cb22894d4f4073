package fit

import (
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// limits reports values of a resource beyond what the cloud takes of them. Only what is asked
// for now is held against them: what is there already was taken.
func (c *check) limits(o *offer.Offers, t resource.Type, r *render.Resource, asked func(property string) bool) {
	var own []string
	for name := range o.Limits {
		if strings.HasPrefix(name, t.Name) { // few of all are of one type
			own = append(own, name)
		}
	}
	slices.Sort(own)
	for _, name := range own {
		path := strings.Split(name, ".")
		if path[0] != t.Name || len(path) < 2 || !asked(path[1]) {
			continue
		}
		if p, there := t.Property(path[1]); there {
			c.bounded(o, o.Limits[name], p.Shape, r.Name+"."+path[1], r.Want[path[1]], path[2:])
		}
	}
}

// bounded holds a value, or the named field of each of its items, against a limit.
func (c *check) bounded(o *offer.Offers, limit offer.Limit, shape resource.Shape, place string, value any,
	fields []string) {
	if len(fields) > 0 {
		list, _ := value.([]any)
		for i, item := range list {
			one, _ := item.(map[string]any)
			if shape.Items == nil {
				return
			}
			if f, there := shape.Items.Field(fields[0]); there {
				c.bounded(o, limit, f.Shape, fmt.Sprintf("%s[%d].%s", place, i, fields[0]), one[fields[0]], fields[1:])
			}
		}
		return
	}
	if u, waits := value.(resource.Unresolved); waits {
		c.secretBounded(o, limit, shape, place, u)
		return
	}
	if path, why, instead := limit.Breaks(shape, value); why != "" {
		c.limited[place+path] = true
		c.find(lang.Error, "limit", place+path, instead, "%s will not take %s: %s", o.Cloud, shown(shape, value), why)
	}
}

// secretBounded holds a secret that is given now against a limit.
func (c *check) secretBounded(o *offer.Offers, limit offer.Limit, shape resource.Shape, place string,
	u resource.Unresolved) {
	if len(u.Secrets) != 1 || len(u.Waits) > 0 ||
		u.Marked != nil && resource.Shown(u.Marked) != "secret:"+u.Secrets[0] {
		return
	}
	text, now := c.given[u.Secrets[0]]
	if _, why, instead := limit.Breaks(shape, text); now && why != "" {
		c.limited[place] = true
		c.find(lang.Error, "limit", place, "give another secret: "+instead,
			"%s will not take the secret that is given for it", o.Cloud)
	}
}

// shown is a value as it stands in a message: short text as it is, all else by its kind.
func shown(shape resource.Shape, value any) string {
	if text, is := value.(string); is && text != "" && len(text) <= 60 {
		return text
	}
	switch shape.Kind {
	case resource.List:
		return "this list"
	case resource.Map, resource.Open, resource.Object:
		return "this mapping"
	case resource.Integer:
		return fmt.Sprint(value)
	}
	return "this text"
}

// engine checks that managed databases of an engine are sold.
func (c *check) engine(o *offer.Offers, place, name string) {
	if !slices.Contains(o.Engines, name) {
		c.find(lang.Error, "not-offered", place, choose(name, o.Engines, func(s string) string { return s }),
			"region %s has no databases of the engine %q", o.Region, name)
	}
}

// protection checks that each zone of a layout has the hosts that keep the data in the way
// that is wanted.
func (c *check) protection(o *offer.Offers, r *render.Resource) {
	way, _ := r.Want["protection"].(string)
	least := o.Limits[r.Type+".protection"].Needs[way]
	hosts, zones := map[string]int64{}, []string{}
	layout, _ := r.Want["layout"].([]any)
	for _, item := range layout {
		part, _ := item.(map[string]any)
		n, known := wholeNumber(part["hosts"])
		zone, named := part["zone"].(string)
		if !known || !named || part["witness"] == true {
			continue
		}
		if hosts[zone] == 0 {
			zones = append(zones, zone)
		}
		hosts[zone] += n
	}
	for _, zone := range zones {
		if hosts[zone] < least {
			c.find(lang.Error, "limit", r.Name+".protection",
				fmt.Sprintf("give zone %s at least %d hosts, or choose another protection", zone, least),
				"%s keeps data with %q by %d hosts or more in each zone, and zone %s has %d", o.Cloud, way, least, zone,
				hosts[zone])
		}
	}
}
