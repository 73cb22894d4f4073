package store

import (
	"context"
	"errors"
	"reflect"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/core/resource"
	"undersail/internal/postgres/postgrestest"
)

// refusing is a database that refuses one statement: the one that comes after so many others, or
// none. Statements that nobody waits for are passed.
type refusing struct{ left atomic.Int64 }

// after lets the next n statements pass, and refuses the one behind them.
func (r *refusing) after(n int64) { r.left.Store(n + 1) }

// refused reports whether one was refused since, and lets all others pass.
func (r *refusing) refused() bool { return r.left.Swap(0) < 0 }

func (r *refusing) hear(ctx context.Context) context.Context {
	if left := r.left.Load(); left <= 0 || !r.left.CompareAndSwap(left, left-1) || left > 1 {
		return ctx
	}
	r.left.Store(-1)
	ctx, cancel := context.WithCancel(ctx)
	cancel()
	return ctx
}

func (r *refusing) TraceQueryStart(ctx context.Context, _ *pgx.Conn, q pgx.TraceQueryStartData) context.Context {
	for _, passed := range []string{"rollback", "plan_cache_mode", "pg_notify"} {
		if strings.Contains(q.SQL, passed) {
			return ctx
		}
	}
	return r.hear(ctx)
}

func (r *refusing) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}

func (r *refusing) TraceBatchStart(ctx context.Context, _ *pgx.Conn, b pgx.TraceBatchStartData) context.Context {
	if b.Batch.Len() > 0 && strings.Contains(b.Batch.QueuedQueries[0].SQL, "pg_notify") {
		return ctx
	}
	return r.hear(ctx)
}

func (r *refusing) TraceBatchQuery(context.Context, *pgx.Conn, pgx.TraceBatchQueryData) {}
func (r *refusing) TraceBatchEnd(context.Context, *pgx.Conn, pgx.TraceBatchEndData)     {}

