package fit

import (
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
)

func words(kind string) string { return strings.ReplaceAll(kind, "_", " ") }

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
		c.find(lang.Error, "not-offered", place, choose(name, o.Images, func(i offer.Image) string { return i.Name }), "region %s has no image %q", o.Region, name)
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
		c.find(severity, "package", r.Name+".user_data", remedy, "image %s cannot install the package %q, so its first boot fails", name, p)
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
		remedy = choose(name, image.Licences, func(l offer.Licence) string { return fmt.Sprintf("%s (%s)", l.Name, l.About) })
	}
	c.find(lang.Error, "not-offered", place, remedy, "image %s has no licence %q", of, name)
}
