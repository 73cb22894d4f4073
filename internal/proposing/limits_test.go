package proposing_test

import (
	"context"
	"strings"
	"testing"

	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
	"undersail/sim/world"
)

// TestWhatTheCloudDoesNotTakeIsSaidBeforehand asks for mistakes that only a call told once:
// each is refused at its place, and the simulated cloud refuses it by rules of its own.
func TestWhatTheCloudDoesNotTakeIsSaidBeforehand(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	const (
		here   = "here: {type: subnet, want: {network: =net.id, range: 10.20.1.0/24, zone: north-fell-a}}"
		there  = "there: {type: subnet, want: {network: =net.id, range: 10.20.2.0/24, zone: north-fell-b}}"
		beside = "beside: {type: subnet, want: {network: =net.id, range: 10.20.3.0/24, zone: north-fell-a}}"
		log    = "log: {type: database, want: {engine: ENGINE, size: plain-1, storage: SPACE, subnets: [SUBNETS], " +
			"users: [{name: USER, password: a-Long-enough-1}]}}"
		files = "files: {type: shared_files, want: {size: SPACE, subnets: [SUBNETS]}}"
		keep  = "cliff: {type: private_cloud, want: {network: =net.id, family: plain, password: a-Long-enough-1, " +
			"protection: parity, ranges: {management: 10.90.0.0/24, moves: 10.90.1.0/24, storage: 10.90.2.0/24, " +
			"uplink: 10.90.3.0/24}, layout: [{zone: north-fell-a, hosts: HOSTS}]}}"
	)
	fill := func(line string, pairs ...string) string {
		return strings.NewReplacer(append(pairs, "ENGINE", "postgresql-16", "SPACE", "120GiB", "SUBNETS", "=here.id",
			"USER", "tide")...).Replace(line)
	}
	for place, lines := range map[string][]string{
		"log.engine":            {fill(log, "ENGINE", "postgresql-9")},
		"log.subnets[1]":        {fill(log, "SUBNETS", "=here.id, =beside.id")},
		"log.storage":           {fill(log, "SPACE", "5GiB")},
		"log.users[0].name":     {fill(log, "USER", "Tide-Master")},
		"files.size":            {fill(files, "SPACE", "50GiB")},
		"files.subnets":         {fill(files, "SUBNETS", "")},
		"cliff.protection":      {strings.Replace(keep, "HOSTS", "3", 1)},
		"cliff.layout":          {strings.Replace(strings.Replace(keep, "HOSTS", "2", 1), "parity", "one copy", 1)},
		"front.label":           {"front: {type: address, want: {label: Quay_One}}"},
		"front.idle":            {"front: {type: address, want: {idle: 5s}}"},
		"store.label":           {"store: {type: bucket, want: {label: Quay_One}}"},
		"zone.domain":           {"zone: {type: name_zone, want: {domain: TIDES.example}}"},
		"hand.grants[0].may[0]": {"hand: {type: role, want: {grants: [{may: [disk.fly]}]}}"},
		"host.user_data":        {`host: {type: instance, want: {size: plain-1, image: debian-12, subnet: =here.id, user_data: '="packages: [nginx]"'}}`},
		"crew.size": {"crew: {type: pool, want: {size: lean-1, image: debian-12-arm, subnets: " +
			"[=there.id, =third.id], least: 1, most: 2}}",
			"third: {type: subnet, want: {network: =net.id, range: 10.20.4.0/24, zone: north-fell-c}}"},
		"net2.range": {"net2: {type: network, want: {range: 32.0.0.0/7}}"},
		"www.values": {"zone: {type: name_zone, want: {domain: saltmere.example}}",
			"www: {type: name_record, want: {zone: =zone.id, label: www, kind: A, values: []}}"},
	} {
		said := b.Refused("store",
			servicetest.Source(append([]string{servicetest.NetLine, here, there, beside}, lines...)...), place)
		if !strings.Contains(said, place) {
			t.Errorf("%s: %s", place, said)
		}
	}
	secret := strings.Replace(servicetest.Source(servicetest.NetLine, here,
		strings.Replace(fill(log), "a-Long-enough-1", "=inputs.word", 1)), "resources:",
		"inputs: {word: {secret: true, rules: {length: 5, classes: 2}}}\nresources:", 1)
	ask := func(word string) error {
		_, err := b.Service.Proposing.Propose(context.Background(), b.Rig.Admin, proposing.NewProposal{
			Stack:   "secretive",
			File:    "t.sail.yaml",
			Source:  secret,
			Account: "saltmere-lab",
			Region:  "north-fell",
			Secrets: map[string]string{"word": word},
		})
		return err
	}
	err := ask("w8r7t")
	if err == nil || !strings.Contains(servicetest.Explain(err), "log.users[0].password") ||
		strings.Contains(servicetest.Explain(err), "w8r7t") {
		t.Errorf("a secret that is too short: %s", servicetest.Explain(err))
	}
	if err := ask("neap-water-2026"); err != nil {
		t.Errorf("a secret that is long enough: %s", servicetest.Explain(err))
	}
	if n := len(b.Rig.Ledger().Alive); n > 0 {
		t.Errorf("%d things were made", n)
	}
}

// TestALimitThatChangesAfterTheLookIsTold tightens limits after a proposal was accepted: when it
// is to be applied it is told as another world. One that changes while a run is under way is told
// by the call, at the property; the next proposal says it beforehand.
func TestALimitThatChangesAfterTheLookIsTold(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	with := func(size string) string {
		return strings.Replace(servicetest.Source(servicetest.NetLine,
			"here: {type: subnet, want: {network: =net.id, range: 10.20.1.0/24, zone: north-fell-a}}",
			"mark: {type: secret, want: {value: =inputs.word}}",
			"files: {type: shared_files, after: {mark: made}, want: {size: "+size+", subnets: [=here.id]}}"),
			"resources:", "inputs:\n  word: {type: string, later: true}\nresources:", 1)
	}
	p := b.Propose("store", with("120GiB"))
	if _, err := b.Service.Proposing.Accept(ctx, b.Rig.Admin, p.ID, nil, ""); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	tighten := world.Fault{Kind: "limit", On: "file-shares.gib", Label: "least", Value: 200, Count: -1}
	b.Rig.Fault(tighten)
	_, err := b.Service.Proposing.Apply(ctx, b.Rig.Admin, p.ID, "")
	if servicetest.WantKind(t, err, refusal.Stale, ""); !strings.Contains(servicetest.Explain(err),
		"it goes from 200GiB to 64TiB") {
		t.Error(servicetest.Explain(err))
	}
	b.Rig.Lift()
	id := b.Rig.Carry(b.Service, b.Propose("store", with("120GiB")))
	b.Rig.Until(b.Service, id, "value")
	b.Rig.Fault(tighten)
	if _, err := b.Service.Proposing.Give(ctx, b.Rig.Admin, "store", map[string]any{"word": "neap"}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	run := b.Rig.Await(b.Service, id)
	if run.State != "failed" || !strings.Contains(run.Reason, "gib is from 200 to 65536") {
		t.Errorf("%s: %s", run.State, run.Reason)
	}
	b.Refused("store", with("120GiB"), "files.size")
	b.Apply("store", with("200GiB"))
	if d := b.Rig.Differences(b.Service, "store", false); d != nil {
		t.Error(d)
	}
}
