package service_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/service/servicetest"
	"undersail/sim/world"
)

const crews = `undersail: 1
about: {name: crews, version: 1.0.0, title: Crews}
inputs: {size: {type: string, default: plain-1}, motto: {type: string, default: one}}
resources:
  net: {type: network, patience: 99h, want: {range: 10.36.0.0/20}}
  lan: {type: subnet, patience: 99h, want: {network: =net.id, range: 10.36.0.0/24}}
  crew:
    type: pool
    patience: 99h
    want:
      {size: =inputs.size, image: debian-12, subnets: ["=lan.id"], least: 4, most: 6, user_data: {hostname: =inputs.motto}}
`

// TestMembersOfAPoolBecomeWhatIsWanted: what is altered of a pool is done when every member has
// it. They are replaced one after the other, and never are two of the four away.
func TestMembersOfAPoolBecomeWhatIsWanted(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 1800)
	s, _ := r.Replica(5 * time.Second)
	if run := r.Await(s, r.ApplySource(s, "crews", crews, nil)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	members := func() (all []world.LedgerResource) {
		for _, x := range r.Ledger().Alive {
			if x.Tags["larch-pool"] != "" && x.Phase == "ready" {
				all = append(all, x)
			}
		}
		return all
	}
	names := func() (out map[string]bool) {
		out = map[string]bool{}
		for _, x := range members() {
			out[x.Name] = true
		}
		return out
	}
	first := names()
	p := r.Propose(s, "crews", crews, map[string]any{"size": "plain-2"})
	notes := fmt.Sprint(p.Changes)
	if !strings.Contains(notes, "its members are replaced by new ones, a quarter at a time") {
		t.Errorf("it is not told what becomes of the members: %s", notes)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	all := members()
	if len(all) != 4 {
		t.Errorf("%d members are ready", len(all))
	}
	// Whenever one was gone, three others were ready.
	l := r.Ledger()
	ever := slices.DeleteFunc(append(l.Alive, l.Gone...),
		func(x world.LedgerResource) bool { return x.Tags["larch-pool"] == "" })
	for _, gone := range ever {
		ready := 0
		for _, x := range ever {
			if !x.ReadyAt.After(gone.RemovedAt) && (x.RemovedAt.IsZero() || x.RemovedAt.After(gone.RemovedAt)) {
				ready++
			}
		}
		if !gone.RemovedAt.IsZero() && ready < 3 {
			t.Errorf("when %s was gone %d were ready", gone.Name, ready)
		}
	}
	for _, x := range all {
		if x.Properties["size"] != "plain-2" || first[x.Name] {
			t.Errorf("%s is still of size %v", x.Name, x.Properties["size"])
		}
	}
	// What no cloud tells of a member is done too.
	second := names()
	run := r.Await(s, r.ApplySource(s, "crews", crews, map[string]any{"size": "plain-2", "motto": "two"}))
	if run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	for name := range names() {
		if second[name] {
			t.Errorf("%s has the first boot of before", name)
		}
	}
	if v, err := s.Stacks.Verify(context.Background(), r.Admin, "crews"); err != nil || !v.Healthy {
		t.Errorf("%+v %v", v, err)
	}
	if p := r.Propose(s, "crews", crews, map[string]any{"size": "plain-2", "motto": "two"}); p.State != "nothing" {
		t.Errorf("again: %s %+v", p.Summary, p.Changes)
	}
}
