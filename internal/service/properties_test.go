package service_test

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/sim"
)

const (
	firstKey  = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAILyRaI/hC8BZKesjn6bxJlW30teDEawZU1aofkog5YbO ines@saltmere.example"
	secondKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOgao5JEqWWqoVhl1HZowKOkYOM04kZgHI3GAlwWmC/2 tam@saltmere.example"
)

var writeTable = flag.Bool("properties.write", false, "write the table of what altering each property takes")

const tableFile = "../exchange/altering.md"

// tried is one type with two values for each of its properties. Around it stand the
// resources that it refers to.
type tried struct {
	base   map[string]any // what is wanted while nothing is tried
	values map[string][2]any
	// also is what has to change with the second value of a property.
	also map[string]map[string]any
}

var around = map[string]any{
	"net":  map[string]any{"type": "network", "want": map[string]any{"range": "10.%d.0.0/20"}},
	"net2": map[string]any{"type": "network", "want": map[string]any{"range": "10.%d.16.0/20"}},
	"lan":  map[string]any{"type": "subnet", "want": map[string]any{"network": "=net.id", "range": "10.%d.0.0/24"}},
	"lan2": map[string]any{"type": "subnet", "want": map[string]any{"network": "=net.id", "range": "10.%d.1.0/24"}},
	"door": map[string]any{
		"type": "firewall",
		"want": map[string]any{"network": "=net.id", "rules": []any{map[string]any{"from": "10.0.0.0/8", "port": 22}}},
	},
	"gate": map[string]any{
		"type": "firewall",
		"want": map[string]any{"network": "=net.id", "rules": []any{map[string]any{"from": "10.0.0.0/8", "port": 80}}},
	},
	"front": map[string]any{"type": "address"}, "back": map[string]any{"type": "address"},
	"key":     map[string]any{"type": "key_pair", "want": map[string]any{"public_key": firstKey}},
	"key2":    map[string]any{"type": "key_pair", "want": map[string]any{"public_key": secondKey}},
	"ground":  map[string]any{"type": "host", "want": map[string]any{"family": "plain"}},
	"ground2": map[string]any{"type": "host", "want": map[string]any{"family": "plain"}},
	"acts":    map[string]any{"type": "role", "want": map[string]any{"grants": grants("disk.read")}},
	"acts2":   map[string]any{"type": "role", "want": map[string]any{"grants": grants("disk.*")}},
	"zone":    map[string]any{"type": "name_zone", "want": map[string]any{"domain": "zone%d.example"}},
	"zone2":   map[string]any{"type": "name_zone", "want": map[string]any{"domain": "zone%d.test.example"}},
	"data":    map[string]any{"type": "disk", "want": map[string]any{"size": "10GiB", "type": "solid"}},
	"logs":    map[string]any{"type": "disk", "want": map[string]any{"size": "10GiB", "type": "solid"}},
}

var common = map[string][2]any{
	"name": {"tried-one", "tried-two"},
	"tags": {map[string]any{"owner": "ines"}, map[string]any{"owner": "tam", "wing": "east"}},
}

func grants(may ...any) any { return []any{map[string]any{"may": may}} }

func reader(rights string) any {
	return map[string]any{"name": "reader", "password": "Not-a-secret-12", "rights": rights}
}

func layout(hosts int) any { return []any{map[string]any{"zone": "north-fell-a", "hosts": hosts}} }

// ranges are those of a private cloud: one differs.
func ranges(management string) any {
	return map[string]any{
		"management": management,
		"moves":      "10.%d.80.0/24",
		"storage":    "10.%d.81.0/24",
		"uplink":     "10.%d.82.0/24",
	}
}

func rule(from string, port int) any { return map[string]any{"from": from, "port": port} }

