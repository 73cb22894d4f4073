package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/health"
	"undersail/internal/core/lang"
)

// Stack is one stack, alive while RetiredAt is nil.
type Stack struct {
	ID              string
	Name            string
	Account         string
	Region          string
	TemplateName    string
	TemplateVersion string
	TemplateSource  string
	TemplateParts   []lang.Bundle
	Inputs          map[string]any
	Secrets         map[string]string
	// Found holds what is reported of resources that the stack uses and does
	// not own, by resource name.
	Found map[string]map[string]any
	// Reads holds the outputs of the stacks that its inputs pick, by stack name,
	// as they were when it was applied.
	Reads      map[string]map[string]any
	Cloud      string
	Currency   string
	Title      string
	CreatedAt  time.Time
	VerifiedAt *time.Time
	RetiredAt  *time.Time
}

const stackColumns = "id::text, name, account, region, template_name, template_version, template_source, " +
	"template_parts, inputs, secrets, found, reads, cloud, currency, title, created_at, verified_at, retired_at"

// AddStack makes a stack, or finds the one of that name that is alive. One that was
// never applied moves to the place that is given now.
func (s *Store) AddStack(ctx context.Context, st Stack) (Stack, error) {
	err := exec(ctx, s, `INSERT INTO stacks (id, name, account, region) VALUES ($1, $2, $3, $4)
		ON CONFLICT (name) WHERE retired_at IS NULL DO UPDATE SET account = excluded.account, region = excluded.region
		WHERE stacks.id = excluded.id AND NOT EXISTS (SELECT FROM runs WHERE stack_id =
		excluded.id)`, st.ID, st.Name, st.Account, st.Region)
	if err != nil {
		return Stack{}, err
	}
	there, err := s.StackByName(ctx, st.Name)
	if errors.Is(err, ErrNotFound) { // somebody has the name where this caller sees nothing
		err = ErrConflict
	}
	return there, err
}

// StackByName finds the living stack of a name, else the one retired last.
func (s *Store) StackByName(ctx context.Context, name string) (Stack, error) {
	return one[Stack](ctx, s.Pool,
		"SELECT "+stackColumns+" FROM stacks WHERE name = $1 ORDER BY retired_at DESC NULLS FIRST LIMIT 1", name)
}

// Stack finds a stack by id.
func (s *Store) Stack(ctx context.Context, id string) (Stack, error) {
	return one[Stack](ctx, s.Pool, "SELECT "+stackColumns+" FROM stacks WHERE id = $1", id)
}

// ReadBy names a living stack that reads the outputs of the one of a name, or "".
func (s *Store) ReadBy(ctx context.Context, name string) (string, error) {
	var by string
	err := s.Pool.QueryRow(ctx, `SELECT name FROM (SELECT name FROM stacks WHERE retired_at IS NULL
		AND reads ? $1 OFFSET 0) AS readers
		WHERE name <> $1 ORDER BY name LIMIT 1`, name).Scan(&by)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	return by, classify(err)
}

// MarkVerified notes when a stack was last verified.
func (s *Store) MarkVerified(ctx context.Context, id string) error {
	return exec(ctx, s, "UPDATE stacks SET verified_at = clock_timestamp() WHERE id = $1", id)
}

// Resource is a recorded resource of a stack.
type Resource struct {
	StackID    string
	Name       string
	Type       string
	Declared   string
	Region     string
	Token      string
	State      string
	Reason     string
	Want       map[string]any
	Attributes map[string]any
	Checks     []health.Check
	After      []string
	Position   int64
	MadeAt     *time.Time
	HealthyAt  *time.Time
	// Parts are what the resource is in the cloud, as far as is known.
	Parts []cloud.Part
	Hour  float64 // what it costs in an hour
}

// Ref is how the resource is found in its cloud.
func (r Resource) Ref() cloud.Ref {
	return cloud.Ref{Region: r.Region, Type: r.Type, Token: r.Token, Parts: r.Parts}
}

const resourceColumns = "stack_id::text, name, type, declared, region, token, state, reason, want, attributes, " +
	"checks, after, position, made_at, healthy_at, parts, hour"

// Resources lists what is recorded of a stack, in dependency order.
func (s *Store) Resources(ctx context.Context, stackID string) ([]Resource, error) {
	return many[Resource](ctx, s.Pool,
		"SELECT "+resourceColumns+" FROM resources WHERE stack_id = $1 ORDER BY position, name", stackID)
}

