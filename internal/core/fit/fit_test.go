package fit

import (
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
)

func offers(region string, zones ...string) *offer.Offers {
	return &offer.Offers{
		Cloud:  "larch",
		Region: region,
		Zones:  zones,
		Types:  []string{"network", "subnet", "firewall", "address", "disk", "instance"},
		Sizes: []offer.Size{
			{Name: "plain-2", VCPUs: 2, MemoryBytes: 8 << 30, Architecture: "x86_64", Zones: zones},
			{Name: "gone-2", VCPUs: 2, MemoryBytes: 8 << 30, Architecture: "x86_64", Withdrawn: true},
		},
		DiskTypes: []offer.DiskType{{Name: "solid", MinBytes: 4 << 30, MaxBytes: 100 << 30, Zones: zones}},
		Images: []offer.Image{
			{
				Name:           "debian-12",
				User:           "admin",
				Architecture:   "x86_64",
				MinMemoryBytes: 1 << 30,
				Packages:       []string{"nginx"},
				Licences:       []offer.Licence{{Name: "own"}},
			},
			{Name: "tide-3", User: "tide", Architecture: "x86_64", Packages: []string{"nginx", "tide-intake"}},
		},
		Networks:      []offer.Network{{ID: "net-1", Name: "old-harbour", Range: "10.9.0.0/16"}},
		Subnets:       []offer.Subnet{{ID: "sub-1", Name: "quay", Network: "net-1", Range: "10.9.0.0/28", Used: 14}},
		KeyPairs:      []offer.Named{{ID: "key-1", Name: "ines"}},
		Features:      map[string]string{"monitoring": "figures"},
		KeptAddresses: 5,
		SeenFrom:      "192.0.2.7",
		Reserved: []offer.Reserved{
			{Range: "10.20.0.0/16", About: "the tide office"},
			{Range: "10.30.0.0/16", About: "proposal 4 of stack pier", Wanted: true},
		},
		Limits: map[string]offer.Limit{
			"subnet.range": {Shortest: 8, Longest: 29, IPv4: true},
			"disk.size":    {Step: 1 << 30},
		},
	}
}

func rendered(t *testing.T, lines ...string) *render.Rendering {
	t.Helper()
	template, found := lang.Read("t",
		[]byte("undersail: 1\nabout: {name: t, version: 1.0.0, title: T}\nresources:\n  "+strings.Join(lines, "\n  ")+
			"\n"))
	if template == nil {
		t.Fatal(found)
	}
	return render.Render(budget.Boundless(), render.Request{
		Template: template,
		Rehearse: true,
		Stack:    render.Stack{Name: "s", Region: "north-fell"},
		Offers:   offers("north-fell", "a", "b"),
	})
}

const (
	net  = "net: {type: network, want: {range: 10.0.0.0/16}}"
	lan  = "lan: {type: subnet, want: {network: =net.id, range: 10.0.1.0/24, zone: a}}"
	data = "data: {type: disk, want: {size: 10GiB, type: solid}}"
)

