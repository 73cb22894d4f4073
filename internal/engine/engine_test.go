package engine_test

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"testing"
	"time"

	"undersail/internal/await"
	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
	"undersail/sim/world"
)

func TestMain(m *testing.M) {
	flag.Parse()
	flag.Set("test.parallel", "4") // these tests wait more than they compute
	servicetest.Main(m)
}

var gauge = map[string]any{"zones": []any{"north-fell-a"}, "admin_sources": []any{"127.0.0.0/8"}}

func TestAnotherReplicaTakesARunOverAtOnce(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 60)
	first, quit := r.Replica(2 * time.Second)
	id := r.Apply(first, "intake", "gauge-intake", gauge)
	r.Until(first, id, "creating gateway")
	second, _ := r.Replica(2 * time.Second)
	quit()
	run := r.Await(second, id)
	if run.State != "done" {
		t.Fatalf("the run ended %s: %s", run.State, run.Reason)
	}
	once := map[string]int{}
	for _, x := range r.Ledger().Alive {
		once[x.Tags["undersail-resource"]]++
	}
	for name, n := range once {
		if n != 1 {
			t.Errorf("%s was made %d times", name, n)
		}
	}
	if all := r.Events(second, id); !strings.Contains(all, "took the run over") {
		t.Errorf("nobody took it over:\n%s", all)
	}
}

func TestManyStacksAtOnceOnTwoReplicas(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	one, _ := r.Replica(0)
	two, _ := r.Replica(0)
	var runs []int64
	for i := range 6 {
		s := one
		if i%2 == 1 {
			s = two
		}
		runs = append(runs, r.Apply(s, fmt.Sprintf("site-%d", i), "warning-site", map[string]any{
			"range": fmt.Sprintf("10.%d.0.0/24", 100+i),
		}))
	}
	for _, id := range runs {
		if run := r.Await(one, id); run.State != "done" {
			t.Errorf("run %d ended %s: %s", id, run.State, run.Reason)
		}
	}
	if n := len(r.Ledger().Alive); n != 24 {
		t.Errorf("%d resources are alive, want 24", n)
	}
}

func TestNothingStartsBeforeWhatItNeedsIsHealthy(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 60)
	s, _ := r.Replica(0)
	id := r.Apply(s, "intake", "gauge-intake", gauge)
	run := r.Await(s, id)
	byNumber := map[int]stacks.Step{}
	for _, st := range run.Steps {
		byNumber[st.Number] = st
	}
	for _, st := range run.Steps {
		for _, n := range st.Needs {
			if need := byNumber[n]; st.BeganAt.Before(*need.EndedAt) {
				t.Errorf("%s began at %s, before %s was healthy at %s", st.Resource, st.BeganAt, need.Resource,
					need.EndedAt)
			}
		}
	}
	evidence, err := s.Stacks.RunEvidence(context.Background(), id, "gateway")
	if err != nil || len(evidence) < 4 {
		t.Fatal(evidence, err)
	}
	refused, passes := 0, 0
	for _, e := range evidence {
		switch {
		case e.Check == "http-1" && strings.Contains(e.Answer, "refused"), strings.Contains(e.Answer, "503 warming up"):
			refused++
		case e.Check == "http-1" && e.Passed:
			passes++
		}
	}
	if refused == 0 || passes != 4 {
		t.Errorf("the gateway was asked %d times too early and passed %d times; want some, and 3 with one "+
			"more at the end", refused, passes)
	}
}

func TestRefusalsFailAtOnceWithARemedy(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		fault world.Fault
		says  string
		gone  string // what must not be recorded afterwards
	}{
		{world.Fault{Kind: "capacity", On: "instances", Count: -1}, "choose one of the zones", "site"},
		{world.Fault{Kind: "denied", On: "firewalls", Count: -1}, "give the account the permission firewalls.make",
			"web_rules"},
	} {
		t.Run(c.fault.Kind, func(t *testing.T) {
			t.Parallel()
			r := servicetest.New(t, 240)
			s, _ := r.Replica(0)
			r.Fault(c.fault)
			run := r.Await(s, r.Apply(s, "site", "warning-site", nil))
			if run.State != "failed" || !strings.Contains(run.Reason, c.says) || run.Next != "undersail continue site" {
				t.Errorf("%s: %s; next %q", run.State, run.Reason, run.Next)
			}
			st, err := s.Stacks.Show(context.Background(), "site")
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range st.Resources {
				if x.Name == c.gone {
					t.Errorf("%s is recorded although the cloud refused it", x.Name)
				}
			}
		})
	}
}

func TestThrottlingSlowsTheAccountAndLosesNothing(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	r.Fault(world.Fault{Kind: "throttle", On: "subnets", Method: "PUT", Count: 1, Seconds: 1})
	run := r.Await(s, r.Apply(s, "site", "warning-site", nil))
	if run.State != "done" || !strings.Contains(r.Events(s, run.ID), "asks to wait 1s") {
		t.Errorf("%s %s", run.State, run.Reason)
	}
}

func TestAVerificationSeesAServiceThatDied(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	r.Await(s, r.Apply(s, "site", "warning-site", nil))
	r.Fault(world.Fault{Kind: "service-never", Label: "site", Count: -1})
	var v stacks.Verification
	var last stacks.VerifiedResource
	await.Holds(func() bool {
		var err error
		if v, err = s.Stacks.Verify(ctx, r.Admin, "site"); err != nil {
			t.Fatal(err)
		}
		// Whoever calls in the very moment in which the service dies is accepted and then reset.
		last = v.Resources[len(v.Resources)-1]
		return !v.Healthy && !strings.Contains(last.Reason, "connection reset")
	})
	if v.Healthy || last.State != "unhealthy" || !strings.Contains(last.Reason, "connection refused") {
		t.Errorf("verified %+v", last)
	}
	if st, err := s.Stacks.Show(ctx, "site"); err != nil || st.State != "unhealthy" {
		t.Errorf("after a bad verification the stack is %s (%v)", st.State, err)
	}
}

func TestOneRunOfAStackAtATime(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 30)
	s, _ := r.Replica(0)
	ctx := context.Background()
	id := r.Apply(s, "site", "warning-site", nil)
	_, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{Stack: "site"})
	if err == nil || !strings.Contains(err.Error(), "is not over") {
		t.Errorf("a proposal during a run: %v", err)
	}
	if _, err := s.Proposing.Retire(ctx, r.Admin, "site"); err == nil {
		t.Error("a stack was retired during a run")
	}
	r.Await(s, id)
}
