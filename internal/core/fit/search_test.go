package fit

import (
	"math"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/storage"
)

// stalls are two regions: in the second the large size is sold in one zone of two, and
// the quota is low.
func stalls() []*offer.Offers {
	size := func(name string, vcpus, gib int64, hour, mbps float64, zones ...string) offer.Size {
		return offer.Size{
			Name:         name,
			Quota:        "vcpus_" + name,
			VCPUs:        vcpus,
			MemoryBytes:  gib << 30,
			Architecture: "x86_64",
			Speed:        1,
			DiskMBps:     mbps,
			Hour:         hour,
			Month:        hour * 500,
			Zones:        zones,
		}
	}
	region := func(name string, factor float64, limit int64, zones []string, large []string) *offer.Offers {
		return &offer.Offers{
			Cloud:    "larch",
			Region:   name,
			Currency: "kr",
			Zones:    zones,
			Types:    []string{"instance", "disk"},
			Quotas: map[string]offer.Quota{
				"vcpus":       {Limit: limit},
				"vcpus_large": {Limit: 100, Running: 90},
				"disk_gib":    {Limit: 10_000},
			},
			Sizes: []offer.Size{size("small", 2, 8, 0.04*factor, 100, zones...),
				size("large", 8, 32, 0.16*factor, 300, large...), size("drive", 8, 32, 0.2*factor, 900, zones...)},
			DiskTypes: []offer.DiskType{
				{
					Name:     "solid",
					For:      []string{"steady"},
					GiBHour:  0.0001 * factor,
					MinBytes: 1 << 30,
					MaxBytes: 16 << 40,
					MBps:     100,
					MBpsTiB:  100,
					MBpsMost: 800,
					Zones:    zones,
				},
				{
					Name:     "inside",
					For:      []string{"scratch"},
					GiBHour:  0.00001,
					MinBytes: 1 << 30,
					MaxBytes: 1 << 40,
					MBps:     900,
					Zones:    zones,
				},
			},
		}
	}
	near := region("near", 1, 100, []string{"near-a", "near-b"}, []string{"near-a", "near-b"})
	near.Features = map[string]string{"monitoring": "figures"}
	return []*offer.Offers{near, region("far", 0.9, 10, []string{"far-a", "far-b"}, []string{"far-a"})}
}

func ways(t *testing.T, n Need) (fits, others []Answer) {
	t.Helper()
	answers, err := Search(n, stalls())
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range answers {
		if len(a.WhyNot) > 0 {
			others = append(others, a)
		} else if others != nil {
			t.Errorf("%s in %s fits and comes after what does not", a.Size.Name, a.Region)
		} else {
			fits = append(fits, a)
		}
	}
	return fits, others
}

func named(list []Answer) string {
	var out []string
	for _, a := range list {
		out = append(out, a.Region+"/"+a.Size.Name)
	}
	return strings.Join(out, " ")
}

func TestWhatRanksDecidesTheOrder(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		need Need
		want string
	}{
		{Need{Machine: offer.Need{VCPUs: 2}}, "far/small near/small far/large near/large far/drive near/drive"},
		{Need{Machine: offer.Need{VCPUs: 8}, By: "disk"}, "far/drive near/drive far/large near/large"},
		{Need{Machine: offer.Need{VCPUs: 8}, By: "memory"}, "far/large near/large far/drive near/drive"},
		{Need{Machine: offer.Need{VCPUs: 2}, By: "figures", Figures: map[string]float64{"small": 1, "drive": 100}},
			"far/drive near/drive far/small near/small"},
		{Need{Machine: offer.Need{VCPUs: 2, Sizes: []string{"drive", "large"}}},
			"far/drive near/drive far/large near/large far/small near/small"},
		{Need{Machine: offer.Need{VCPUs: 8}, Regions: []string{"near"}}, "near/large near/drive"},
		{Need{Machine: offer.Need{VCPUs: 2}, Features: []string{"monitoring"}}, "near/small near/large near/drive"},
		{Need{Machine: offer.Need{VCPUs: 8}, MostMonth: 140}, "far/large near/large far/drive"},
		{Need{Machine: offer.Need{VCPUs: 8}, MostMonth: 10}, ""},
	} {
		fits, _ := ways(t, c.need)
		got := named(fits)
		if got != c.want {
			t.Errorf("%+v:\n got %s\nwant %s", c.need, got, c.want)
		}
	}
}