var triedTypes = map[string]tried{
	"network": {map[string]any{"range": "10.%d.32.0/20"},
		map[string][2]any{"range": {"10.%d.32.0/20", "10.%d.48.0/20"}}, nil},
	"subnet": {map[string]any{"network": "=net.id", "range": "10.%d.2.0/24"},
		map[string][2]any{
			"network":      {"=net.id", "=net2.id"},
			"range":        {"10.%d.2.0/24", "10.%d.3.0/24"},
			"zone":         {"north-fell-a", "north-fell-b"},
			"way_out":      {"none", "address"},
			"name_servers": {[]any{"10.0.0.53"}, []any{"10.0.0.54", "10.0.0.53"}},
			"time_servers": {[]any{"time.saltmere.example"}, []any{"10.0.0.12"}},
		},
		map[string]map[string]any{"network": {"range": "10.%d.18.0/24"}}},
	"firewall": {map[string]any{"network": "=net.id", "rules": []any{rule("10.0.0.0/8", 22)}},
		map[string][2]any{
			"network": {"=net.id", "=net2.id"},
			"rules": {[]any{rule("10.0.0.0/8", 22)},
				[]any{map[string]any{
					"from":  "10.0.0.0/8",
					"port":  22,
					"about": "while the crews move",
					"until": "2027-01-31",
				}, rule("10.1.0.0/16", 443)}},
		}, nil},
	"host": {map[string]any{"family": "plain"},
		map[string][2]any{
			"family":  {"plain", "brisk"},
			"zone":    {"north-fell-b", "north-fell-c"},
			"recover": {true, false},
		}, nil},
	"role": {map[string]any{"grants": grants("disk.read")},
		map[string][2]any{"grants": {grants("disk.read"), grants("disk.read", "instance.*")}}, nil},
	"address": {map[string]any{}, map[string][2]any{"label": {"tried-%d-one", "tried-%d-two"}, "idle": {"5m", "10m"}},
		nil},
	"bucket": {map[string]any{"label": "tried-bucket-%d"},
		map[string][2]any{
			"label":     {"tried-bucket-%d", "tried-other-%d"},
			"files":     {map[string]any{"a.txt": "high"}, map[string]any{"a.txt": "low", "b.txt": "neap"}},
			"versions":  {true, false},
			"keep_for":  {"30d", "12h"},
			"encrypted": {true, false},
		}, nil},
	"name_zone": {map[string]any{"domain": "tried%d.example"},
		map[string][2]any{"domain": {"tried%d.example", "other%d.example"}, "network": {"=net.id", "=net2.id"}}, nil},
	"name_record": {map[string]any{"zone": "=zone.id", "label": "www", "kind": "A", "values": []any{"192.0.2.1"}},
		map[string][2]any{
			"zone":     {"=zone.id", "=zone2.id"},
			"label":    {"www", "gauges"},
			"kind":     {"A", "TXT"},
			"values":   {[]any{"192.0.2.1"}, []any{"192.0.2.2", "192.0.2.3"}},
			"keep_for": {"5m", "1h"},
		}, nil},
	"pool": {map[string]any{
		"size":    "plain-1",
		"image":   "debian-12",
		"subnets": []any{"=lan.id"},
		"least":   1,
		"most":    3,
	},
		map[string][2]any{"size": {"plain-1", "plain-2"}, "image": {"debian-12", "tide-base-3"},
			"subnets": {[]any{"=lan.id"}, []any{"=lan.id", "=lan2.id"}}, "least": {1, 2}, "most": {3, 4},
			"members": {1, 2}, "heal": {true, false},
			"idle": {"5m", "10m"}, "firewalls": {[]any{"=door.id"}, []any{"=gate.id", "=door.id"}},
			"key_pair": {"=key.id", "=key2.id"}, "role": {"=acts.id", "=acts2.id"},
			"user_data": {map[string]any{"hostname": "one"}, map[string]any{"hostname": "two"}}}, nil},

	"database": {map[string]any{
		"engine":  "postgresql-16",
		"size":    "plain-1",
		"storage": "20GiB",
		"subnets": []any{"=lan.id"},
		"users":   []any{reader("read")},
	},
		map[string][2]any{
			"engine":    {"postgresql-16", "postgresql-15"},
			"size":      {"plain-1", "plain-2"},
			"storage":   {"20GiB", "30GiB"},
			"subnets":   {[]any{"=lan.id"}, []any{"=lan2.id"}},
			"firewalls": {[]any{"=door.id"}, []any{"=gate.id", "=door.id"}},
			"users": {[]any{reader("read")},
				[]any{reader("write"), map[string]any{"name": "keeper", "password": "Not-a-secret-13"}}},
			"encrypted":   {true, false},
			"keep_copies": {"7d", "30d"},
		}, nil},
	"shared_files": {map[string]any{"size": "100GiB", "subnets": []any{"=lan.id"}},
		map[string][2]any{
			"size":      {"100GiB", "120GiB"},
			"subnets":   {[]any{"=lan.id"}, []any{"=lan2.id"}},
			"firewalls": {[]any{"=door.id"}, []any{"=gate.id", "=door.id"}},
			"encrypted": {true, false},
		}, nil},
	"private_cloud": {map[string]any{
		"network":  "=net.id",
		"family":   "plain",
		"password": "Not-a-secret-12",
		"layout":   layout(4),
		"ranges":   ranges("10.%d.64.0/24"),
	},
		map[string][2]any{
			"network":    {"=net.id", "=net2.id"},
			"family":     {"plain", "brisk"},
			"password":   {"Not-a-secret-12", "Not-a-secret-13"},
			"layout":     {layout(4), layout(5)},
			"ranges":     {ranges("10.%d.64.0/24"), ranges("10.%d.68.0/24")},
			"protection": {"one copy", "two copies"},
		}, nil},

	"key_pair": {map[string]any{}, map[string][2]any{"public_key": {firstKey, secondKey}}, nil},
	"secret":   {map[string]any{"value": "spring tide"}, map[string][2]any{"value": {"spring tide", "neap tide"}}, nil},
	"disk": {map[string]any{"size": "10GiB", "type": "solid"},
		map[string][2]any{
			"size":      {"10GiB", "20GiB"},
			"type":      {"solid", "solid-plus"},
			"zone":      {"north-fell-b", "north-fell-c"},
			"encrypted": {true, false},
		}, nil},
	"instance": {map[string]any{"size": "plain-2", "image": "debian-12", "subnet": "=lan.id"},
		map[string][2]any{"size": {"plain-2", "brisk-2"}, "image": {"debian-12", "tide-base-3"},
			"subnet": {"=lan.id", "=lan2.id"}, "zone": {"north-fell-b", "north-fell-c"}, "public": {true, false},
			"address": {"=front.id", "=back.id"}, "firewalls": {[]any{"=door.id"}, []any{"=gate.id", "=door.id"}},
			"key_pair": {"=key.id", "=key2.id"},
			"disks": {[]any{map[string]any{"disk": "=data.id", "mount": "/data"}},
				[]any{map[string]any{"disk": "=logs.id"}}},
			"user_data": {map[string]any{"hostname": "one"}, map[string]any{"hostname": "two"}},
			"cards": {[]any{map[string]any{"subnet": "=lan2.id"}},
				[]any{map[string]any{"subnet": "=lan2.id", "address": "=front.id", "firewalls": []any{"=door.id"}}}},
			"host": {"=ground.id", "=ground2.id"}, "role": {"=acts.id", "=acts2.id"},
			"licence": {"by-the-hour", "own"}}, nil},
}

