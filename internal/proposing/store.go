package proposing

import (
	"context"
	"time"

	"undersail/internal/store"
)

// Store is what is kept of what this package is about, as far as it is needed here.
type Store interface {
	Account(ctx context.Context, name string) (store.Account, error)
	Accounts(ctx context.Context) ([]store.Account, error)

	AddAgreement(ctx context.Context, a store.Agreement) error
	AgreementOf(ctx context.Context, proposal int64, kind string) (store.Agreement, error)
	Agreement(ctx context.Context, id int64) (store.Agreement, error)
	Agreements(ctx context.Context) ([]store.Agreement, error)
	EndAgreement(ctx context.Context, id int64, by string) error

	Carried(ctx context.Context, account string) ([]store.Carried, error)

	UnsealedRuns(ctx context.Context) ([]store.Run, error)
	SealRun(ctx context.Context, id int64, seal []byte) error
	Give(ctx context.Context, id int64, stackID string, g store.Gift, grace time.Duration, enqueue store.Enqueue) error
	ParkFailed(ctx context.Context, id int64, what, reason string) error

	AddDraft(ctx context.Context, id, by string, shapedBy []string, body []byte) (store.Draft, error)
	Draft(ctx context.Context, id string) (store.Draft, error)
	Drafts(ctx context.Context, most int) ([]store.Draft, error)
	ChangeDraft(ctx context.Context, id, by string, revision int64, body []byte) (store.Draft, error)
	RemoveDraft(ctx context.Context, id string) error

	AllKept(ctx context.Context) ([]store.Kept, error)
	KeptBy(ctx context.Context, account, stack string) ([]store.Kept, error)
	KeptOf(ctx context.Context, stackID string) ([]store.Kept, error)
	PlaceOf(ctx context.Context, token string) (stack, name string, kept bool, err error)
	MoveKept(ctx context.Context, k store.Kept, stack, name string, alone bool, who store.Who) error
	WishKept(ctx context.Context, token, to string, who store.Who) error

	LastRunOf(ctx context.Context, stackID string) (store.Basis, error)

	AddProposal(ctx context.Context, p store.Proposal, life time.Duration) (int64, error)
	Proposal(ctx context.Context, id int64) (store.Proposal, error)
	Proposals(ctx context.Context, stack string, before int64, most int) ([]store.Proposal, error)
	LastDocument(ctx context.Context, stackID string, before int64) (store.Proposal, error)
	Decide(ctx context.Context, id int64, d store.Decision) error
	Gifts(ctx context.Context, run int64) ([]int64, error)
	Unsealed(ctx context.Context, after int64) ([]store.Proposal, error)
	SealProposal(ctx context.Context, id int64, agreement []byte) error
	Consents(ctx context.Context, proposal int64) ([]store.Consent, error)

	StartRun(ctx context.Context, n store.NewRun, enqueue store.Enqueue) (int64, error)
	Run(ctx context.Context, id int64) (store.Run, error)
	Runs(ctx context.Context, stack string, before int64, most int) ([]store.Run, error)
	LastRun(ctx context.Context, stackID string) (store.Run, error)
	Steps(ctx context.Context, runID int64) ([]store.Step, error)
	Expected(ctx context.Context, account string) ([]store.Learned, error)

	AddSecret(ctx context.Context, x store.Secret) (bool, error)
	SecretVersions(ctx context.Context, stack string) (map[string]int, error)
	Secret(ctx context.Context, reference string) (store.Secret, error)

	Setting(ctx context.Context, name string) (value []byte, err error)
	FirstSetting(ctx context.Context, name string, value []byte) ([]byte, error)

	AddStack(ctx context.Context, st store.Stack) (store.Stack, error)
	StackByName(ctx context.Context, name string) (store.Stack, error)
	Stack(ctx context.Context, id string) (store.Stack, error)
	ReadBy(ctx context.Context, name string) (string, error)
	Resources(ctx context.Context, stackID string) ([]store.Resource, error)

	Summaries(ctx context.Context, after string, most int) ([]store.Summary, error)
	SummariesOf(ctx context.Context, account string) ([]store.Summary, error)

	UserByName(ctx context.Context, name string) (store.User, error)
}
