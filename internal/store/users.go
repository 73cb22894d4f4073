package store

import (
	"context"
	"time"
)

// User may sign in. Role is viewer, operator, reviewer, keeper or admin.
type User struct {
	ID           int64
	Name         string
	FullName     string
	Role         string
	PasswordHash string
}

const userColumns = "u.id, u.name, u.full_name, u.role, u.password_hash"

// PutUser makes a user, or sets name, role and password of the one there.
func (s *Store) PutUser(ctx context.Context, u User) error {
	return exec(ctx, s, `INSERT INTO users (name, full_name, role, password_hash) VALUES ($1, $2, $3, $4)
		ON CONFLICT (name) DO UPDATE SET full_name = $2, role = $3, password_hash = $4`, u.Name, u.FullName, u.Role, u.PasswordHash)
}

// UserByName finds a user.
func (s *Store) UserByName(ctx context.Context, name string) (User, error) {
	return one[User](ctx, s.Pool, "SELECT "+userColumns+" FROM users u WHERE name = $1", name)
}

// AddToken keeps the hash of a token. Kind is bearer or session.
func (s *Store) AddToken(ctx context.Context, hash string, userID int64, kind, about string, life time.Duration) error {
	return exec(ctx, s, "INSERT INTO tokens (hash, user_id, kind, about, expires_at) VALUES ($1, $2, $3, $4, now() + $5)", hash, userID, kind, about, life)
}

// UserByToken finds who a token belongs to, unless it is over.
func (s *Store) UserByToken(ctx context.Context, hash string) (User, error) {
	return one[User](ctx, s.Pool, "SELECT "+userColumns+" FROM tokens t JOIN users u ON u.id = t.user_id WHERE t.hash = $1 AND t.expires_at > now()", hash)
}

// RemoveToken ends a token.
func (s *Store) RemoveToken(ctx context.Context, hash string) error {
	return exec(ctx, s, "DELETE FROM tokens WHERE hash = $1", hash)
}
