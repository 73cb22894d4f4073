package store

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/postgres/postgrestest"
)

func TestMain(m *testing.M) {
	postgrestest.Main(m, func(url string) error {
		s, err := Open(context.Background(), url)
		if err == nil {
			s.Close()
		}
		return err
	})
}

func setup(t *testing.T) *Store {
	t.Helper()
	s, err := Open(context.Background(), postgrestest.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

const stackID = "11111111-1111-4111-8111-111111111111"

// startedRun makes a run that an engine could claim.
func startedRun(t *testing.T, s *Store) int64 {
	t.Helper()
	ctx := context.Background()
	if err := s.PutAccount(ctx, Account{Name: "saltmere-lab", Cloud: "larch", Credentials: []byte{1}, ClockRate: 1, Regions: []string{}}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddStack(ctx, Stack{ID: stackID, Name: "warnings", Account: "saltmere-lab", Region: "north-fell"}); err != nil {
		t.Fatal(err)
	}
	proposal, err := s.AddProposal(ctx, Proposal{StackID: stackID, Kind: "apply", Document: []byte("{}"), CreatedBy: "ines"}, time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Decide(ctx, proposal, "accepted", "", "ines"); err != nil {
		t.Fatal(err)
	}
	run, err := s.StartRun(ctx, proposal, "ines", time.Minute, []Step{{Number: 0, Resource: "net", Type: "network", Change: "create", Needs: []Need{}, Token: "us-1"}}, nil,
		func(pgx.Tx, int64, int64) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	return run
}

func TestAPausedOwnerIsFenced(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	run := startedRun(t, s)
	if got, err := s.Claim(ctx, run, 1, "first", 50*time.Millisecond); !got || err != nil {
		t.Fatal(got, err)
	}
	if got, _ := s.Claim(ctx, run, 1, "second", time.Minute); got {
		t.Fatal("two owners hold one run")
	}
	note := func(claim int64, text string) error {
		return s.Commit(ctx, &Write{Run: run, Claim: claim, Events: []Event{{Kind: "step", Text: text}, {Kind: "step", Text: text}}})
	}
	if err := note(1, "by the first"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Pool.Exec(ctx, `INSERT INTO river_job (state, kind, args, max_attempts, queue, attempted_at) VALUES ('running', 'run', jsonb_build_object('run', $1::bigint, 'number', 1), 5, 'default', now())`, run); err != nil {
		t.Fatal(err)
	}
	time.Sleep(60 * time.Millisecond) // the claim runs out on the database's clock
	var enqueued int64
	n, err := s.SweepClaims(ctx, time.Minute, func(_ pgx.Tx, _, number int64) error { enqueued = number; return nil })
	if n != 1 || enqueued != 2 || err != nil {
		t.Fatal(n, enqueued, err)
	}
	if err := note(1, "by the first, too late"); !errors.Is(err, ErrFenced) {
		t.Fatalf("the old owner wrote: %v", err)
	}
	var left int
	if err := s.Pool.QueryRow(ctx, "SELECT count(*) FROM river_job WHERE state = 'running'").Scan(&left); err != nil || left != 0 {
		t.Errorf("%d jobs of owners that are gone are kept as running (%v)", left, err)
	}
	if got, err := s.Claim(ctx, run, 2, "second", time.Minute); !got || err != nil {
		t.Fatal(got, err)
	}
	if err := note(2, "by the second"); err != nil {
		t.Fatal(err)
	}
	events, err := s.Events(ctx, run, 0, 100)
	if err != nil || len(events) != 4 {
		t.Fatal(events, err)
	}
	for i, e := range events {
		if e.Number != int64(i+1) || strings.Contains(e.Text, "too late") {
			t.Errorf("event %d is number %d: %s", i+1, e.Number, e.Text)
		}
	}
}

func TestAFencedWriteLeavesNothing(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	run := startedRun(t, s)
	w := &Write{Run: run, Claim: 9, Events: []Event{{Kind: "step", Text: "never"}}}
	w.PutResource(Resource{StackID: stackID, Name: "net", Type: "network", Want: map[string]any{}, Attributes: map[string]any{}})
	w.RunState("done", "")
	if err := s.Commit(ctx, w); !errors.Is(err, ErrFenced) {
		t.Fatal(err)
	}
	resources, err := s.Resources(ctx, stackID)
	if r, _ := s.Run(ctx, run); err != nil || len(resources) != 0 || r.State != "queued" || r.LastEvent != 0 {
		t.Error("a fenced write left something behind")
	}
}

func TestOneActiveRunForAStack(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	startedRun(t, s)
	proposal, err := s.AddProposal(ctx, Proposal{StackID: stackID, Kind: "apply", Document: []byte("{}")}, time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Decide(ctx, proposal, "accepted", "", "ines"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.StartRun(ctx, proposal, "ines", time.Minute, nil, nil, func(pgx.Tx, int64, int64) error { return nil }); !errors.Is(err, ErrConflict) {
		t.Errorf("a second run started: %v", err)
	}
	if p, _ := s.Proposal(ctx, proposal); p.State != "accepted" {
		t.Errorf("the proposal of the run that did not start is %s", p.State)
	}
}

func TestAProposalIsDecidedOnce(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	startedRun(t, s)
	first, _ := s.AddProposal(ctx, Proposal{StackID: stackID, Kind: "apply", Document: []byte("{}")}, time.Hour)
	second, _ := s.AddProposal(ctx, Proposal{StackID: stackID, Kind: "apply", Document: []byte("{}")}, time.Hour)
	if err := s.Decide(ctx, first, "accepted", "", "ines"); !errors.Is(err, ErrConflict) {
		t.Errorf("a stale proposal was accepted: %v", err)
	}
	if err := s.Decide(ctx, second, "refused", "no", "tomas"); err != nil {
		t.Fatal(err)
	}
	if err := s.Decide(ctx, second, "accepted", "", "ines"); !errors.Is(err, ErrConflict) {
		t.Errorf("a refused proposal was accepted: %v", err)
	}
	expired, _ := s.AddProposal(ctx, Proposal{StackID: stackID, Kind: "apply", Document: []byte("{}")}, -time.Minute)
	if p, _ := s.Proposal(ctx, expired); p.State != "expired" {
		t.Errorf("an old proposal is %s", p.State)
	}
}

func TestTheStreamOfAllRunsMissesNothing(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	run := startedRun(t, s)
	// A transaction that began earlier and commits later must not be passed over.
	slow, err := s.Pool.Begin(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := slow.Exec(ctx, "INSERT INTO events (run_id, number, kind, text) VALUES ($1, 100, 'step', 'slow')", run); err != nil {
		t.Fatal(err)
	}
	if err := s.Commit(ctx, &Write{Run: run, Claim: 1, Events: []Event{{Kind: "step", Text: "fast"}}}); err != nil {
		t.Fatal(err)
	}
	early, err := s.AllEvents(ctx, Cursor{}, 10)
	if err != nil || len(early) != 0 {
		t.Fatalf("read past an open transaction: %v %v", early, err)
	}
	if err := slow.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	// Other tests' transactions on the same server may hold the stream back too.
	var all []Event
	for deadline := time.Now().Add(20 * time.Second); len(all) < 2 && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if all, err = s.AllEvents(ctx, Cursor{}, 10); err != nil {
			t.Fatal(err)
		}
	}
	if len(all) != 2 {
		t.Errorf("read %v", all)
	}
}

func TestAPublishedVersionNeverChanges(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	one := Template{Name: "site", Version: "1.0.0", Source: "a", Digest: "a"}
	other := Template{Name: "site", Version: "1.0.0", Source: "b", Digest: "b"}
	if err := s.PublishTemplate(ctx, one); err != nil {
		t.Fatal(err)
	}
	if err := s.PublishTemplate(ctx, one); err != nil {
		t.Errorf("the same bytes again: %v", err)
	}
	if err := s.PublishTemplate(ctx, other); !errors.Is(err, ErrConflict) {
		t.Errorf("other bytes under the same version: %v", err)
	}
}
