package engine_test

import (
	"context"
	"fmt"
	"iter"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"undersail/internal/await"
	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
	"undersail/internal/store"
	"undersail/sim"
	"undersail/sim/world"
)

var small = map[string]any{"range": "10.3.0.0/24"}

func and(more map[string]any) map[string]any {
	all := map[string]any{"range": "10.3.0.0/24"}
	for k, v := range more {
		all[k] = v
	}
	return all
}

// alive lists the names of what is alive of a stack by resource.
func alive(r *servicetest.Rig, stack string) map[string]string {
	out := map[string]string{}
	for _, x := range r.Ledger().Alive {
		if x.Tags["undersail-stack"] == stack {
			out[x.Tags["undersail-resource"]] += x.Name
		}
	}
	return out
}

func madeEver(r *servicetest.Rig, resource string) int {
	n, l := 0, r.Ledger()
	for _, x := range append(l.Alive, l.Gone...) {
		if x.Tags["undersail-resource"] == resource {
			n++
		}
	}
	return n
}

func TestALostAnswerAndEndedCredentialsParkTheRunAndMakeNothingTwice(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 120)
	s, _ := r.Replica(0)
	r.Fault(world.Fault{Kind: "lose-answer", On: "disks", Method: "PUT", Count: 1})
	r.Fault(world.Fault{Kind: "slow", On: "disks", Method: "PUT", Count: 1, Seconds: 1})
	id := r.ApplySource(s, "coast", coast, small)
	r.Until(s, id, "creating data[0]")
	r.Fault(world.Fault{Kind: "credentials-end", Count: -1})
	run := r.Await(s, id)
	if run.State != "parked" || !strings.Contains(run.Reason, "credentials of account saltmere-lab") {
		t.Fatalf("the run is %s: %s", run.State, run.Reason)
	}
	_, err := s.Proposing.Propose(context.Background(), r.Admin, proposing.NewProposal{Stack: "coast"})
	if err == nil || !strings.Contains(err.Error(), "parked") {
		t.Errorf("a proposal beside a parked run: %v", err)
	}
	r.Lift()
	r.Renew(s)
	await.Until(t, "it goes on", func() bool { run = r.Await(s, id); return run.State != "parked" })
	if run.State != "done" || madeEver(r, "data[0]") != 1 || madeEver(r, "net") != 1 {
		t.Errorf("the run ended %s (%s), and the disk was made %d times", run.State, run.Reason, madeEver(r, "data[0]"))
	}
}

// TestAnOutcomeThatNobodyKnowsIsKept: a creation whose answer was lost and that
// then fails leaves a record, and the next proposal asks the cloud for it.
func TestAnOutcomeThatNobodyKnowsIsKept(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 20) // twenty seconds are one, also on a slow machine
	s, _ := r.Replica(0)
	ctx := context.Background()
	// The cloud makes the disk, its answer is lost, and then nobody sees it for longer than the step has patience.
	r.Fault(world.Fault{Kind: "lose-answer", On: "disks", Method: "PUT", Count: 1})
	r.Fault(world.Fault{Kind: "server-error", On: "disks", Method: "GET", Count: -1})
	id := r.ApplySource(s, "coast",
		strings.Replace(coast, "data: {type: disk, patience: 4h,", "data: {type: disk, patience: 20s,", 1), small)
	run := r.Await(s, id)
	if run.State != "failed" {
		t.Fatalf("the run is %s", run.State)
	}
	if st, err := s.Stacks.Show(ctx, "coast"); err != nil || len(st.Resources) != 4 || st.Hour == 0 {
		t.Errorf("recorded are %d of 4, %v an hour (%v)", len(st.Resources), st.Hour, err)
	}
	r.Lift()
	if v, err := s.Stacks.Verify(ctx, r.Admin, "coast"); err != nil || v.Healthy {
		t.Errorf("verified healthy with a disk that was never proved: %+v, %v", v, err)
	}
	p, err := s.Proposing.Continue(ctx, r.Admin, "coast")
	if err != nil || p.Summary != "1 alter, 3 same" {
		t.Fatalf("continue proposes %s, %v", p.Summary, err)
	}
	again, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run = r.Await(s, again.ID); run.State != "done" || madeEver(r, "data[0]") != 1 {
		t.Errorf("continuing ended %s (%s), and the disk was made %d times", run.State, run.Reason,
			madeEver(r, "data[0]"))
	}
}

