package people

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/core/resource"
	"undersail/internal/refusal"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// Token is a bearer token or a session, without what it is carried as.
type Token struct {
	ID    int64  `json:"id"`
	Owner string `json:"owner"`
	// Kind is bearer or session.
	Kind  string `json:"kind"`
	About string `json:"about"`
	// Roles are the only ones that the token has; none are all of its owner's.
	Roles     []string  `json:"roles,omitempty"`
	CreatedAt time.Time `json:"created_at"`
	ExpiresAt time.Time `json:"expires_at"`
	UsedAt    time.Time `json:"used_at"`
	UsedFrom  string    `json:"used_from,omitempty"`
	// This is the one that the request carries.
	This bool `json:"this,omitempty"`
}

// NewToken asks for a bearer token of one's own.
type NewToken struct {
	About string `json:"about"`
	// Roles are the only ones that it has; none are all of its owner's.
	Roles []string `json:"roles,omitempty"`
	// Seconds is how long it lasts; at most a year.
	Seconds int64 `json:"seconds"`
}

// MadeToken is a new token with what it is carried as, which is told only here.
type MadeToken struct {
	Token
	Value string `json:"value"`
}

const tokenLife = 366 * 24 * time.Hour

func tokenOf(t store.Token, u User) Token {
	return Token{
		ID:        t.ID,
		Owner:     t.Owner,
		Kind:      t.Kind,
		About:     t.About,
		Roles:     t.Roles,
		CreatedAt: t.CreatedAt,
		ExpiresAt: t.ExpiresAt,
		UsedAt:    t.UsedAt,
		UsedFrom:  t.UsedFrom,
		This:      t.ID == u.token && u.token != 0,
	}
}

// Tokens lists one's own tokens and sessions that are not over; an administrator may ask for
// those of somebody else, or with "*" of everybody.
func (p *People) Tokens(ctx context.Context, u User, owner string) ([]Token, error) {
	switch {
	case owner == "" || u.Owns(owner):
		owner = u.Name
	default:
		if err := u.Must(access.Administer, ""); err != nil {
			return nil, err
		}
		if owner == "*" {
			owner = ""
		} else if _, err := p.person(ctx, owner); err != nil {
			return nil, err
		}
	}
	rows, err := p.store.Tokens(ctx, owner)
	out := []Token{}
	for _, row := range rows {
		if u.mayHandle(row) {
			out = append(out, tokenOf(row, u))
		}
	}
	return out, err
}

// mayHandle reports whether somebody sees and ends a token or a session: their own, and an
// administrator any. One that was made for less than its owner may handles itself alone.
func (u User) mayHandle(t store.Token) bool {
	return u.May(access.Administer, "") || u.Owns(t.Owner) || t.ID == u.token && u.token != 0
}

// AddToken makes a token. It allows no more than its maker may, now or later: what the
// owner loses, it loses. One that is made with a token ends no later than that.
func (p *People) AddToken(ctx context.Context, u User, n NewToken) (MadeToken, error) {
	if strings.TrimSpace(n.About) == "" {
		return MadeToken{}, refusal.New(refusal.Invalid, "say what it is for, such as nightly-checks",
			"a token needs a name")
	}
	life := time.Duration(n.Seconds) * time.Second
	if n.Seconds <= 0 || n.Seconds > int64(tokenLife/time.Second) {
		return MadeToken{}, refusal.New(refusal.Invalid, "give a span of time such as 30d, at most a year",
			"a token needs an end")
	}
	roles := u.limit
	if n.Roles != nil {
		g, err := access.ParseGrants(n.Roles)
		if err != nil {
			return MadeToken{}, refusal.New(refusal.Invalid, "see: undersail tokens add --help", "%v", err)
		}
		if len(g) == 0 {
			return MadeToken{}, refusal.New(refusal.Invalid, "leave them out for all of yours",
				"a token without a role could do nothing")
		}
		if beyond := u.Grants().Beyond(g); len(beyond) > 0 {
			return MadeToken{}, refusal.New(refusal.Forbidden, "give it less", "%s is more than %s may", beyond[0],
				u.Called())
		}
		roles = g.Strings()
	}
	if u.kind == bearer && u.token != 0 {
		by, err := p.store.TokenByID(ctx, u.token)
		if err != nil {
			return MadeToken{}, fmt.Errorf("reading the token: %w", err)
		}
		if time.Now().Add(life).After(by.ExpiresAt) {
			return MadeToken{}, refusal.New(refusal.Forbidden,
				"sign in, or let it end before "+by.ExpiresAt.Format(time.RFC3339),
				"a token makes none that outlives it")
		}
	}
	value := secret.Token()
	row, err := p.store.AddToken(ctx, secret.HashToken(value), u.ID,
		store.Token{Kind: "bearer", About: n.About, Roles: roles}, life)
	if err != nil {
		return MadeToken{}, fmt.Errorf("adding a token: %w", err)
	}
	p.journal.Done(ctx, u, "add token", fmt.Sprint(row.ID), map[string]any{
		"about": n.About,
		"roles": roles,
		"ends":  row.ExpiresAt,
	})
	return MadeToken{tokenOf(row, u), value}, nil
}

