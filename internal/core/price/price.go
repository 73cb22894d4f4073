// Package price computes what a rendering costs, from the prices in the offers.
package price

import (
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// HoursPerMonth is the length of a month in every monthly figure: 365.25 days
// in 12 parts.
const HoursPerMonth = 730.5

// Line is the cost of one resource.
type Line struct {
	Resource string  `json:"resource"`
	Hour     float64 `json:"hour"`
	About    string  `json:"about"`
}

// Cost is what a set of resources costs while it is there.
type Cost struct {
	Currency string  `json:"currency"`
	Hour     float64 `json:"hour"`
	Month    float64 `json:"month"`
	Lines    []Line  `json:"lines"`
}

// Of computes the cost of resources, each by the prices of its region. Only
// resources with a price have a line.
func Of(resources []render.Resource, o offer.Everywhere) Cost {
	cost := Cost{Lines: []Line{}}
	if o.Home != nil {
		cost.Currency = o.Home.Currency
	}
	for _, r := range resources {
		market := o.In(r.Region)
		if r.Find != nil || market == nil {
			continue // what is used is there and paid for already
		}
		t, _ := resource.ByName(r.Type)
		if hour, about, _ := t.Hour(r.Want, market); hour > 0 {
			cost.Lines = append(cost.Lines, Line{r.Name, hour, about})
			cost.Hour += hour
		}
	}
	cost.Month = cost.Hour * HoursPerMonth
	return cost
}