func TestEveryRejectionHasItsReasonsAndWhatWouldMakeItFit(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		need                Need
		place, says, remedy string
	}{
		{
			need:   Need{Machine: offer.Need{VCPUs: 8}, Zones: 2},
			place:  "far/large",
			says:   "large is sold in 1 of 2 zones (far-a) and 2 are needed",
			remedy: "it fits with 1",
		},
		{
			need:   Need{Machine: offer.Need{VCPUs: 8}, Zones: 3},
			place:  "near/large",
			says:   "region near has 2 zones and 3 are needed",
			remedy: "fewer zones",
		},
		{
			need:   Need{Machine: offer.Need{VCPUs: 8}, Count: 2},
			place:  "far/drive",
			says:   "the quota vcpus of far has 10 left and 16 are needed",
			remedy: "1 of them fit; for 2 ask for 6 more",
		},
		{
			need:   Need{Machine: offer.Need{VCPUs: 8}, Count: 2},
			place:  "near/large",
			says:   "the quota vcpus_large of near has 10 left and 16 are needed",
			remedy: "1 of them fit",
		},
		{
			need:   Need{Machine: offer.Need{VCPUs: 8}, Count: 1, MostMonth: 100},
			place:  "near/drive",
			says:   "a month costs 146.10 kr and 100.00 is the most",
			remedy: "it fits from 146.10 on",
		},
		{
			need:   Need{Regions: []string{"near"}},
			place:  "far/small",
			says:   "region far is not allowed",
			remedy: "--regions far",
		},
		{
			need:   Need{Types: []string{"bucket"}},
			place:  "near/small",
			says:   "cloud larch has no resources of type bucket",
			remedy: "another cloud",
		},
		{
			need:   Need{Features: []string{"monitoring"}},
			place:  "far/small",
			says:   "region far has no monitoring",
			remedy: "do without",
		},
		{
			need:   Need{By: "network"},
			place:  "near/small",
			says:   "the cloud does not tell its Gbit/s to the network",
			remedy: "another measure",
		},
		{
			need:   Need{Disk: storage.Need{Bytes: 1 << 40, MBps: 150}},
			place:  "near/small",
			says:   "the machine reaches 100 MB/s to its disks and 150 are needed",
			remedy: "faster disks",
		},
		{
			need:   Need{Disk: storage.Need{Bytes: 1 << 40}},
			place:  "near/small inside",
			says:   "it is lost with its machine",
			remedy: "another disk type",
		},
		{
			need:   Need{Disk: storage.Need{Bytes: 1 << 40, Work: "scratch"}},
			place:  "near/small solid",
			says:   "solid is not meant for what may be lost with the machine",
			remedy: "choose a type that is",
		},
		{
			need:   Need{Disk: storage.Need{Bytes: 1 << 30, MBps: 2000}},
			place:  "near/drive solid",
			says:   "a solid disk reaches at most 800 MB/s and 2000 are needed",
			remedy: "spread the data",
		},
	} {
		_, others := ways(t, c.need)
		found := ""
		for _, a := range others {
			name := a.Region + "/" + a.Size.Name
			if name != c.place && name+" "+a.DiskType != c.place {
				continue
			}
			for _, why := range a.WhyNot {
				found += why.Message + "; " + why.Remedy + "\n"
			}
		}
		if !strings.Contains(found, c.says) || !strings.Contains(found, c.remedy) {
			t.Errorf("%s of %+v: %s", c.place, c.need, found)
		}
	}
	_, err := Search(Need{By: "figures"}, stalls())
	if err == nil || !strings.Contains(err.Error(), "give what you measured") {
		t.Error(err)
	}
	// What only more quota mends is nearer than a machine that is too small.
	_, others := ways(t, Need{Machine: offer.Need{VCPUs: 8}, Count: 50})
	if others[0].Size.VCPUs != 8 {
		t.Errorf("the nearest is %s in %s", others[0].Size.Name, others[0].Region)
	}
}

