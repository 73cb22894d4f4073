package people

import (
	"context"
	"time"

	"undersail/internal/store"
)

// Store keeps people, and how they sign in.
type Store interface {
	AddUser(ctx context.Context, u store.User) (store.User, error)
	UserByName(ctx context.Context, name string) (store.User, error)
	UserBySubject(ctx context.Context, issuer, subject string) (store.User, error)
	Users(ctx context.Context) ([]store.User, error)
	SetRoles(ctx context.Context, id int64, roles []string) error
	SetFullName(ctx context.Context, id int64, name string) error
	Disable(ctx context.Context, id int64, disabled bool) error
	SyncUser(ctx context.Context, id int64, fullName string, roles []string) error
	SignedIn(ctx context.Context, id int64, places ...string) error

	Invited(ctx context.Context) (map[int64]time.Time, error)
	Invite(ctx context.Context, id int64, hash, by string, life time.Duration) error
	InvitedBy(ctx context.Context, hash string) (store.User, error)
	TakeInvitation(ctx context.Context, hash, passwordHash, fullName string) error
	SetPassword(ctx context.Context, id int64, before, after, butToken string) error
	RenewHash(ctx context.Context, id int64, before, after string) error

	AddToken(ctx context.Context, hash string, userID int64, t store.Token, life time.Duration) (store.Token, error)
	Tokens(ctx context.Context, owner string) ([]store.Token, error)
	TokenByID(ctx context.Context, id int64) (store.Token, error)
	HolderOf(ctx context.Context, hash, from string, again time.Duration, touch bool) (store.Holder, error)
	RemoveToken(ctx context.Context, hash string) error
	RemoveTokenByID(ctx context.Context, id int64) error
	RemoveTokens(ctx context.Context, userID int64, kinds ...string) (int64, error)

	CountTries(ctx context.Context, tries []store.Try, by map[string]store.Counting) (time.Duration, error)
	TriesRight(ctx context.Context, tries []store.Try) error
	KnownFrom(ctx context.Context, name, place string) (bool, error)

	AddSigningIn(ctx context.Context, hash, kind string, sealed []byte, life time.Duration) error
	TakeSigningIn(ctx context.Context, hash string) ([]byte, error)
	AskSigningIn(ctx context.Context, hash string, interval time.Duration) ([]byte, error)
	ForgetSigningIn(ctx context.Context, hash string) error
}

// Seals seals what is kept of a sign-in that is under way.
type Seals interface {
	SignIn(handle string, raw []byte) ([]byte, error)
	OpenSignIn(handle string, sealed []byte) ([]byte, error)
}

// Journal is where it is written down what people do.
type Journal interface {
	// Record writes down what is to be done: where that fails, it is not done.
	Record(ctx context.Context, who, action, subject, reason string, detail map[string]any) error
	// Done writes down what was done already.
	Done(ctx context.Context, u User, action, subject string, detail map[string]any)
}

// Accounts knows the accounts that roles may name: an error says that there is none.
type Accounts interface {
	Known(ctx context.Context, account string) error
}
