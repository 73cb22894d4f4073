package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// User may sign in, with a password or, where Issuer is set, by OpenID Connect. One who
// was invited and has not come yet has neither.
type User struct {
	ID           int64
	Name         string
	FullName     string
	Roles        []string // each as ROLE or ROLE@ACCOUNT
	PasswordHash string
	Issuer       string
	Subject      string
	MadeBy       string
	CreatedAt    time.Time
	DisabledAt   *time.Time
	SignedInAt   *time.Time
}

const userColumns = "u.id, u.name, u.full_name, u.roles, u.password_hash, u.issuer, u.subject, u.made_by, " +
	"u.created_at, u.disabled_at, u.signed_in_at"

// AddUser makes a user; ErrConflict says that the name, or who it is elsewhere, is taken.
func (s *Store) AddUser(ctx context.Context, u User) (User, error) {
	return one[User](ctx, s.Pool, `INSERT INTO users AS u (name, full_name, roles, password_hash, issuer, subject,
		made_by) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING `+userColumns,
		u.Name, u.FullName, orEmpty(u.Roles), u.PasswordHash, u.Issuer, u.Subject, u.MadeBy)
}

// UserByName finds a user.
func (s *Store) UserByName(ctx context.Context, name string) (User, error) {
	return one[User](ctx, s.Pool, "SELECT "+userColumns+" FROM users u WHERE name = $1", name)
}

// UserBySubject finds who somebody is here who signed in by OpenID Connect.
func (s *Store) UserBySubject(ctx context.Context, issuer, subject string) (User, error) {
	return one[User](ctx, s.Pool,
		"SELECT "+userColumns+" FROM users u WHERE issuer = $1 AND subject = $2 AND issuer <> ''", issuer, subject)
}

// Users lists all by name.
func (s *Store) Users(ctx context.Context) ([]User, error) {
	return many[User](ctx, s.Pool, "SELECT "+userColumns+" FROM users u ORDER BY name")
}

// Invited tells until when the invitations last that were not taken, by user.
func (s *Store) Invited(ctx context.Context) (map[int64]time.Time, error) {
	rows, err := s.Pool.Query(ctx, "SELECT user_id, expires_at FROM invitations")
	if err != nil {
		return nil, classify(err)
	}
	out := map[int64]time.Time{}
	var id int64
	var until time.Time
	_, err = pgx.ForEachRow(rows, []any{&id, &until}, func() error { out[id] = until; return nil })
	return out, classify(err)
}

// adminLock makes those take turns who might leave the service without an administrator.
const adminLock = 7_221_036

// ErrLastAdmin says that the service would have no administrator afterwards.
var ErrLastAdmin = errors.New("the service would have no administrator")

// keepingAnAdmin changes people, unless nobody would be left who is an administrator of the
// whole service.
func (s *Store) keepingAnAdmin(ctx context.Context, change func(tx pgx.Tx) error) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1)", adminLock); err != nil {
			return fmt.Errorf("making sure that an admin stays: %w", err)
		}
		if err := change(tx); err != nil {
			return err
		}
		var left bool
		err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM users WHERE 'admin' = ANY(roles) AND "+
			"disabled_at IS NULL)").Scan(&left)
		if err == nil && !left {
			return ErrLastAdmin
		}
		return err
	})
}

// SetRoles gives a user other roles.
func (s *Store) SetRoles(ctx context.Context, id int64, roles []string) error {
	defer s.revoked(ctx)
	return s.keepingAnAdmin(ctx, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "UPDATE users SET roles = $2 WHERE id = $1", id, orEmpty(roles))
		return err
	})
}

// Disable keeps a user from signing in, or lets them again. Whoever is disabled loses every
// session, token and invitation.
func (s *Store) Disable(ctx context.Context, id int64, disabled bool) error {
	err := s.keepingAnAdmin(ctx, func(tx pgx.Tx) error {
		if !disabled {
			_, err := tx.Exec(ctx, "UPDATE users SET disabled_at = NULL WHERE id = $1", id)
			return err
		}
		for _, query := range []string{"UPDATE users SET disabled_at = coalesce(disabled_at, now()) WHERE id = $1",
			"DELETE FROM tokens WHERE user_id = $1", "DELETE FROM invitations WHERE user_id = $1"} {
			if _, err := tx.Exec(ctx, query, id); err != nil {
				return fmt.Errorf("disabling person %d: %w", id, err)
			}
		}
		return nil
	})
	s.revoked(ctx)
	return err
}

