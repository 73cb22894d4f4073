package fit

import (
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/offer"
)

// TestWhatMakesNoSenseIsFoundAtItsPlace, before any cloud is asked.
func TestWhatMakesNoSenseIsFoundAtItsPlace(t *testing.T) {
	t.Parallel()
	const (
		crew = "crew: {type: pool, want: {size: plain-2, image: debian-12, subnets: [=lan.id], least: LEAST, most: " +
			"MOST, members: NOW}}"
		host  = "host: {type: instance, want: {size: plain-2, image: debian-12, subnet: =lan.id, MORE}}"
		cliff = "cliff: {type: private_cloud, want: {network: =net.id, family: plain, password: a-Long-enough-1, " +
			"layout: [{zone: a, hosts: 3}], ranges: {management: 10.3.0.0/24, moves: 10.3.1.0/24, storage: " +
			"10.3.2.0/24, uplink: UPLINK}}}"
		far = "far: {type: network, want: {range: 10.9.0.0/16}}"
	)
	pool := func(least, most, now string) string {
		return strings.NewReplacer("LEAST", least, "MOST", most, "NOW", now).Replace(crew)
	}
	with := func(more string) string { return strings.Replace(host, "MORE", more, 1) }
	for _, c := range []struct {
		want  string // the place; empty is none
		lines []string
	}{
		{"net.range", []string{"net: {type: network, want: {range: 224.0.0.0/8}}"}},
		{"net.range", []string{"net: {type: network, want: {range: 127.1.0.0/16}}"}},
		{"", []string{"net: {type: network, want: {range: 172.20.0.0/16}}"}},
		{"crew.least", []string{net, lan, pool("4", "2", "2")}},
		{"crew.members", []string{net, lan, pool("1", "2", "3")}},
		{"", []string{net, lan, pool("1", "3", "2")}},
		{"host.disks[1].mount", []string{net, lan, data, "logs: {type: disk, want: {size: 10GiB, type: solid}}",
			with("disks: [{disk: =data.id, mount: /data}, {disk: =logs.id, mount: /data/}]")}},
		{"host.disks[0].mount", []string{net, lan, data, with("disks: [{disk: =data.id, mount: /}]")}},
		{"host.disks[0].mount", []string{net, lan, data, with("disks: [{disk: =data.id, mount: data}]")}},
		{"host.user_data.write_files[0].path", []string{net, lan, with("user_data: {write_files: [{content: tide}]}")}},
		{"", []string{net, lan, with("user_data: {write_files: [{path: /etc/tide, content: tide}]}")}},
		{"host.firewalls[0]", []string{net, lan, far,
			"door: {type: firewall, want: {network: =far.id, rules: [{from: 10.0.0.0/8, port: 22}]}}",
			with("firewalls: [=door.id]")}},
		{"", []string{net, lan, "door: {type: firewall, want: {network: =net.id, rules: [{from: 10.0.0.0/8, " +
			"port: 22}]}}", with("firewalls: [=door.id]")}},
		{"host.key_pair", []string{net, lan, "key: {type: key_pair, region: long-sound}", with("key_pair: =key.id")}},
		{"log.users[1].name", []string{net, lan,
			"log: {type: database, want: {engine: postgresql-16, size: plain-2, storage: 20GiB, subnets: [=lan.id], " +
				"users: [{name: tide, password: a-Long-enough-1}, {name: tide, password: a-Long-enough-2}]}}"}},
		{"www.values[0]", []string{"zone: {type: name_zone, want: {domain: tides.example}}",
			"www: {type: name_record, want: {zone: =zone.id, label: www, kind: A, values: ['2001:db8::7']}}"}},
		{"www.values[0]", []string{"zone: {type: name_zone, want: {domain: tides.example}}",
			"www: {type: name_record, want: {zone: =zone.id, label: www, kind: AAAA, values: ['192.0.2.7']}}"}},
		{"www.values[0]", []string{"zone: {type: name_zone, want: {domain: tides.example}}",
			"www: {type: name_record, want: {zone: =zone.id, label: www, kind: MX, values: [mail.tides.example]}}"}},
		{"", []string{"zone: {type: name_zone, want: {domain: tides.example}}",
			"www: {type: name_record, want: {zone: =zone.id, label: '*.quay_1', kind: MX, values: ['10 " +
				"mail.tides.example.']}}"}},
		{"www.values[0]", []string{"zone: {type: name_zone, want: {domain: tides.example}}",
			"www: {type: name_record, want: {zone: =zone.id, label: www, kind: CNAME, values: ['192.0.2.7']}}"}},
		{"www.label", []string{"zone: {type: name_zone, want: {domain: tides.example}}",
			"www: {type: name_record, want: {zone: =zone.id, label: w w, kind: TXT, values: [neap]}}"}},
		{"log.subnets", []string{"log: {type: database, want: {engine: postgresql-16, size: plain-2, storage: " +
			"20GiB, subnets: [], users: []}}"}},
		{"cliff.ranges.uplink", []string{net, strings.Replace(cliff, "UPLINK", "10.0.3.0/24", 1)}},
		{"cliff.ranges.uplink", []string{net, strings.Replace(cliff, "uplink: UPLINK", "", 1)}},
		{"cliff.layout", []string{net,
			strings.NewReplacer("UPLINK", "10.3.3.0/24", "hosts: 3", "hosts: 2").Replace(cliff)}},
		{"", []string{net, strings.Replace(cliff, "UPLINK", "10.3.3.0/24", 1)}},
		{"host.user_data", []string{net, lan, with("user_data: packages and files")}},
		{"zone.domain", []string{"zone: {type: name_zone, want: {domain: not a domain}}"}},
		{"front.label", []string{"front: {type: address, want: {label: Quay_One}}"}},
		{"store.label", []string{"store: {type: bucket, want: {label: '-store'}}"}},
	} {
		o := offers("north-fell", "a", "b")
		o.Types = append(o.Types, "pool", "database", "name_zone", "name_record", "bucket", "key_pair", "private_cloud")
		var places []string
		for _, f := range Rendering(rendered(t, c.lines...), offer.Everywhere{
			Home:      o,
			Elsewhere: map[string]*offer.Offers{"long-sound": offers("long-sound", "x")},
		}) {
			if f.Code == "no-sense" {
				places = append(places, f.Place)
			}
		}
		if c.want == "" && places != nil || c.want != "" && !slices.Contains(places, c.want) {
			t.Errorf("want %q, found %v in\n%s", c.want, places, strings.Join(c.lines, "\n"))
		}
	}
}