// trial tries the properties of one type in a stack of its own.
type trial struct {
	t        *testing.T
	r        *servicetest.Rig
	s        *service.Service
	typ      string
	number   int
	property string
}

func (x *trial) source(want map[string]any) string {
	resources := map[string]any{"tried": map[string]any{"type": x.typ, "want": want, "patience": "99h"}}
	for name, r := range around {
		own := maps.Clone(r.(map[string]any))
		own["patience"] = "99h" // at this pace a second is most of an hour
		resources[name] = own
	}
	raw, err := json.Marshal(map[string]any{
		"undersail": 1,
		"about":     map[string]any{"name": "tried", "version": "1.0.0", "title": "Tried"},
		"resources": resources,
	})
	if err != nil {
		x.t.Fatal(err)
	}
	return strings.ReplaceAll(string(raw), "%d", fmt.Sprint(x.number))
}

// to lets the tried resource be wanted so and tells what that took. Only the tried
// property may change, and afterwards nothing is left to change.
func (x *trial) to(want map[string]any) string {
	x.t.Helper()
	ctx := context.Background()
	stack := "tried-" + strings.ReplaceAll(x.typ, "_", "-")
	ask := proposing.NewProposal{
		Stack:   stack,
		File:    "tried.sail.yaml",
		Source:  x.source(want),
		Account: "saltmere-lab",
		Region:  "north-fell",
	}
	p, err := x.s.Proposing.Propose(ctx, x.r.Admin, ask)
	var e *refusal.Error
	if errors.As(err, &e) && e.Kind == refusal.Findings && e.Diagnostics == nil {
		if e.Findings[slices.IndexFunc(e.Findings,
			func(f render.Finding) bool { return f.Severity == "error" })].Code == "not-supported" {
			return "not on Larch"
		}
		return "refused"
	}
	if err != nil {
		x.t.Errorf("%s of %s: %s", x.property, x.typ, servicetest.Explain(err))
		return "?"
	}
	took := ""
	for _, c := range p.Changes {
		if c.Change == change.Same || x.property == "" {
			continue
		}
		if c.Resource != "tried" {
			x.t.Errorf("%s of %s: it would %s %s too: %s %v", x.property, x.typ, c.Change, c.Resource, c.Reason,
				c.Fields)
			continue
		}
		for _, f := range c.Fields {
			if f.Name == "after" || strings.HasPrefix(f.Name, "health.") {
				continue // what it waits for, and what proves it, follow from what is wanted
			}
			if f.Name != x.property && !strings.HasPrefix(f.Name, x.property+".") &&
				!strings.HasPrefix(f.Name, x.property+"[") && triedTypes[x.typ].also[x.property][f.Name] == nil {
				x.t.Errorf("%s of %s: `%s` is named, from %v to %v", x.property, x.typ, f.Name, f.Before, f.After)
			}
			took = map[resource.Alteration]string{
				resource.InPlace:   "in place",
				resource.NeedsStop: "with a stop",
				resource.Rebuild:   "rebuilt",
			}[f.Alter]
		}
		if rebuilt := c.Change == change.Rebuild; rebuilt != (took == "rebuilt") {
			x.t.Errorf("%s of %s: it says %q and would %s it", x.property, x.typ, took, c.Change)
		}
	}
	if x.property != "" && took == "" {
		x.t.Errorf("%s of %s: the proposal does not name it: %s", x.property, x.typ, p.Summary)
		return "?"
	}
	if run := x.r.Await(x.s, x.r.Carry(x.s, p)); run.State != "done" {
		x.t.Fatalf("%s of %s: the run is %s: %s", x.property, x.typ, run.State, run.Reason)
	}
	x.holds(stack, want)
	if again, err := x.s.Proposing.Propose(ctx, x.r.Admin, ask); err != nil || again.State != "nothing" {
		x.t.Errorf("%s of %s: proposed again it is %s (%v)", x.property, x.typ, again.Summary, err)
	}
	return took
}

