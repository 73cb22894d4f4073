package engine_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undersail/examples"
	"undersail/internal/engine"
	"undersail/internal/postgres/postgrestest"
	"undersail/internal/secret"
	"undersail/internal/service"
	"undersail/internal/store"
	"undersail/sim"
	"undersail/sim/world"
)

func TestMain(m *testing.M) {
	postgrestest.Main(m, func(url string) error {
		s, err := store.Open(context.Background(), url)
		if err == nil {
			s.Close()
		}
		return err
	})
}

// rig is a cloud, a database, and as many engines on it as a test starts.
type rig struct {
	t     *testing.T
	cloud *sim.Running
	url   string
	box   *secret.Box
	admin service.User
}

func setup(t *testing.T, pace float64) *rig {
	t.Helper()
	dir := t.TempDir()
	cloud, err := sim.Start(sim.Config{Dir: dir, Accounts: []string{"saltmere-lab"}, Pace: pace, Seed: 3})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cloud.Close() })
	box, err := secret.OpenBox(filepath.Join(dir, "key"))
	if err != nil {
		t.Fatal(err)
	}
	return &rig{t: t, cloud: cloud, url: postgrestest.Database(t), box: box, admin: service.User{Name: "ines", Role: "admin"}}
}

// replica starts a service with an engine; quit ends it, orderly or not.
func (r *rig) replica(claim time.Duration) (s *service.Service, quit func()) {
	r.t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	st, err := store.Open(ctx, r.url)
	if err != nil {
		r.t.Fatal(err)
	}
	s, err = service.New(st, r.box, slog.New(slog.DiscardHandler), engine.Config{ClaimLife: claim})
	if err != nil {
		r.t.Fatal(err)
	}
	if err := s.Engine().Start(ctx); err != nil {
		r.t.Fatal(err)
	}
	a := r.cloud.Accounts[0]
	if _, err := s.AddAccount(ctx, r.admin, service.NewAccount{Name: a.Name, Cloud: "larch", Endpoint: r.cloud.Place.Larch, ClientID: a.ClientID, ClientSecret: a.ClientSecret}); err != nil {
		r.t.Fatal(err)
	}
	done := false
	quit = func() {
		if !done {
			done = true
			stopping, end := context.WithTimeout(context.Background(), 20*time.Second)
			defer end()
			s.Engine().Stop(stopping)
			cancel()
			st.Close()
		}
	}
	r.t.Cleanup(quit)
	return s, quit
}

func (r *rig) fault(f world.Fault) {
	r.t.Helper()
	raw, _ := json.Marshal(f)
	res, err := http.Post(r.cloud.Place.Admin+"/faults", "application/json", bytes.NewReader(raw))
	if err != nil || res.StatusCode != http.StatusCreated {
		r.t.Fatal(err, res)
	}
	res.Body.Close()
}

func (r *rig) ledger() world.Ledger {
	r.t.Helper()
	res, err := http.Get(r.cloud.Place.Admin + "/ledger")
	if err != nil {
		r.t.Fatal(err)
	}
	defer res.Body.Close()
	var l world.Ledger
	if err := json.NewDecoder(res.Body).Decode(&l); err != nil {
		r.t.Fatal(err)
	}
	return l
}

// apply proposes an example, accepts it and starts its run.
func (r *rig) apply(s *service.Service, stack, example string, inputs map[string]any) int64 {
	r.t.Helper()
	ctx := context.Background()
	source, err := fs.ReadFile(examples.Files, example+".sail.yaml")
	if err != nil {
		r.t.Fatal(err)
	}
	p, err := s.Propose(ctx, r.admin, service.NewProposal{Stack: stack, File: example, Source: string(source), Account: "saltmere-lab", Region: "north-fell", Inputs: inputs})
	if err != nil {
		r.t.Fatal(err)
	}
	if _, err := s.Accept(ctx, r.admin, p.ID); err != nil {
		r.t.Fatal(err)
	}
	run, err := s.Apply(ctx, r.admin, p.ID)
	if err != nil {
		r.t.Fatal(err)
	}
	return run.ID
}

func (r *rig) await(s *service.Service, id int64) service.Run {
	r.t.Helper()
	for deadline := time.Now().Add(60 * time.Second); time.Now().Before(deadline); time.Sleep(25 * time.Millisecond) {
		run, err := s.Run(context.Background(), id)
		if err != nil {
			r.t.Fatal(err)
		}
		if run.EndedAt != nil {
			return run
		}
	}
	r.t.Fatalf("run %d does not end", id)
	return service.Run{}
}

func (r *rig) events(s *service.Service, id int64) string {
	r.t.Helper()
	list, err := s.Events(context.Background(), id, 0, 1000)
	if err != nil {
		r.t.Fatal(err)
	}
	var b strings.Builder
	for i, e := range list {
		if e.Number != int64(i+1) {
			r.t.Fatalf("event %d has number %d", i+1, e.Number)
		}
		b.WriteString(e.Text + "\n")
	}
	return b.String()
}

var gauge = map[string]any{"zones": []any{"north-fell-a"}, "admin_sources": []any{"127.0.0.0/8"}}

