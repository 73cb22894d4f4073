package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/cloud"
)

// Kept is a resource that outlived its stack on purpose.
type Kept struct {
	Token, StackID, Stack, Account, Region string
	Name, Type, Declared                   string
	Want, Attributes                       map[string]any
	Parts                                  []cloud.Part
	Hour                                   float64
	Currency                               string
	KeptAt                                 time.Time
	// FoundAt is when it was found in the cloud, of what nobody had recorded.
	FoundAt *time.Time
	// MovingTo and MovingBy are where somebody wants it, where it takes two to say so.
	MovingTo, MovingBy string
}

// Resource is the kept one as it would be recorded of a stack.
func (k Kept) Resource(name string) Resource {
	return Resource{
		Name:       name,
		Type:       k.Type,
		Declared:   k.Declared,
		Region:     k.Region,
		Token:      k.Token,
		State:      "settling",
		Want:       k.Want,
		Attributes: k.Attributes,
		MadeAt:     &k.KeptAt,
		Parts:      k.Parts,
		Hour:       k.Hour,
	}
}

// ID is the cloud's own id of it.
func (k Kept) ID() string {
	id, _ := k.Attributes["id"].(string)
	return id
}

const keptColumns = "token, stack_id::text, stack, account, region, name, type, declared, want, attributes, parts, " +
	"hour, currency, kept_at, found_at, CASE WHEN moving_at > now() - interval '1 day' THEN moving_to ELSE '' END " +
	"AS moving_to, moving_by"

// AllKept lists everything that is kept, by stack and name, newest first.
func (s *Store) AllKept(ctx context.Context) ([]Kept, error) {
	return many[Kept](ctx, s.Pool, "SELECT "+keptColumns+" FROM kept ORDER BY stack, name, kept_at DESC, token")
}

// KeptBy lists what stacks of a name kept in an account, newest first, or what somebody chose
// among it.
func (s *Store) KeptBy(ctx context.Context, account, stack string) ([]Kept, error) {
	return many[Kept](ctx, s.Pool,
		"SELECT "+keptColumns+" FROM kept WHERE account = $1 AND stack = $2 ORDER BY coalesce(chosen_at, kept_at) "+
			"DESC, token", account, stack)
}

// KeptOf lists what one stack kept, by name.
func (s *Store) KeptOf(ctx context.Context, stackID string) ([]Kept, error) {
	return many[Kept](ctx, s.Pool, "SELECT "+keptColumns+" FROM kept WHERE stack_id = $1 ORDER BY name, token", stackID)
}

// RecordedTokens tells which tokens are recorded of any stack, or kept, or belong to a run that
// goes on, but for one that is about to end, or were proved to be gone.
func (s *Store) RecordedTokens(ctx context.Context, tokens []string, ending int64) (map[string]bool, error) {
	rows, err := s.Pool.Query(ctx,
		"SELECT token FROM resources WHERE token = ANY($1) UNION SELECT token FROM kept WHERE token = ANY($1) UNION "+
			"SELECT token FROM steps WHERE token = ANY($1) AND action = 'remove' AND state = 'healthy' UNION SELECT "+
			"t.token FROM steps t JOIN runs r ON r.id = t.run_id WHERE t.token = ANY($1) AND r.ended_at IS NULL "+
			"AND r.id <> $2", tokens, ending)
	if err != nil {
		return nil, classify(err)
	}
	defer rows.Close()
	out := map[string]bool{}
	for rows.Next() {
		var token string
		if err := rows.Scan(&token); err != nil {
			return nil, classify(err)
		}
		out[token] = true
	}
	return out, classify(rows.Err())
}

// PlaceOf tells of which stack a thing is by now, under which name, or of which it is kept; both
// are empty of what is neither.
func (s *Store) PlaceOf(ctx context.Context, token string) (stack, name string, kept bool, err error) {
	err = s.Pool.QueryRow(ctx, `SELECT k.name, r.name, false FROM resources r JOIN stacks k ON k.id = r.stack_id
		WHERE r.token = $1 AND k.retired_at IS NULL
		UNION ALL SELECT stack, name, true FROM kept WHERE token = $1 LIMIT 1`, token).Scan(&stack, &name, &kept)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return stack, name, kept, classify(err)
}