func TestWhatWasBegunIsInEveryLaterProposal(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 20)
	s, _ := r.Replica(0)
	ctx := context.Background()
	id := r.ApplySource(s, "coast", coast, and(map[string]any{"stores": 6}))
	r.Until(s, id, "creating data[5]")
	if _, err := s.Stacks.Stop(ctx, r.Admin, id); err != nil {
		t.Fatal(err)
	}
	if run := r.Await(s, id); run.State != "stopped" {
		t.Fatalf("the run is %s", run.State)
	}
	p := r.Propose(s, "coast", coast, and(map[string]any{"stores": 2}))
	if !strings.Contains(p.Summary, "4 remove") || p.CostNow.Hour == 0 {
		t.Errorf("for two of six begun disks the proposal is %s, now paid %v an hour", p.Summary, p.CostNow.Hour)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != "done" {
		t.Fatalf("%s %s", run.State, run.Reason)
	}
	if left := alive(r, "coast"); len(left) != 5 {
		t.Errorf("alive are %v", left)
	}
}

func TestContinuingAfterABreakInTheNetworkItself(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 10)
	s, _ := r.Replica(0)
	ctx := context.Background()
	id := r.ApplySource(s, "coast", coast, small)
	r.Until(s, id, "creating net")
	if _, err := s.Stacks.Stop(ctx, r.Admin, id); err != nil {
		t.Fatal(err)
	}
	r.Await(s, id)
	p, err := s.Proposing.Continue(ctx, r.Admin, "coast")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	run, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run = r.Await(s, run.ID); run.State != "done" || madeEver(r, "net") != 1 {
		t.Errorf("%s %s; the network was made %d times", run.State, run.Reason, madeEver(r, "net"))
	}
}

// TestAnOrderlyEndDuringAChangeIsNoFailure: the owner ends during an alteration and
// during a removal, and the next one goes on with the same resource.
func TestAnOrderlyEndDuringAChangeIsNoFailure(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 20)
	first, quit := r.Replica(time.Second)
	r.Await(first, r.ApplySource(first, "coast", coast, and(map[string]any{"stores": 2})))
	id := r.ApplySource(first, "coast", coast, and(map[string]any{"store": "40GiB", "stores": 1}))
	r.Until(first, id, "altering data[0]")
	r.Until(first, id, "removing data[1]")
	quit()
	second, _ := r.Replica(time.Second)
	run := r.Await(second, id)
	if run.State != "done" || strings.Contains(r.Events(second, id), "removed by somebody else") {
		t.Errorf("%s %s\n%s", run.State, run.Reason, r.Events(second, id))
	}
	for _, x := range r.Ledger().Alive {
		if x.Tags["undersail-resource"] == "data[1]" {
			t.Error("told removed, and the cloud still has it: ", x.Phase)
		}
	}
}

func TestWhatTurnsBackEndsTheRunFailed(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 60)
	s, _ := r.Replica(0)
	source := coast + `  site:
    type: instance
    want: {size: plain-1, image: debian-12, subnet: =lan.id, public: true, firewalls: [=rules.id], user_data: {packages: [nginx]}}
    health: [{http: {url: '="http://" + self.public_address + "/"'}, within: 5m}]
  late: {type: disk, after: {site: healthy}, want: {size: 20GiB, type: solid}}
  later: {type: disk, after: {late: healthy}, want: {size: 20GiB, type: solid}}
  last: {type: instance, after: {later: healthy}, want: {size: plain-1, image: debian-12, subnet: =lan.id}}
`
	r.Fault(world.Fault{Kind: "turns-back", Label: "site", Count: -1, Seconds: 1})
	run := r.Await(s, r.ApplySource(s, "coast", source, small))
	if run.State != "failed" || !strings.Contains(run.Reason, "site: it was healthy and is no more") {
		t.Errorf("%s: %s", run.State, run.Reason)
	}
	if st, err := s.Stacks.Show(context.Background(), "coast"); err != nil || st.State != "unhealthy" {
		t.Errorf("the stack is %s (%v)", st.State, err)
	}
}

