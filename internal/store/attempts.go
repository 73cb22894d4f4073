package store

import (
	"context"
	"time"
)

// Attempt is one of a run: who let it begin, how long it was under way and waited for people, and
// how it ended. State is empty while it goes on.
type Attempt struct {
	Number    int
	By        string
	BeganAt   *time.Time
	EndedAt   *time.Time
	State     string
	Reason    string
	UnderWay  float64 // seconds, as of now
	WaitedFor float64
}

// What an attempt spent in its two phases, in seconds as of now.
const (
	underWay = "(under_way_ms / 1000.0 + CASE phase WHEN 'under way' THEN greatest(0, extract(epoch FROM " +
		"clock_timestamp() - phase_at)) ELSE 0 END)::float8"
	waitedFor = "(waited_ms / 1000.0 + CASE phase WHEN 'waiting' THEN greatest(0, extract(epoch FROM " +
		"clock_timestamp() - phase_at)) ELSE 0 END)::float8"
)

// spentOf are the sums of both over the attempts of run r, which joinSpent reads once.
const (
	spentOf   = "spent.under_way, spent.waited_for"
	joinSpent = " CROSS JOIN LATERAL (SELECT coalesce(sum(" + underWay + "), 0) AS under_way, " +
		"coalesce(sum(" + waitedFor + "), 0) AS waited_for FROM attempts WHERE run_id = r.id) AS spent "
)

// Attempts lists those of a run, oldest first.
func (s *Store) Attempts(ctx context.Context, run int64) ([]Attempt, error) {
	return many[Attempt](ctx, s.Pool,
		"SELECT number, by, began_at, ended_at, state, reason, "+underWay+" AS under_way, "+waitedFor+
			" AS waited_for FROM attempts WHERE run_id = $1 ORDER BY number", run)
}

// TriedStep is a step as an attempt left it that a later one tried again.
type TriedStep struct {
	Attempt  int
	Number   int
	State    string
	Reason   string
	IntentAt *time.Time
	MadeAt   *time.Time
	EndedAt  *time.Time
}

// TriedSteps lists those of a run.
func (s *Store) TriedSteps(ctx context.Context, run int64) ([]TriedStep, error) {
	return many[TriedStep](ctx, s.Pool,
		"SELECT attempt, number, state, reason, intent_at, made_at, ended_at FROM tried_steps WHERE run_id = $1 "+
			"ORDER BY attempt, number", run)
}
