// Package price computes what a rendering costs, from the prices in the offers.
package price

import (
	"fmt"

	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// HoursPerMonth is the length of a month in every monthly figure.
const HoursPerMonth = resource.HoursPerMonth

// Line is the cost of one resource. Licence is the part of an hour that its software
// costs; Ahead is a month that is paid in advance as far as that is sold.
type Line struct {
	Resource string            `json:"resource"`
	Hour     float64           `json:"hour"`
	Licence  float64           `json:"licence,omitempty"`
	Ahead    float64           `json:"ahead,omitempty"`
	About    string            `json:"about"`
	Tags     map[string]string `json:"tags,omitempty"`
}

// Cost is what a set of resources costs while it is there.
type Cost struct {
	Currency string  `json:"currency"`
	Hour     float64 `json:"hour"`
	Month    float64 `json:"month"`
	// Ahead is the price of a month in which everything is paid in advance that can be.
	Ahead float64 `json:"ahead,omitempty"`
	// Licence is the part of an hour that software costs.
	Licence float64 `json:"licence,omitempty"`
	Lines   []Line  `json:"lines"`
	// Most is what an hour costs when everything has grown to its most: pools, and what
	// resources make by themselves. It is 0 where nothing grows.
	Most float64 `json:"most,omitempty"`
	// Untold names resources of which the cloud tells no price, or not all of it: what
	// they cost comes on top.
	Untold []string `json:"untold,omitempty"`
}

// Of computes the cost of resources, each by the prices of its region. Only
// resources with a price have a line.
func Of(resources []render.Resource, o offer.Everywhere) Cost {
	cost := Cost{Lines: []Line{}}
	grows := 0.0
	ahead, hours := 0.0, 0.0 // paid by the month, and what is left by the hour
	if o.Home != nil {
		cost.Currency = o.Home.Currency
	}
	for _, r := range resources {
		market := o.In(r.Region)
		if r.Find != nil || market == nil {
			continue // what is used is there and paid for already
		}
		t, _ := resource.ByName(r.Type)
		b := t.Bill(r.Want, market)
		grows += b.Most - b.Hour
		for _, m := range r.Makes {
			made, _ := resource.ByName(m.Type)
			each := made.Bill(m.Want, market)
			b.Untold = b.Untold || each.Untold
			if each.Hour > 0 && m.Least > 0 {
				line := Line{
					Resource: r.Name,
					Hour:     each.Hour * float64(m.Least),
					About:    fmt.Sprintf("%d %ss that it makes", m.Least, resource.Words(m.Type)),
					Tags:     tags(r.Want),
				}
				cost.Lines, cost.Hour, hours = append(cost.Lines, line), cost.Hour+line.Hour, hours+line.Hour
			}
			grows += each.Hour * float64(m.Most-m.Least)
		}
		if b.Untold {
			cost.Untold = append(cost.Untold, r.Name)
		}
		if b.Hour == 0 {
			continue
		}
		cost.Lines = append(cost.Lines, Line{
			Resource: r.Name,
			Hour:     b.Hour,
			Licence:  b.Licence,
			Ahead:    b.Ahead,
			About:    b.About,
			Tags:     tags(r.Want),
		})
		cost.Hour += b.Hour
		cost.Licence += b.Licence
		if b.Ahead > 0 {
			ahead, hours = ahead+b.Ahead, hours-b.Hour
		}
		hours += b.Hour
	}
	if grows > 0 {
		cost.Most = cost.Hour + grows
	}
	if cost.Month = cost.Hour * HoursPerMonth; ahead > 0 {
		cost.Ahead = ahead + hours*HoursPerMonth
	}
	return cost
}

func tags(want map[string]any) map[string]string {
	var out map[string]string
	list, _ := want["tags"].(map[string]any)
	for name, v := range list {
		if text, ok := v.(string); ok {
			if out == nil {
				out = map[string]string{}
			}
			out[name] = text
		}
	}
	return out
}

// ByTag gives the price of an hour for each value of a tag, by value; what has no such
// tag counts under "".
func (c Cost) ByTag(name string) map[string]float64 {
	out := map[string]float64{}
	for _, l := range c.Lines {
		out[l.Tags[name]] += l.Hour
	}
	return out
}
