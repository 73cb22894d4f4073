package proposal

import (
	"net/netip"

	"undersail/internal/core/change"
	"undersail/internal/core/resource"
)

// Reserve is what one resource of a proposal takes beyond what is there, while it may
// still be made: shares of quotas, and a range of a network.
type Reserve struct {
	Resource string           `json:"resource"`
	Region   string           `json:"region"`
	Quotas   map[string]int64 `json:"quotas,omitempty"`
	Range    string           `json:"range,omitempty"`
}

// Reserves lists what the creations, rebuilds and alterations of a proposal take.
func (j Judged) Reserves() []Reserve {
	out := []Reserve{}
	if j.Plan.Rendering == nil {
		return out
	}
	was := map[string]change.Recorded{}
	for _, r := range j.Recorded {
		was[r.Name] = r
	}
	for _, c := range j.Plan.Changes {
		r := j.Plan.Rendering.Resource(c.Resource)
		if r == nil || r.Find != nil ||
			c.Change != change.Create && c.Change != change.Alter && c.Change != change.Rebuild || c.TakesOver != "" {
			continue
		}
		t, _ := resource.ByName(r.Type)
		market := j.Offers.In(r.Region)
		if market == nil {
			continue
		}
		v := Reserve{Resource: r.Name, Region: market.Region, Quotas: map[string]int64{}}
		t.Takes(r.Want, market, func(name string, n int64) { v.Quotas[name] += n })
		name := c.Resource
		if c.Was != "" {
			name = c.Was
		}
		before, there := was[name]
		if there && !before.Missing && before.Kept == "" && !(c.Change == change.Rebuild && r.NewFirst) {
			t.Takes(before.Want, market, func(name string, n int64) { v.Quotas[name] -= n })
		}
		for name, n := range v.Quotas {
			if n <= 0 {
				delete(v.Quotas, name)
			}
		}
		if text, ok := r.Want["range"].(string); ok && r.Type == resource.TypeNetwork && c.Change != change.Alter {
			if p, err := netip.ParsePrefix(text); err == nil {
				v.Range = p.String()
			}
		}
		if len(v.Quotas) > 0 || v.Range != "" {
			out = append(out, v)
		}
	}
	return out
}
