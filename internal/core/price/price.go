// Package price computes what a rendering costs, from the prices in the offers.
package price

import (
	"fmt"

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

// Of computes the cost of resources. Only resources with a price have a line.
func Of(resources []render.Resource, o offer.Offers) Cost {
	cost := Cost{Currency: o.Currency, Lines: []Line{}}
	for _, r := range resources {
		if r.Find != nil {
			continue // it is there and paid for, whether it is used or not
		}
		hour, about := one(r, o)
		if hour > 0 {
			cost.Lines = append(cost.Lines, Line{r.Name, hour, about})
			cost.Hour += hour
		}
	}
	cost.Month = cost.Hour * HoursPerMonth
	return cost
}

func one(r render.Resource, o offer.Offers) (float64, string) {
	switch r.Type {
	case "instance":
		size, ok := o.Size(fmt.Sprint(r.Want["size"]))
		if !ok {
			return 0, ""
		}
		if public, _ := r.Want["public"].(bool); public {
			return size.Hour + o.AddressHour, size.Name + " with a public address"
		}
		return size.Hour, size.Name
	case "disk":
		dt, ok := o.DiskType(fmt.Sprint(r.Want["type"]))
		bytes, err := resource.ParseData(fmt.Sprint(r.Want["size"]))
		if !ok || err != nil {
			return 0, ""
		}
		return dt.GiBHour * float64(bytes) / (1 << 30), fmt.Sprintf("%s of %s", r.Want["size"], dt.Name)
	case "address":
		return o.AddressHour, "fixed public address"
	}
	return 0, ""
}
