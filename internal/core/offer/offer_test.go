package offer

import (
	"strings"
	"testing"

	"undersail/internal/core/resource"
)

var market = Offers{Region: "north-fell", Currency: "kr", Zones: []string{"a", "b"},
	Sizes: []Size{
		{Name: "small", VCPUs: 1, MemoryBytes: 4 << 30, Architecture: "x86_64", Hour: 0.02, Zones: []string{"a", "b"}},
		{Name: "half", VCPUs: 4, MemoryBytes: 16 << 30, Architecture: "x86_64", Hour: 0.05, Zones: []string{"a"}},
		{Name: "large", VCPUs: 8, MemoryBytes: 32 << 30, Architecture: "x86_64", Hour: 0.16, Zones: []string{"a", "b"}},
		{Name: "arm", VCPUs: 8, MemoryBytes: 32 << 30, Architecture: "arm64", Hour: 0.10, Zones: []string{"a", "b"}},
		{Name: "old", VCPUs: 8, MemoryBytes: 32 << 30, Architecture: "x86_64", Hour: 0.01, Withdrawn: true},
		{Name: "far", VCPUs: 64, MemoryBytes: 512 << 30, Architecture: "x86_64", Hour: 2},
	},
	Quotas: map[string]Quota{"vcpus": {Limit: 10, Used: 4}}}

func TestFitRanksByPriceAndSaysWhyNot(t *testing.T) {
	t.Parallel()
	choices := market.Fit(Need{VCPUs: 4, MemoryBytes: 8 << 30, Architecture: "x86_64", Zones: []string{"a", "b"}})
	if choices[0].Size.Name != "large" || len(choices[0].WhyNot) != 0 {
		t.Errorf("first is %+v", choices[0])
	}
	why := map[string]string{}
	for _, c := range choices {
		why[c.Size.Name] = strings.Join(c.WhyNot, "; ")
	}
	for name, want := range map[string]string{
		"small": "it has 1 vcpus and 4 are needed; it has 4GiB of memory and 8GiB are needed",
		"half":  "zone b does not sell it, only a",
		"arm":   "it is arm64 and x86_64 is needed",
		"old":   "it is no longer sold",
		"far":   "it is not sold in north-fell",
	} {
		if why[name] != want {
			t.Errorf("%s: %q, want %q", name, why[name], want)
		}
	}
	if s := market.Suggest(Need{VCPUs: 4}); !strings.HasPrefix(s, "these fit: half (4 vcpus, 16GiB, 0.050 kr/h), arm") {
		t.Error(s)
	}
	if s := market.Suggest(Need{VCPUs: 500}); !strings.Contains(s, "choose another region") {
		t.Error(s)
	}
}

func TestWhatIsLeftOfAQuotaCountsRunsAndNotProposals(t *testing.T) {
	t.Parallel()
	if left := (Quota{Limit: 10, Used: 4, Running: 3, Wanted: 9}).Left(); left != 3 {
		t.Errorf("%d left, want 3", left)
	}
}

