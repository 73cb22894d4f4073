package store

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
)

// What is decided rests on looks: at records, at the cloud, at who may what. Between a look and
// the deed others do theirs. So whatever begins or lets go on a run does it in one transaction
// that first locks all that the looks were at, in one order - stacks by their ids, kept things
// by their tokens, the account, the person, the proposal - then compares, and then writes.
//
// What excludes what, until the run that is there is over:
//
//	is there                               | what may not begin
//	a run of a stack                       | another run of the stack
//	a run that reads the outputs of stack  | what retires the stack or takes something of it away
//	a run that takes away from a stack     | a run that reads the outputs of the stack
//	a living stack that reads another      | retiring the other
//	a run that removes a kept thing        | taking it over, moving it, removing it
//	a stack that has taken a thing over    | removing it as kept, moving it, taking it over
//	an account that was closed             | everything in it

// ErrMoved says that something that was looked at is not as it was any more: look again.
var ErrMoved = fmt.Errorf("%w: it has changed since it was looked at", ErrConflict)

// ErrRights says that somebody has not the rights any more with which they asked.
var ErrRights = errors.New("the rights of whoever asks have changed")

// Excluded says which run stands in the way of another, and by what.
type Excluded struct {
	Run         int64
	Kind, Stack string
	By          ExcludedBy
}

// ExcludedBy is how a run stands in the way.
type ExcludedBy string

// How a run stands in the way: it is of the same stack, it reads what is to go, it takes away
// what is to be read, or it has what is kept.
const (
	ByStack  ExcludedBy = "stack"
	ByReader ExcludedBy = "reader"
	ByTaking ExcludedBy = "taking"
	ByKept   ExcludedBy = "kept"
)

func (e *Excluded) Error() string {
	return fmt.Sprintf("run %d of stack %s stands in the way (%s)", e.Run, e.Stack, e.By)
}

// Is makes it a conflict.
func (e *Excluded) Is(target error) bool { return target == ErrConflict }

// ErrReader names a living stack that reads the outputs of one that would be retired.
type ErrReader struct{ Stack string }

func (e *ErrReader) Error() string { return "stack " + e.Stack + " reads its outputs" }

// Is makes it a conflict.
func (e *ErrReader) Is(target error) bool { return target == ErrConflict }

// Who is somebody for whom something is done, as they asked: with these roles, and the token of
// their request, which is 0 where they came without.
type Who struct {
	Name  string
	Roles []string
	Token int64
}

// Basis is the newest run of a stack, and which of its attempts; the zero one is none.
type Basis struct {
	Run     int64
	Attempt int
}

// Read is a stack whose outputs are read, as it was then.
type Read struct {
	Stack string // its id
	Basis
}

// Moment is what a run rests on, as it was looked at.
type Moment struct {
	Basis
	// Looked is when the first look at the cloud began, by the database's clock.
	Looked time.Time
	// Account is the revision of what the account is held to.
	Account int64
	Reads   []Read
	Who     Who
	// Kept are the kept things that it takes over or removes, as they were kept: STACK/NAME by
	// token. Discards is the token of the one that it removes.
	Kept     map[string]string
	Discards string
	// TakesAway says that it removes something of its stack, Retires all of it.
	TakesAway, Retires bool
}

// looksHold is how long a look at the cloud may be old when a run begins by it.
const looksHold = 10 * time.Minute

// LastRunOf is the newest run of a stack with its attempt.
func (s *Store) LastRunOf(ctx context.Context, stackID string) (Basis, error) {
	return basisOf(ctx, s.Pool, stackID)
}

func basisOf(ctx context.Context, q querier, stackID string) (b Basis, err error) {
	rows, err := q.Query(ctx, "SELECT id, attempt FROM runs WHERE stack_id = $1 ORDER BY id DESC LIMIT 1", stackID)
	if err != nil {
		return b, classify(err)
	}
	_, err = pgx.ForEachRow(rows, []any{&b.Run, &b.Attempt}, func() error { return nil })
	return b, classify(err)
}

// lockStacks locks a stack, and for reading those that it reads, by their ids.
func lockStacks(ctx context.Context, tx pgx.Tx, own string, reads []string) error {
	ids := append(slices.Clone(reads), own)
	slices.Sort(ids)
	for _, id := range slices.Compact(ids) {
		mode := "SHARE"
		if id == own {
			mode = "NO KEY UPDATE"
		}
		if _, err := tx.Exec(ctx, "SELECT FROM stacks WHERE id = $1 FOR "+mode, id); err != nil {
			return fmt.Errorf("locking stacks: %w", err)
		}
	}
	return nil
}