// ResourceSeen records what a verification saw of a resource: its state, and what of it
// was altered by hand. While a run is carried out its owner alone says what the states
// are.
func (s *Store) ResourceSeen(ctx context.Context, stackID, name, state, reason string, strayed []change.Field) error {
	return exec(ctx, s, "UPDATE resources SET state = $3, reason = $4, strayed = $5 WHERE stack_id = $1 AND name = "+
		"$2 AND NOT EXISTS (SELECT FROM runs r WHERE r.stack_id = $1 AND r.state IN "+active+")", stackID, name, state,
		reason, orEmpty(strayed))
}

// Strayed gives what the last verification of a stack found altered by hand, by resource.
// What a run has written since is as it wrote it.
func (s *Store) Strayed(ctx context.Context, stackID string) (map[string][]change.Field, error) {
	type row struct {
		Name    string
		Strayed []change.Field
	}
	list, err := many[row](ctx, s.Pool, "SELECT name, strayed FROM resources WHERE stack_id = $1 AND strayed <> '[]'",
		stackID)
	out := map[string][]change.Field{}
	for _, r := range list {
		out[r.Name] = r.Strayed
	}
	return out, err
}

// Evidence is a kept look of a health check. RunID is 0 for a verification.
type Evidence struct {
	health.Evidence
	StackID string
	RunID   int64
}

const evidenceInsert = `INSERT INTO evidence (stack_id, run_id, resource, check_name, at, asked, answer, passed,
	took_ms, unasked)
	VALUES ($1, NULLIF($2, 0), $3, $4, $5, $6, $7, $8, $9, $10)`

func (e Evidence) args() []any {
	return []any{e.StackID, e.RunID, e.Resource, e.Check, e.At, e.Asked, e.Answer, e.Passed, e.Took, e.Unasked}
}

// AddEvidence keeps evidence.
func (s *Store) AddEvidence(ctx context.Context, list []Evidence) error {
	batch := &pgx.Batch{}
	for _, e := range list {
		batch.Queue(evidenceInsert, e.args()...)
	}
	return classify(s.Pool.SendBatch(ctx, batch).Close())
}

// EvidenceRow is evidence as it is read back.
type EvidenceRow struct {
	ID       int64
	RunID    *int64
	Resource string
	Check    string `db:"check_name"`
	At       time.Time
	Asked    string
	Answer   string
	Passed   bool
	TookMS   int64 `db:"took_ms"`
	Unasked  bool
}

const evidenceColumns = "id, run_id, resource, check_name, at, asked, answer, passed, took_ms, unasked"

// RunEvidence lists the newest evidence of a run, oldest of it first, of one resource when it is named.
func (s *Store) RunEvidence(ctx context.Context, runID int64, resource string) ([]EvidenceRow, error) {
	return many[EvidenceRow](ctx, s.Pool,
		"SELECT * FROM (SELECT "+evidenceColumns+
			" FROM evidence WHERE run_id = $1 AND ($2 = '' OR resource = $2) ORDER BY id DESC LIMIT 2000) AS newest "+
			"ORDER BY id", runID, resource)
}

// LastEvidence gives the newest evidence of every check of a stack.
func (s *Store) LastEvidence(ctx context.Context, stackID string) ([]EvidenceRow, error) {
	return many[EvidenceRow](ctx, s.Pool, "SELECT DISTINCT ON (resource, check_name) "+evidenceColumns+
		" FROM evidence WHERE stack_id = $1 ORDER BY resource, check_name, id DESC", stackID)
}

// Spent tells what a stack has cost since it was made, in real hours times the price
// of an hour; the account's clock counts them.
func (s *Store) Spent(ctx context.Context, stackID string) (float64, error) {
	var hours float64
	err := s.Pool.QueryRow(ctx,
		"SELECT coalesce(sum(hour * extract(epoch FROM coalesce(ended_at, clock_timestamp()) - began_at) / 3600), "+
			"0)::float8 FROM charges WHERE stack_id = $1", stackID).Scan(&hours)
	return hours, classify(err)
}

// PriceSince is what a stack cost in an hour from a moment on.
type PriceSince struct {
	At   time.Time `json:"at"`
	Hour float64   `json:"hour"`
}

// PriceHistory tells what a stack has cost in an hour since it was made, a step for each
// second in which that changed, the newest 1,000.
func (s *Store) PriceHistory(ctx context.Context, stackID string) ([]PriceSince, error) {
	return many[PriceSince](ctx, s.Pool, `SELECT at, hour FROM (
		SELECT at, greatest(sum(sum(more)) OVER (ORDER BY at), 0)::float8 AS hour FROM (
			SELECT date_trunc('second', began_at) AS at, hour AS more FROM charges WHERE stack_id = $1
			UNION ALL SELECT date_trunc('second', ended_at), -hour FROM charges WHERE stack_id = $1
			AND ended_at IS NOT NULL) AS steps
		GROUP BY at ORDER BY at DESC LIMIT 1000) AS newest ORDER BY at`, stackID)
}