// members asks the machines of a group themselves.
func (x *trial) members(group cloud.Live, want map[string]any) {
	if x.typ != "pool" {
		return
	}
	all, err := cloud.Collect(x.r.Adapter().Search(context.Background(), cloud.Query{
		Region: "north-fell",
		Type:   "instance",
		Tags:   map[string]string{"larch-pool": group.ID},
	}))
	if err != nil || len(all) == 0 {
		x.t.Errorf("%s of %s: it has %d members (%v)", x.property, x.typ, len(all), err)
	}
	for _, m := range all {
		for _, name := range []string{"size", "image"} {
			if m.Phase == cloud.Ready && m.Has[name] != want[name] {
				x.t.Errorf("%s of %s: a member has %s %v", x.property, x.typ, name, m.Has[name])
			}
		}
	}
}

// holds asks the cloud itself whether it has what is wanted.
func (x *trial) holds(stack string, want map[string]any) {
	x.t.Helper()
	live, err := cloud.Collect(x.r.Adapter().Search(context.Background(), cloud.Query{
		Region: "north-fell",
		Type:   x.typ,
		Tags:   map[string]string{cloud.TagStack: stack, cloud.TagResource: "tried"},
	}))
	if err != nil || len(live) != 1 {
		x.t.Errorf("%s of %s: %d are there (%v)", x.property, x.typ, len(live), err)
		return
	}
	for name, v := range want {
		v = number(v, x.number)
		text, _ := v.(string)
		has, told := live[0].Has[name]
		switch {
		case name == "tags":
			for key, tag := range v.(map[string]any) {
				if live[0].Tags[key] != tag {
					x.t.Errorf("%s of %s: the tag %s is %q", x.property, x.typ, key, live[0].Tags[key])
				}
			}
		case strings.HasPrefix(text, "=") || name == "firewalls" || name == "disks" || name == "cards" ||
			name == "subnets":
			if told == (len(live[0].Uses()) == 0) {
				x.t.Errorf("%s of %s: %s is %v", x.property, x.typ, name, has)
			}
		case told && !change.Holds(x.typ, name, v, has):
			x.t.Errorf("%s of %s: the cloud has %v, wanted is %v", x.property, x.typ, has, v)
		}
	}
	x.members(live[0], want)
	for name := range live[0].Has {
		_, wanted := want[name]
		// these the cloud, or we, choose then
		if !wanted && (name == x.property && name != "name" && name != "zone" && name != "public_key") {
			x.t.Errorf("%s of %s was taken away, and is %v", name, x.typ, live[0].Has[name])
		}
	}
	for key := range live[0].Tags {
		if tags, _ := want["tags"].(map[string]any); !strings.HasPrefix(key, "undersail") && tags[key] == nil {
			x.t.Errorf("%s of %s: the tag %s is still there", x.property, x.typ, key)
		}
	}
}