// KeepResource takes a resource out of its stack and lists it as kept.
func (w *Write) KeepResource(stackID, name, token string) {
	w.queue(`INSERT INTO kept (token, stack_id, stack, account, region, name, type, declared, want, attributes, parts,
		hour, currency)
		SELECT r.token, r.stack_id, k.name, k.account, r.region, r.name, r.type, r.declared, r.want, r.attributes,
		r.parts, r.hour, k.currency
		FROM resources r JOIN stacks k ON k.id = r.stack_id WHERE r.stack_id = $1 AND r.name = $2
		AND r.token = $3`, stackID, name, token)
	w.queue("DELETE FROM resources WHERE stack_id = $1 AND name = $2 AND token = $3", stackID, name, token)
}

// AddFound lists what was found in the cloud and is recorded nowhere, and tells which of it was
// not listed yet. Its stack is added as one that is over where there is none.
func (s *Store) AddFound(ctx context.Context, found []Kept) (news []Kept, err error) {
	err = s.Tx(ctx, func(tx pgx.Tx) error {
		for _, k := range found {
			_, err := tx.Exec(ctx, "INSERT INTO stacks (id, name, account, region, currency, retired_at) VALUES "+
				"($1, $2, $3, $4, $5, clock_timestamp()) ON CONFLICT (id) DO NOTHING", k.StackID, k.Stack, k.Account,
				k.Region, k.Currency)
			if err != nil {
				return fmt.Errorf("recording what was found: %w", err)
			}
			tag, err := tx.Exec(ctx, `INSERT INTO kept (token, stack_id, stack, account, region, name, type, declared,
			want, attributes, parts, hour, currency, found_at)
				SELECT $1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, clock_timestamp()
				WHERE NOT EXISTS (SELECT FROM resources WHERE token = $1) ON CONFLICT (token) DO NOTHING`,
				k.Token, k.StackID, k.Stack, k.Account, k.Region, k.Name, k.Type, k.Declared, orEmptyMap(k.Want),
				orEmptyMap(k.Attributes), orEmpty(k.Parts), k.Hour, k.Currency)
			if err != nil {
				return fmt.Errorf("recording what was found: %w", err)
			}
			if tag.RowsAffected() == 1 {
				news = append(news, k)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return news, nil
}

// MoveKept gives a kept resource another stack and name. [ErrMoved] says that it is kept no
// more, [Excluded] which run has it; a conflict, that the other stack has a resource of the
// name. Alone says that only one person asks for it, which the account may not want.
func (s *Store) MoveKept(ctx context.Context, k Kept, stack, name string, alone bool, who Who) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "SELECT FROM stacks WHERE name = $1 AND retired_at IS NULL FOR SHARE", stack)
		if err != nil {
			return fmt.Errorf("moving what was kept to %s: %w", stack, err)
		}
		if err := holdKept(ctx, tx, map[string]string{k.Token: k.Stack + "/" + k.Name}); err != nil {
			return err
		}
		var closed, second bool
		if err := tx.QueryRow(ctx,
			"SELECT closed_at IS NOT NULL, second_person FROM accounts WHERE name = $1 FOR SHARE",
			k.Account).Scan(&closed, &second); err != nil {
			return fmt.Errorf("moving what was kept to %s: %w", stack, err)
		}
		if err := asks(ctx, tx, who); err != nil {
			return err
		}
		var taken bool
		if err := tx.QueryRow(ctx,
			"SELECT EXISTS (SELECT FROM resources r JOIN stacks k ON k.id = r.stack_id WHERE k.name = $1 AND "+
				"k.retired_at IS NULL AND r.name = $2)", stack, name).Scan(&taken); err != nil {
			return fmt.Errorf("moving what was kept to %s: %w", stack, err)
		}
		switch {
		case closed, taken:
			return ErrConflict
		case second && alone:
			return ErrSecondPerson
		}
		_, err = tx.Exec(ctx, "UPDATE kept SET stack = $2, name = $3, moving_to = '', moving_by = '', chosen_at = "+
			"clock_timestamp() WHERE token = $1", k.Token, stack, name)
		return err
	})
}

// WishKept notes where somebody wants a kept resource, for a day: it goes there when
// somebody else says the same.
func (s *Store) WishKept(ctx context.Context, token, to string, who Who) error {
	return s.asked(ctx, who, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "UPDATE kept SET moving_to = $2, moving_by = $3, moving_at = now() WHERE token = $1",
			token, to, who.Name)
		return err
	})
}

// ForgetKept forgets a kept resource that is gone.
func (w *Write) ForgetKept(token string) { w.queue("DELETE FROM kept WHERE token = $1", token) }