// asks holds who asks until the transaction ends: they have still the roles and the token.
func asks(ctx context.Context, tx pgx.Tx, who Who) error {
	if who.Name == "" {
		return nil
	}
	var same bool
	err := tx.QueryRow(ctx, "SELECT roles = $2 FROM users WHERE name = $1 AND disabled_at IS NULL FOR SHARE", who.Name,
		who.Roles).Scan(&same)
	if err == nil && same && who.Token != 0 {
		err = tx.QueryRow(ctx, "SELECT true FROM tokens WHERE id = $1 AND expires_at > now() FOR SHARE",
			who.Token).Scan(&same)
	}
	if errors.Is(err, pgx.ErrNoRows) || err == nil && !same {
		return ErrRights
	}
	return err
}

// asked does something for somebody in one transaction, if they have still the rights with which
// they asked; else it is [ErrRights].
func (s *Store) asked(ctx context.Context, who Who, f func(tx pgx.Tx) error) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		if err := asks(ctx, tx, who); err != nil {
			return err
		}
		return f(tx)
	})
}

// inAccount holds the account of a stack until the transaction ends. It conflicts when it is
// closed, or, of a revision, when it is held to something else than was looked at.
func inAccount(ctx context.Context, tx pgx.Tx, stackID string, revision int64) error {
	var open bool
	var now int64
	err := tx.QueryRow(ctx, "SELECT a.closed_at IS NULL, a.revision FROM accounts a JOIN stacks k ON k.account = "+
		"a.name WHERE k.id = $1 FOR SHARE OF a", stackID).Scan(&open, &now)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return nil
	case err != nil:
		return err
	case !open:
		return fmt.Errorf("%w: the account is closed", ErrConflict)
	case revision != 0 && now != revision:
		return ErrMoved
	}
	return nil
}

// moment locks all that a run rests on and compares it with how it was looked at. Undoes is
// the parked run that it undoes.
func moment(ctx context.Context, tx pgx.Tx, stackID string, m Moment, undoes *int64) error {
	reads := make([]string, len(m.Reads))
	for i, r := range m.Reads {
		reads[i] = r.Stack
	}
	if err := lockStacks(ctx, tx, stackID, reads); err != nil {
		return err
	}
	if err := holdKept(ctx, tx, m.Kept); err != nil {
		return err
	}
	if err := inAccount(ctx, tx, stackID, m.Account); err != nil {
		return err
	}
	if err := asks(ctx, tx, m.Who); err != nil {
		return err
	}
	if !m.Looked.IsZero() {
		var old bool
		err := tx.QueryRow(ctx, "SELECT clock_timestamp() - $1 > $2::interval", m.Looked, looksHold).Scan(&old)
		if err != nil {
			return err
		}
		if old {
			return ErrMoved
		}
	}
	now, err := basisOf(ctx, tx, stackID)
	if err == nil && now != m.Basis {
		err = ErrMoved
	}
	if err == nil {
		err = excluded(ctx, tx, ByStack, "r.stack_id = $1 AND r.id IS DISTINCT FROM $2", stackID, undoes)
	}
	if err == nil {
		err = mayTakeAway(ctx, tx, stackID, m.TakesAway, m.Retires)
	}
	for _, r := range m.Reads {
		if err == nil {
			err = mayRead(ctx, tx, r)
		}
	}
	return err
}

// excluded finds an active run of a condition on runs r.
func excluded(ctx context.Context, tx pgx.Tx, by ExcludedBy, where string, args ...any) error {
	e := &Excluded{By: by}
	err := tx.QueryRow(ctx, "SELECT r.id, r.kind, s.name FROM runs r JOIN stacks s ON s.id = r.stack_id WHERE "+
		"r.state IN "+active+" AND "+where+" ORDER BY r.id LIMIT 1", args...).Scan(&e.Run, &e.Kind, &e.Stack)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	return e
}