func number(v any, n int) any {
	switch x := v.(type) {
	case string:
		return strings.ReplaceAll(x, "%d", fmt.Sprint(n))
	case map[string]any:
		out := map[string]any{}
		for name, inner := range x {
			out[name] = number(inner, n)
		}
		return out
	}
	return v
}

func with(base map[string]any, property string, v any) map[string]any {
	out := maps.Clone(base)
	if out[property] = v; v == nil {
		delete(out, property)
	}
	return out
}

// slow are the types that make altering tries and make test leaves out.
var slow = []string{"bucket", "database", "host", "instance", "name_record", "pool", "private_cloud", "role"}

// TestEveryPropertyOfEveryTypeIsAltered sets, changes, takes away and puts back every
// property of every type that Larch has. The table of what that took is part of the
// documentation: make altering tries all of it and writes it anew.
func TestEveryPropertyOfEveryTypeIsAltered(t *testing.T) {
	t.Parallel()
	r := servicetest.NewWith(t, sim.Config{
		Pace: 2400,
		Rate: 100_000,
		Quotas: map[string]int64{
			"networks":    100,
			"addresses":   100,
			"hosts":       100,
			"pools":       100,
			"buckets":     100,
			"databases":   100,
			"file_shares": 100,
			"vcpus":       400,
		},
	})
	s, _ := r.Start(engine.Config{CallRate: 100_000}, nil)
	before, err := os.ReadFile(tableFile)
	if err != nil {
		t.Fatal(err)
	}
	names := slices.Sorted(maps.Keys(triedTypes))
	rows := make([][]string, len(names))
	var all sync.WaitGroup
	for i, name := range names {
		if !*writeTable && slices.Contains(slow, name) {
			rows[i] = slices.DeleteFunc(strings.SplitAfter(string(before), "\n"),
				func(row string) bool { return !strings.HasPrefix(row, "| "+name+" |") })
			continue
		}
		all.Go(func() { rows[i] = tryType(t, r, s, name, 100+i) })
	}
	all.Wait()
	table := "\n## What altering takes on Larch\n\nEvery property was set, changed, taken away and put back in a " +
		"small stack, and what that took was seen.\n\n| type | property | set | changed | taken away | put back " +
		"|\n|---|---|---|---|---|---|\n" + strings.Join(slices.Concat(rows...), "")
	if *writeTable {
		if err := os.WriteFile(tableFile, []byte(table), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if !*writeTable && string(before) != table {
		t.Errorf("%s is not what was seen; write it with make altering:\n%s", tableFile, table)
	}
}

func tryType(t *testing.T, r *servicetest.Rig, s *service.Service, name string, number int) (rows []string) {
	x := &trial{t: t, r: r, s: s, typ: name, number: number}
	try := triedTypes[name]
	x.to(try.base)
	typ, _ := resource.ByName(name)
	for _, p := range typ.Properties {
		values, ok := try.values[p.Name]
		if !ok {
			values, ok = common[p.Name], true
		}
		base := maps.Clone(try.base)
		if x.property = p.Name; p.Name == "address" {
			delete(base, "public")
		}
		if p.Name == "licence" { // few images leave a choice
			base["image"] = "tide-model-5"
			base["size"], x.property = "plain-4", ""
			x.to(base)
			x.property = p.Name
		}
		cells := []string{"-", "-", "-", "-"}
		at := base
		if !p.Required {
			at = with(base, p.Name, values[0])
			cells[0] = x.to(at)
		}
		if cells[0] != "not on Larch" {
			second := with(base, p.Name, values[1])
			maps.Copy(second, try.also[p.Name])
			cells[1] = x.to(second)
			if p.GrowOnly {
				cells[1] += "; smaller: " + x.to(at)
				try.base = with(try.base, p.Name, values[1])
			} else if p.Required {
				cells[3] = x.to(at)
			} else {
				cells[2] = x.to(base)
				cells[3] = x.to(at)
				x.to(base)
			}
		}
		if p.Name == "licence" {
			x.property = ""
			x.to(try.base)
		}
		rows = append(rows, fmt.Sprintf("| %s | `%s` | %s |\n", name, p.Name, strings.Join(cells, " | ")))
	}
	return rows
}