func TestALimitTellsWhatWouldDo(t *testing.T) {
	t.Parallel()
	whole := resource.Shape{Kind: resource.Integer}
	word := resource.Shape{Kind: resource.String}
	at, data := resource.Shape{Kind: resource.Range}, resource.Shape{Kind: resource.Data}
	for _, c := range []struct {
		limit              Limit
		shape              resource.Shape
		value              any
		path, why, instead string
	}{
		{Limit{Shortest: 16, Longest: 28}, at, "10.0.0.0/20", "", "", ""},
		{Limit{Shortest: 16, Longest: 28}, at, "10.0.0.0/8", "", "ranges go from /16 to /28",
			"choose a range of another length"},
		{Limit{Shortest: 16, Longest: 28}, at, "10.0.0.0/29", "", "ranges go from /16 to /28",
			"choose a range of another length"},
		{Limit{IPv4: true}, at, "fd00::/64", "", "only IPv4 ranges will do",
			"choose an IPv4 range, such as 10.40.0.0/20"},
		{Limit{IPv4: true}, at, "10.0.0.0/8", "", "", ""},
		{Limit{Step: 1 << 30}, data, "1536MiB", "", "it comes in whole GiB", "round it up to 2GiB"},
		{Limit{Step: 1 << 30}, data, "2GiB", "", "", ""},
		{Limit{}, data, "1536MiB", "", "", ""},
		{Limit{Step: 1 << 30, Shortest: 16}, data, "plain words", "", "", ""},
		{Limit{Least: 10 << 30, Most: 16 << 40}, data, "9GiB", "", "it goes from 10GiB to 16TiB",
			"choose from 10GiB to 16TiB"},
		{Limit{Least: 10 << 30}, data, "9GiB", "", "the least is 10GiB", "choose 10GiB or more"},
		{Limit{Most: 3600}, resource.Shape{Kind: resource.Span}, "2h", "", "the most is 1h", "choose at most 1h"},
		{Limit{Least: 60}, resource.Shape{Kind: resource.Span}, "2h", "", "", ""},
		{Limit{Most: 3}, whole, int64(4), "", "the most is 3", "choose at most 3"},
		{Limit{Least: 3}, whole, resource.Unresolved{Waits: []string{"net.id"}}, "", "", ""},
		{Limit{Least: 8, Most: 20}, word, "neap", "", "it has 4 letters, and it goes from 8 to 20 letters",
			"choose from 8 to 20 letters"},
		{Limit{Pattern: "[a-z]+", Says: "small letters"}, word, "Neap", "", "what it takes is small letters",
			"write small letters"},
		{Limit{Pattern: "[a-z]+", Says: "small letters", Most: 3}, resource.Shape{Kind: resource.List, Items: &word},
			[]any{"neap", "Neap"}, "[1]", "what it takes is small letters", "write small letters"},
		{Limit{Most: 1}, resource.Shape{Kind: resource.List, Items: &word}, []any{"neap", "spring"}, "",
			"the most is 1 in all", "choose at most 1 in all"},
		{Limit{Longest: 24}, resource.Shape{Kind: resource.Map, Items: &at},
			map[string]any{"moves": "10.0.0.0/24", "storage": "10.0.1.0/25"}, ".storage", "ranges go from /0 to /24",
			"choose a range of another length"},
		{Limit{Most: 40}, resource.Shape{Kind: resource.Open},
			map[string]any{"packages": []any{"tide-intake", "tide-forecast"}}, "",
			"it has 54 bytes, and the most is 40 bytes", "choose at most 40 bytes"},
		{Limit{Most: 400}, resource.Shape{Kind: resource.Open},
			map[string]any{"hostname": resource.Unresolved{Waits: []string{"net.id"}}}, "", "", ""},
	} {
		path, why, instead := c.limit.Breaks(c.shape, c.value)
		if path != c.path || why != c.why || instead != c.instead {
			t.Errorf("%+v of %v: %q, %q, %q; want %q, %q, %q", c.limit, c.value, path, why, instead, c.path, c.why,
				c.instead)
		}
	}
}

func TestTheThroughputOfADiskGrowsToItsMost(t *testing.T) {
	t.Parallel()
	d := DiskType{MBps: 20, MBpsTiB: 100, MBpsMost: 250, Ops: 100, OpsTiB: 1000}
	for _, c := range []struct {
		bytes     int64
		mbps, ops float64
	}{{0, 20, 100}, {1 << 39, 70, 600}, {2 << 40, 220, 2100}, {8 << 40, 250, 8100}} {
		if mbps, ops := d.Throughput(c.bytes); mbps != c.mbps || ops != c.ops {
			t.Errorf("%d bytes: %g MB/s and %g operations, want %g and %g", c.bytes, mbps, ops, c.mbps, c.ops)
		}
	}
}

