package larch

import (
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// told is a limit as Larch tells it: in bits, GiB, seconds, letters or items.
type told struct {
	Least   int64            `json:"least"`
	Most    int64            `json:"most"`
	Pattern string           `json:"pattern"`
	Says    string           `json:"says"`
	Needs   map[string]int64 `json:"needs"`
}

// limitsOf turns the limits that Larch tells into ours, by type and property. It sells
// whole GiB, and has IPv4 ranges.
func limitsOf(all map[string]told) map[string]offer.Limit {
	out := map[string]offer.Limit{}
	for typeName, m := range mappings {
		t, _ := resource.ByName(typeName)
		for _, p := range t.Properties {
			if p.Shape.Kind == resource.Data {
				out[typeName+"."+p.Name] = offer.Limit{Step: 1 << 30}
			}
			at := m.kind + "." + m.their(p.Name)
			for _, name := range slices.Sorted(maps.Keys(all)) {
				switch field, within := strings.CutPrefix(name, at+"."); {
				case name == at:
					out[typeName+"."+p.Name] = limit(all[name], p.Shape)
				case within:
					ours := typeName + "." + p.Name + "." + field
					if inner, there := resource.ShapeOf(ours); there {
						out[ours] = limit(all[name], inner)
					}
				}
			}
		}
	}
	return out
}

// limit turns one limit of values of a shape into ours.
func limit(l told, shape resource.Shape) offer.Limit {
	ours := offer.Limit{Least: l.Least, Most: l.Most, Pattern: l.Pattern, Says: l.Says, Needs: l.Needs}
	switch {
	case shape.Kind == resource.Range || shape.Items != nil && shape.Items.Kind == resource.Range:
		return offer.Limit{Shortest: int(l.Least), Longest: int(l.Most), IPv4: true}
	case shape.Kind == resource.Data:
		ours.Step, ours.Least, ours.Most = 1<<30, l.Least<<30, l.Most<<30
	case shape.Kind == resource.Open:
		ours.Most = l.Most / 4 * 3 // they count what is encoded
	}
	return ours
}
