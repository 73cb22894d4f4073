package proposing_test

import (
	"context"
	"math"
	"strings"
	"testing"

	"undersail/internal/core/state"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
	"undersail/sim/world"
)

// TestWhatServesIsNotInterruptedUnasked: a stop, a rebuild and a removal of what people use are
// consents that say for how long, since which input, and with which value not.
func TestWhatServesIsNotInterruptedUnasked(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	source := servicetest.Example(t, "warning-site")
	first := r.Await(s, r.ApplySource(s, "site", source, map[string]any{"headline": "Flood"}))
	if first.State != state.Done {
		t.Fatal(first.State, first.Reason)
	}
	only := func(p proposing.Proposal, how, resource string) {
		t.Helper()
		got := names(p.Consents)
		if got != how || len(p.Interruptions) != 1 || p.Interruptions[0].How != how ||
			p.Interruptions[0].Resource != resource {
			t.Fatalf("asked for are %q, of %+v", got, p.Interruptions)
		}
		_, err := s.Proposing.Accept(ctx, r.Admin, p.ID, nil, "")
		servicetest.WantKind(t, err, refusal.Consent, "")
	}

	larger := r.Propose(s, "site", source, map[string]any{"headline": "Flood", "size": "plain-2"})
	only(larger, "stop", "site")
	i := larger.Interruptions[0]
	c := i.Causes[0]
	if i.Seconds <= 0 || i.Seconds > larger.Seconds || c.Property != "size" || c.Before != "plain-1" ||
		c.After != "plain-2" || c.Input != "size" || c.Was != "plain-1" || c.Is != "plain-2" {
		t.Errorf("it says %+v", i)
	}

	other := r.Propose(s, "site", source, map[string]any{"headline": "All clear"})
	only(other, "rebuild", "site")
	i = other.Interruptions[0]
	c = i.Causes[0]
	if i.Seconds <= 0 || i.Seconds > other.Seconds || !strings.HasPrefix(c.Property, "user_data") ||
		c.Input != "headline" || c.Was != "Flood" || c.Is != "All clear" {
		t.Errorf("it says %+v", i)
	}
	done := r.Await(s, r.Carry(s, other))
	undo, err := s.Proposing.Undo(ctx, r.Admin, done.ID)
	if err != nil || len(undo.Interruptions) != 0 {
		t.Errorf("undoing says all of it itself: %v %v", undo.Consents, err)
	}
	// What was asked of one proposal is asked of the next.
	only(r.Propose(s, "site", source, map[string]any{"headline": "Flood"}), "rebuild", "site")

	// What does not serve is not asked about: it is mended.
	r.Fault(world.Fault{Kind: "service-never", Label: "site", Count: -1})
	failed := r.Await(s, r.Carry(s, r.Propose(s, "site", source, map[string]any{"headline": "Storm"})))
	if failed.State != state.Failed {
		t.Fatal(failed.State)
	}
	r.Lift()
	if p := r.Propose(s, "site", source, map[string]any{"headline": "Calm"}); len(p.Consents) != 0 {
		t.Errorf("of a machine that never came up is asked %v", p.Consents)
	}
	retire, err := s.Proposing.Retire(ctx, r.Admin, "site")
	if err != nil || len(retire.Consents) != 0 {
		t.Errorf("retiring says all of it itself: %v %v", retire.Consents, err)
	}
}

// TestWhatServesDoesNotLeaveUnasked: a resource that its template has no more.
func TestWhatServesDoesNotLeaveUnasked(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	const front = "front: {type: address}"
	b.Apply("coast", servicetest.Source(servicetest.NetLine, front))
	p := b.Propose("coast", servicetest.Source(servicetest.NetLine))
	if names(p.Consents) != "remove" ||
		p.Consents[0].About != "these serve, and leave the stack for good: front (address)" ||
		p.Interruptions[0].Seconds != 0 {
		t.Errorf("asked for are %v, of %+v", p.Consents, p.Interruptions)
	}
	if p := b.Propose("coast", servicetest.Source(front)); len(p.Consents) != 0 {
		t.Errorf("of an empty network is asked %v", p.Consents)
	}
}