func TestWhatWasRemovedByHandIsMadeAgain(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	r.Await(s, r.ApplySource(s, "coast", coast, small))
	r.ByHand(http.MethodDelete, "coast-data[0]", nil)
	if v, err := s.Stacks.Verify(ctx, r.Admin, "coast"); err != nil || v.Healthy {
		t.Errorf("verified healthy without its disk (%v)", err)
	}
	p := r.Propose(s, "coast", coast, small)
	if p.Summary != "1 create, 3 same" || !strings.Contains(fmt.Sprint(p.Findings), "data[0] was removed by hand") {
		t.Fatalf("%s %v", p.Summary, p.Findings)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != "done" {
		t.Errorf("%s: %s", run.State, run.Reason)
	}
	if v, err := s.Stacks.Verify(ctx, r.Admin, "coast"); err != nil || !v.Healthy {
		t.Errorf("%+v %v", v, err)
	}
}

func TestWhatWasAlteredByHandIsSeenAndPutBack(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	source := strings.Replace(coast, "data: {type: disk,", "data: {type: disk, leave: [size],", 1)
	r.Await(s, r.ApplySource(s, "coast", source, small))
	open := []any{
		map[string]any{"source": "127.0.0.0/8", "port": 80},
		map[string]any{"source": "0.0.0.0/0", "port": 22},
	}
	r.ByHand(http.MethodPatch, "coast-rules", map[string]any{"inbound": open})
	r.ByHand(http.MethodPatch, "coast-data[0]", map[string]any{"gib": 50}) // others may do that
	v, err := s.Stacks.Verify(ctx, r.Admin, "coast")
	if err != nil || v.Healthy {
		t.Fatalf("an opened port is healthy: %+v %v", v, err)
	}
	for _, x := range v.Resources {
		wrong := x.Name == "rules"
		if wrong == (x.State == "healthy") || wrong && !strings.Contains(x.Reason, "altered by hand: `rules`") {
			t.Errorf("%s is %s: %s", x.Name, x.State, x.Reason)
		}
	}
	p := r.Propose(s, "coast", source, small)
	if p.Summary != "1 alter, 3 same" || !strings.Contains(fmt.Sprint(p.Changes), "altered by hand and is put back") {
		t.Fatalf("%s %+v", p.Summary, p.Changes)
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != "done" {
		t.Fatalf("%s: %s", run.State, run.Reason)
	}
	if v, err = s.Stacks.Verify(ctx, r.Admin, "coast"); err != nil || !v.Healthy {
		t.Errorf("after it was put back: %+v %v", v, err)
	}
	for _, x := range r.Ledger().Alive {
		if x.Kind == "firewalls" && len(x.Properties["inbound"].([]any)) != 1 {
			t.Errorf("the port is still open: %v", x.Properties)
		}
	}
}

func TestAReplicaWithAnotherKeyGivesTheRunAway(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	author, end := r.Still(engine.Config{}, nil)
	t.Cleanup(end)
	r.Stranger(time.Second)
	id := r.ApplySource(author, "coast", coast, small)
	r.Until(author, id, "gives the run away")
	right, _ := r.Replica(time.Second)
	run := r.Await(right, id)
	if told := strings.Count(r.Events(right, id), "gives the run away"); run.State != "done" || told != 1 {
		t.Errorf("%s: %s; told %d times", run.State, run.Reason, told)
	}
}

// faulty breaks the program itself at calls of one kind.
type faulty struct{ path string }

func (f faulty) RoundTrip(r *http.Request) (*http.Response, error) {
	if r.Method == http.MethodPut && strings.Contains(r.URL.Path, f.path) {
		panic("a fault for the test")
	}
	return http.DefaultTransport.RoundTrip(r)
}

func TestAPanicFailsOneStep(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Start(engine.Config{Transport: faulty{"/disks/"}}, nil)
	run := r.Await(s, r.ApplySource(s, "coast", coast, small))
	if run.State != "failed" || !strings.Contains(run.Reason, "data[0]: a fault of Under Sail itself") ||
		run.Finished != 3 {
		t.Errorf("%s, %d steps healthy: %s", run.State, run.Finished, run.Reason)
	}
	p, err := s.Proposing.Continue(context.Background(), r.Admin, "coast")
	if err != nil || p.Summary != "1 create, 3 same" {
		t.Errorf("continue proposes %s, %v", p.Summary, err)
	}
}

// telling panics where a cloud tells what it sells, which is asked of several regions at once.
type telling struct{}

func (telling) RoundTrip(r *http.Request) (*http.Response, error) {
	if strings.Contains(r.URL.Path, "/market") {
		panic("a fault for the test")
	}
	return http.DefaultTransport.RoundTrip(r)
}

// TestAPanicBesideOthersIsToldToWhoeverWaits: it ends neither the program nor anything else.
func TestAPanicBesideOthersIsToldToWhoeverWaits(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Start(engine.Config{Transport: telling{}}, nil)
	_, err := s.Proposing.Fit(context.Background(), proposing.Search{Account: "saltmere-lab"})
	if err == nil || !strings.Contains(err.Error(), "a fault of Under Sail itself") {
		t.Errorf("regions that are read at once: %v", err)
	}
}

// TestManyStacksShareTheLimitOfOneAccount: the account's rate is far below what the
// runs want, and nothing fails by patience.
func TestManyStacksShareTheLimitOfOneAccount(t *testing.T) {
	t.Parallel()
	r := servicetest.NewWith(t, sim.Config{Pace: 240, Rate: 12, Quotas: map[string]int64{"networks": 100}})
	one, _ := r.Replica(0)
	two, _ := r.Replica(0)
	source := strings.ReplaceAll(coast, "{type: subnet, patience: 4h,", "{type: subnet, patience: 10m,")
	var runs []int64
	for i := range 10 {
		s := one
		if i%2 == 1 {
			s = two
		}
		runs = append(runs, r.ApplySource(s, fmt.Sprint("coast-", i), source, map[string]any{
			"range": fmt.Sprintf("10.%d.0.0/24", 50+i),
		}))
	}
	for _, id := range runs {
		if run := r.Await(one, id); run.State != "done" {
			t.Errorf("run %d ended %s: %s", id, run.State, run.Reason)
		}
	}
	refused, calls := 0, r.Ledger().Calls
	for _, c := range calls {
		if c.Status == http.StatusTooManyRequests {
			refused++
		}
	}
	if refused*5 > len(calls) {
		t.Errorf("%d of %d calls were refused", refused, len(calls))
	}
}

func TestUndoingARunPutsTheStackBack(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	first := r.ApplySource(s, "coast", coast, small)
	r.Await(s, first)
	second := r.ApplySource(s, "coast", coast,
		and(map[string]any{"store": "40GiB", "stores": 2, "port": 443, "owner": "tam"}))
	r.Await(s, second)
	if _, err := s.Proposing.Undo(ctx, r.Admin, first); err == nil || !strings.Contains(err.Error(), "came later") {
		t.Errorf("an older run may be undone: %v", err)
	}
	p, err := s.Proposing.Undo(ctx, r.Admin, second)
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if p.Kind != "undo" || *p.Undoes != second || p.Summary != "1 alter, 1 remove, 3 same" ||
		!strings.Contains(fmt.Sprint(p.Findings), "not-put-back data[0].size") {
		t.Errorf("%s of %d: %s %v", p.Kind, *p.Undoes, p.Summary, p.Findings)
	}
	undoing := r.Carry(s, p)
	if run := r.Await(s, undoing); run.State != "done" {
		t.Fatalf("%s: %s", run.State, run.Reason)
	}
	if run, _ := s.Stacks.Run(ctx, second); run.State != "undone" {
		t.Errorf("the run is %s", run.State)
	}
	for _, x := range r.Ledger().Alive {
		switch {
		case x.Tags["undersail-resource"] == "data[1]":
			t.Error("what the run made is still there")
		case x.Kind == "firewalls" &&
			(x.Tags["owner"] != "ines" || !strings.Contains(fmt.Sprint(x.Properties), "port:80")):
			t.Errorf("what the run altered is still %v %v", x.Tags, x.Properties)
		case x.Kind == "disks" && fmt.Sprint(x.Properties["gib"]) != "40":
			t.Errorf("a disk shrank: %v", x.Properties)
		}
	}
	if v, err := s.Stacks.Verify(ctx, r.Admin, "coast"); err != nil || !v.Healthy {
		t.Errorf("%+v %v", v, err)
	}
	if _, err := s.Proposing.Undo(ctx, r.Admin, second); err == nil {
		t.Error("it may be undone twice")
	}
	if p, err = s.Proposing.Undo(ctx, r.Admin, first); err == nil || !strings.Contains(err.Error(), "came later") {
		t.Errorf("undoing the first run: %v", err)
	}
}

func TestARunThatFailsIsUndoneWhenAskedTo(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	r.Fault(world.Fault{Kind: "denied", On: "disks", Count: -1})
	p := r.Propose(s, "coast", coast, small)
	if _, err := s.Proposing.Accept(ctx, r.Admin, p.ID, nil, ""); err != nil {
		t.Fatal(err)
	}
	run, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "undo")
	if err != nil {
		t.Fatal(err)
	}
	await.Holds(func() bool { run = r.Await(s, run.ID); return run.State == "undone" })
	if left := alive(r, "coast"); run.State != "undone" || len(left) != 0 {
		t.Fatalf("the run is %s (%s), and left are %v", run.State, run.Reason, left)
	}
	if st, err := s.Stacks.Show(ctx, "coast"); err != nil || st.State != "absent" {
		t.Errorf("the stack is %s (%v)", st.State, err)
	}
	r.Lift()
	if again := r.Await(s, r.ApplySource(s, "coast", coast, small)); again.State != "done" {
		t.Errorf("applied again it ends %s: %s", again.State, again.Reason)
	}
}

func TestUndoingThatLosesDataParksAndWaits(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	r.Await(s, r.ApplySource(s, "coast", coast, and(map[string]any{"stores": 2})))
	r.Fault(world.Fault{Kind: "server-error", On: "firewalls", Method: "PATCH", Count: -1})
	source := strings.Replace(coast, "rules: {type: firewall, patience: 4h,", "rules: {type: firewall, patience: 1m,",
		1)
	p := r.Propose(s, "coast", source, and(map[string]any{"stores": 1, "port": 443}))
	if _, err := s.Proposing.Accept(ctx, r.Admin, p.ID, nil, ""); err == nil {
		t.Error("a disk is lost without a consent")
	}
	if _, err := s.Proposing.Accept(ctx, r.Admin, p.ID, []string{"lose-data"}, ""); err != nil {
		t.Fatal(err)
	}
	run, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "undo")
	if err != nil {
		t.Fatal(err)
	}
	await.Holds(func() bool { run = r.Await(s, run.ID); return run.State == "parked" })
	if run.State != "parked" || !strings.Contains(run.Reason, "needs a consent") {
		t.Fatalf("the run is %s: %s", run.State, run.Reason)
	}
	r.Lift()
	list, err := s.Proposing.List(ctx, "coast", 0, 1)
	if err != nil || len(list) != 1 || list[0].Kind != "undo" || list[0].State != "open" {
		t.Fatalf("%+v %v", list, err)
	}
	undoing := r.Carry(s, list[0])
	if got := r.Await(s, undoing); got.State != "done" {
		t.Fatalf("undoing ended %s: %s", got.State, got.Reason)
	}
	if run, _ = s.Stacks.Run(ctx, run.ID); run.State != "undone" {
		t.Errorf("the run is %s", run.State)
	}
}