func TestWhatCannotBeHadIsFound(t *testing.T) {
	t.Parallel()
	everywhere := offer.Everywhere{
		Home:      offers("north-fell", "a", "b"),
		Elsewhere: map[string]*offer.Offers{"long-sound": offers("long-sound", "x")},
	}
	for _, c := range []struct {
		want  string
		lines []string
	}{
		{"not-offered data.type", []string{"data: {type: disk, want: {size: 10GiB, type: cold}}"}},
		{"not-offered data.zone", []string{"data: {type: disk, want: {size: 10GiB, type: solid, zone: x}}"}},
		{"", []string{"data: {type: disk, region: long-sound, want: {size: 10GiB, type: solid, zone: x}}"}},
		{"not-offered data.region",
			[]string{"data: {type: disk, region: low-marsh, want: {size: 10GiB, type: solid}}"}},
		{"disk-size data.size", []string{"data: {type: disk, want: {size: 200GiB, type: solid}}"}},
		{"limit data.size", []string{"data: {type: disk, want: {size: 10500MiB, type: solid}}"}},
		{"limit lan.range", []string{net, "lan: {type: subnet, want: {network: =net.id, range: 10.0.1.0/30}}"}},
		{"limit lan.range, address-plan lan.range",
			[]string{net, "lan: {type: subnet, want: {network: net-1, range: 'fd00::/64'}}"}},
		{"not-offered host.size",
			[]string{net, lan, "host: {type: instance, want: {size: gone-2, image: debian-12, subnet: =lan.id}}"}},
		{"zones host.zone", []string{net, lan,
			"host: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id, zone: b}}"}},
		{"zones host.disks", []string{net, lan, "data: {type: disk, want: {size: 10GiB, type: solid, zone: b}}",
			"host: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id, disks: [{disk: " +
				"=data.id}]}}"}},
		{"taken more.disks.disk",
			[]string{net, lan, data,
				"host: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id, disks: [{disk: " +
					"=data.id}]}}",
				"more: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id, disks: [{disk: " +
					"=data.id}]}}"}},
		{"address-plan two.range",
			[]string{net, "one: {type: subnet, want: {network: =net.id, range: 10.0.0.0/20}}",
				"two: {type: subnet, want: {network: =net.id, range: 10.0.8.0/24}}"}},
		{"address-plan far.range", []string{net, "far: {type: subnet, want: {network: =net.id, range: 10.1.0.0/24}}"}},
		{"address-plan sea.range", []string{net, "sea: {type: network, want: {range: 10.0.64.0/20}}"}},
		{"", []string{net, "sea: {type: network, region: long-sound, want: {range: 10.0.64.0/20}}"}},
		{"same-name two.name", []string{"one: {type: address, want: {name: pier}}",
			"two: {type: address, want: {name: pier}}"}},
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
	plan := change.Plan{
		Rendering: r,
		Changes: []change.Change{
			{Resource: "net", Change: change.Same},
			{Resource: "lan", Change: change.Same},
			{Resource: "host", Change: change.Same},
		},
	}
	if got := Check(plan, nil, nil, offer.At(*offers("north-fell", "a")), nil); got != nil {
		t.Errorf("a size that is sold no more stands in the way of what has it: %v", got)
	}
	plan.Changes[2] = change.Change{
		Resource: "host",
		Change:   change.Alter,
		Fields:   []change.Field{{Name: "tags.owner"}},
	}
	if got := Check(plan, nil, nil, offer.At(*offers("north-fell", "a")), nil); got != nil {
		t.Errorf("nor of its tags: %v", got)
	}
	plan.Changes[2].Fields[0].Name = "size"
	got := Check(plan, nil, nil, offer.At(*offers("north-fell", "a")), nil)
	if len(got) != 1 || got[0].Code != "not-offered" {
		t.Errorf("altering to it: %v", got)
	}
}

const host = "host: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id"

func TestWhatCannotWorkIsFoundWithAWayOut(t *testing.T) {
	t.Parallel()
	sound := offers("long-sound", "x")
	sound.Sizes[1] = offer.Size{
		Name:         "gone-2",
		VCPUs:        2,
		MemoryBytes:  8 << 30,
		Architecture: "x86_64",
		Zones:        []string{"x"},
	}
	sound.Features["archive-link"] = "a link"
	everywhere := offer.Everywhere{
		Home:      offers("north-fell", "a", "b"),
		Elsewhere: map[string]*offer.Offers{},
		Others:    []*offer.Offers{sound},
	}
	everywhere.Home.Sizes[1].Withdrawn = false
	for _, c := range []struct {
		want, remedy string
		lines        []string
	}{
		{"not-offered host.size", "gone-2 itself is sold in region long-sound",
			[]string{net, lan, strings.Replace(host, "plain-2", "gone-2", 1) + "}}"}},
		{"range-in-use net.range", "10.10.0.0/16 is the nearest that is free",
			[]string{"net: {type: network, want: {range: 10.9.0.0/16}}"}},
		{"range-in-use net.range", "10.21.0.0/20 is the nearest that is free",
			[]string{"net: {type: network, want: {range: 10.20.16.0/20}}"}},
		{"warning range-in-use net.range", "10.31.0.0/24 is the nearest that is free",
			[]string{"net: {type: network, want: {range: 10.30.0.0/24}}"}},
		{"range-in-use new.range", "10.9.0.16/28 is free",
			[]string{"new: {type: subnet, want: {network: net-1, range: 10.9.0.0/28}}"}},
		{"address-plan new.range", "choose a part of 10.9.0.0/16",
			[]string{"new: {type: subnet, want: {network: net-1, range: 10.8.0.0/28}}"}},
		{"not-there lan.network", "its id is net-1",
			[]string{"lan: {type: subnet, want: {network: old-harbour, range: 10.9.1.0/24}}"}},
		{"not-there lan.network", "sub-1 is a subnet (quay), and not a network",
			[]string{"lan: {type: subnet, want: {network: sub-1, range: 10.9.1.0/24}}"}},
		{"not-there host.key_pair", "did you mean `ines`?", []string{net, lan, host + ", key_pair: inez}}"}},
		{"address-plan lan.range", "give it a /27 or wider",
			[]string{net, "lan: {type: subnet, want: {network: =net.id, range: 10.0.1.0/28}}",
				"host: {type: instance, repeat: 12, want: {size: plain-2, image: debian-12, subnet: =lan.id}}"}},
		{"address-plan host[0].subnet", "spread them over several subnets",
			[]string{"host: {type: instance, repeat: 3, want: {size: plain-2, image: debian-12, subnet: sub-1}}"}},
		{"address-plan third.range", "", []string{net, // the first and the third, and not the one between
			"first: {type: subnet, want: {network: =net.id, range: 10.0.1.0/24}}",
			"second: {type: subnet, want: {network: =net.id, range: 10.0.5.0/24}}",
			"third: {type: subnet, want: {network: =net.id, range: 10.0.1.128/25}}"}},
		{"warning package host.user_data", "choose an image that can: tide-3",
			[]string{net, lan, host + ", user_data: {packages: [nginx, tide-intake]}}}"}},
		{"warning package host.user_data", "did you mean `nginx`?",
			[]string{net, lan, host + ", user_data: {packages: [nignx]}}}"}},
		{"not-offered host.licence", "offered are own", []string{net, lan, host + ", licence: by-the-hour}}"}},
		{"not-supported host", "choose long-sound, which has it, or do without",
			[]string{net, lan, strings.Replace(host, "type: instance,", "type: instance, features: [archive-link],",
				1) + "}}"}},
	} {
		var got []string
		for _, f := range Rendering(rendered(t, c.lines...), everywhere) {
			word := f.Code + " " + f.Place
			if f.Severity != lang.Error {
				word = string(f.Severity) + " " + word
			}
			if got = append(got, word); !strings.Contains(f.Remedy, c.remedy) {
				t.Errorf("%s: %s; %s", word, f.Message, f.Remedy)
			}
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.lines[len(c.lines)-1], strings.Join(got, ", "), c.want)
		}
	}
}

