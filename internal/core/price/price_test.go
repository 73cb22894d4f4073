package price

import (
	"math"
	"testing"

	"undersail/internal/core/offer"
	"undersail/internal/core/render"
)

func TestOfAddsWhatHasAPrice(t *testing.T) {
	t.Parallel()
	o := offer.Offers{Currency: "kr", AddressHour: 0.006, Sizes: []offer.Size{{Name: "plain-2", Hour: 0.042}}, DiskTypes: []offer.DiskType{{Name: "solid", GiBHour: 0.0001}}}
	cost := Of([]render.Resource{
		{Name: "net", Type: "network", Want: map[string]any{"range": "10.0.0.0/8"}},
		{Name: "gateway", Type: "instance", Want: map[string]any{"size": "plain-2", "public": true}},
		{Name: "worker", Type: "instance", Want: map[string]any{"size": "plain-2"}},
		{Name: "front", Type: "address", Want: map[string]any{}},
		{Name: "data", Type: "disk", Want: map[string]any{"size": "1TiB", "type": "solid"}},
		{Name: "odd", Type: "instance", Want: map[string]any{"size": "unknown"}},
	}, offer.At(o))
	if want := 0.042*2 + 0.006*2 + 0.1024; math.Abs(cost.Hour-want) > 1e-9 || math.Abs(cost.Month-want*HoursPerMonth) > 1e-6 {
		t.Errorf("%.4f an hour, %.2f a month; want %.4f", cost.Hour, cost.Month, want)
	}
	if len(cost.Lines) != 4 || cost.Lines[0].About != "plain-2 with a public address" {
		t.Errorf("lines %v", cost.Lines)
	}
}