func TestRetryTriesAStepAgainAndWhatItSkipped(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	source := coast + "  last: {type: disk, after: {rules: healthy}, want: {size: 20GiB, type: solid}}\n"
	r.Fault(world.Fault{Kind: "denied", On: "firewalls", Count: -1})
	id := r.ApplySource(s, "coast", source, small)
	if run := r.Await(s, id); run.State != "failed" {
		t.Fatal(run.State)
	}
	if _, err := s.Stacks.Retry(ctx, r.Admin, id, "net"); err == nil {
		t.Error("a step that is healthy is tried again")
	}
	r.Lift()
	if _, err := s.Stacks.Retry(ctx, r.Admin, id, "rules"); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	run := r.Await(s, id)
	if run.State != "done" || run.Finished != 5 || madeEver(r, "net") != 1 {
		t.Errorf("%s with %d steps: %s", run.State, run.Finished, run.Reason)
	}
	r.Await(s, r.ApplySource(s, "coast", source, and(map[string]any{"port": 443})))
	if _, err := s.Stacks.Retry(ctx, r.Admin, id, ""); err == nil {
		t.Error("a run is tried again after a newer one")
	}
}

func TestCapacityThatIsGoneIsLookedForInTheNextZone(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	source := `undersail: 1
about: {name: coast, version: 1.0.0, title: Coast}
resources:
  net: {type: network, want: {range: 10.9.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.9.0.0/26}}
  host: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, zone: [north-fell-a, north-fell-b]}}
`
	r.Fault(world.Fault{Kind: "capacity", Label: "north-fell-a", Count: -1})
	id := r.ApplySource(s, "coast", source, nil)
	if run := r.Await(s, id); run.State != "done" || !strings.Contains(r.Events(s, id), "trying zone north-fell-b") {
		t.Fatalf("%s: %s\n%s", run.State, run.Reason, r.Events(s, id))
	}
	r.Lift()
	if p := r.Propose(s, "coast", source, nil); p.Summary != "3 same" {
		t.Errorf("where it is now is not good enough: %s %+v", p.Summary, p.Changes)
	}
	if v, err := s.Stacks.Verify(context.Background(), r.Admin, "coast"); err != nil || !v.Healthy {
		t.Errorf("%+v %v", v, err)
	}
}