// bay is a region with things that are there.
var bay = Offers{Region: "low-marsh", Currency: "kr", Zones: []string{"a"}, AddressHour: 0.005,
	Images: []Image{
		{
			Name:           "shore-9",
			System:         "shore",
			Version:        "9",
			Architecture:   "x86_64",
			Ends:           "2027-06-30",
			MinMemoryBytes: 1 << 30,
		},
		{Name: "shore-10", System: "shore", Version: "10", Architecture: "x86_64", Ends: "2029-06-30"},
		{Name: "shore-10-plain", System: "shore", Version: "10", Architecture: "x86_64", Ends: "2028-06-30"},
		{Name: "shore-11", System: "shore", Version: "11", Architecture: "arm64"},
		{
			Name:         "chart",
			System:       "chart",
			Version:      "2.4",
			Architecture: "x86_64",
			Licences:     []Licence{{Name: "by-the-hour", VCPUHour: 0.02}, {Name: "own"}},
		},
	},
	Sizes: []Size{
		{Name: "plain-2", VCPUs: 2, MemoryBytes: 8 << 30, Quota: "plain", Hour: 0.04, Month: 22, Zones: []string{"a"}},
		{Name: "secret-1", VCPUs: 1, Zones: []string{"a"}},
	},
	DiskTypes: []DiskType{{
		Name:     "solid",
		About:    "for small writes",
		GiBHour:  0.0001,
		MinBytes: 1 << 30,
		MaxBytes: 1 << 40,
	}},
	Networks: []Network{
		{"net-1", "harbour", "10.1.0.0/16"},
		{"net-2", "harbour", "10.2.0.0/16"},
		{"net-3", "quay", "10.3.0.0/16"},
	},
	Subnets: []Subnet{
		{ID: "sub-1", Name: "front", Network: "net-3", Range: "10.3.0.0/24"},
		{ID: "sub-2", Name: "front", Network: "net-1", Range: "10.1.0.0/24"},
	},
	KeyPairs: []Named{{"key-1", "duty"}}}

func TestTheNewestImageIsByNumbersAndSupport(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ system, from, architecture, want, fault string }{
		{"shore", "", "x86_64", "shore-10", ""},
		{"shore", "9", "x86_64", "shore-10", ""},
		{"shore", "", "", "shore-11", ""},
		{"", "2.3", "x86_64", "shore-10", ""},
		{"chart", "2.4", "", "chart", ""},
		{"chart", "2.10", "", "",
			"no image of low-marsh is chart 2.10; there are chart (chart 2.4, x86_64), shore-10 ("},
		{"shore", "", "riscv64", "", "is shore riscv64; there are"},
	} {
		got, err := bay.NewestImage(c.system, c.from, c.architecture)
		if got != c.want || (err != nil) != (c.fault != "") || err != nil && !strings.Contains(err.Error(), c.fault) {
			t.Errorf("%s %s %s: %q, %v", c.system, c.from, c.architecture, got, err)
		}
	}
	for _, c := range []struct {
		a, b string
		want int
	}{{"9", "10", -1}, {"9.4", "9.10", -1}, {"2", "2.0", 0}, {"2.0.1", "2", 1}, {"", "", 0}} {
		if got := CompareVersions(c.a, c.b); got != c.want || CompareVersions(c.b, c.a) != -c.want {
			t.Errorf("%q beside %q: %d, want %d", c.a, c.b, got, c.want)
		}
	}
}

func TestAmountsOfWhatIsSold(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		list, item, amount string
		want               float64
		sold               bool
	}{
		{"size", "plain-2", "vcpus", 2, true},
		{"size", "plain-2", "memory", 8 << 30, true},
		{"size", "plain-2", "hour", 0.04, true},
		{"size", "plain-2", "month", 22, true},
		{"size", "secret-1", "hour", 0, false},
		{"size", "none", "vcpus", 0, false},
		{"size", "plain-2", "depth", 0, false},
		{"disk_type", "solid", "gib_hour", 0.0001, true},
		{"disk_type", "solid", "least", 1 << 30, true},
		{"disk_type", "solid", "most", 1 << 40, true},
		{"disk_type", "none", "most", 0, false},
		{"image", "shore-9", "memory", 1 << 30, true},
		{"image", "none", "memory", 0, false},
		{"licence", "chart/by-the-hour", "vcpu_hour", 0.02, true},
		{"licence", "chart/own", "vcpu_hour", 0, true},
		{"licence", "chart/", "vcpu_hour", 0.02, true},
		{"licence", "chart/none", "vcpu_hour", 0, false},
		{"licence", "shore-9/", "vcpu_hour", 0, true},
		{"address", "", "hour", 0.005, true},
		{"address", "", "month", 0, false},
		{"boat", "x", "hour", 0, false},
	} {
		if got, sold := bay.Amount(c.list, c.item, c.amount); sold != c.sold || sold && got != c.want {
			t.Errorf("%s of %s %s: %g, %v; want %g, %v", c.amount, c.list, c.item, got, sold, c.want, c.sold)
		}
	}
	if q := bay.Word("size", "plain-2", "quota"); q != "plain" {
		t.Errorf("quota %q", q)
	}
}