func TestChecksThatCanNeverPassAreFound(t *testing.T) {
	t.Parallel()
	everywhere := offer.At(*offers("north-fell", "a", "b"))
	const door = "door: {type: firewall, want: {network: =net.id, rules: [{from: 0.0.0.0/0, port: 80}, {from: " +
		"10.0.0.0/8, port: 22}]}}"
	const inner = "inner: {type: firewall, want: {network: =net.id, rules: [{from: 10.0.0.0/8, port: 22}, {from: " +
		"10.7.0.0/16, port: 90}]}}"
	const key, other = "key: {type: key_pair}", "other: {type: key_pair}"
	const jump = "jump: {type: instance, want: {size: plain-2, image: tide-3, subnet: =lan.id, public: true, " +
		"firewalls: [=front.id], key_pair: =key.id}}"
	const front = "front: {type: firewall, want: {network: =net.id, rules: [{from: 192.0.2.0/24, port: 22}]}}"
	through := func(user, key string) string {
		return "through: {host: =jump.public_address, user: " + user + ", key: =" + key + ".private_key}"
	}
	machine := func(more, check string) string {
		return host + more + "}, health: [{" + check + "}]}"
	}
	public := ", public: true, firewalls: [=door.id]"
	hidden := ", firewalls: [=inner.id], key_pair: =key.id"
	for _, c := range []struct {
		says  string
		lines []string
	}{
		{"", []string{net, lan, door, machine(public, "http: {url: '=\"http://\" + self.reach[\"80\"]'}")}},
		{"", []string{net, lan, door, machine(public, "tcp: {host: =self.public_address, port: 80}")}},
		{"", []string{net, lan, "door: {type: firewall, repeat: 2, want: {network: =net.id, rules: [{from: " +
			"0.0.0.0/0, port: 80}]}}",
			machine(", public: true, firewalls: '=[door[1].id]'", "http: {url: '=\"http://\" + self.reach[\"80\"]'}")}},
		{"nothing opens that port to the outside",
			[]string{net, lan, door, machine(public, "http: {url: '=\"http://\" + self.reach[\"8080\"]'}")}},
		{"no rule opens that port",
			[]string{net, lan, door, machine(public, "tcp: {host: =self.public_address, port: 81}")}},
		{"no rule lets in this service, which the cloud sees at 192.0.2.7",
			[]string{net, lan, door, machine(public, "tcp: {host: =self.public_address, port: 22}")}},
		{"there is no way to it from outside",
			[]string{net, lan, door, machine(public, "tcp: {host: =self.private_address, port: 80}")}},
		{"no rule opens that port",
			[]string{net, lan, machine(", public: true", "tcp: {host: =self.public_address, port: 80}")}},
		{"must stay right for 10m, and has only 5m",
			[]string{net, lan, door,
				machine(public, "tcp: {host: =self.public_address, port: 80}, within: 5m, steady_for: 10m")}},
		{"", []string{net, lan, inner, key, front, jump,
			machine(hidden, "ssh: {host: =self.private_address, user: admin, key: =key.private_key, command: id, "+
				"answer: uid, "+through("tide", "key")+"}")}},
		{"image tide-3 has the user tide",
			[]string{net, lan, inner, key, front, jump,
				machine(hidden, "tcp: {host: =self.private_address, port: 22, "+through("root", "key")+"}")}},
		{"image debian-12 has the user admin",
			[]string{net, lan, inner, key, front, jump,
				machine(hidden, "ssh: {host: =self.private_address, user: tide, key: =key.private_key, command: id, "+
					"answer: uid, "+through("tide", "key")+"}")}},
		{"the machine has key", []string{net, lan, inner, key, other, front, jump,
			machine(hidden, "ssh: {host: =self.private_address, user: admin, key: =other.private_key, command: id, "+
				"answer: uid, "+through("tide", "key")+"}")}},
		{"the machine has none", []string{net, lan, inner, key, front, jump,
			machine(", firewalls: [=inner.id]", "ssh: {host: =self.private_address, user: admin, key: "+
				"=key.private_key, command: id, answer: uid, "+through("tide", "key")+"}")}},
		{"at port 90, and no rule lets in jump",
			[]string{net, lan, inner, key, front, jump,
				machine(hidden, "tcp: {host: =self.private_address, port: 90, "+through("tide", "key")+"}")}},
	} {
		r := rendered(t, c.lines...)
		if render.HasErrors(r.Findings) {
			t.Errorf("%s: %v", c.lines[len(c.lines)-1], r.Findings)
		}
		got := Reaching(r, nil, nil, everywhere)
		if len(got) != min(len(c.says), 1) ||
			c.says != "" && (!strings.Contains(got[0].Message, c.says) || got[0].Remedy == "" ||
				got[0].Severity != lang.Error) {
			t.Errorf("%s: %v, want %q", c.lines[len(c.lines)-1], got, c.says)
		}
		// What stays as it is was proved, and is not looked into.
		same := make([]change.Change, len(r.Resources))
		for i := range same {
			same[i].Change = change.Same
		}
		if got := Reaching(r, nil, same, everywhere); len(got) > 0 {
			t.Errorf("%s: nothing changes, and %v is told", c.lines[len(c.lines)-1], got)
		}
	}
}

