package store

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/await"
	"undersail/internal/core/health"
	"undersail/internal/postgres/postgrestest"
)

func TestMain(m *testing.M) {
	postgrestest.Main(m, func(url, owner string) error { return Migrate(context.Background(), url, owner) })
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

// job puts a job into the queue that nobody works on.
func job(tx pgx.Tx, run, number int64) (id int64, err error) {
	err = tx.QueryRow(context.Background(),
		"INSERT INTO river_job (state, kind, args, max_attempts, queue) VALUES ('available', 'run', "+
			"jsonb_build_object('run', $1::bigint, 'number', $2::bigint), 5, 'default') RETURNING id", run,
		number).Scan(&id)
	return id, err
}

// startedRun makes a run that an engine could claim.
func startedRun(t *testing.T, s *Store) int64 {
	t.Helper()
	run, err := s.StartRun(context.Background(),
		NewRun{
			Proposal:  acceptedProposal(t, s),
			Agreement: []byte("sealed"),
			Kind:      "apply",
			By:        "ines",
			Grace:     time.Minute,
			Steps: []Step{{
				Number:   0,
				Resource: "net",
				Type:     "network",
				Action:   "create",
				Needs:    []Need{},
				Token:    "us-1",
			}},
		}, job)
	if err != nil {
		t.Fatal(err)
	}
	return run
}

// acceptedProposal is the first one of a stack in an account.
func acceptedProposal(t *testing.T, s *Store) int64 {
	t.Helper()
	ctx := context.Background()
	err := s.PutAccount(ctx,
		Account{Name: "saltmere-lab", Cloud: "larch", Credentials: []byte{1}, ClockRate: 1, Regions: []string{}}, 0,
		Who{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddStack(ctx, Stack{
		ID:      stackID,
		Name:    "warnings",
		Account: "saltmere-lab",
		Region:  "north-fell",
	}); err != nil {
		t.Fatal(err)
	}
	proposal, err := s.AddProposal(ctx,
		Proposal{StackID: stackID, Kind: "apply", Document: []byte("{}"), CreatedBy: "ines"}, time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	err = s.Decide(ctx, proposal, Decision{State: "accepted", Why: "", By: "ines", Agreement: []byte("sealed")})
	if err != nil {
		t.Fatal(err)
	}
	return proposal
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
	writes := int64(0)
	note := func(claim int64, text string) error {
		err := s.Commit(ctx, &Write{
			Run:    run,
			Claim:  claim,
			After:  writes,
			Events: []Event{{Kind: "step", Text: text}, {Kind: "step", Text: text}},
		})
		if err == nil {
			writes++
		}
		return err
	}
	if err := note(1, "by the first"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Pool.Exec(ctx, "UPDATE river_job SET state = 'running', attempted_at = now()"); err != nil {
		t.Fatal(err)
	}
	time.Sleep(60 * time.Millisecond) // the claim runs out on the database's clock
	var enqueued int64
	n, err := s.SweepClaims(ctx, time.Minute,
		func(tx pgx.Tx, run, number int64) (int64, error) { enqueued = number; return job(tx, run, number) })
	if n != 1 || enqueued != 2 || err != nil {
		t.Fatal(n, enqueued, err)
	}
	if err := note(1, "by the first, too late"); !errors.Is(err, ErrFenced) {
		t.Fatalf("the old owner wrote: %v", err)
	}
	var left int
	if err := s.Pool.QueryRow(ctx, "SELECT count(*) FROM river_job WHERE state = 'running'").Scan(&left); err != nil ||
		left != 0 {
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
	w.PutResource(Resource{
		StackID:    stackID,
		Name:       "net",
		Type:       "network",
		Want:       map[string]any{},
		Attributes: map[string]any{},
	})
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
	err = s.Decide(ctx, proposal, Decision{State: "accepted", Why: "", By: "ines", Agreement: []byte("sealed")})
	if err != nil {
		t.Fatal(err)
	}
	_, err = s.StartRun(ctx,
		NewRun{Proposal: proposal, Agreement: []byte("sealed"), Kind: "apply", By: "ines", Grace: time.Minute}, job)
	if !errors.Is(err, ErrConflict) {
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
	err := s.Decide(ctx, first, Decision{State: "accepted", Why: "", By: "ines", Agreement: []byte("sealed")})
	if !errors.Is(err, ErrConflict) {
		t.Errorf("a stale proposal was accepted: %v", err)
	}
	err = s.Decide(ctx, second, Decision{State: "refused", Why: "no", By: "tomas", Agreement: []byte("sealed")})
	if err != nil {
		t.Fatal(err)
	}
	err = s.Decide(ctx, second, Decision{State: "accepted", Why: "", By: "ines", Agreement: []byte("sealed")})
	if !errors.Is(err, ErrConflict) {
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
	if _, err := slow.Exec(ctx, "INSERT INTO events (run_id, number, kind, text) VALUES ($1, 100, 'step', 'slow')",
		run); err != nil {
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
	await.Holds(func() bool {
		if all, err = s.AllEvents(ctx, Cursor{}, 10); err != nil {
			t.Fatal(err)
		}
		return len(all) >= 2
	})
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

func TestAWriteWhoseAnswerWasLostIsCarriedOutOnce(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	run := startedRun(t, s)
	write := func() *Write {
		return &Write{Run: run, Claim: 1, Events: []Event{{Kind: "step", Text: "told once"}}}
	}
	for range 3 { // the owner cannot know whether the first was committed
		if err := s.Commit(ctx, write()); err != nil {
			t.Fatal(err)
		}
	}
	if events, err := s.Events(ctx, run, 0, 10); err != nil || len(events) != 1 {
		t.Errorf("told %d times, %v", len(events), err)
	}
	if err := s.Commit(ctx, &Write{Run: run, Claim: 1, After: 7}); !errors.Is(err, ErrFenced) {
		t.Errorf("a write out of its order: %v", err)
	}
}

func TestRunsThatWaitInTheQueueAreNotSwept(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	run := startedRun(t, s)
	if _, err := s.Pool.Exec(ctx, "UPDATE runs SET claim_until = clock_timestamp() - interval '1 hour'"); err != nil {
		t.Fatal(err)
	}
	sweep := func(want int, about string) {
		t.Helper()
		if n, err := s.SweepClaims(ctx, time.Minute, job); n != want || err != nil {
			t.Errorf("%s: swept %d, %v", about, n, err)
		}
	}
	sweep(0, "it waits in the queue")
	_, err := s.Pool.Exec(ctx, "UPDATE river_job SET state = 'running', attempted_at = now() - interval '2 minutes'")
	if err != nil {
		t.Fatal(err)
	}
	sweep(1, "it was taken from the queue and never claimed")
	sweep(0, "it waits in the queue again")
	if r, _ := s.Run(ctx, run); r.ClaimNumber != 2 {
		t.Errorf("its number is %d", r.ClaimNumber)
	}
}

func TestAReleasedRunIsNotTakenBack(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	run := startedRun(t, s)
	if got, err := s.Claim(ctx, run, 1, "first", time.Minute); !got || err != nil {
		t.Fatal(got, err)
	}
	held, _, err := s.RenewClaims(ctx, "first", time.Minute, map[int64]int64{run: 1}, nil)
	if err != nil || held[run].Number != 1 {
		t.Fatal(held, err)
	}
	if held, _, err := s.RenewClaims(ctx, "first", time.Minute, map[int64]int64{}, nil); err != nil || len(held) != 0 {
		t.Errorf("a run that is not carried out was renewed: %v, %v", held, err)
	}
	if err := s.ReleaseClaim(ctx, run, 1, 0, time.Minute, job); err != nil {
		t.Fatal(err)
	}
	held, _, err = s.RenewClaims(ctx, "first", time.Minute, map[int64]int64{run: 1}, nil)
	if err != nil || len(held) != 0 {
		t.Errorf("the old owner took it back: %v, %v", held, err)
	}
	if got, _ := s.Claim(ctx, run, 1, "first", time.Minute); got {
		t.Error("the old number was claimed again")
	}
	if got, err := s.Claim(ctx, run, 2, "second", time.Minute); !got || err != nil {
		t.Errorf("nobody else can take it: %v %v", got, err)
	}
}

func TestEveryAbsenceIsTakenOutOfPatience(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	run := startedRun(t, s)
	w := &Write{Run: run, Claim: 1}
	w.StepState(0, "working", "")
	if err := s.Commit(ctx, w); err != nil {
		t.Fatal(err)
	}
	for number := int64(1); number <= 3; number++ {
		_, err := s.Pool.Exec(ctx,
			"UPDATE runs SET seen_at = clock_timestamp() - interval '10 minutes', claim_owner = NULL, "+
				"claim_number = $1", number)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := s.Claim(ctx, run, number, "owner", time.Minute); !got || err != nil {
			t.Fatal(got, err)
		}
	}
	steps, err := s.Steps(ctx, run)
	if err != nil || steps[0].WaitedMS < 1_800_000 || steps[0].WaitedMS > 1_860_000 || steps[0].SettleWaitedMS != 0 {
		t.Errorf("three absences of ten minutes count as %d ms, %d since it was made (%v)", steps[0].WaitedMS,
			steps[0].SettleWaitedMS, err)
	}
}

// TestSummariesTellWhatIsRecorded changes resources, runs and steps in every way
// and compares the kept counts with counting.
func TestSummariesTellWhatIsRecorded(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	run := startedRun(t, s)
	writes := int64(0)
	commit := func(f func(*Write)) {
		t.Helper()
		w := &Write{Run: run, Claim: 1, After: writes}
		f(w)
		if err := s.Commit(ctx, w); err != nil {
			t.Fatal(err)
		}
		writes++
	}
	put := func(name, state string, hour float64) func(*Write) {
		return func(w *Write) {
			w.PutResource(Resource{
				StackID:    stackID,
				Name:       name,
				State:      state,
				Hour:       hour,
				Want:       map[string]any{},
				Attributes: map[string]any{},
			})
		}
	}
	for _, step := range []struct {
		change         func(*Write)
		total, healthy int
		hour           float64
		finished       int
	}{
		{put("net", "absent", 1), 1, 0, 1, 0},
		{put("net", "healthy", 1), 1, 1, 1, 0},
		{put("lan", "healthy", 2.5), 2, 2, 3.5, 0},
		{func(w *Write) { w.StepState(0, "healthy", "") }, 2, 2, 3.5, 1},
		{put("net", "unhealthy", 4), 2, 1, 6.5, 1},
		{func(w *Write) { w.StepState(0, "failed", "") }, 2, 1, 6.5, 0},
		{func(w *Write) { w.RemoveResource(stackID, "lan") }, 1, 0, 4, 0},
	} {
		commit(step.change)
		m, err := s.Summary(ctx, "warnings")
		if err != nil || m.Total != step.total || m.Healthy != step.healthy || m.Hour != step.hour ||
			*m.RunFinished != step.finished || *m.RunID != run {
			t.Errorf("told are %d, %d healthy, %v an hour, %d steps; want %+v (%v)", m.Total, m.Healthy, m.Hour,
				*m.RunFinished, step, err)
		}
	}
	commit(func(w *Write) { w.Retired(stackID) })
	if list, err := s.Summaries(ctx, "", 10); err != nil || len(list) != 0 {
		t.Errorf("a retired stack is listed: %v %v", list, err)
	}
	var changed []Summary
	var err error
	await.Holds(func() bool {
		changed, err = s.SummariesSince(ctx, "0", "00000000-0000-0000-0000-000000000000", 10)
		return err != nil || len(changed) > 0
	})
	if err != nil || len(changed) != 1 || !changed[0].Retired {
		t.Errorf("the stream of changes tells %v, %v", changed, err)
	}
}

func TestALimitIsSharedByDemandAndAdapts(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	share := func(owner string, demand float64, refused bool) Share {
		t.Helper()
		x, err := s.ShareLimit(ctx, "saltmere-lab", owner, demand, 20, refused, 0)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	if x := share("one", 10, false); x.Rate != 20 {
		t.Errorf("alone it may %v, want 20", x.Rate)
	}
	if x := share("two", 30, false); x.Rate < 14 || x.Rate > 16 {
		t.Errorf("with three quarters of the demand it may %v, want 15", x.Rate)
	}
	lowered := share("one", 10, true)
	if again := share("one", 10, true); again.Rate != lowered.Rate || lowered.Rate >= 4 {
		t.Errorf("two refusals in one second gave %v and %v", lowered.Rate, again.Rate)
	}
	if _, err := s.Pool.Exec(ctx, "UPDATE limits SET raised_at = '-infinity'"); err != nil {
		t.Fatal(err)
	}
	if x := share("one", 10, false); x.Rate <= lowered.Rate {
		t.Errorf("unmet demand does not raise %v: %v", lowered.Rate, x.Rate)
	}
	x, err := s.ShareLimit(ctx, "saltmere-lab", "two", 1, 20, true, 5*time.Minute)
	if err != nil || x.Wait < 4*time.Minute {
		t.Errorf("a refusal until later gives %v, %v", x, err)
	}
	if x := share("one", 1, false); x.Wait < 4*time.Minute {
		t.Errorf("the other replica does not wait: %v", x.Wait)
	}
}

func TestOldThingsAreForgotten(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	run := startedRun(t, s)
	w := &Write{Run: run, Claim: 1, Events: []Event{{Kind: "run", Text: "old"}}}
	for range 3 {
		w.AddEvidence(Evidence{
			Evidence: health.Evidence{Resource: "net", Check: "phase", At: time.Now().AddDate(0, -4, 0)},
			StackID:  stackID,
			RunID:    run,
		})
	}
	w.RunState("done", "")
	if err := s.Commit(ctx, w); err != nil {
		t.Fatal(err)
	}
	_, err := s.AddProposal(ctx, Proposal{StackID: stackID, Kind: "apply", Document: []byte("{}")}, time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"UPDATE events SET at = now() - interval '200 days'",
		"UPDATE runs SET ended_at = now() - interval '200 days'",
		"UPDATE proposals SET created_at = now() - interval '200 days', expires_at = now() - interval '199 days'"} {
		if _, err := s.Pool.Exec(ctx, q); err != nil {
			t.Fatal(err)
		}
	}
	day := 24 * time.Hour
	if n, err := s.Forget(ctx, Retention{}); n != 0 || err != nil {
		t.Fatalf("without a retention %d rows went (%v)", n, err)
	}
	n, err := s.Forget(ctx, Retention{Evidence: 90 * day, Events: 180 * day, Proposals: 180 * day})
	if err != nil || n != 4 { // two of three pieces of evidence, the event, the proposal without a run
		t.Errorf("%d rows went, want 4 (%v)", n, err)
	}
	if left, _ := s.LastEvidence(ctx, stackID); len(left) != 1 {
		t.Errorf("the newest evidence went too: %v", left)
	}
}

func TestTheNewestEvidenceOfALongRunIsGiven(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	run := startedRun(t, s)
	_, err := s.Pool.Exec(ctx, `INSERT INTO evidence (stack_id, run_id, resource, check_name, at, asked, answer,
		passed, took_ms)
		SELECT $1, $2, 'net', 'phase', now(), 'phase', n::text, true, 1 FROM generate_series(1, 2500) n`, stackID, run)
	if err != nil {
		t.Fatal(err)
	}
	list, err := s.RunEvidence(ctx, run, "net")
	if err != nil || len(list) != 2000 || list[0].Answer != "501" || list[1999].Answer != "2500" {
		t.Errorf("%d pieces from %s to %s, %v", len(list), list[0].Answer, list[len(list)-1].Answer, err)
	}
}

func TestAKeyIsTakenOnce(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	take := func(request string) (bool, Answer) {
		t.Helper()
		taken, before, err := s.TakeKey(ctx, "ines", "key", request)
		if err != nil {
			t.Fatal(err)
		}
		return taken, before
	}
	if taken, _ := take("a"); !taken {
		t.Fatal("a new key is taken already")
	}
	if taken, before := take("a"); taken || before.Status != 0 {
		t.Errorf("while it is carried out: %v %+v", taken, before)
	}
	if err := s.GiveKeyBack(ctx, "ines", "key"); err != nil {
		t.Fatal(err)
	}
	if taken, _ := take("b"); !taken {
		t.Error("a key that was given back is not free")
	}
	if err := s.KeepAnswer(ctx, "ines", "key", 201, []byte("made")); err != nil {
		t.Fatal(err)
	}
	taken, before := take("b")
	if taken || before.Status != 201 || string(before.Answer) != "made" || before.Request != "b" {
		t.Errorf("answered it gives %v %+v", taken, before)
	}
	_, err := s.Pool.Exec(ctx, "UPDATE idempotency SET status = 0, created_at = now() - interval '2 minutes'")
	if err != nil {
		t.Fatal(err)
	}
	if taken, _ := take("c"); !taken {
		t.Error("the key of a process that is gone is kept for ever")
	}
}

// TestAKeyOutlivesItsStackWhileSomethingNeedsIt retires the stack that a key was drawn for:
// it goes in the end, but not before the machine that moved along with it.
func TestAKeyOutlivesItsStackWhileSomethingNeedsIt(t *testing.T) {
	t.Parallel()
	s, ctx := setup(t), context.Background()
	startedRun(t, s)
	do := func(q string, args ...any) {
		t.Helper()
		if _, err := s.Pool.Exec(ctx, q, args...); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"quay/access@1", "quay/kept@1", "quay/lost@1"} {
		_, err := s.AddSecret(ctx, Secret{
			Reference:  name,
			StackID:    stackID,
			Kind:       "private_key",
			Sealed:     []byte("x"),
			SealedWith: "k",
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	const pier = "00000000-0000-0000-0000-00000000beef"
	do("INSERT INTO stacks SELECT (jsonb_populate_record(k, jsonb_build_object('id', $1::text, 'name', 'pier', "+
		"'secrets', jsonb_build_object('access', 'quay/access@1')))).* FROM stacks k WHERE id = $2", pier, stackID)
	do(`INSERT INTO kept (token, stack_id, stack, account, region, name, type, declared, want, attributes, parts,
		hour, currency)
		SELECT 'us-kept', id, name, account, region, 'kept', 'key_pair', 'kept', '{}',
		'{"private_key": "quay/kept@1"}', '[]', 0, 'kr' FROM stacks WHERE id = $1`, stackID)
	do("UPDATE stacks SET retired_at = now() - interval '200 days' WHERE id = $1", stackID)
	left := func() string {
		t.Helper()
		if _, err := s.Forget(ctx, Retention{Secrets: 90 * 24 * time.Hour}); err != nil {
			t.Fatal(err)
		}
		list, err := s.Secrets(ctx, stackID)
		if err != nil {
			t.Fatal(err)
		}
		names := ""
		for _, x := range list {
			names += x.Reference + " "
		}
		return names
	}
	if got := left(); got != "quay/access@1 quay/kept@1 " {
		t.Errorf("left are %s", got)
	}
	do("DELETE FROM kept")
	do("UPDATE stacks SET retired_at = now() WHERE id = $1", pier)
	if got := left(); got != "" {
		t.Errorf("left for ever are %s", got)
	}
}

// TestMigrationsAreLogged: an operator finds in the log which tables an upgrade changed.
func TestMigrationsAreLogged(t *testing.T) {
	url, owner := postgrestest.Empty(t)
	var log bytes.Buffer
	err := Migrate(t.Context(), url, owner, Logged(slog.New(slog.NewTextHandler(&log, nil))))
	if err != nil || !strings.Contains(log.String(), "00001_first.sql") ||
		!strings.Contains(log.String(), "part=migrations") {
		t.Errorf("%v\n%s", err, log.String())
	}
	if strings.Contains(log.String(), "level=ERROR") || strings.Contains(log.String(), url) {
		t.Error(log.String())
	}
}