// slowToList refuses the first lists that it is asked for.
type slowToList struct {
	mu    sync.Mutex
	lists int
}

func (l *slowToList) RoundTrip(r *http.Request) (*http.Response, error) {
	if strings.HasSuffix(r.URL.Path, "/resources") && r.URL.Query().Get("tag") != "" {
		l.mu.Lock()
		l.lists++
		refuse := l.lists <= 3
		l.mu.Unlock()
		if refuse {
			return nil, fmt.Errorf("no route")
		}
	}
	return http.DefaultTransport.RoundTrip(r)
}

// TestTheLookForWhatNobodyRecordedRepeatsInEveryRegion: a run that was taken over
// asks until it is answered, also where only one resource of the stack is.
func TestTheLookForWhatNobodyRecordedRepeatsInEveryRegion(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	ctx := context.Background()
	lists := &slowToList{}
	author, end := r.Still(engine.Config{CallRate: 1000}, nil)
	t.Cleanup(end)
	heir, end2 := r.Still(engine.Config{CallRate: 1000, Transport: lists}, nil)
	t.Cleanup(end2)
	source := coast + "  far: {type: disk, region: hollow-bay, want: {size: 20GiB, type: solid}}\n"
	id := r.ApplySource(author, "coast", source, small)
	st, err := author.Stacks.Show(ctx, "coast")
	if err != nil {
		t.Fatal(err)
	}
	stray := r.Adapter()
	_, err = stray.Step(ctx,
		cloud.Task{
			Action: cloud.Create,
			Ref:    cloud.Ref{Region: "hollow-bay", Type: "disk", Token: "us-disk-stray"},
			Want:   map[string]any{"name": "stray", "size": "20GiB", "type": "solid"},
			Tags:   map[string]string{cloud.TagStackID: st.ID, cloud.TagStack: "coast", cloud.TagResource: "stray"},
		}, func(cloud.Part) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	number, err := author.Engine.Takeover(ctx, id)
	if err == nil {
		err = heir.Engine.CarryOut(ctx, id, number)
	}
	if err != nil {
		t.Fatal(err)
	}
	events := r.Events(author, id)
	run, _ := author.Stacks.Run(ctx, id)
	if run.State != "done" || !strings.Contains(events, "not answered yet") ||
		!strings.Contains(events, "which carries the mark of stack coast and is recorded nowhere; it stays as it is") {
		t.Errorf("%s\n%s", run.State, events)
	}
	kept, err := author.Proposing.Kept(ctx)
	if err != nil || len(kept) != 1 || kept[0].FoundAt == nil || kept[0].Stack != "coast" ||
		kept[0].Resource != "stray" || kept[0].Region != "hollow-bay" {
		t.Fatalf("it is not listed: %+v %v", kept, err)
	}
	for _, x := range r.Ledger().Alive {
		if x.Name == "us-disk-stray" && x.Phase == "ready" {
			p := r.Propose(author, "coast",
				source+"  stray: {type: disk, region: hollow-bay, want: {name: stray, size: 20GiB, type: solid}}\n",
				small)
			change := p.Changes[slices.IndexFunc(p.Changes,
				func(c change.Change) bool { return c.Resource == "stray" })]
			if change.TakesOver != "coast/stray" || change.Change != "alter" {
				t.Errorf("the stack does not record it: %+v %v", change, p.Findings)
			}
			if p, err = author.Proposing.Discard(ctx, r.Admin, kept[0].ID); err != nil || len(p.Consents) == 0 {
				t.Errorf("it is removed without a consent: %+v %v", p.Consents, err)
			}
			return
		}
	}
	t.Error("what nobody recorded was removed")
}

// watching tells of every resource that became ready, at once.
type watching struct {
	cloud.Adapter
	rig *servicetest.Rig
}

func (w watching) Watch(ctx context.Context, region, _ string) iter.Seq2[cloud.Notice, error] {
	return func(yield func(cloud.Notice, error) bool) {
		told := map[string]bool{}
		for ctx.Err() == nil {
			select {
			case <-ctx.Done():
				return
			case <-time.After(10 * time.Millisecond):
			}
			for _, x := range w.rig.Ledger().Alive {
				if x.Phase == "ready" && !told[x.Name] {
					if told[x.Name] = true; !yield(cloud.Notice{Token: x.Name}, nil) {
						return
					}
				}
			}
		}
	}
}

// TestACloudThatTellsIsNotAskedAgainAndAgain: with notices a run needs about one
// look for each resource, although it expects everything to take much longer.
func TestACloudThatTellsIsNotAskedAgainAndAgain(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 60)
	ctx := context.Background()
	author, end := r.Still(engine.Config{CallRate: 1000}, nil)
	t.Cleanup(end)
	c := author.Engine.Config
	bare := c.Adapter
	c.Adapter = func(ctx context.Context, account string) (cloud.Adapter, store.Account, error) {
		a, row, err := bare(ctx, account)
		return watching{a, r}, row, err
	}
	hearing, err := engine.New(c)
	if err != nil {
		t.Fatal(err)
	}
	id := r.ApplySource(author, "coast", coast, small)
	before := len(r.Ledger().Calls)
	if err := hearing.CarryOut(ctx, id, 1); err != nil {
		t.Fatal(err)
	}
	looks := 0
	for _, call := range r.Ledger().Calls[before:] {
		if call.Method == http.MethodGet {
			looks++
		}
	}
	time.Sleep(50 * time.Millisecond) // until nobody listens any more
	if run, _ := author.Stacks.Run(ctx, id); run.State != "done" || looks > 10 {
		t.Errorf("%s with %d looks at 4 resources", run.State, looks)
	}
}

