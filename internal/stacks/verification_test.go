package stacks_test

import (
	"context"
	"io/fs"
	"strings"
	"testing"
	"time"

	"undersail/examples"
	"undersail/internal/await"
	"undersail/internal/core/state"
	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
	"undersail/sim/world"
)

// TestEachLineOfAVerificationTurnsByItself spoils what a very large machine tells, one
// thing after the other.
func TestEachLineOfAVerificationTurnsByItself(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	ctx := context.Background()
	source := exampleSource(t, "season-model")
	p, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:   "season",
		File:    "season.sail.yaml",
		Source:  source,
		Account: "saltmere-lab",
		Region:  "ember-coast",
		Inputs:  map[string]any{"office": "127.0.0.0/8", "zone": "ember-coast-a"},
	})
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if got := servicetest.Failing(t, s, r, "season"); len(got) > 0 {
		t.Fatal(got)
	}
	for what, line := range map[string]string{
		"cores":       "season: nproc on ",
		"memory":      "season: free on ",
		"volume":      "season: lvs | grep season-data on ",
		"application": "season: tide-season status on ",
	} {
		r.Fault(world.Fault{Kind: "spoilt", On: what, Label: "season", Count: -1})
		if got := servicetest.Failing(t, s, r, "season"); len(got) != 1 || !strings.HasPrefix(got[0], line) {
			t.Errorf("with its %s spoilt: %q", what, got)
		}
		r.Lift()
	}
	r.Fault(world.Fault{Kind: "spoilt", On: "file-system", Label: "season", Count: -1})
	got := servicetest.Failing(t, s, r, "season")
	if len(got) != 2 || !strings.Contains(got[0], "df -T /season/data") ||
		!strings.Contains(got[1], "df -T /season/log") {
		t.Errorf("with its file systems spoilt: %q", got)
	}
	r.Lift()
	if got := servicetest.Failing(t, s, r, "season"); len(got) > 0 {
		t.Error(got)
	}
}

const pooled = `undersail: 1
about: {name: pooled, version: 1.0.0, title: Pooled}
resources:
  net: {type: network, want: {range: 10.34.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.34.0.0/24}}
  hands: {type: pool, want: {size: plain-1, image: debian-12, subnets: ["=lan.id"], least: 0, most: 4, members: MEMBERS, heal: HEAL}}
`