func TestWhatIsThereIsFoundByNameOrId(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ kind, text, id, otherwise, names string }{
		{"network", "quay", "net-3", "", ""},
		{"network", "net-2", "net-2", "", ""},
		{"network", "harbour", "", "2 have that name: choose one by its id, net-1 or net-2", ""},
		{"network", "pier", "", "", "harbour quay"},
		{"network", "sub-1", "", "sub-1 is a subnet (front), and not a network", "harbour quay"},
		{"subnet", "quay/front", "sub-1", "", ""},
		{"subnet", "net-1/front", "sub-2", "", ""},
		{"subnet", "front", "", "2 have that name: choose one by its id, sub-1 or sub-2", ""},
		{"key_pair", "duty", "key-1", "", ""},
		{"key_pair", "net-3", "", "net-3 is a network (quay), and not a key pair", "duty"},
	} {
		id, otherwise, names := bay.Find(c.kind, c.text)
		if id != c.id || otherwise != c.otherwise || strings.Join(names, " ") != c.names {
			t.Errorf("%s %s: %q, %q, %v", c.kind, c.text, id, otherwise, names)
		}
	}
}

func TestOptionsTellWhatCanBePicked(t *testing.T) {
	t.Parallel()
	for kind, want := range map[string]string{
		"zone": "a: sells 2 of 2 sizes",
		"size": "plain-2: 2 vcpus, 8GiB, 0.040 kr/h; secret-1: 1 vcpus, 0B, price not told (it has 1 vcpus and " +
			"2 are needed)",
		"disk_type": "solid: for small writes, 0.100 kr/h for 1000GiB",
		"network":   "harbour: 10.1.0.0/16, net-1; harbour: 10.2.0.0/16, net-2; quay: 10.3.0.0/16, net-3",
		"subnet": "quay/front: 10.3.0.0/24, sub-1, 0 addresses taken; harbour/front: 10.1.0.0/24, sub-2, 0 " +
			"addresses taken",
		"key_pair": "duty: key-1",
	} {
		options, known := bay.Options(kind, Need{VCPUs: 2})
		var got []string
		for _, o := range options {
			text := o.Value
			if o.About != "" {
				text += ": " + o.About
			}
			if o.WhyNot != nil {
				text += " (" + strings.Join(o.WhyNot, "; ") + ")"
			}
			got = append(got, text)
		}
		if !known || strings.Join(got, "; ") != want {
			t.Errorf("%s: %s\nwant %s", kind, strings.Join(got, "; "), want)
		}
	}
	sizes, _ := bay.Options("size", Need{VCPUs: 2})
	if s := sizes[0]; s.Size == nil || s.Month < 29 || s.Month > 30 || sizes[1].Month != 0 {
		t.Errorf("what a size is in figures: %+v", sizes)
	}
	networks, _ := bay.Options("network", Need{})
	if len(networks[0].Holds) != 1 || !strings.HasPrefix(networks[0].Holds[0], "front 10.1.0.0/24") {
		t.Errorf("what is in a network: %+v", networks)
	}
	disks, _ := bay.Options("disk_type", Need{})
	if d := disks[0]; d.DiskType == nil || d.Month < 74 || d.Month > 75 {
		t.Errorf("what 1 TiB costs in a month: %+v", d)
	}
	if _, known := bay.Options("boat", Need{}); known {
		t.Error("offers tell of boats")
	}
}

