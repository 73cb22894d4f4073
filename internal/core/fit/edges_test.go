package fit

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"undersail/internal/core/change"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
)

// TestWhatIsFoundOrElsewhereTakesNothingOfTheHomesQuotas.
func TestWhatIsFoundOrElsewhereTakesNothingOfTheHomesQuotas(t *testing.T) {
	t.Parallel()
	home, far := &offer.Offers{Region: "north-fell"}, &offer.Offers{Region: "ember-coast"}
	home.Quotas = map[string]offer.Quota{"networks": {Limit: 5, Used: 1}}
	far.Quotas = map[string]offer.Quota{"networks": {Limit: 9}}
	network := func(region string, found bool) render.Resource {
		r := render.Resource{Name: "net", Type: "network", Region: region, Want: map[string]any{"range": "10.0.0.0/16"}}
		if found {
			r.Find = map[string]any{"name": "there"}
		}
		return r
	}
	all := offer.Everywhere{Home: home, Others: []*offer.Offers{far}}
	for _, c := range []struct {
		about string
		of    []render.Resource
		want  string
	}{
		{"two of its own", []render.Resource{network("", false), network("north-fell", false)}, "map[networks:2]"},
		{"one is found", []render.Resource{network("", true), network("", false)}, "map[networks:3]"},
		{"one is elsewhere", []render.Resource{network("ember-coast", false), network("", false)}, "map[networks:3]"},
		{"all are elsewhere or found", []render.Resource{network("ember-coast", false), network("", true)}, "map[]"},
	} {
		if got := fmt.Sprint(left(&render.Rendering{Resources: c.of}, all)); got != c.want {
			t.Errorf("%s: left is %s, want %s", c.about, got, c.want)
		}
	}
}

// TestAnAddressThatIsNoneIsNoText: it must not be told to people as one.
func TestAnAddressThatIsNoneIsNoText(t *testing.T) {
	t.Parallel()
	some := netip.MustParseAddr("10.0.0.7")
	if addressOf(netip.Addr{}) != "" || rangeOf(netip.Addr{}) != "" || addressOf(some) != "10.0.0.7" ||
		rangeOf(some) != "10.0.0.7/32" {
		t.Error(addressOf(netip.Addr{}), rangeOf(netip.Addr{}), addressOf(some), rangeOf(some))
	}
}

// TestPartsOfOneThingStandInZonesOfTheirOwn: what is told names the zone, or that it is every one.
func TestPartsOfOneThingStandInZonesOfTheirOwn(t *testing.T) {
	t.Parallel()
	everywhere := offer.Everywhere{Home: offers("north-fell", "a", "b")}
	for zones, want := range map[[2]string]string{
		{"zone: a", "zone: b"}: "",
		{"zone: a", "zone: a"}: "one and two are both in zone a: ",
		{"", ""}:               "one and two are both in every zone: ",
	} {
		subnet := func(name, at, zone string) string {
			return name + ": {type: subnet, want: {network: =net.id, range: " + at + ", " + zone + "}}"
		}
		r := rendered(t, net, subnet("one", "10.0.1.0/24", zones[0]), subnet("two", "10.0.2.0/24", zones[1]),
			"files: {type: shared_files, want: {size: 10GiB, subnets: [=one.id, =two.id]}}")
		got := ""
		for _, f := range Rendering(r, everywhere) {
			if f.Code == "zones" {
				got = f.Message
			}
		}
		if !strings.HasPrefix(got, want) || want == "" && got != "" {
			t.Errorf("%v: %q, want %q", zones, got, want)
		}
	}
}

// TestTheSameIsFoundOnce, however many ways lead to it.
func TestTheSameIsFoundOnce(t *testing.T) {
	t.Parallel()
	c := &check{told: map[render.Finding]bool{}}
	one := render.Finding{Code: "zones", Place: "net.zone", Message: "it is in no zone"}
	other := one
	other.Place = "lan.zone"
	for range 2 {
		c.add(one)
		c.add(other)
	}
	if len(c.out) != 2 {
		t.Errorf("%v", c.out)
	}
}

// TestANetworkIsKnownByAnySubnet: by the one that is named, or the first of several.
func TestANetworkIsKnownByAnySubnet(t *testing.T) {
	t.Parallel()
	r := rendered(t, net, lan,
		"one: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id}}",
		"files: {type: shared_files, want: {size: 10GiB, subnets: [=lan.id]}}",
		"far: {type: instance, want: {size: plain-2, image: debian-12, subnet: sub-1}}")
	c := &check{plan: change.Plan{Rendering: r}, ids: ids(nil, r), told: map[render.Finding]bool{}}
	for i := range r.Resources {
		res := &r.Resources[i]
		got := c.networkOf(res)
		if in := res.Name == "one" || res.Name == "files"; in != (got != nil && got.Name == "net") {
			t.Errorf("%s stands in %v", res.Name, got)
		}
	}
}