// RevokeToken ends a token or a session at once, with every stream that it holds open.
func (p *People) RevokeToken(ctx context.Context, u User, id int64) error {
	row, err := p.store.TokenByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && !u.mayHandle(row) {
		return refusal.New(refusal.NotFound, "list them with: undersail tokens", "there is no token %d of yours", id)
	}
	if err == nil {
		err = p.store.RemoveTokenByID(ctx, id)
	}
	if err != nil {
		return refusal.Missing(err, "token", fmt.Sprint(id), "list them with: undersail tokens")
	}
	p.journal.Done(ctx, u, "revoke token", fmt.Sprint(id), map[string]any{"of": row.Owner, "about": row.About})
	return nil
}

// SignOutEverywhere ends all sessions of somebody, and with tokens their tokens too.
func (p *People) SignOutEverywhere(ctx context.Context, u User, name string, tokens bool) error {
	if !u.Owns(name) {
		if err := u.Must(access.Administer, ""); err != nil {
			return err
		}
	}
	row, err := p.person(ctx, name)
	if err != nil {
		return err
	}
	kinds := []string{"session"}
	if tokens {
		kinds = append(kinds, "bearer")
	}
	n, err := p.store.RemoveTokens(ctx, row.ID, kinds...)
	if err == nil {
		p.journal.Done(ctx, u, "sign out everywhere", name, map[string]any{"ended": n, "tokens": tokens})
	}
	return err
}

// IssueToken gives a bearer token of a year to a user; only whoever runs the service may
// call it.
func (p *People) IssueToken(ctx context.Context, name, about string) (string, error) {
	u, err := p.person(ctx, name)
	if err != nil {
		return "", err
	}
	token := secret.Token()
	_, err = p.store.AddToken(ctx, secret.HashToken(token), u.ID, store.Token{Kind: "bearer", About: about},
		365*24*time.Hour)
	if err != nil {
		return "", fmt.Errorf("adding a token: %w", err)
	}
	return token, p.journal.Record(ctx, OperatorOfHost, "issue token", name, "", map[string]any{"about": about})
}

// ByToken finds who a bearer or session token belongs to. Attended says that a person, or a
// program of theirs, is behind the request: a session that nobody attends to ends.
func (p *People) ByToken(ctx context.Context, token, address string, attended bool) (User, error) {
	h, err := p.store.HolderOf(ctx, secret.HashToken(token), address, p.signing.AskEvery, attended)
	if errors.Is(err, store.ErrNotFound) {
		return User{}, refusal.New(refusal.Unauthenticated, "sign in again", "the token is unknown or over")
	}
	if err == nil && h.Unasked {
		return User{}, refusal.New(refusal.Unauthenticated, "sign in by OpenID Connect once more; tokens go on then",
			"the OpenID provider was not asked about %s for longer than %s", h.Name, spanWords(p.signing.AskEvery))
	}
	h.Roles = p.rolesNow(h.User)
	u := userOf(h.User)
	u.limit, u.token, u.kind = h.Limit, h.TokenID, h.Kind
	return u, err
}

func spanWords(d time.Duration) string { return resource.FormatSpan(int64(d / time.Second)) }

// SignOut ends a token.
func (p *People) SignOut(ctx context.Context, token string) error {
	return p.store.RemoveToken(ctx, secret.HashToken(token))
}