func TestAnAnswerTellsItsBillItsDiskAndWhatIsLeft(t *testing.T) {
	t.Parallel()
	fits, _ := ways(t, Need{
		Machine: offer.Need{VCPUs: 4, MemoryBytes: 16 << 30},
		Count:   2,
		Regions: []string{"near"},
		Disk:    storage.Need{MBps: 200},
	})
	a := fits[0]
	if a.Size.Name != "drive" || a.DiskType != "solid" || a.Disk != 1<<40 || a.MBps != 200 {
		t.Fatalf("%+v", a)
	}
	hour := 2 * (0.2 + 0.1024)
	if math.Abs(a.Hour-hour) > 1e-9 || math.Abs(a.Month-hour*price.HoursPerMonth) > 1e-6 ||
		math.Abs(a.Ahead-2*(100+0.1024*price.HoursPerMonth)) > 1e-6 {
		t.Errorf("an hour %v, a month %v, ahead %v", a.Hour, a.Month, a.Ahead)
	}
	if a.QuotaLeft["vcpus"] != 84 || a.QuotaLeft["disk_gib"] != 10_000-2048 ||
		strings.Join(a.Spare, ", ") != "4 vcpus, 16GiB of memory" {
		t.Errorf("left %v, spare %v", a.QuotaLeft, a.Spare)
	}
	untold := stalls()
	untold[0].Sizes[0].Hour = 0
	answers, err := Search(Need{Machine: offer.Need{VCPUs: 2}, Regions: []string{"near"}}, untold)
	if err != nil || answers[0].Size.Name != "large" || answers[2].Size.Name != "small" || answers[2].Month != 0 {
		t.Errorf("a price that is not told comes last: %s %v", named(answers[:3]), err)
	}
}

func TestATemplateIsTakenToEveryRegion(t *testing.T) {
	t.Parallel()
	template, found := lang.Read("t", []byte(`undersail: 1
about: {name: t, version: 1.0.0, title: T}
inputs: {zones: {picks: zones}, zone: {picks: zone}, size: {picks: size}}
resources:
  first: {type: disk, want: {size: 100GiB, type: solid, zone: '=inputs.zones[0]'}}
  second: {type: disk, want: {size: 100GiB, type: solid, zone: =inputs.zone}}
  pool: {type: pool, want: {size: =inputs.size, image: i, subnets: [s], least: 2, most: 4}}
`))
	if template == nil {
		t.Fatal(found)
	}
	offers := stalls()
	for _, o := range offers {
		o.Types, o.Images, o.Subnets = append(o.Types, "pool"), []offer.Image{{Name: "i", Architecture: "x86_64"}},
			[]offer.Subnet{{ID: "s", Range: "10.0.0.0/24"}}
	}
	request := render.Request{
		Template: template,
		Inputs:   map[string]any{"zones": []any{"near-a", "near-b"}, "zone": "near-b", "size": "small"},
		Stack:    render.Stack{Name: "s"},
	}
	places := Places(budget.Boundless(), request, offers)
	near, far := places[1], places[0]
	if near.Region != "near" || len(near.Errors)+len(far.Errors) > 0 || near.Instead != nil ||
		strings.Join(far.Instead, ", ") != "far-a for near-a, far-b for near-b, far-b for near-b" {
		t.Errorf("%+v", places)
	}
	if near.Machines != 2 || near.VCPUs != 4 || near.MemoryBytes != 16<<30 || near.StorageBytes != 200<<30 ||
		near.Resources != 3 {
		t.Errorf("in all: %+v", near.Totals)
	}
	if far.QuotaLeft["vcpus"] != 10-8 || far.Cost.Hour >= near.Cost.Hour {
		t.Errorf("left %v, %v an hour", far.QuotaLeft, far.Cost.Hour)
	}
	request.Inputs["size"] = "gone"
	if places := Places(budget.Boundless(), request, offers); len(places[0].Errors) == 0 {
		t.Error("a size that nobody sells runs somewhere")
	}
}

