package store

import (
	"context"
	"encoding/json"
	"net/netip"
	"time"

	"undersail/internal/core/offer"
)

// Offers gives what a region sold an account when it was asked last.
func (s *Store) Offers(ctx context.Context, account, region string) (offer.Offers, error) {
	row, err := one[struct {
		Body []byte
		At   time.Time
	}](ctx, s.Pool, "SELECT body, at FROM offers WHERE account = $1 AND region = $2", account, region)
	if err != nil {
		return offer.Offers{}, err
	}
	var o offer.Offers
	if err := json.Unmarshal(row.Body, &o); err != nil {
		return o, err
	}
	o.At = row.At
	return o, nil
}

// PutOffers keeps what a region sells, and gives the moment that is recorded.
func (s *Store) PutOffers(ctx context.Context, o offer.Offers) (time.Time, error) {
	raw, err := json.Marshal(o)
	if err != nil {
		return time.Time{}, err
	}
	var at time.Time
	err = s.Pool.QueryRow(ctx, `INSERT INTO offers (account, region, body) VALUES ($1, $2, $3)
		ON CONFLICT (account, region) DO UPDATE SET body = $3, at = clock_timestamp() RETURNING at`, o.Account, o.Region, raw).Scan(&at)
	return at, classify(err)
}

// Range is one that networks of an account must not overlap.
type Range struct {
	Range      netip.Prefix
	About      string
	DeclaredBy string
	DeclaredAt time.Time
}

// Ranges lists the ranges that are declared for an account.
func (s *Store) Ranges(ctx context.Context, account string) ([]Range, error) {
	return many[Range](ctx, s.Pool, "SELECT range, about, declared_by, declared_at FROM account_ranges WHERE account = $1 ORDER BY range", account)
}

// PutRange declares a range, or what it is about.
func (s *Store) PutRange(ctx context.Context, account string, r Range) error {
	return exec(ctx, s, `INSERT INTO account_ranges (account, range, about, declared_by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (account, range) DO UPDATE SET about = $3, declared_by = $4, declared_at = clock_timestamp()`, account, r.Range, r.About, r.DeclaredBy)
}

// RemoveRange forgets a declared range, and reports whether there was one.
func (s *Store) RemoveRange(ctx context.Context, account string, r netip.Prefix) (bool, error) {
	tag, err := s.Pool.Exec(ctx, "DELETE FROM account_ranges WHERE account = $1 AND range = $2", account, r)
	return tag.RowsAffected() > 0, classify(err)
}

// SetMostMonth sets above which cost of a month proposals ask for a consent; nil asks
// for none.
func (s *Store) SetMostMonth(ctx context.Context, account string, most *float64) error {
	return exec(ctx, s, "UPDATE accounts SET most_month = $2 WHERE name = $1", account, most)
}

// Policy is one version of a rule of the organisation.
type Policy struct {
	Name    string
	Version int
	About   string
	Does    string
	Types   []string
	That    string
	Says    string
	Remedy  string
	MadeBy  string
	MadeAt  time.Time
}

const policyColumns = "name, version, about, does, types, that, says, remedy, made_by, made_at"

// Policies lists the newest version of every rule that holds, by name.
func (s *Store) Policies(ctx context.Context) ([]Policy, error) {
	return many[Policy](ctx, s.Pool, "SELECT * FROM (SELECT DISTINCT ON (name) "+policyColumns+" FROM policies ORDER BY name, version DESC) AS newest WHERE does <> 'nothing'")
}

// PolicyVersions lists every version of a rule, newest first.
func (s *Store) PolicyVersions(ctx context.Context, name string) ([]Policy, error) {
	return many[Policy](ctx, s.Pool, "SELECT "+policyColumns+" FROM policies WHERE name = $1 ORDER BY version DESC", name)
}

// AddPolicy adds the next version of a rule and gives its number.
func (s *Store) AddPolicy(ctx context.Context, p Policy) (int, error) {
	var version int
	err := s.Pool.QueryRow(ctx, `INSERT INTO policies (name, version, about, does, types, that, says, remedy, made_by)
		SELECT $1, coalesce(max(version), 0) + 1, $2, $3, $4, $5, $6, $7, $8 FROM policies WHERE name = $1 RETURNING version`,
		p.Name, p.About, p.Does, orEmpty(p.Types), p.That, p.Says, p.Remedy, p.MadeBy).Scan(&version)
	return version, classify(err)
}