// TestAPoolKeepsItsMembers replaces one that died, unless that is paused, and takes them
// all with it when it goes.
func TestAPoolKeepsItsMembers(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	source := func(members, heal string) string {
		return strings.NewReplacer("MEMBERS", members, "HEAL", heal).Replace(pooled)
	}
	if run := r.Await(s, r.ApplySource(s, "pooled", source("2", "true"), nil)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	machines := func() (alive []string) {
		for _, x := range r.Ledger().Alive {
			if x.Kind == "instances" && x.Phase != world.Removing {
				alive = append(alive, x.Label)
			}
		}
		return alive
	}
	until := func(what string, holds func() bool) {
		t.Helper()
		if !await.Holds(holds) {
			t.Fatalf("%s: %v", what, machines())
		}
	}
	first := machines()
	if len(first) != 2 {
		t.Fatal(first)
	}
	r.Fault(world.Fault{Kind: "guest-dead", Label: first[0], Count: -1})
	until("the dead member is not replaced", func() bool {
		now := machines()
		return len(now) == 2 && now[0] != first[0] && len(servicetest.Failing(t, s, r, "pooled")) == 0
	})
	r.Lift()
	// Without healing a dead one stays for whoever wants to look at it.
	p := r.Propose(s, "pooled", source("2", "false"), nil)
	if p.Summary != "1 alter, 2 same" {
		t.Errorf("pausing is %s", p.Summary)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	before := machines()
	r.Fault(world.Fault{Kind: "guest-dead", Label: before[0], Count: -1})
	time.Sleep(200 * time.Millisecond) // two minutes of the cloud
	if now := machines(); len(now) != 2 || now[0] != before[0] {
		t.Errorf("healing is paused and the members are %v, before %v", now, before)
	}
	r.Lift()
	retire, err := s.Proposing.Retire(context.Background(), r.Admin, "pooled")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run := r.Await(s, r.Carry(s, retire)); run.State != state.Done || len(r.Ledger().Alive) > 0 {
		t.Errorf("%s %s; alive are %v", run.State, run.Reason, r.Ledger().Alive)
	}
}

const stored = `undersail: 1
about: {name: stored, version: 1.0.0, title: Stored}
inputs:
  more: {type: boolean, default: false}
  word: {secret: true, rules: {length: 12}, generate: true}
  at: {type: string, default: 192.0.2.7}
resources:
  net: {type: network, want: {range: 10.35.0.0/16}}
  lan: {type: subnet, repeat: {zone: [north-fell-a, north-fell-b]}, want: {network: =net.id, range: '=zone == "north-fell-a" ? "10.35.0.0/24" : "10.35.1.0/24"', zone: =zone}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  inside: {type: firewall, want: {network: =net.id, rules: [{from: 10.35.0.0/16, port: 5432}]}}
  access: {type: key_pair}
  way: {type: instance, want: {size: plain-1, image: debian-12, subnet: '=lan["north-fell-a"].id', public: true, key_pair: =access.id, firewalls: ["=door.id"]}}
  store:
    type: database
    want:
      engine: postgresql-16
      size: plain-1
      storage: 20GiB
      subnets: '=["north-fell-a", "north-fell-b"].map(z, lan[z].id)'
      firewalls: ["=inside.id"]
      users: '=[database_user{name: "reader", password: inputs.word, rights: "read"}] + (inputs.more ? [database_user{name: "tam", password: inputs.word, rights: "read"}] : [])'
    health:
      - database: {host: =self.host, name: =self.database, user: reader, password: =inputs.word, through: {host: =way.public_address, user: admin, key: =access.private_key}}
        within: 20m
  names: {type: name_zone, want: {domain: stored.example}}
  name: {type: name_record, want: {zone: =names.id, label: store, kind: A, values: [=inputs.at]}}
`

// TestADatabaseAnswersAndItsStandbyFollows signs in by the database's own protocol, adds
// somebody without a rebuild, and is told when the standby lags; a name resolves at the
// servers of its zone.
func TestADatabaseAnswersAndItsStandbyFollows(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	run := r.Await(s, r.ApplySource(s, "stored", stored, nil))
	if run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if got := servicetest.Failing(t, s, r, "stored"); len(got) > 0 {
		t.Fatal(got)
	}
	r.Fault(world.Fault{Kind: "spoilt", On: "replication", Label: "store", Count: -1})
	got := servicetest.Failing(t, s, r, "stored")
	if len(got) != 1 || got[0] != "store: what it tells as standby, which must be true: false" {
		t.Errorf("with a standby that lags: %q", got)
	}
	r.Lift()
	p := r.Propose(s, "stored", stored, map[string]any{"more": true, "at": "192.0.2.8"})
	if p.Summary != "2 alter, 8 same" {
		t.Errorf("one more user and another address are %s", p.Summary)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if got := servicetest.Failing(t, s, r, "stored"); len(got) > 0 {
		t.Error(got)
	}
	r.ByHand("PATCH", "stored-name", map[string]any{"values": []any{"192.0.2.9"}})
	got = servicetest.Failing(t, s, r, "stored")
	if len(got) != 1 || !strings.HasPrefix(got[0], "name: A of store.stored.example at 127.") ||
		!strings.HasSuffix(got[0], ": 192.0.2.9") {
		t.Errorf("with another value by hand: %q", got)
	}
	retire, err := s.Proposing.Retire(context.Background(), r.Admin, "stored")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run := r.Await(s, r.Carry(s, retire)); run.State != state.Done || len(r.Ledger().Alive) > 0 {
		t.Errorf("%s %s; alive are %v", run.State, run.Reason, r.Ledger().Alive)
	}
}

// exampleSource is an example as it is shipped, with the patience of a test.
func exampleSource(t *testing.T, name string) string {
	t.Helper()
	source, err := fs.ReadFile(examples.Files, name+".sail.yaml")
	if err != nil {
		t.Fatal(err)
	}
	return servicetest.Patient(string(source))
}

const attached = `undersail: 1
about: {name: attached, version: 1.0.0, title: Attached}
inputs:
  disks: {type: array, items: {type: string}, default: [first]}
  size: {type: string, format: amount, default: 10GiB}
  names: {type: array, items: {type: string}, default: []}
resources:
  net: {type: network, want: {range: 10.36.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.36.0.0/24, name_servers: =inputs.names, time_servers: [time.saltmere.example]}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  access: {type: key_pair}
  data: {type: disk, repeat: {name: =inputs.disks}, want: {size: =inputs.size, type: solid}}
  host: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, public: true, key_pair: =access.id, firewalls: ["=door.id"], disks: '=inputs.disks.map(d, attached_disk{disk: data[d].id, mount: "/" + d, format: "xfs"})'}}
  since: {type: task, want: {on: =host.public_address, user: admin, key: =access.private_key, command: 'test -f since || echo first boot > since; cat since; lsblk; cat /etc/resolv.conf /run/chrony-dhcp/eth0.sources', again_when: ['=inputs.disks.join(" ") + string(inputs.size) + inputs.names.join(" ")']}, after: {host: healthy, data: healthy}}
`

// TestAMachineThatRunsSeesWhatChangesAroundIt attaches, grows and detaches disks, and names
// other servers for names: the machine stays, and sees it.
func TestAMachineThatRunsSeesWhatChangesAroundIt(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	lists := func(inputs map[string]any, summary string) string {
		t.Helper()
		p := r.Propose(s, "attached", attached, inputs)
		if p.Summary != summary {
			t.Errorf("%v is %s", inputs, p.Summary)
		}
		if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
			t.Fatal(run.State, run.Reason)
		}
		return servicetest.Attributes(t, s, "attached", "since")["output"].(string)
	}
	machine := func() string { return servicetest.Attributes(t, s, "attached", "host")["id"].(string) }
	got := lists(map[string]any{}, "7 create")
	if !strings.HasSuffix(strings.TrimSpace(got), "nameserver 10.36.0.1\nserver time.saltmere.example iburst") {
		t.Errorf("at first the machine shows %s", got)
	}
	was := machine()
	got = lists(map[string]any{"disks": []any{"first", "second"}}, "1 create, 2 alter, 5 same")
	if !strings.Contains(got, "vdb 10G /first\nvdc 10G /second") {
		t.Errorf("with a second disk the machine shows %s", got)
	}
	got = lists(map[string]any{"disks": []any{"first", "second"}, "size": "12GiB"}, "3 alter, 5 same")
	if !strings.Contains(got, "vdb 12G /first\nvdc 12G /second") {
		t.Errorf("with larger disks the machine shows %s", got)
	}
	got = lists(map[string]any{"disks": []any{"second"}}, "2 alter, 1 remove, 5 same")
	if !strings.Contains(got, "vdb 12G /second") || strings.Contains(got, "/first") ||
		!strings.HasPrefix(got, "first boot") {
		t.Errorf("without the first disk the machine shows %s", got)
	}
	got = lists(map[string]any{"names": []any{"10.36.0.53", "10.36.0.54"}}, "2 alter, 5 same")
	if !strings.Contains(got, "nameserver 10.36.0.53\nnameserver 10.36.0.54\n") {
		t.Errorf("with other servers for names the machine shows %s", got)
	}
	if machine() != was {
		t.Error("it is another machine")
	}
}

const making = `undersail: 1
about: {name: making, version: 1.0.0, title: Making}
inputs: {most: {type: integer, default: 2}}
resources:
  net: {type: network, want: {range: 10.37.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.37.0.0/24}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  access: {type: key_pair}
  rights: {type: role, want: {grants: [{may: ['instance.*']}]}}
  controller:
    type: instance
    want: {size: plain-1, image: tide-base-3, subnet: =lan.id, public: true, role: =rights.id, key_pair: =access.id, firewalls: ["=door.id"], user_data: {packages: [tide-controller]}}
    makes: [{type: instance, tags: {made-by: =self.id}, least: 1, most: =inputs.most, size: plain-2}]
    health: [{ssh: {host: =self.public_address, user: tide, key: =access.private_key, command: systemctl is-active tide-controller, answer: active}, within: 20m}]
  adopted: {type: task, want: {on: =controller.public_address, user: tide, key: =access.private_key, command: tide-controller adopt}}
`

// TestWhatAMachineMakesByItselfIsCountedAndGoesWithIt prices and counts it beforehand, looks
// at it, and proves in the end that it is gone.
func TestWhatAMachineMakesByItselfIsCountedAndGoesWithIt(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	ctx := context.Background()
	_, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:   "making",
		File:    "making.sail.yaml",
		Source:  making,
		Account: "saltmere-lab",
		Region:  "north-fell",
		Inputs:  map[string]any{"most": 60},
	})
	if err == nil || !strings.Contains(servicetest.Explain(err), "vcpus") {
		t.Errorf("more than the quota may be made: %v", err)
	}
	p := r.Propose(s, "making", making, nil)
	detail, err := s.Proposing.Show(ctx, p.ID)
	if err != nil || detail.Cost.Most <= detail.Cost.Hour || detail.Cost.Hour <= 0.042 {
		t.Errorf("it costs %v, at most %v (%v)", detail.Cost.Hour, detail.Cost.Most, err)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	made := func() (out []string) {
		for _, x := range r.Ledger().Alive {
			if x.Tags["made-by"] != "" {
				out = append(out, x.ID)
			}
		}
		return out
	}
	if got := made(); len(got) != 2 {
		t.Fatal(got)
	}
	if got := servicetest.Failing(t, s, r, "making"); len(got) > 0 {
		t.Error(got)
	}
	if p := r.Propose(s, "making", making, nil); p.State != "nothing" {
		t.Errorf("without a change: %s", p.Summary)
	}
	for _, id := range made() {
		r.RemoveByHand(id)
	}
	got := servicetest.Failing(t, s, r, "making")
	if len(got) != 1 || got[0] != "controller: the instances that controller made by itself, from 1 to 2: 0" {
		t.Errorf("without them: %q", got)
	}
	again := r.Propose(s, "making",
		strings.Replace(making, "command: tide-controller adopt", "command: tide-controller adopt, again_when: [lost]",
			1), nil)
	if run := r.Await(s, r.Carry(s, again)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	// Somebody else's machine has the tag too.
	network := r.MakeByHand("network", map[string]any{"name": "elsewhere", "range": "10.99.0.0/16"}, nil)
	subnet := r.MakeByHand("subnet", map[string]any{"name": "elsewhere", "network": network, "range": "10.99.0.0/24"},
		nil)
	theirs := r.MakeByHand("instance",
		map[string]any{"name": "theirs", "size": "plain-1", "image": "debian-12", "subnet": subnet}, map[string]string{
			"made-by": servicetest.Attributes(t, s, "making", "controller")["id"].(string),
		})
	retire, err := s.Proposing.Retire(ctx, r.Admin, "making")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	goes, stays := 0, 0
	for _, f := range retire.Findings {
		switch {
		case f.Code == "made-by-it" && strings.Contains(f.Message, "goes with it"):
			goes++
		case f.Code == "made-by-another" && strings.Contains(f.Message, theirs) &&
			strings.Contains(f.Message, "stays: the cloud says that a client of the account made it"):
			stays++
		}
	}
	if goes != 2 || stays != 1 {
		t.Errorf("%d are told to go, %d to stay: %+v", goes, stays, retire.Findings)
	}
	run := r.Await(s, r.Carry(s, retire))
	told := r.Events(s, run.ID)
	if run.State != state.Done || len(r.Ledger().Alive) != 3 ||
		!strings.Contains(told, "which controller made by itself") ||
		!strings.Contains(told, "has the tag of what controller makes, and stays") {
		t.Errorf("%s %s; alive are %v\n%s", run.State, run.Reason, r.Ledger().Alive, told)
	}
}

const inward = `undersail: 1
about: {name: inward, version: 1.0.0, title: Inward}
resources:
  net: {type: network, want: {range: 10.44.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.44.0.0/24}}
  far: {type: network, want: {range: 10.45.0.0/16}}
  far_lan: {type: subnet, want: {network: =far.id, range: 10.45.0.0/24}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}, {from: 10.44.0.0/16, port: 22}]}}
  far_door: {type: firewall, want: {network: =far.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  access: {type: key_pair}
  zone: {type: name_zone, want: {domain: tides.internal, network: =net.id}}
  inner: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, key_pair: =access.id, firewalls: ["=door.id"]}}
  name: {type: name_record, want: {zone: =zone.id, label: inner, kind: A, values: [=inner.private_address]}}
  alias: {type: name_record, after: {name: healthy}, want: {zone: =zone.id, label: gauge, kind: CNAME, values: [=name.full_name]}}
  entry:
    type: instance
    after: {alias: healthy}
    want: {size: plain-1, image: debian-12, subnet: =lan.id, public: true, key_pair: =access.id, firewalls: ["=door.id"]}
    health:
      - ssh: {host: =self.public_address, user: admin, key: =access.private_key, command: getent hosts gauge.tides.internal, answer: =inner.private_address}
      - ssh: {host: gauge.tides.internal, host_key: =inner.host_key, user: admin, key: =access.private_key, command: hostname, answer: inner, through: '=jump{host: self.public_address, user: "admin", key: access.private_key}'}
  stranger:
    type: instance
    after: {alias: healthy}
    want: {size: plain-1, image: debian-12, subnet: =far_lan.id, public: true, key_pair: =access.id, firewalls: ["=far_door.id"]}
    health:
      - ssh: {host: =self.public_address, user: admin, key: =access.private_key, command: getent hosts gauge.tides.internal || echo nobody of that name, answer: nobody of that name}
`

// TestNamesOfANetworkAreSeenInsideIt asks for a name, and goes by it, from a machine inside;
// one in another network does not see it.
func TestNamesOfANetworkAreSeenInsideIt(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	if run := r.Await(s, r.ApplySource(s, "inward", inward, nil)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if got := servicetest.Failing(t, s, r, "inward"); len(got) > 0 {
		t.Error(got)
	}
}
