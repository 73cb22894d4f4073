package price

import (
	"math"
	"testing"

	"undersail/internal/core/offer"
	"undersail/internal/core/render"
)

func TestOfAddsWhatHasAPrice(t *testing.T) {
	t.Parallel()
	o := offer.Offers{
		Currency:    "kr",
		AddressHour: 0.006,
		Sizes:       []offer.Size{{Name: "plain-2", Hour: 0.042}},
		DiskTypes:   []offer.DiskType{{Name: "solid", GiBHour: 0.0001}},
	}
	cost := Of([]render.Resource{
		{Name: "net", Type: "network", Want: map[string]any{"range": "10.0.0.0/8"}},
		{Name: "gateway", Type: "instance", Want: map[string]any{"size": "plain-2", "public": true}},
		{Name: "worker", Type: "instance", Want: map[string]any{"size": "plain-2"}},
		{Name: "front", Type: "address", Want: map[string]any{}},
		{Name: "data", Type: "disk", Want: map[string]any{"size": "1TiB", "type": "solid"}},
		{Name: "odd", Type: "instance", Want: map[string]any{"size": "unknown"}},
	}, offer.At(o))
	want := 0.042*2 + 0.006*2 + 0.1024
	if math.Abs(cost.Hour-want) > 1e-9 || math.Abs(cost.Month-want*HoursPerMonth) > 1e-6 {
		t.Errorf("%.4f an hour, %.2f a month; want %.4f", cost.Hour, cost.Month, want)
	}
	if len(cost.Lines) != 4 || cost.Lines[0].About != "plain-2 with a public address" {
		t.Errorf("lines %v", cost.Lines)
	}
}

// shop sells one size by the month, and one image by licence.
var shop = offer.Offers{
	Region:      "north-fell",
	Currency:    "kr",
	AddressHour: 0.006,
	Sizes: []offer.Size{{Name: "plain-2", VCPUs: 2, Hour: 0.05, Month: 25}, {Name: "brisk-4", VCPUs: 4, Hour: 0.2},
		{Name: "untold"}},
	DiskTypes: []offer.DiskType{{Name: "solid", GiBHour: 0.0001}, {Name: "untold"}},
	Images: []offer.Image{{
		Name:     "chart",
		Licences: []offer.Licence{{Name: "by-the-hour", VCPUHour: 0.02}, {Name: "own"}},
	}},
}

func machine(name, size string, more map[string]any) render.Resource {
	want := map[string]any{"size": size}
	for k, v := range more {
		want[k] = v
	}
	return render.Resource{Name: name, Type: "instance", Want: want}
}

func near(a, b float64) bool { return math.Abs(a-b) < 1e-9 }

func TestAMonthAheadLeavesTheRestByTheHour(t *testing.T) {
	t.Parallel()
	one := Of([]render.Resource{machine("a", "plain-2", map[string]any{"public": true}), machine("b", "brisk-4", nil)},
		offer.At(shop))
	// The size of a is paid ahead; its address and all of b by the hour.
	if want := 25 + (0.006+0.2)*HoursPerMonth; !near(one.Ahead, want) {
		t.Errorf("%.4f ahead, want %.4f", one.Ahead, want)
	}
	none := Of([]render.Resource{machine("b", "brisk-4", nil)}, offer.At(shop))
	if none.Ahead != 0 || !near(none.Month, 0.2*HoursPerMonth) {
		t.Errorf("nothing is sold by the month, and it is %+v", none)
	}
}

func TestALicenceIsPaidByProcessor(t *testing.T) {
	t.Parallel()
	for licence, want := range map[any]float64{"by-the-hour": 0.08, "own": 0, nil: 0.08} {
		more := map[string]any{"image": "chart"}
		if licence != nil {
			more["licence"] = licence
		}
		cost := Of([]render.Resource{machine("a", "brisk-4", more)}, offer.At(shop))
		if !near(cost.Licence, want) || !near(cost.Hour, 0.2+want) || !near(cost.Lines[0].Licence, want) {
			t.Errorf("licence %v: %+v", licence, cost)
		}
	}
}

func TestWhatIsNotToldIsNamedAndNotFree(t *testing.T) {
	t.Parallel()
	cost := Of([]render.Resource{machine("a", "untold", nil),
		{Name: "d", Type: "disk", Want: map[string]any{"size": "10GiB", "type": "untold"}},
		machine("b", "plain-2", nil),
		{Name: "net", Type: "network", Want: map[string]any{"range": "10.0.0.0/16"}}}, offer.At(shop))
	if len(cost.Untold) != 2 || cost.Untold[0] != "a" || cost.Untold[1] != "d" || !near(cost.Hour, 0.05) ||
		len(cost.Lines) != 1 {
		t.Errorf("%+v", cost)
	}
	if empty := Of(nil, offer.Everywhere{}); empty.Hour != 0 || empty.Lines == nil || empty.Untold != nil {
		t.Errorf("nothing costs %+v", empty)
	}
}

func TestWhatIsUsedIsPaidForAlreadyAndRegionsHaveTheirPrices(t *testing.T) {
	t.Parallel()
	far := shop
	far.Region, far.Sizes = "low-marsh", []offer.Size{{Name: "plain-2", Hour: 0.5}}
	there := machine("b", "plain-2", nil)
	there.Region = "low-marsh"
	used := machine("c", "plain-2", nil)
	used.Find = map[string]any{"id": "i-1"}
	unknown := machine("d", "plain-2", nil)
	unknown.Region = "dry-sound"
	cost := Of([]render.Resource{machine("a", "plain-2", nil), there, used, unknown}, offer.Everywhere{
		Home:      &shop,
		Elsewhere: map[string]*offer.Offers{"low-marsh": &far},
	})
	if !near(cost.Hour, 0.55) || len(cost.Lines) != 2 || cost.Lines[1].Resource != "b" {
		t.Errorf("%+v", cost)
	}
}

func TestCostIsSharedByTag(t *testing.T) {
	t.Parallel()
	tagged := func(name, size, team string) render.Resource {
		return machine(name, size, map[string]any{"tags": map[string]any{"team": team, "deep": 3}})
	}
	cost := Of([]render.Resource{tagged("a", "plain-2", "tides"), tagged("b", "plain-2", "tides"),
		tagged("c", "brisk-4", "alerts"), machine("d", "plain-2", nil)}, offer.At(shop))
	by := cost.ByTag("team")
	if len(by) != 3 || !near(by["tides"], 0.1) || !near(by["alerts"], 0.2) || !near(by[""], 0.05) {
		t.Errorf("%v", by)
	}
	sum := 0.0
	for _, hour := range by {
		sum += hour
	}
	if !near(sum, cost.Hour) {
		t.Errorf("the shares are %g and the whole %g", sum, cost.Hour)
	}
}

// TestWhatAResourceMakesByItselfGrowsFromItsLeastToItsMost: the least is paid for already.
func TestWhatAResourceMakesByItselfGrowsFromItsLeastToItsMost(t *testing.T) {
	t.Parallel()
	controller := machine("controller", "plain-2", nil)
	controller.Makes = []render.Made{{
		Type:  "instance",
		Least: 2,
		Most:  5,
		Want:  map[string]any{"size": "plain-2"},
	}}
	cost := Of([]render.Resource{controller}, offer.At(shop))
	if math.Abs(cost.Hour-3*0.05) > 1e-9 || math.Abs(cost.Most-6*0.05) > 1e-9 {
		t.Errorf("%g an hour, and %g at most", cost.Hour, cost.Most)
	}
}
