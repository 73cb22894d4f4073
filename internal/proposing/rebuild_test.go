package proposing_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
	"undersail/sim/world"
)

// TestWhatTheCloudNeverFinishesIsMadeAnew: it is waited for once in full, and can be rebuilt by
// its name.
func TestWhatTheCloudNeverFinishesIsMadeAnew(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(5 * time.Second)
	ctx := context.Background()
	source := "undersail: 1\nabout: {name: gauge, version: 1.0.0, title: Gauge}\nresources:\n  front: {type: " +
		"address}\n  data: {type: disk, patience: 12m, want: {size: 20GiB, type: solid}}\n"
	r.Fault(world.Fault{Kind: "stuck", On: "disks", Count: 1})
	run := r.Await(s, r.ApplySource(s, "gauge", source, nil))
	told := r.Events(s, run.ID)
	if run.State != state.Failed || !strings.Contains(told, "undersail rebuild gauge data") {
		t.Fatalf("%s: %s\n%s", run.State, run.Reason, told)
	}
	goesOn, err := s.Proposing.Continue(ctx, r.Admin, "gauge")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	again := r.Await(s, r.Carry(s, goesOn))
	if again.State != state.Failed || !strings.Contains(again.Reason, "(7.5s real)") {
		t.Errorf("it is waited for again in full: %s", again.Reason)
	}
	_, err = s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{Stack: "gauge", Rebuild: []string{"nothing"}})
	servicetest.WantKind(t, err, refusal.Findings, "would not work")
	p, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{Stack: "gauge", Rebuild: []string{"data"}})
	if err != nil || p.Changes[len(p.Changes)-1].Reason != "it is made anew, as was asked for" {
		t.Fatalf("%v %+v", err, p.Changes)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	r.Settled(s, "gauge", t.Errorf)
	// What is healthy is made anew too, with a consent where it holds data.
	p, err = s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{Stack: "gauge", Rebuild: []string{"data"}})
	if err != nil || len(servicetest.ConsentNames(p)) != 1 || servicetest.ConsentNames(p)[0] != "lose-data" {
		t.Fatalf("%v %v", err, p.Consents)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	r.Settled(s, "gauge", t.Errorf)
}
