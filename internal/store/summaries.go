package store

import (
	"context"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/access"
	"undersail/internal/core/state"
)

// Summary is what lists tell of a stack: one narrow row, kept in the same
// transaction as what it tells.
type Summary struct {
	Name, ID, Account, Cloud, Region, Currency   string
	Title, TemplateName, TemplateVersion         string
	Total, Healthy                               int
	Hour                                         float64
	CreatedAt                                    time.Time
	VerifiedAt                                   *time.Time
	Retired                                      bool
	RunID                                        *int64
	RunProposal                                  *int64
	RunKind, RunState, RunReason, RunBy, Decides *string
	RunTotal, RunFinished                        *int
	RunCreatedAt, RunStartedAt                   *time.Time
	RunEndedAt, ExpectedEnd                      *time.Time
	RunLastEvent                                 *int64
	Rate                                         float64 // of the account's clock
	Changed                                      string  // the transaction that changed it
	UnderWay, WaitedFor                          float64 // of the newest run, in seconds
}

// State is the state that a stack is in by its newest run and its resources.
func (m Summary) State() string {
	switch {
	case m.Retired:
		return state.Removed
	case m.RunID == nil:
		return state.Absent
	case m.RunEndedAt == nil:
		return *m.RunState
	case m.Total == 0 && m.TemplateName == "":
		return state.Absent // what was made is undone
	case m.Healthy < m.Total, *m.RunState != state.Done && *m.RunState != state.Undone:
		return state.Unhealthy
	}
	return state.Healthy
}

const summaryQuery = `SELECT m.name, m.stack_id::text AS id, m.account, k.cloud, k.region, k.currency, k.title,
	k.template_name, k.template_version, m.total, m.healthy, m.hour,
	k.created_at, k.verified_at, m.retired, r.id AS run_id, r.proposal_id AS run_proposal, r.kind AS run_kind,
		r.state AS run_state, r.reason AS run_reason, r.started_by AS run_by, r.decides,
	r.total AS run_total, r.finished AS run_finished, r.created_at AS run_created_at, r.started_at AS run_started_at,
		r.ended_at AS run_ended_at, r.expected_end, r.last_event AS run_last_event, a.clock_rate AS rate,
		m.changed::text,
	` + spentOf + `
	FROM summaries m JOIN stacks k ON k.id = m.stack_id JOIN accounts a ON a.name = m.account LEFT JOIN runs r
		ON r.id = m.last_run` + joinSpent

// Summaries lists living stacks by name after one. What was never applied is only
// a proposal yet.
func (s *Store) Summaries(ctx context.Context, after string, most int) ([]Summary, error) {
	return many[Summary](ctx, s.Pool,
		summaryQuery+"WHERE NOT m.retired AND m.last_run IS NOT NULL AND m.name > $1 AND ($3::text[] IS NULL OR "+
			"m.account = ANY($3)) ORDER BY m.name LIMIT $2", after, most, access.Seen(ctx))
}

// SummariesOf lists the living stacks of an account by name.
func (s *Store) SummariesOf(ctx context.Context, account string) ([]Summary, error) {
	return many[Summary](ctx, s.Pool,
		summaryQuery+"WHERE NOT m.retired AND m.last_run IS NOT NULL AND m.account = $1 ORDER BY m.name", account)
}

// Summary finds the living stack of a name.
func (s *Store) Summary(ctx context.Context, name string) (Summary, error) {
	return one[Summary](ctx, s.Pool, summaryQuery+"WHERE NOT m.retired AND m.last_run IS NOT NULL AND m.name = $1",
		name)
}

// SummariesSince lists the stacks that changed after a place in the order of
// changes (a transaction and a stack's id), retired ones too, in an order in which
// nothing appears later before that place.
func (s *Store) SummariesSince(ctx context.Context, xid, stackID string, most int) ([]Summary, error) {
	return many[Summary](ctx, s.Pool, summaryQuery+`WHERE m.last_run IS NOT NULL
		AND m.changed < pg_snapshot_xmin(pg_current_snapshot()) AND (m.changed, m.stack_id) > ($1::xid8, $2::uuid)
		AND ($3::text[] IS NULL OR m.account = ANY($3)) ORDER BY m.changed, m.stack_id
		LIMIT `+strconv.Itoa(most), xid, stackID, access.Seen(ctx)) // told beforehand: else all are sorted first
}

// Horizon is the transaction before which everything is over.
func (s *Store) Horizon(ctx context.Context) (xid string, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT pg_snapshot_xmin(pg_current_snapshot())::text").Scan(&xid)
	return xid, classify(err)
}

// StacksByAccount counts the living stacks of each account.
func (s *Store) StacksByAccount(ctx context.Context) (map[string]int, error) {
	rows, err := s.Pool.Query(ctx,
		"SELECT account, count(*) FROM summaries WHERE NOT retired AND last_run IS NOT NULL GROUP BY account")
	if err != nil {
		return nil, classify(err)
	}
	out := map[string]int{}
	var account string
	var n int
	_, err = pgx.ForEachRow(rows, []any{&account, &n}, func() error { out[account] = n; return nil })
	return out, classify(err)
}