// holdKept locks kept things until the transaction ends: they are kept as they were, by their
// tokens, and no run has them.
func holdKept(ctx context.Context, tx pgx.Tx, kept map[string]string) error {
	for _, token := range slices.Sorted(maps.Keys(kept)) {
		tag, err := tx.Exec(ctx, "SELECT FROM kept WHERE token = $1 AND stack || '/' || name = $2 FOR UPDATE", token,
			kept[token])
		if err == nil && tag.RowsAffected() == 0 {
			err = ErrMoved
		}
		if err == nil {
			err = excluded(ctx, tx, ByKept, "EXISTS (SELECT FROM reservations v WHERE v.run_id = r.id AND v.kept = $1)",
				token)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// mayTakeAway refuses to take something away from a stack that a run reads, and to retire one
// that a living stack reads.
func mayTakeAway(ctx context.Context, tx pgx.Tx, stackID string, takes, retires bool) error {
	if takes || retires {
		err := excluded(ctx, tx, ByReader,
			"EXISTS (SELECT FROM reservations v WHERE v.run_id = r.id AND v.stack_id = $1)", stackID)
		if err != nil {
			return err
		}
	}
	if !retires {
		return nil
	}
	reader := &ErrReader{}
	err := tx.QueryRow(ctx, `SELECT k.name FROM stacks k, stacks own WHERE own.id = $1 AND own.retired_at IS NULL
		AND k.retired_at IS NULL AND k.id <> own.id AND k.reads ? own.name
		ORDER BY k.name LIMIT 1`, stackID).Scan(&reader.Stack)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	return reader
}

// mayRead refuses to read a stack that is gone, or not as it was looked at, or from which
// something is being taken away.
func mayRead(ctx context.Context, tx pgx.Tx, r Read) error {
	var living bool
	err := tx.QueryRow(ctx, "SELECT retired_at IS NULL FROM stacks WHERE id = $1", r.Stack).Scan(&living)
	if err != nil {
		return fmt.Errorf("asking who may read the stack: %w", err)
	}
	now, err := basisOf(ctx, tx, r.Stack)
	if err == nil {
		err = excluded(ctx, tx, ByTaking,
			"r.stack_id = $1 AND (r.kind IN ('retire', 'undo') OR EXISTS (SELECT FROM steps t WHERE t.run_id = r.id "+
				"AND t.action IN ('remove', 'keep')))", r.Stack)
	}
	if err == nil && (!living || now != r.Basis) {
		err = ErrMoved
	}
	return err
}

// reserve notes what a run holds until it ends.
func reserve(batch *pgx.Batch, run int64, m Moment) {
	if m.Discards != "" {
		batch.Queue("INSERT INTO reservations (run_id, kept, kept_as) VALUES ($1, $2, $3)", run, m.Discards,
			m.Kept[m.Discards])
	}
	for _, r := range m.Reads {
		batch.Queue("INSERT INTO reservations (run_id, stack_id, last_run, attempt) VALUES ($1, $2, $3, $4)", run,
			r.Stack, r.Run, r.Attempt)
	}
}

// reserved is what a run held, and holds again when it is tried again.
func reserved(ctx context.Context, q querier, run int64) (kept map[string]string, reads []Read, err error) {
	kept = map[string]string{}
	rows, err := q.Query(ctx,
		"SELECT kept, kept_as, stack_id::text, last_run, attempt FROM reservations WHERE run_id = $1", run)
	if err != nil {
		return nil, nil, classify(err)
	}
	var token, stack *string
	var as string
	var b Basis
	_, err = pgx.ForEachRow(rows, []any{&token, &as, &stack, &b.Run, &b.Attempt}, func() error {
		if token != nil {
			kept[*token] = as
		} else {
			reads = append(reads, Read{*stack, b})
		}
		return nil
	})
	return kept, reads, classify(err)
}

// momentOf is what a run that is tried again rests on: what it held when it began.
func momentOf(ctx context.Context, tx pgx.Tx, r Run, who Who) (Moment, error) {
	m := Moment{Basis: Basis{r.ID, r.Attempt}, Who: who, Retires: r.Kind == "retire"}
	kept, reads, err := reserved(ctx, tx, r.ID)
	for token := range kept {
		m.Discards = token
	}
	if err == nil {
		m.Kept, m.Reads = kept, reads
		err = tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM steps WHERE run_id = $1 AND action IN ('remove', 'keep'))",
			r.ID).Scan(&m.TakesAway)
	}
	m.TakesAway = m.TakesAway && m.Discards == "" // what is kept is of no stack
	return m, err
}