func TestTheCheapestIsAPreferredOneThatFits(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		need        Need
		want, fault string
	}{
		{Need{VCPUs: 2}, "half", ""},
		{Need{VCPUs: 2, Sizes: []string{"small", "large"}}, "large", ""},
		{Need{VCPUs: 8, Architecture: "x86_64"}, "large", ""},
		{Need{VCPUs: 32}, "", "no size sold in north-fell fits; the nearest is far: it is not sold in north-fell"},
		{Need{VCPUs: 1, Speed: 2, DiskMBps: 100}, "",
			"it has cores of speed 0 and 2 is needed; it has 0 MB/s to its disks and 100 are needed"},
		{Need{LocalBytes: 1 << 40, Generation: 3}, "",
			"it is of generation 0 and 3 is needed; it has a local disk of 0B and 1TiB are needed"},
	} {
		got, err := market.Cheapest(c.need)
		if got != c.want || (err != nil) != (c.fault != "") || err != nil && !strings.Contains(err.Error(), c.fault) {
			t.Errorf("%+v: %q, %v", c.need, got, err)
		}
	}
	_, err := (&Offers{Region: "dry-sound"}).Cheapest(Need{})
	if err == nil || err.Error() != "no sizes are sold in dry-sound" {
		t.Error(err)
	}
	if !market.Fits("half", Need{VCPUs: 4}) || market.Fits("half", Need{VCPUs: 5}) || market.Fits("none", Need{}) {
		t.Error("Fits tells another thing than WhyNot")
	}
	hosted := Size{Name: "whole", VCPUs: 8, Host: true, Zones: []string{"a"}}
	why := market.WhyNot(hosted, Need{})
	if len(why) != 1 || !strings.Contains(why[0], "dedicated host") || market.WhyNot(hosted, Need{Host: true}) != nil {
		t.Errorf("a size of a host: %v", why)
	}
}

func TestOffersAreThoseOfTheRegion(t *testing.T) {
	t.Parallel()
	far := &Offers{Region: "low-marsh"}
	e := Everywhere{Home: &market, Elsewhere: map[string]*Offers{"low-marsh": far}}
	if e.In("") != &market || e.In("north-fell") != &market || e.In("low-marsh") != far || e.In("dry-sound") != nil ||
		(Everywhere{}).In("") != nil {
		t.Error("a region has another's offers")
	}
}

func TestWithoutPricesTheSmallestThatDoesComesFirst(t *testing.T) {
	o := &Offers{
		Zones: []string{"a"},
		Sizes: []Size{
			{Name: "a.huge", VCPUs: 16, MemoryBytes: 16 << 30, Zones: []string{"a"}},
			{Name: "m.two", VCPUs: 2, MemoryBytes: 8 << 30, Zones: []string{"a"}},
			{Name: "s.two", VCPUs: 2, MemoryBytes: 4 << 30, Zones: []string{"a"}},
			{Name: "s.one", VCPUs: 1, MemoryBytes: 2 << 30, Zones: []string{"a"}},
		},
	}
	if name, err := o.Cheapest(Need{VCPUs: 2}); err != nil || name != "s.two" {
		t.Errorf("%s %v, want s.two", name, err)
	}
	if text := o.Suggest(Need{VCPUs: 4}); !strings.Contains(text, "a.huge (16 vcpus, 16GiB, price not told)") {
		t.Errorf("what fits: %s", text)
	}
}

// TestTheFirstWayOfPayingIsTakenWhereNoneIsNamed, also where it is the only one.
func TestTheFirstWayOfPayingIsTakenWhereNoneIsNamed(t *testing.T) {
	t.Parallel()
	one, two := Licence{Name: "own"}, Licence{Name: "hourly"}
	for _, c := range []struct {
		image Image
		name  string
		want  string
	}{
		{Image{Licences: []Licence{one}}, "", "own"},
		{Image{Licences: []Licence{two, one}}, "", "hourly"},
		{Image{Licences: []Licence{two, one}}, "own", "own"},
		{Image{Licences: []Licence{one}}, "hourly", ""},
		{Image{}, "", ""},
	} {
		got, there := c.image.Licence(c.name)
		if got.Name != c.want || there != (c.want != "") {
			t.Errorf("%q of %v is %q, %v", c.name, c.image.Licences, got.Name, there)
		}
	}
}
