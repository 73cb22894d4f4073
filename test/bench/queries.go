package main

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/postgres/postgrestest"
	"undersail/internal/service/servicetest"
	"undersail/internal/store"
)

// withDatabase gives a program that measures a database server.
func withDatabase(f func(h *servicetest.Harness) ([]row, error)) (rows []row, err error) {
	stop, err := postgrestest.Open(servicetest.Prepare)
	if err != nil {
		return nil, err
	}
	defer stop()
	h := &servicetest.Harness{}
	defer h.End()
	defer func() {
		if fault := recover(); fault != nil {
			err = fmt.Errorf("%v", fault)
		}
	}()
	return f(h)
}

// manyStacks is how many stacks the queries are measured at.
const manyStacks = 20_000

// fill makes stacks with three runs each, their steps, events and evidence.
var fill = []string{
	`INSERT INTO accounts (name, cloud, endpoint, credentials, clock_rate, guest_range, regions)
		SELECT 'saltmere-' || n, 'larch', '', '', 1, '', '{}' FROM generate_series(0, 9) n`,
	`INSERT INTO stacks (id, name, account, region, reads, retired_at) SELECT ('00000000-0000-4000-8000-' ||
		lpad(n::text, 12, '0'))::uuid, 'stack-' || lpad((n / 2)::text, 6, '0'), 'saltmere-' || n % 10, 'north-fell',
		CASE WHEN n % 100 = 1 THEN jsonb_build_object('stack-' || lpad((n / 2 + 1)::text, 6, '0'), '{}'::jsonb)
		ELSE '{}' END, CASE WHEN n % 2 = 0 THEN now() - interval '1 day' END FROM generate_series(0, 2 * $1 - 1) n`,
	`INSERT INTO proposals (stack_id, kind, state, document, created_by, summary, expires_at)
		SELECT id, 'apply', 'applied', jsonb_build_object('pad', repeat('x', 3000)), 'ines', '4 create', now()
		FROM stacks, generate_series(1, 3)`,
	`INSERT INTO runs (proposal_id, stack_id, account, state, started_by, claim_until, ended_at, total, finished)
		SELECT p.id, p.stack_id, k.account, 'done', 'ines', now(), now(), 4, 4 FROM proposals p JOIN stacks k
		ON k.id = p.stack_id`,
	`INSERT INTO resources (stack_id, name, type, declared, region, token, state, want, position, hour)
		SELECT id, 'r' || n, 'disk', 'r', 'north-fell', 'us-' || id || n, 'healthy', '{}', n, 0.01
		FROM stacks, generate_series(1, 4) n WHERE retired_at IS NULL`,
	`INSERT INTO steps (run_id, number, resource, type, action, state, needs, expect_ms, patience_ms, token)
		SELECT id, n, 'r' || n, 'disk', 'create', 'healthy', '[]', 1000, 1000, 'us' FROM runs, generate_series(0, 3) n`,
	`INSERT INTO durations (account, type, slot, ms) SELECT 'saltmere-' || a, t, n, 1000 + n
		FROM generate_series(0, 9) a, unnest(ARRAY['disk', 'network', 'subnet', 'instance']) t, generate_series(0,
		63) n`,
	`INSERT INTO events (run_id, number, kind, text) SELECT id, n, 'step', 'made' FROM runs, generate_series(1, 5) n`,
	`INSERT INTO evidence (stack_id, run_id, resource, check_name, at, asked, answer, passed, took_ms)
		SELECT stack_id, id, 'r1', 'phase', now(), 'phase', 'ready', true, 1 FROM runs`,
}

// counted lets the server count what its tables hold, as it does by itself in time. Only who
// owns them may: the role of a service is told so in a warning, and nothing happens.
func counted(ctx context.Context, url string) error {
	admin, err := pgx.Connect(ctx, postgrestest.AsAdmin(url))
	if err != nil {
		return err
	}
	defer admin.Close(ctx)
	_, err = admin.Exec(ctx, "VACUUM ANALYZE")
	return err
}

// queries measures what is asked often at many stacks, each over a read by
// primary key.
func queries(rounds int) ([]row, error) {
	return withDatabase(func(h *servicetest.Harness) ([]row, error) {
		ctx := context.Background()
		url := postgrestest.Database(h)
		s, err := store.Open(ctx, url)
		if err != nil {
			return nil, err
		}
		defer s.Close()
		for _, q := range fill {
			args := []any{}
			if strings.HasPrefix(q, "INSERT INTO stacks") {
				args = append(args, manyStacks)
			}
			if _, err := s.Pool.Exec(ctx, q, args...); err != nil {
				return nil, fmt.Errorf("%.60s: %w", q, err)
			}
		}
		if err := counted(ctx, url); err != nil {
			return nil, err
		}
		var fault error
		n := 0
		next := func() int { n = (n + 7919) % manyStacks; return n }
		name := func() string { return fmt.Sprintf("stack-%06d", next()) }
		check := func(err error) {
			if err != nil && fault == nil {
				fault = err
			}
		}
		byKey := func() {
			_, err := s.Stack(ctx, fmt.Sprintf("00000000-0000-4000-8000-%012d", 2*next()+1))
			check(err)
		}
		var rows []row
		for _, q := range []struct {
			what   string
			target float64
			run    func()
		}{
			{"expected durations of an account", 5, func() { _, err := s.Expected(ctx, "saltmere-3"); check(err) }},
			{"a stack by its name", 5, func() { _, err := s.StackByName(ctx, name()); check(err) }},
			{"the last run of a stack", 5, func() {
				_, err := s.LastRun(ctx, fmt.Sprintf("00000000-0000-4000-8000-%012d", 2*next()+1))
				check(err)
			}},
			{"the runs of a stack", 5, func() { _, err := s.Runs(ctx, name(), 0, 50); check(err) }},
			{"the proposals of a stack", 5, func() { _, err := s.Proposals(ctx, name(), 0, 50); check(err) }},
			{"sweeping claims", 5, func() {
				_, err := s.SweepClaims(ctx, time.Minute, func(pgx.Tx, int64, int64) (int64, error) { return 0, nil })
				check(err)
			}},
			{"who reads the outputs of a stack", 5, func() { _, err := s.ReadBy(ctx, name()); check(err) }},
			{"the newest evidence of a run", 5,
				func() { _, err := s.RunEvidence(ctx, int64(next()+1), ""); check(err) }},
			{"a page of 50 stacks", 20, func() { _, err := s.Summaries(ctx, name(), 50); check(err) }},
			{"a page of 50 runs", 20, func() { _, err := s.Runs(ctx, "", int64(next()+100), 50); check(err) }},
			{"a page of 50 proposals", 20,
				func() { _, err := s.Proposals(ctx, "", int64(next()+100), 50); check(err) }},
			{"the stacks that changed since", 20, func() {
				_, err := s.SummariesSince(ctx, "999999999", "00000000-0000-0000-0000-000000000000", 50)
				check(err)
			}},
		} {
			m, r, ratio := paired(rounds, repeated(50, q.run), repeated(50, byKey))
			if fault != nil {
				return nil, fmt.Errorf("%s: %w", q.what, fault)
			}
			rows = append(rows, row{
				id:        "R3",
				what:      fmt.Sprintf("at %d stacks: %s", manyStacks, q.what),
				measured:  short(m / 50),
				reference: short(r / 50),
				ratio:     ratio,
				target:    q.target,
			})
		}
		return rows, nil
	})
}
