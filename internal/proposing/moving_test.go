package proposing_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
)

const quay = `undersail: 1
about: {name: quay, version: 1.0.0, title: Quay}
resources:
  net: {type: network, want: {range: 10.38.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.38.0.0/24}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
`

const quayHost = `
  access: {type: key_pair}
  data: {type: disk, want: {size: 10GiB, type: solid}}
  host:
    type: instance
    want: {size: plain-1, image: debian-12, subnet: =lan.id, public: true, key_pair: =access.id, firewalls: ["=door.id"], disks: [{disk: =data.id, mount: /data}]}
    health: [{ssh: {host: =self.public_address, user: admin, key: =access.private_key, command: mountpoint /data, answer: is a mountpoint}}]
`

const pier = `undersail: 1
about: {name: pier, version: 1.0.0, title: Pier}
resources:
  net: {type: network, find: {name: quay-net}, want: {range: 10.38.0.0/16}}
  lan: {type: subnet, find: {name: quay-lan}, want: {network: =net.id, range: 10.38.0.0/24}}
  door: {type: firewall, find: {name: quay-door}, want: {network: =net.id, rules: []}}
`

// TestAMachineMovesToAnotherStackAsItIs hands a machine over with its disk and its key.
func TestAMachineMovesToAnotherStackAsItIs(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	ctx := context.Background()
	carried := func(p proposing.Proposal) {
		t.Helper()
		if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
			t.Fatal(run.State, run.Reason)
		}
	}
	proposed := func(source string, keep ...string) (proposing.Proposal, error) {
		return s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
			Stack:   "quay",
			File:    "quay.sail.yaml",
			Source:  servicetest.Patient(source),
			Account: "saltmere-lab",
			Region:  "north-fell",
			Keep:    keep,
		})
	}
	carried(r.Propose(s, "quay", quay+quayHost, nil))
	machine := fmt.Sprint(servicetest.Attributes(t, s, "quay", "host")["id"])
	for keep, says := range map[string]string{"door": "does not leave the stack", "roof": "the stack has none"} {
		var e *refusal.Error
		if _, err := proposed(quay, keep); !errors.As(err, &e) || !strings.Contains(servicetest.Explain(err), says) {
			t.Errorf("keeping %s: %v", keep, err)
		}
	}
	leaving, err := proposed(quay, "host")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if leaving.Summary != "3 keep, 3 same" || len(leaving.Consents) > 0 {
		t.Errorf("handing it over is %s and asks for %v", leaving.Summary, leaving.Consents)
	}
	carried(leaving)
	_, err = s.Proposing.MoveKept(ctx, r.Admin, "quay/host", "quay/door")
	if err == nil || !strings.Contains(err.Error(), "has a resource door already") {
		t.Errorf("moved to what is there: %v", err)
	}
	_, err = s.Proposing.MoveKept(ctx, r.Admin, "quay/host", "somewhere")
	if err == nil || !strings.Contains(err.Error(), "is no place to move to") {
		t.Errorf("moved to nowhere: %v", err)
	}
	if _, err := s.Proposing.MoveKept(ctx, servicetest.Viewer, "quay/host", "pier/host"); err == nil {
		t.Error("who may only look moves it")
	}
	for _, name := range []string{"host", "data", "access"} {
		if k, err := s.Proposing.MoveKept(ctx, r.Admin, "quay/"+name, "pier/"+name); err != nil || k.Stack != "pier" {
			t.Fatal(k, err)
		}
	}
	coming := r.Propose(s, "pier", pier+quayHost, nil)
	if coming.Summary != "3 alter, 3 same" {
		t.Errorf("taking it over is %s: %v", coming.Summary, coming.Findings)
	}
	carried(coming)
	if got := fmt.Sprint(servicetest.Attributes(t, s, "pier", "host")["id"]); got != machine {
		t.Errorf("it is %s now and was %s", got, machine)
	}
	for _, stack := range []string{"quay", "pier"} {
		if got := servicetest.Failing(t, s, r, stack); len(got) > 0 {
			t.Errorf("%s: %v", stack, got)
		}
	}
	if p := r.Propose(s, "quay", quay, nil); p.State != "nothing" {
		t.Errorf("the stack that gave it would change by %s", p.Summary)
	}
	_, err = s.Proposing.Retire(ctx, r.Admin, "quay")
	if err == nil || !strings.Contains(servicetest.Explain(err), "is used by host of stack pier") {
		t.Errorf("what it stands in can be retired: %v", err)
	}
	for _, stack := range []string{"pier", "quay"} {
		p, err := s.Proposing.Retire(ctx, r.Admin, stack)
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
		carried(p)
	}
	if left := r.Ledger().Alive; len(left) > 0 {
		t.Errorf("left over is %v", left)
	}
}

// TestRetiringKeepsWhatIsNamed retires a stack but for one disk, which another takes over.
func TestRetiringKeepsWhatIsNamed(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	ctx := context.Background()
	if run := r.Await(s, r.ApplySource(s, "quay", quay+quayHost, nil)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	before := len(r.Ledger().Calls)
	p, err := s.Proposing.Retire(ctx, r.Admin, "quay", "data")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if p.Summary != "5 remove, 1 keep" || len(p.Consents) > 0 {
		t.Errorf("retiring is %s and asks for %v", p.Summary, p.Consents)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	for _, call := range r.Ledger().Calls[before:] {
		if strings.Contains(call.Path, "/market") || strings.Contains(call.Path, "?kind=") {
			t.Errorf("who only leaves asks what is sold and taken: %s", call.Path)
		}
	}
	if left := r.Ledger().Alive; len(left) != 1 {
		t.Fatalf("left over is %v", left)
	}
	if _, err := s.Proposing.MoveKept(ctx, r.Admin, "quay/data", "store/readings"); err != nil {
		t.Fatal(err)
	}
	store := "undersail: 1\nabout: {name: store, version: 1.0.0, title: Store}\nresources: {readings: {type: disk, " +
		"want: {size: 20GiB, type: solid}}}\n"
	taken := r.Propose(s, "store", store, nil)
	if taken.Summary != "1 alter" {
		t.Errorf("taking it over is %s", taken.Summary)
	}
	if run := r.Await(s, r.Carry(s, taken)); run.State != state.Done || len(r.Ledger().Alive) != 1 {
		t.Fatal(run.State, run.Reason, r.Ledger().Alive)
	}
	if kept, err := s.Proposing.Kept(ctx); err != nil || len(kept) > 0 {
		t.Errorf("still kept are %v (%v)", kept, err)
	}
}