func TestAnotherReplicaTakesARunOverAtOnce(t *testing.T) {
	t.Parallel()
	r := setup(t, 60)
	first, quit := r.replica(2 * time.Second)
	id := r.apply(first, "intake", "gauge-intake", gauge)
	for !strings.Contains(r.events(first, id), "creating gateway") {
		time.Sleep(20 * time.Millisecond)
	}
	second, _ := r.replica(2 * time.Second)
	quit()
	run := r.await(second, id)
	if run.State != "done" {
		t.Fatalf("the run ended %s: %s", run.State, run.Reason)
	}
	once := map[string]int{}
	for _, x := range r.ledger().Alive {
		once[x.Tags["undersail-resource"]]++
	}
	for name, n := range once {
		if n != 1 {
			t.Errorf("%s was made %d times", name, n)
		}
	}
	if all := r.events(second, id); !strings.Contains(all, "took the run over") {
		t.Errorf("nobody took it over:\n%s", all)
	}
}

func TestManyStacksAtOnceOnTwoReplicas(t *testing.T) {
	t.Parallel()
	r := setup(t, 240)
	one, _ := r.replica(0)
	two, _ := r.replica(0)
	var runs []int64
	for i := range 6 {
		s := one
		if i%2 == 1 {
			s = two
		}
		runs = append(runs, r.apply(s, fmt.Sprintf("site-%d", i), "warning-site", map[string]any{"range": fmt.Sprintf("10.%d.0.0/24", 100+i)}))
	}
	for _, id := range runs {
		if run := r.await(one, id); run.State != "done" {
			t.Errorf("run %d ended %s: %s", id, run.State, run.Reason)
		}
	}
	if n := len(r.ledger().Alive); n != 24 {
		t.Errorf("%d resources are alive, want 24", n)
	}
}

func TestNothingStartsBeforeWhatItNeedsIsHealthy(t *testing.T) {
	t.Parallel()
	r := setup(t, 60)
	s, _ := r.replica(0)
	id := r.apply(s, "intake", "gauge-intake", gauge)
	run := r.await(s, id)
	byNumber := map[int]service.Step{}
	for _, st := range run.Steps {
		byNumber[st.Number] = st
	}
	for _, st := range run.Steps {
		for _, n := range st.Needs {
			if need := byNumber[n]; st.BeganAt.Before(*need.EndedAt) {
				t.Errorf("%s began at %s, before %s was healthy at %s", st.Resource, st.BeganAt, need.Resource, need.EndedAt)
			}
		}
	}
	evidence, err := s.RunEvidence(context.Background(), id, "gateway")
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
	if refused == 0 || passes != 3 {
		t.Errorf("the gateway was asked %d times too early and passed %d times; want some and 3", refused, passes)
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
		{world.Fault{Kind: "denied", On: "firewalls", Count: -1}, "give the account the permission firewalls.make", "web_rules"},
	} {
		t.Run(c.fault.Kind, func(t *testing.T) {
			t.Parallel()
			r := setup(t, 240)
			s, _ := r.replica(0)
			r.fault(c.fault)
			run := r.await(s, r.apply(s, "site", "warning-site", nil))
			if run.State != "failed" || !strings.Contains(run.Reason, c.says) || run.Next != "undersail continue site" {
				t.Errorf("%s: %s; next %q", run.State, run.Reason, run.Next)
			}
			st, err := s.Stack(context.Background(), "site")
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
	r := setup(t, 240)
	s, _ := r.replica(0)
	r.fault(world.Fault{Kind: "throttle", On: "subnets", Method: "PUT", Count: 1, Seconds: 1})
	run := r.await(s, r.apply(s, "site", "warning-site", nil))
	if run.State != "done" || !strings.Contains(r.events(s, run.ID), "asks to wait 1s") {
		t.Errorf("%s %s", run.State, run.Reason)
	}
}

func TestAVerificationSeesAServiceThatDied(t *testing.T) {
	t.Parallel()
	r := setup(t, 240)
	s, _ := r.replica(0)
	ctx := context.Background()
	r.await(s, r.apply(s, "site", "warning-site", nil))
	r.fault(world.Fault{Kind: "service-never", Label: "site", Count: -1})
	var v service.Verification
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		var err error
		if v, err = s.Verify(ctx, r.admin, "site"); err != nil {
			t.Fatal(err)
		}
		if !v.Healthy {
			break
		}
	}
	last := v.Resources[len(v.Resources)-1]
	if v.Healthy || last.State != "unhealthy" || !strings.Contains(last.Reason, "connection refused") {
		t.Errorf("verified %+v", last)
	}
	if st, err := s.Stack(ctx, "site"); err != nil || st.State != "unhealthy" {
		t.Errorf("after a bad verification the stack is %s (%v)", st.State, err)
	}
}

func TestOneRunOfAStackAtATime(t *testing.T) {
	t.Parallel()
	r := setup(t, 30)
	s, _ := r.replica(0)
	ctx := context.Background()
	id := r.apply(s, "site", "warning-site", nil)
	if _, err := s.Propose(ctx, r.admin, service.NewProposal{Stack: "site"}); err == nil || !strings.Contains(err.Error(), "is not over") {
		t.Errorf("a proposal during a run: %v", err)
	}
	if _, err := s.Retire(ctx, r.admin, "site"); err == nil {
		t.Error("a stack was retired during a run")
	}
	r.await(s, id)
}