func TestBillsCrossWhereTheirFormulaSays(t *testing.T) {
	t.Parallel()
	variants := []Variant{
		{Name: "own", Cost: price.Cost{Hour: 0.1}},
		{Name: "rented", Cost: price.Cost{Hour: 0.4, Ahead: 200}},
		{Name: "dear", Cost: price.Cost{Hour: 0.5}},
	}
	got := Overtakings(Bills(variants, map[string]float64{"own": 90}))
	// 90 + 0.1 x = 0.4 x; 90 + 0.1 x = 0.5 x; 200 = 0.4 x. A month has 730.5 hours.
	want := []Overtaking{{"own", "dear", false, 225}, {"own", "rented", false, 300}, {"rented", "rented", true, 500}}
	if len(got) != len(want) {
		t.Fatalf("%+v", got)
	}
	for i := range want {
		if got[i].Cheaper != want[i].Cheaper || got[i].Than != want[i].Than || got[i].Ahead != want[i].Ahead ||
			math.Abs(got[i].Hours-want[i].Hours) > 1e-9 {
			t.Errorf("%+v, want %+v", got[i], want[i])
		}
	}
	if far := Overtakings(Bills(variants[:2], map[string]float64{"own": 300})); len(far) != 1 {
		t.Errorf("they cross beyond a month: %+v", far)
	}
}

// TestMachinesAndTheirDisksAreInTheSameZones: where a disk type is not sold, no machine with it is.
func TestMachinesAndTheirDisksAreInTheSameZones(t *testing.T) {
	t.Parallel()
	near := stalls()[0]
	near.DiskTypes = near.DiskTypes[:1]
	near.DiskTypes[0].Zones = []string{"near-b"}
	need := Need{Machine: offer.Need{VCPUs: 2}, Count: 1, Disk: storage.Need{Bytes: 10 << 30}}
	for _, c := range []struct {
		zones int
		fits  bool
	}{{1, true}, {2, false}} {
		need.Zones = c.zones
		answers, err := Search(need, []*offer.Offers{near})
		if err != nil {
			t.Fatal(err)
		}
		small := answers[slices.IndexFunc(answers, func(a Answer) bool { return a.Size.Name == "small" })]
		if !slices.Equal(small.Zones, []string{"near-b"}) || len(small.WhyNot) == 0 != c.fits {
			t.Errorf("over %d zones: %v, %v", c.zones, small.Zones, small.WhyNot)
		}
	}
}

// TestAnImageForOtherMachinesIsNoRemedy: it holds the package, and does not run there.
func TestAnImageForOtherMachinesIsNoRemedy(t *testing.T) {
	t.Parallel()
	market := offers("north-fell", "a", "b")
	market.Images[1].Architecture = "arm64"
	r := rendered(t, net, lan, "host: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id, "+
		"user_data: {packages: [tide-intake]}}}")
	told := false
	for _, f := range Rendering(r, offer.Everywhere{Home: market}) {
		told = told || strings.Contains(f.Message, "tide-intake")
		if strings.Contains(f.Remedy, "tide-3") {
			t.Errorf("%s: %s", f.Message, f.Remedy)
		}
	}
	if !told {
		t.Error("nothing is said of the package")
	}
}