// setupRefusing is a store over a database that refuses, and one over the same that does not.
func setupRefusing(t *testing.T) (s, looks *Store, r *refusing) {
	t.Helper()
	r = &refusing{}
	url := postgrestest.Database(t)
	s, err := Open(t.Context(), url, func(o *Opening) { o.ConnConfig.Tracer = r })
	if err == nil {
		t.Cleanup(s.Close)
		looks, err = Open(t.Context(), url)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(looks.Close)
	return s, looks, r
}

// rows are all that is in the database, in one text.
func rows(t *testing.T, s *Store) string {
	t.Helper()
	var all string
	err := s.Pool.QueryRow(t.Context(), `SELECT string_agg(table_name || md5(query_to_xml('SELECT * FROM ' ||
		table_name || ' x ORDER BY x::text', true, false, '')::text), ' ' ORDER BY table_name)
		FROM information_schema.tables WHERE table_schema = 'public' AND table_type = 'BASE TABLE'`).Scan(&all)
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// deed is something that is done with a store, once.
type deed struct {
	name string
	do   func() error
}

// TestWhatTheDatabaseRefusesIsToldAndLeavesNothing carries a run through its life, and what stands
// around it, and lets each statement of each deed be refused once: whoever asked is told, and
// nothing of the deed is left. Then it is done.
func TestWhatTheDatabaseRefusesIsToldAndLeavesNothing(t *testing.T) {
	t.Parallel()
	s, looks, database := setupRefusing(t)
	proposal := acceptedProposal(t, s)
	life := slices.Concat(deedsOfRuns(t, s, looks, proposal), deedsOfKept(t, s, looks), deedsOfPeople(t, s, looks))
	for _, d := range life {
		before := rows(t, looks)
		for statement := int64(0); ; statement++ {
			database.after(statement)
			err := d.do()
			if !database.refused() {
				if err != nil {
					t.Fatalf("%s: %v", d.name, err)
				}
				if statement < 2 {
					t.Errorf("%s made %d statements: it belongs to no transaction", d.name, statement)
				}
				break
			}
			if !errors.Is(err, context.Canceled) {
				t.Errorf("%s tells of its statement %d that was refused: %v", d.name, statement, err)
			}
			if after := rows(t, looks); after != before {
				t.Errorf("%s left something when its statement %d was refused:\n%s\n%s", d.name, statement, before,
					after)
				before = after
			}
		}
		if rows(t, looks) == before {
			t.Errorf("%s changed nothing", d.name)
		}
	}
}

func deedsOfRuns(t *testing.T, s, looks *Store, proposal int64) []deed {
	ctx := t.Context()
	var who Who
	var run int64
	look := func() Run {
		r, err := looks.Run(ctx, run)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	write := func(after int64, f func(w *Write)) func() error {
		return func() error {
			w := &Write{Run: run, Claim: look().ClaimNumber, After: look().Writes,
				Events: []Event{{Kind: "run", Text: "goes on"}}}
			f(w)
			return s.Commit(ctx, w)
		}
	}
	claim := func() error {
		taken, err := s.Claim(ctx, run, look().ClaimNumber, "here", time.Minute)
		if err == nil && !taken {
			t.Fatal("nobody may carry it out")
		}
		return err
	}
	counted := func(n int, err error) error {
		if err == nil && n != 1 {
			t.Fatalf("%d runs, want 1", n)
		}
		return err
	}
	return []deed{
		{"people are added", func() error {
			return s.Tx(ctx, func(tx pgx.Tx) error {
				_, err := tx.Exec(ctx, "INSERT INTO users (name, full_name, password_hash, roles) "+
					"VALUES ('ines', '', '', '{admin}'), ('bo', '', '', '{reviewer}')")
				who = Who{Name: "ines", Roles: []string{"admin"}}
				return err
			})
		}},
		{"a stack that is read is there", func() error {
			return s.Tx(ctx, func(tx pgx.Tx) error {
				_, err := tx.Exec(ctx, "INSERT INTO stacks (id, name, account, region) VALUES ($1, 'pier', "+
					"'saltmere-lab', 'north-fell')", northPierID)
				return err
			})
		}},
		{"a run begins", func() (err error) {
			now, err := looks.Now(ctx)
			if err != nil {
				return err
			}
			run, err = s.StartRun(ctx, NewRun{
				Proposal:  proposal,
				Agreement: []byte("sealed"),
				Kind:      "apply",
				By:        "ines",
				Grace:     time.Minute,
				Steps: []Step{{Resource: "net", Type: "network", Action: "create", Needs: []Need{}, Token: "us-1"},
					{Number: 1, Resource: "old", Type: "network", Action: "remove", Needs: []Need{}, Token: "us-2"}},
				Absent:  []string{"gone"},
				Update:  &StackUpdate{TemplateName: "warnings", Inputs: map[string]any{"tier": 1}},
				Renames: []Rename{{From: "a", To: "b"}},
				Moment:  Moment{Looked: now, Who: who, Reads: []Read{{Stack: northPierID}}, TakesAway: true},
			}, job)
			return err
		}},
		{"it is claimed", claim},
		{"its step is made", write(0, func(w *Write) {
			w.StepState(0, "working", "")
			w.PutResource(Resource{StackID: stackID, Name: "net", Type: "network", Token: "us-1"})
			w.RunState("underway", "")
		})},
		{"it waits for a value", write(1, func(w *Write) {
			w.Park("input", "wants a value")
			w.UnlessGiven(ctx, []string{"code"}, time.Minute, job)
			w.UnlessAgreed(ctx, 0, time.Minute, job)
		})},
		{"it is given one", func() error {
			return s.Give(ctx, run, stackID, Gift{Values: map[string]any{"code": "x"}, Before: look(), Who: who},
				time.Minute, job)
		}},
		{"it is claimed once more", claim},
		{"it is let go", func() error {
			return s.ReleaseClaim(ctx, run, look().ClaimNumber, 0, time.Minute, job)
		}},
		{"its owner is gone", func() error {
			return s.Tx(ctx, func(tx pgx.Tx) error {
				_, err := tx.Exec(ctx, "UPDATE runs SET claim_owner = 'there', claim_until = now() - interval '1 hour'")
				return err
			})
		}},
		{"it is swept", func() error { return counted(s.SweepClaims(ctx, time.Minute, job)) }},
		{"it is claimed after that", claim},
		{"it waits for credentials", write(2, func(w *Write) { w.Park("credentials", "refused") })},
		{"they are renewed", func() error {
			return counted(s.Unpark(ctx, "saltmere-lab", "credentials", time.Minute, job))
		}},
		{"it is asked to stop", func() error { return s.AskStop(ctx, run, who) }},
		{"it is claimed to stop", claim},
		{"it fails", write(3, func(w *Write) { w.RunState("failed", "because") })},
		{"it is tried again", func() error {
			return s.Reopen(ctx, look(), []int{0}, who, time.Minute, job)
		}},
		{"it is claimed in its second attempt", claim},
		{"it fails once more", write(4, func(w *Write) {
			w.StepState(0, "failed", "")
			w.RunState("failed", "because")
		})},
		{"it waits for a person", func() error { return s.ParkFailed(ctx, run, "person", "what now?") }},
		{"it is ended", func() error {
			ended, err := s.EndParked(ctx, run, who)
			if err == nil && !ended {
				t.Fatal("it waits for nobody")
			}
			return err
		}},
	}
}

func deedsOfKept(t *testing.T, s, looks *Store) []deed {
	ctx := t.Context()
	found := Kept{Token: "us-found", StackID: "33333333-3333-4333-8333-333333333333", Stack: "quay",
		Account: "saltmere-lab", Region: "north-fell", Name: "log", Type: resource.TypeDisk}
	who := Who{Name: "ines", Roles: []string{"admin"}}
	var next int64
	return []deed{
		{"something is found", func() error {
			news, err := s.AddFound(ctx, []Kept{found})
			if err == nil && len(news) != 1 || err != nil && len(news) != 0 {
				t.Fatalf("%v are new, %v", news, err)
			}
			return err
		}},
		{"somebody wants it elsewhere", func() error { return s.WishKept(ctx, found.Token, "pier/log", who) }},
		{"it is moved", func() error {
			return s.MoveKept(ctx, found, "pier", "log", true, who)
		}},
		{"a proposal is made", func() error {
			return s.Tx(ctx, func(tx pgx.Tx) error {
				return tx.QueryRow(ctx, "INSERT INTO proposals (stack_id, kind, state, document, created_by, "+
					"expires_at) VALUES ($1, 'apply', 'open', '{}', 'ines', now() + interval '1 hour') RETURNING id",
					northPierID).Scan(&next)
			})
		}},
		{"a proposal is accepted", func() error {
			return s.Decide(ctx, next, Decision{State: "accepted", By: "bo", Agreement: []byte("sealed"),
				Who: Who{Name: "bo", Roles: []string{"reviewer"}}, Shaped: true, Consents: []Consent{{Name: "cost"}}})
		}},
		{"it is taken over", func() error {
			_, err := s.StartRun(ctx, NewRun{
				Proposal:  next,
				Agreement: []byte("sealed"),
				Kind:      "apply",
				By:        "ines",
				Grace:     time.Minute,
				TakeOver:  map[string]Resource{found.Token: {Name: "log", Type: resource.TypeDisk, Token: found.Token}},
				Moment:    Moment{Who: who, Kept: map[string]string{found.Token: "pier/log"}},
			}, job)
			return err
		}},
		{"the account is renewed", func() error {
			a, err := looks.Account(ctx, "saltmere-lab")
			if err != nil {
				return err
			}
			return s.PutAccount(ctx, a, a.Revision, who)
		}},
		{"the account is held to a budget", func() error {
			return s.BoundAccount(ctx, "saltmere-lab", Bounds{SecondPerson: true}, who, "second_person")
		}},
		{"the account is closed", func() error { return s.CloseAccount(ctx, "saltmere-lab", "over", true, who) }},
	}
}

func deedsOfPeople(t *testing.T, s, looks *Store) []deed {
	ctx := t.Context()
	bo := func() int64 {
		u, err := looks.UserByName(ctx, "bo")
		if err != nil {
			t.Fatal(err)
		}
		return u.ID
	}
	tries := []Try{{"name", "bo"}, {"address", "198.51.100.7"}}
	slow := map[string]Counting{"name": {1, time.Second, time.Minute, time.Hour},
		"address": {9, time.Second, time.Minute, time.Hour}}
	return []deed{
		{"a try is counted", func() error {
			wait, err := s.CountTries(ctx, tries, slow)
			if wait != 0 {
				t.Fatalf("it waits for %s", wait)
			}
			return err
		}},
		{"the try was right", func() error { return s.TriesRight(ctx, tries) }},
		{"roles change", func() error { return s.SetRoles(ctx, bo(), []string{"viewer"}) }},
		{"somebody is invited", func() error {
			return s.Tx(ctx, func(tx pgx.Tx) error {
				_, err := tx.Exec(ctx, "INSERT INTO invitations (hash, user_id, made_by, expires_at) SELECT 'h', id, "+
					"'ines', now() + interval '1 hour' FROM users WHERE name = 'bo'")
				return err
			})
		}},
		{"the invitation is taken", func() error { return s.TakeInvitation(ctx, "h", "first", "Bo") }},
		{"the password changes", func() error { return s.SetPassword(ctx, bo(), "first", "second", "") }},
		{"somebody signs in", func() error { return s.SignedIn(ctx, bo(), "198.51.100.7") }},
		{"somebody is disabled", func() error { return s.Disable(ctx, bo(), true) }},
		{"an entry is audited", func() error {
			return s.AddAudit(ctx, AuditEntry{Who: "ines", Action: "x", Detail: []byte("{}")},
				func(AuditEntry, []byte) []byte { return []byte("sum") })
		}},
	}
}

// TestEveryMethodTellsWhenTheDatabaseRefuses calls whatever a store can do, with nothing in hand.
func TestEveryMethodTellsWhenTheDatabaseRefuses(t *testing.T) {
	t.Parallel()
	s, _, database := setupRefusing(t)
	// These ask nothing where there is nothing to do.
	idle := []string{"AddEvidence", "AddFound", "BoundAccount", "CountTries", "TriesRight"}
	failure := reflect.TypeFor[error]()
	asked := 0
	for i, v := 0, reflect.ValueOf(s); i < v.NumMethod(); i++ {
		name, call := v.Type().Method(i).Name, v.Method(i)
		if n := call.Type().NumOut(); n == 0 || call.Type().Out(n-1) != failure || slices.Contains(idle, name) {
			continue
		}
		args := make([]reflect.Value, 0, call.Type().NumIn())
		for k := range call.Type().NumIn() {
			if call.Type().IsVariadic() && k == call.Type().NumIn()-1 {
				break
			}
			args = append(args, reflect.Zero(call.Type().In(k)))
		}
		args[0] = reflect.ValueOf(t.Context())
		if name == "Commit" {
			args[1] = reflect.ValueOf(&Write{})
		}
		if name == "Forget" {
			args[1] = reflect.ValueOf(Retention{Evidence: time.Hour})
		}
		database.after(0)
		out := call.Call(args)
		if err, _ := out[len(out)-1].Interface().(error); !database.refused() || !errors.Is(err, context.Canceled) {
			t.Errorf("%s tells nothing of a statement that was refused: %v", name, err)
		}
		asked++
	}
	if asked < 100 {
		t.Errorf("%d methods were asked", asked)
	}
}
