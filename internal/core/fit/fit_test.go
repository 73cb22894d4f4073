package fit

import (
	"strings"
	"testing"

	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
)

func offers(region string, zones ...string) *offer.Offers {
	return &offer.Offers{Cloud: "larch", Region: region, Zones: zones, Types: []string{"network", "subnet", "firewall", "address", "disk", "instance"},
		Sizes:     []offer.Size{{Name: "plain-2", VCPUs: 2, MemoryBytes: 8 << 30, Architecture: "x86_64", Zones: zones}, {Name: "gone-2", VCPUs: 2, MemoryBytes: 8 << 30, Architecture: "x86_64", Withdrawn: true}},
		DiskTypes: []offer.DiskType{{Name: "solid", MinBytes: 4 << 30, MaxBytes: 100 << 30, Zones: zones}}, Images: []offer.Image{{Name: "debian-12", Architecture: "x86_64", MinMemoryBytes: 1 << 30}},
		Limits: map[string]offer.Limit{"subnet.range": {Shortest: 8, Longest: 29, IPv4: true}, "disk.size": {Step: 1 << 30}}}
}

func rendered(t *testing.T, lines ...string) *render.Rendering {
	t.Helper()
	template, found := lang.Read("t", []byte("undersail: 1\nabout: {name: t, version: 1.0.0, title: T}\nresources:\n  "+strings.Join(lines, "\n  ")+"\n"))
	if template == nil {
		t.Fatal(found)
	}
	return render.Render(render.Request{Template: template, Stack: render.Stack{Name: "s", Region: "north-fell"}, Offers: offers("north-fell", "a", "b")})
}

const (
	net  = "net: {type: network, want: {range: 10.0.0.0/16}}"
	lan  = "lan: {type: subnet, want: {network: =net.id, range: 10.0.1.0/24, zone: a}}"
	data = "data: {type: disk, want: {size: 10GiB, type: solid}}"
)

func TestWhatCannotBeHadIsFound(t *testing.T) {
	t.Parallel()
	everywhere := offer.Everywhere{Home: offers("north-fell", "a", "b"), Elsewhere: map[string]*offer.Offers{"long-sound": offers("long-sound", "x")}}
	for _, c := range []struct {
		want  string
		lines []string
	}{
		{"not-offered data.type", []string{"data: {type: disk, want: {size: 10GiB, type: cold}}"}},
		{"not-offered data.zone", []string{"data: {type: disk, want: {size: 10GiB, type: solid, zone: x}}"}},
		{"", []string{"data: {type: disk, region: long-sound, want: {size: 10GiB, type: solid, zone: x}}"}},
		{"not-offered data.region", []string{"data: {type: disk, region: low-marsh, want: {size: 10GiB, type: solid}}"}},
		{"disk-size data.size", []string{"data: {type: disk, want: {size: 200GiB, type: solid}}"}},
		{"limit data.size", []string{"data: {type: disk, want: {size: 10500MiB, type: solid}}"}},
		{"limit lan.range", []string{net, "lan: {type: subnet, want: {network: =net.id, range: 10.0.1.0/30}}"}},
		{"limit lan.range", []string{net, "lan: {type: subnet, want: {network: net-1, range: 'fd00::/64'}}"}},
		{"not-offered host.size", []string{net, lan, "host: {type: instance, want: {size: gone-2, image: debian-12, subnet: =lan.id}}"}},
		{"zones host.zone", []string{net, lan, "host: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id, zone: b}}"}},
		{"zones host.disks", []string{net, lan, "data: {type: disk, want: {size: 10GiB, type: solid, zone: b}}", "host: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id, disks: [{disk: =data.id}]}}"}},
		{"taken more.disks.disk", []string{net, lan, data, "host: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id, disks: [{disk: =data.id}]}}",
			"more: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id, disks: [{disk: =data.id}]}}"}},
		{"address-plan two.range", []string{net, "one: {type: subnet, want: {network: =net.id, range: 10.0.0.0/20}}", "two: {type: subnet, want: {network: =net.id, range: 10.0.8.0/24}}"}},
		{"address-plan far.range", []string{net, "far: {type: subnet, want: {network: =net.id, range: 10.1.0.0/24}}"}},
		{"address-plan sea.range", []string{net, "sea: {type: network, want: {range: 10.0.64.0/20}}"}},
		{"", []string{net, "sea: {type: network, region: long-sound, want: {range: 10.0.64.0/20}}"}},
		{"same-name two.name", []string{"one: {type: address, want: {name: pier}}", "two: {type: address, want: {name: pier}}"}},
	} {
		var got []string
		for _, f := range Rendering(rendered(t, c.lines...), everywhere) {
			got = append(got, f.Code+" "+f.Place)
			if f.Remedy == "" {
				t.Errorf("%s has no remedy", f.Message)
			}
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.lines[len(c.lines)-1], strings.Join(got, ", "), c.want)
		}
	}
}

func TestWhatStaysAsksNothingOfTheOffers(t *testing.T) {
	t.Parallel()
	r := rendered(t, net, lan, "host: {type: instance, want: {size: gone-2, image: debian-12, subnet: =lan.id}}")
	plan := change.Plan{Rendering: r, Changes: []change.Change{{Resource: "net", Change: change.Same}, {Resource: "lan", Change: change.Same}, {Resource: "host", Change: change.Same}}}
	if got := Check(plan, nil, nil, offer.At(*offers("north-fell", "a"))); got != nil {
		t.Errorf("a size that is sold no more stands in the way of what has it: %v", got)
	}
	plan.Changes[2] = change.Change{Resource: "host", Change: change.Alter, Fields: []change.Field{{Name: "tags.owner"}}}
	if got := Check(plan, nil, nil, offer.At(*offers("north-fell", "a"))); got != nil {
		t.Errorf("nor of its tags: %v", got)
	}
	plan.Changes[2].Fields[0].Name = "size"
	if got := Check(plan, nil, nil, offer.At(*offers("north-fell", "a"))); len(got) != 1 || got[0].Code != "not-offered" {
		t.Errorf("altering to it: %v", got)
	}
}
