package proposing_test

import (
	"context"
	"fmt"
	"testing"

	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
	"undersail/internal/store"
)

type outageKey struct{}

// outage is a database that goes away at one of the queries of a context.
type outage struct{ queries, at int }

func (o *outage) of(ctx context.Context) context.Context {
	return context.WithValue(ctx, outageKey{}, o)
}

// withOutages makes a store whose queries fail where an outage says so.
var withOutages = store.Watched(func(ctx context.Context, _ store.Heard) context.Context {
	o, ok := ctx.Value(outageKey{}).(*outage)
	if !ok {
		return ctx
	}
	if o.queries++; o.queries != o.at {
		return ctx
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	return gone
})

const vouched = "undersail: 1\nabout: {name: vouched, version: 1.0.0, title: Vouched}\ninputs: {word: {secret: " +
	"true, generate: true}}\nresources: {pair: {type: key_pair}, entry: {type: secret, want: {value: =inputs.word}}}\n"

// TestAcceptingIsWholeOrNothing: at whatever query the database goes away, a proposal is
// accepted with its secrets drawn, its consents and its seal, or it is as open as it was.
func TestAcceptingIsWholeOrNothing(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, end := r.Still(engine.Config{}, nil, withOutages)
	t.Cleanup(end)
	st, err := store.Open(context.Background(), r.DatabaseURL)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(st.Close)
	ctx := context.Background()
	count := func(query string, args ...any) (n int) {
		t.Helper()
		if err := st.Pool.QueryRow(ctx, query, args...).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	agree := func(ctx context.Context, p proposing.Proposal) error {
		_, err := s.Proposing.Agree(ctx, r.Admin, p.ID, proposing.Acceptance{
			Agree:     servicetest.ConsentNames(p),
			Comment:   "as ever",
			OnFailure: state.Undo,
		})
		return err
	}
	failed, broke := 0, 0
	for n := 1; ; n++ {
		stack := fmt.Sprint("vouched-", n)
		p := r.Propose(s, stack, vouched, nil)
		o := &outage{at: n}
		err := agree(o.of(ctx), p)
		row, lookErr := st.Proposal(ctx, p.ID)
		if lookErr != nil {
			t.Fatal(lookErr)
		}
		whole := count("SELECT count(*) FROM secrets WHERE reference LIKE $1", stack+"/%") == 2 &&
			count("SELECT count(*) FROM consents WHERE proposal_id = $1 AND name = 'secret-use'", p.ID) == 1 &&
			row.OnFailure == state.Undo && row.DecidedBy == r.Admin.Name
		switch {
		case row.State == state.Accepted && !whole:
			t.Errorf("query %d failed, and it is accepted by half: %+v", n, row)
		case row.State != state.Accepted && err == nil:
			t.Errorf("query %d failed, nothing is said, and it is %s", n, row.State)
		case row.State == state.Open:
			if failed++; agree(ctx, p) != nil {
				t.Errorf("query %d failed, and it cannot be accepted any more", n)
			}
		}
		o2 := &outage{at: n}
		run, err := s.Proposing.Apply(o2.of(ctx), r.Admin, p.ID, "")
		runs := count("SELECT count(*) FROM runs WHERE proposal_id = $1", p.ID)
		agreements := count("SELECT count(*) FROM agreements WHERE proposal_id = $1", p.ID)
		switch {
		case err == nil && (runs != 1 || run.ID == 0 || run.OnFailure != state.Undo || agreements == 0):
			t.Errorf("query %d failed, nothing is said, and there are %d runs with %d agreements", n, runs, agreements)
		case err != nil && runs == 0:
			broke++
			if run, err = s.Proposing.Apply(ctx, r.Admin, p.ID, ""); err != nil || run.State != state.Queued {
				t.Errorf("query %d failed, and it cannot be applied any more: %s %v", n, run.State, err)
			}
		}
		if o.queries < n && o2.queries < n {
			break
		}
	}
	if failed < 5 || broke < 5 {
		t.Errorf("%d and %d queries mattered", failed, broke)
	}
}

// TestAServiceStartsWithEverythingSealed, or does not start.
func TestAServiceStartsWithEverythingSealed(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, end := r.Still(engine.Config{}, nil, withOutages)
	t.Cleanup(end)
	ctx := context.Background()
	for i := range 3 {
		p := r.Propose(s, fmt.Sprint("vouched-", i), vouched, nil)
		if _, err := s.Proposing.Accept(ctx, r.Admin, p.ID, servicetest.ConsentNames(p), ""); err != nil {
			t.Fatal(err)
		}
	}
	for n := 1; ; n++ {
		servicetest.Query(t, r, "UPDATE proposals SET agreement = NULL")
		servicetest.Query(t, r, "DELETE FROM settings WHERE name IN ('agreements-sealed', 'secrets-placed')")
		o := &outage{at: n}
		err := s.OpenSealed(o.of(ctx))
		if o.queries < n {
			if err != nil || n < 8 {
				t.Errorf("%d queries: %v", n, err)
			}
			break
		}
		if err == nil {
			t.Errorf("query %d failed, and the service starts", n)
		}
	}
}