// TestARunIsToldByItsAttempts: what lies idle between two is no work, and neither takes the other's place.
func TestARunIsToldByItsAttempts(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	r.Fault(world.Fault{Kind: "service-never", Label: "site", Count: -1})
	id := r.Apply(s, "site", "warning-site", nil)
	r.Await(s, id)
	first := whole(t, s, id)
	if first.State != state.Failed || len(first.Attempts) != 1 || first.Attempts[0].State != state.Failed ||
		first.Attempts[0].Reason != first.Reason {
		t.Fatalf("%s, %+v", first.State, first.Attempts)
	}
	r.Lift()
	if _, err := s.Stacks.Retry(ctx, r.Admin, id, ""); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	r.Await(s, id)
	run := whole(t, s, id)
	if run.State != state.Done || len(run.Attempts) != 2 {
		t.Fatalf("%s, %+v", run.State, run.Attempts)
	}
	a, b := run.Attempts[0], run.Attempts[1]
	if a.By != "ines" || b.By != "ines" || b.State != state.Done || !b.BeganAt.After(*a.EndedAt) ||
		a.UnderWayS != first.UnderWayS {
		t.Errorf("attempts are %+v", run.Attempts)
	}
	if len(a.Steps) != 1 || a.Steps[0].Resource != "site" || a.Steps[0].State != "failed" || a.Steps[0].Reason == "" ||
		a.Steps[0].BeganAt == nil || len(b.Steps) != 0 {
		t.Errorf("the first left %+v", a.Steps)
	}
	idle := b.BeganAt.Sub(*a.EndedAt).Seconds()
	took := run.EndedAt.Sub(*run.StartedAt).Seconds()
	if math.Abs(run.UnderWayS-(a.UnderWayS+b.UnderWayS)) > 0.01 || run.WaitedS != 0 || idle <= 0 ||
		run.UnderWayS > took-idle+0.2 {
		t.Errorf("under way %.2f s, waited %.2f s; from begin to end %.2f s, of it idle %.2f s", run.UnderWayS,
			run.WaitedS, took, idle)
	}
	list, err := s.Stacks.Runs(ctx, "site", 0, 10)
	if err != nil || math.Abs(list[0].UnderWayS-run.UnderWayS) > 0.01 {
		t.Errorf("the list tells %v (%v)", list, err)
	}
}

// TestWaitingForPeopleIsNoWork: a run that waits for a value.
func TestWaitingForPeopleIsNoWork(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 1200)
	s, _ := r.Replica(5e9)
	ctx := context.Background()
	id := r.ApplySource(s, "serialised", serialised, nil)
	waiting := r.Await(s, id)
	if waiting.State != state.Parked {
		t.Fatal(waiting.State, waiting.Reason)
	}
	for now := waiting; now.WaitedS <= 0.5; {
		var err error
		if now, err = s.Stacks.Run(ctx, id); err != nil || now.UnderWayS != waiting.UnderWayS {
			t.Fatalf("while it waits it works: %.2f s, then %.2f s (%v)", waiting.UnderWayS, now.UnderWayS, err)
		}
	}
	_, err := s.Proposing.Give(ctx, r.Admin, "serialised", map[string]any{"serial": "SALT-7", "berths": 2})
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	r.Await(s, id)
	run := whole(t, s, id)
	took := run.EndedAt.Sub(*run.StartedAt).Seconds()
	if run.State != state.Done || run.WaitedS < 0.5 || run.UnderWayS > took-run.WaitedS+0.2 || len(run.Attempts) != 1 {
		t.Errorf("%s: under way %.2f s, waited %.2f s, from begin to end %.2f s", run.State, run.UnderWayS, run.WaitedS,
			took)
	}
}

// whole is a run with its steps and attempts.
func whole(t *testing.T, s *service.Service, id int64) stacks.Run {
	t.Helper()
	run, err := s.Stacks.Run(context.Background(), id)
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	return run
}