// Consent is what somebody agreed to.
type Consent struct {
	Name    string
	About   string
	GivenBy string
	GivenAt time.Time
}

// Consents lists what was agreed to with a proposal.
func (s *Store) Consents(ctx context.Context, proposal int64) ([]Consent, error) {
	return many[Consent](ctx, s.Pool, "SELECT name, about, given_by, given_at FROM consents WHERE proposal_id = $1 ORDER BY name", proposal)
}

// Draft is what somebody has filled in and not yet proposed.
type Draft struct {
	ID        string
	Revision  int64
	Body      []byte
	MadeBy    string
	MadeAt    time.Time
	ChangedAt time.Time
}

const draftColumns = "id, revision, body, made_by, made_at, changed_at"

// AddDraft keeps a new draft.
func (s *Store) AddDraft(ctx context.Context, id, by string, body []byte) (Draft, error) {
	return one[Draft](ctx, s.Pool, "INSERT INTO drafts (id, body, made_by) VALUES ($1, $2, $3) RETURNING "+draftColumns, id, body, by)
}

// Draft finds a draft.
func (s *Store) Draft(ctx context.Context, id string) (Draft, error) {
	return one[Draft](ctx, s.Pool, "SELECT "+draftColumns+" FROM drafts WHERE id = $1", id)
}

// Drafts lists drafts, changed last first.
func (s *Store) Drafts(ctx context.Context, most int) ([]Draft, error) {
	return many[Draft](ctx, s.Pool, "SELECT "+draftColumns+" FROM drafts ORDER BY changed_at DESC, id LIMIT $1", most)
}

// ChangeDraft puts another content into a draft of a revision. ErrNotFound says that
// it has another revision by now, or is gone.
func (s *Store) ChangeDraft(ctx context.Context, id string, revision int64, body []byte) (Draft, error) {
	return one[Draft](ctx, s.Pool, "UPDATE drafts SET body = $3, revision = revision + 1, changed_at = clock_timestamp() WHERE id = $1 AND revision = $2 RETURNING "+draftColumns, id, revision, body)
}

// RemoveDraft forgets a draft.
func (s *Store) RemoveDraft(ctx context.Context, id string) error {
	return exec(ctx, s, "DELETE FROM drafts WHERE id = $1", id)
}

// Reserved is what a proposal of another stack would take, and has not yet.
type Reserved struct {
	Proposal int64
	Stack    string
	Reserves []byte
	Running  bool
}

// Reserves lists what proposals of other stacks of an account would take: of open and
// accepted ones all, of runs that are not over what no call was made for yet.
func (s *Store) Reserves(ctx context.Context, account, exceptStack string) ([]Reserved, error) {
	return many[Reserved](ctx, s.Pool, `SELECT p.id AS proposal, k.name AS stack, r.id IS NOT NULL AS running,
			CASE WHEN r.id IS NULL THEN p.reserves ELSE (SELECT coalesce(jsonb_agg(x), '[]') FROM jsonb_array_elements(p.reserves) x
				WHERE EXISTS (SELECT FROM steps t WHERE t.run_id = r.id AND t.resource = x->>'resource' AND t.action IN ('create', 'alter') AND t.called_at IS NULL)) END AS reserves
		FROM proposals p JOIN stacks k ON k.id = p.stack_id LEFT JOIN runs r ON r.proposal_id = p.id
		WHERE k.account = $1 AND k.id::text <> $2 AND p.reserves <> '[]'
			AND (p.state IN ('open', 'accepted') AND p.expires_at > now() OR r.state IN `+active+`) ORDER BY p.id`, account, exceptStack)
}

// Spent tells what a stack has cost since it was made, in real hours times the price
// of an hour; the account's clock counts them.
func (s *Store) Spent(ctx context.Context, stackID string) (float64, error) {
	var hours float64
	err := s.Pool.QueryRow(ctx, "SELECT coalesce(sum(hour * extract(epoch FROM coalesce(ended_at, clock_timestamp()) - began_at) / 3600), 0)::float8 FROM charges WHERE stack_id = $1", stackID).Scan(&hours)
	return hours, classify(err)
}