// TestNetworksMayOverlapWhereTheCloudLetsThem has the same ranges twice, and once more
// where something outside has one.
func TestNetworksMayOverlapWhereTheCloudLetsThem(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		overlapping bool
		lines       []string
		want        string
	}{
		{true, []string{"a: {type: network, want: {range: 10.9.0.0/16}}",
			"b: {type: network, want: {range: 10.9.0.0/16}}"}, ""},
		{false, []string{"a: {type: network, want: {range: 10.9.0.0/16}}"}, "range-in-use"},
		{false, []string{"a: {type: network, want: {range: 10.1.0.0/16}}",
			"b: {type: network, want: {range: 10.1.0.0/16}}"}, "address-plan"},
		{true, []string{"a: {type: network, want: {range: 10.20.0.0/16}}"}, "range-in-use"}, // the tide office has it
		{true, []string{"a: {type: network, want: {range: 10.9.0.0/16}}",
			"l: {type: subnet, want: {network: =a.id, range: 10.9.0.0/20}}",
			"m: {type: subnet, want: {network: =a.id, range: 10.9.1.0/24}}"}, "address-plan"},
	} {
		o := offers("north-fell", "a")
		o.Overlapping = c.overlapping
		var got []string
		for _, f := range Rendering(rendered(t, c.lines...), offer.At(*o)) {
			if f.Severity == lang.Error {
				got = append(got, f.Code)
			}
		}
		if strings.Join(got, ",") != c.want {
			t.Errorf("%v, overlapping %t: %v, want %s", c.lines, c.overlapping, got, c.want)
		}
	}
}