func TestAWreckIsReplacedNotTriedAgain(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	r.Fault(world.Fault{Kind: "late-failure", On: "disks", Count: 1})
	id := r.ApplySource(s, "coast", coast, small)
	if run := r.Await(s, id); run.State != "failed" {
		t.Fatal(run.State)
	}
	_, err := s.Stacks.Retry(ctx, r.Admin, id, "")
	if err == nil || !strings.Contains(err.Error(), "broke in the cloud") {
		t.Errorf("a wreck is tried again: %v", err)
	}
	p, err := s.Proposing.Continue(ctx, r.Admin, "coast")
	if err != nil || p.Summary != "1 rebuild, 3 same" {
		t.Fatalf("%s %v", p.Summary, err)
	}
	run, err := s.Proposing.Apply(ctx, r.Admin, p.ID, "")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run = r.Await(s, run.ID); run.State != "done" || len(alive(r, "coast")) != 4 {
		t.Errorf("%s: %s", run.State, run.Reason)
	}
}

// TestALateAndStaleCloudMakesNothingTwice: an answer is lost, what was made is seen
// by nobody for a while, and reads tell what was before.
func TestALateAndStaleCloudMakesNothingTwice(t *testing.T) {
	t.Parallel()
	r := servicetest.NewWith(t, sim.Config{Pace: 5, Rate: 1000})
	author, end := r.Still(engine.Config{CallRate: 1000}, nil)
	t.Cleanup(end)
	e := fickleEngine(t, author)
	ctx := context.Background()
	r.Fault(world.Fault{Kind: "lose-answer", On: "disks", Method: http.MethodPut, Count: 1})
	r.Fault(world.Fault{Kind: "late-visibility", On: "disks", Count: 1, Seconds: 1})
	id := r.ApplySource(author, "coast", coast, small)
	if err := e.CarryOut(ctx, id, 1); err != nil {
		t.Fatal(err)
	}
	run, _ := author.Stacks.Run(ctx, id)
	if run.State != "done" || madeEver(r, "data[0]") != 1 ||
		!strings.Contains(r.Events(author, id), "may still turn up") {
		t.Fatalf("%s: %s; the disk was made %d times\n%s", run.State, run.Reason, madeEver(r, "data[0]"),
			r.Events(author, id))
	}
	// In Larch's own words from here on: the run looks, alters, and is told old things.
	plain := servicetest.NewWith(t, sim.Config{Pace: 20, Rate: 1000})
	s, _ := plain.Start(engine.Config{CallRate: 1000}, nil)
	plain.Await(s, plain.ApplySource(s, "coast", coast, small))
	p := plain.Propose(s, "coast", coast, and(map[string]any{"store": "40GiB"}))
	plain.Fault(world.Fault{Kind: "stale-read", On: "disks", Count: 3})
	if run := plain.Await(s, plain.Carry(s, p)); run.State != "done" {
		t.Fatalf("%s: %s", run.State, run.Reason)
	}
	if v, err := s.Stacks.Verify(ctx, plain.Admin, "coast"); err != nil || !v.Healthy {
		t.Errorf("%+v %v", v, err)
	}
	for _, x := range plain.Ledger().Alive {
		if x.Kind == "disks" && fmt.Sprint(x.Properties["gib"]) != "40" {
			t.Errorf("the disk has %v GiB", x.Properties["gib"])
		}
	}
}
