package people

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/core/secretrule"
	"undersail/internal/refusal"
	"undersail/internal/secret"
	"undersail/internal/store"
)

func (p *People) link(ctx context.Context, by string, row store.User, life time.Duration) (Invitation, error) {
	code := secret.Token()
	if err := p.store.Invite(ctx, row.ID, secret.HashToken(code), by, life); err != nil {
		return Invitation{}, fmt.Errorf("inviting person %d: %w", row.ID, err)
	}
	person, err := p.personNow(ctx, row.Name)
	// What follows # stays in the browser: it gets into no log on the way.
	return Invitation{
		Person:    person,
		Link:      p.signing.URL + "/welcome#" + code,
		Code:      code,
		ExpiresAt: time.Now().Add(life).Truncate(time.Second),
	}, err
}

// OperatorOfHost is who runs the service, in the audit.
const OperatorOfHost = "(the service's operator)"

// Host is who runs the service, at its own machine: whoever has its files may do all.
func Host() User { return User{Name: OperatorOfHost, Roles: []string{"admin"}} }

// FirstAdmin gives the link for the administrator of a service that nobody was ever an
// administrator of; nil says that there is one. Only whoever runs the service may call it.
func (p *People) FirstAdmin(ctx context.Context) (*Invitation, error) {
	rows, err := p.store.Users(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the people: %w", err)
	}
	for _, u := range rows {
		if slices.Contains(u.Roles, "admin") && (u.PasswordHash != "" || u.Issuer != "") {
			return nil, nil
		}
	}
	i, err := p.AdminLink(ctx, "admin")
	return &i, err
}

// AdminLink gives a link for an administrator, who is made where there is none of the name:
// the way in for whoever runs the service, when nobody else is left.
func (p *People) AdminLink(ctx context.Context, name string) (Invitation, error) {
	u, err := p.store.UserByName(ctx, name)
	switch {
	case errors.Is(err, store.ErrNotFound) && !access.PersonName.MatchString(name):
		return Invitation{}, refusal.New(refusal.Invalid,
			"use up to 63 small letters, digits, dots, hyphens and underscores", "%q is no name for a user",
			refusal.Clip(name, 100))
	case errors.Is(err, store.ErrNotFound):
		u, err = p.store.AddUser(ctx, store.User{
			Name:     name,
			FullName: "Administrator",
			Roles:    []string{"admin"},
			MadeBy:   OperatorOfHost,
		})
	case err == nil && (!slices.Contains(u.Roles, "admin") || u.DisabledAt != nil || u.Issuer != ""):
		return Invitation{}, refusal.New(refusal.Conflict, "name another one with --name",
			"%s is there, and is no administrator with a password here", name)
	}
	if err != nil {
		return Invitation{}, err
	}
	if err := p.journal.Record(ctx, OperatorOfHost, "link for administrator", name, "", nil); err != nil {
		return Invitation{}, fmt.Errorf("recording it in the journal: %w", err)
	}
	return p.link(ctx, OperatorOfHost, u, 24*time.Hour)
}

// passwordRules are what ASVS asks of passwords: length, and not a common or derived one;
// which characters it has is everybody's own choice.
var passwordRules = secretrule.Rules{Length: 12, Classes: 1}

const longestPassword = 200

func checkPassword(password string, u store.User) error {
	if len(password) > longestPassword {
		return refusal.New(refusal.Invalid, "a sentence of some words is long enough",
			"the password is longer than %d bytes", longestPassword)
	}
	broken := passwordRules.Check(password, append(strings.Fields(u.FullName), u.Name, "undersail", "under sail")...)
	if len(broken) > 0 {
		return refusal.New(refusal.Invalid, "take some words that nobody would say together", "the password: %s",
			strings.Join(broken, "; "))
	}
	return nil
}

// LookAtInvitation tells whom an invitation is for.
func (p *People) LookAtInvitation(ctx context.Context, code string) (Person, error) {
	u, err := p.store.InvitedBy(ctx, secret.HashToken(code))
	if errors.Is(err, store.ErrNotFound) {
		return Person{}, usedUp()
	}
	return personOf(u, nil), err
}

func usedUp() error {
	return refusal.New(refusal.NotFound, "ask an administrator for a new one", "the invitation was used, or is over")
}

// TakeInvitation sets the password of whoever was invited, once, and signs them in.
func (p *People) TakeInvitation(ctx context.Context, code, password, fullName string,
	from From) (User, Session, error) {
	u, err := p.store.InvitedBy(ctx, secret.HashToken(code))
	if errors.Is(err, store.ErrNotFound) {
		return User{}, Session{}, usedUp()
	}
	if err != nil {
		return User{}, Session{}, err
	}
	if err := checkPassword(password, u); err != nil {
		return User{}, Session{}, err
	}
	hash, err := p.hash(ctx, from, password)
	if err != nil {
		return User{}, Session{}, err
	}
	if err := p.store.TakeInvitation(ctx, secret.HashToken(code), hash, fullName); errors.Is(err, store.ErrNotFound) {
		return User{}, Session{}, usedUp()
	} else if err != nil {
		return User{}, Session{}, err
	}
	if u, err = p.store.UserByName(ctx, u.Name); err != nil {
		return User{}, Session{}, fmt.Errorf("reading person %s: %w", u.Name, err)
	}
	if err := p.journal.Record(ctx, u.Name, "take invitation", "", "", nil); err != nil {
		return User{}, Session{}, fmt.Errorf("recording it in the journal: %w", err)
	}
	return p.begin(ctx, u, from)
}

// ChangePassword changes one's own password. The one before is asked for, and counts as a
// try to sign in; every other session ends.
func (p *People) ChangePassword(ctx context.Context, u User, before, after, token string, from From) error {
	if !u.Owns(u.Name) {
		return refusal.New(refusal.Forbidden, "sign in with the password, and change it then",
			"a token that was made for less than its owner may changes no password")
	}
	from.signedIn = true
	row, err := p.store.UserByName(ctx, u.Name)
	if err != nil {
		return fmt.Errorf("reading person %s: %w", u.Name, err)
	}
	if row.Issuer != "" {
		return refusal.New(refusal.Conflict, "change it there", "the password of %s is with the OpenID provider",
			u.Name)
	}
	if err := p.tryPassword(ctx, row, before, from); err != nil {
		return err
	}
	if err := checkPassword(after, row); err != nil {
		return err
	}
	if row, err = p.store.UserByName(ctx, u.Name); err != nil { // its hash may have been made anew
		return fmt.Errorf("reading person %s: %w", u.Name, err)
	}
	hash, err := p.hash(ctx, from, after)
	if err != nil {
		return err
	}
	err = p.store.SetPassword(ctx, row.ID, row.PasswordHash, hash, secret.HashToken(token))
	if errors.Is(err, store.ErrNotFound) {
		return refusal.New(refusal.Conflict, "sign in with the new one", "the password was changed at this moment")
	} else if err != nil {
		return err
	}
	return p.journal.Record(ctx, u.Name, "change password", u.Name, "", nil)
}