// SetFullName changes what a user is called.
func (s *Store) SetFullName(ctx context.Context, id int64, name string) error {
	return exec(ctx, s, "UPDATE users SET full_name = $2 WHERE id = $1", id, name)
}

// Invite keeps the hash of a link that lets a user set a password once, in the place of any
// link before.
func (s *Store) Invite(ctx context.Context, id int64, hash, by string, life time.Duration) error {
	return exec(ctx, s, `INSERT INTO invitations (hash, user_id, made_by, expires_at) VALUES ($1, $2, $3, now() + $4)
		ON CONFLICT (user_id) DO UPDATE SET hash = $1, made_by = $3, expires_at = now() + $4`, hash, id, by, life)
}

// InvitedBy finds whom an invitation is for.
func (s *Store) InvitedBy(ctx context.Context, hash string) (User, error) {
	return one[User](ctx, s.Pool,
		"SELECT "+userColumns+" FROM invitations i JOIN users u ON u.id = i.user_id WHERE i.hash = $1 AND "+
			"i.expires_at > now() AND u.disabled_at IS NULL", hash)
}

// TakeInvitation uses an invitation up: the user has this password from now on, and all
// sessions from before end. ErrNotFound says that it was used, or is over.
func (s *Store) TakeInvitation(ctx context.Context, hash, passwordHash, fullName string) error {
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		var id int64
		err := tx.QueryRow(ctx, "DELETE FROM invitations i USING users u WHERE i.hash = $1 AND i.expires_at > now() "+
			"AND u.id = i.user_id AND u.disabled_at IS NULL RETURNING u.id", hash).Scan(&id)
		if err != nil {
			return fmt.Errorf("taking the invitation: %w", err)
		}
		if _, err := tx.Exec(ctx,
			"UPDATE users SET password_hash = $2, full_name = coalesce(nullif($3, ''), full_name) WHERE id = $1", id,
			passwordHash, fullName); err != nil {
			return fmt.Errorf("taking the invitation: %w", err)
		}
		_, err = tx.Exec(ctx, "DELETE FROM tokens WHERE user_id = $1 AND kind = 'session'", id)
		return err
	})
	s.revoked(ctx)
	return err
}

// SetPassword changes a password that is still the one of a hash, and ends every session
// but one. ErrNotFound says that it was changed meanwhile.
func (s *Store) SetPassword(ctx context.Context, id int64, before, after, butToken string) error {
	err := s.Tx(ctx, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "UPDATE users SET password_hash = $3 WHERE id = $1 AND password_hash = $2", id, before,
			after)
		if err == nil && tag.RowsAffected() == 0 {
			return pgx.ErrNoRows
		}
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "DELETE FROM tokens WHERE user_id = $1 AND kind = 'session' AND hash <> $2", id, butToken)
		return err
	})
	s.revoked(ctx)
	return err
}

// RenewHash replaces how a password is hashed, if nobody changed it meanwhile.
func (s *Store) RenewHash(ctx context.Context, id int64, before, after string) error {
	return exec(ctx, s, "UPDATE users SET password_hash = $3 WHERE id = $1 AND password_hash = $2", id, before, after)
}

// SignedIn notes that somebody signed in from places, an address or a device, by which they
// are known then.
func (s *Store) SignedIn(ctx context.Context, id int64, places ...string) error {
	return s.Tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "UPDATE users SET signed_in_at = now() WHERE id = $1", id); err != nil {
			return fmt.Errorf("noting who signed in: %w", err)
		}
		_, err := tx.Exec(ctx, "INSERT INTO known_addresses (user_id, address) SELECT $1, unnest($2::text[]) ON "+
			"CONFLICT (user_id, address) DO UPDATE SET at = now()", id, places)
		return err
	})
}

// SyncUser sets what the provider of an OpenID sign-in says of somebody.
func (s *Store) SyncUser(ctx context.Context, id int64, fullName string, roles []string) error {
	defer s.revoked(ctx)
	return exec(ctx, s, "UPDATE users SET full_name = $2, roles = $3 WHERE id = $1", id, fullName, orEmpty(roles))
}
