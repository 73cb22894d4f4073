package stacks

import (
	"context"
	"time"

	"undersail/internal/core/change"
	"undersail/internal/engine"
	"undersail/internal/store"
)

// Store is what is kept of what this package is about, as far as it is needed here.
type Store interface {
	engine.Records

	Account(ctx context.Context, name string) (store.Account, error)
	Accounts(ctx context.Context) ([]store.Account, error)

	Attempts(ctx context.Context, run int64) ([]store.Attempt, error)
	TriedSteps(ctx context.Context, run int64) ([]store.TriedStep, error)

	Carried(ctx context.Context, account string) ([]store.Carried, error)

	HasWrites(ctx context.Context, run, writes int64) (has bool, err error)

	Unpark(ctx context.Context, account, what string, grace time.Duration, enqueue store.Enqueue) (int, error)
	Reopen(ctx context.Context, r store.Run, steps []int, who store.Who, grace time.Duration,
		enqueue store.Enqueue) error
	EndParked(ctx context.Context, id int64, who store.Who) (bool, error)

	AddConnection(ctx context.Context, c store.Connection, life time.Duration) (ends time.Time, err error)
	Connection(ctx context.Context, id string) (store.Connection, error)

	Events(ctx context.Context, runID, after int64, most int) ([]store.Event, error)
	AllEvents(ctx context.Context, after store.Cursor, most int) ([]store.Event, error)
	Listen(ctx context.Context, wake func(run string)) error

	KeptOf(ctx context.Context, stackID string) ([]store.Kept, error)
	AddFound(ctx context.Context, found []store.Kept) (news []store.Kept, err error)

	Proposal(ctx context.Context, id int64) (store.Proposal, error)
	LastDocument(ctx context.Context, stackID string, before int64) (store.Proposal, error)
	Gifts(ctx context.Context, run int64) ([]int64, error)

	Run(ctx context.Context, id int64) (store.Run, error)
	Runs(ctx context.Context, stack string, before int64, most int) ([]store.Run, error)
	LastRun(ctx context.Context, stackID string) (store.Run, error)
	Steps(ctx context.Context, runID int64) ([]store.Step, error)
	AskStop(ctx context.Context, id int64, who store.Who) error

	Secret(ctx context.Context, reference string) (store.Secret, error)

	StackByName(ctx context.Context, name string) (store.Stack, error)
	Stack(ctx context.Context, id string) (store.Stack, error)
	MarkVerified(ctx context.Context, id string) error
	Resources(ctx context.Context, stackID string) ([]store.Resource, error)
	ResourceSeen(ctx context.Context, stackID, name, state, reason string, strayed []change.Field) error
	Strayed(ctx context.Context, stackID string) (map[string][]change.Field, error)
	AddEvidence(ctx context.Context, list []store.Evidence) error
	RunEvidence(ctx context.Context, runID int64, resource string) ([]store.EvidenceRow, error)
	LastEvidence(ctx context.Context, stackID string) ([]store.EvidenceRow, error)
	Spent(ctx context.Context, stackID string) (float64, error)
	PriceHistory(ctx context.Context, stackID string) ([]store.PriceSince, error)

	Summaries(ctx context.Context, after string, most int) ([]store.Summary, error)
	SummariesOf(ctx context.Context, account string) ([]store.Summary, error)
	Summary(ctx context.Context, name string) (store.Summary, error)
	SummariesSince(ctx context.Context, xid, stackID string, most int) ([]store.Summary, error)
	Horizon(ctx context.Context) (xid string, err error)
}
