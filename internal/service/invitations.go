package service

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"undersail/internal/core/secretrule"
	"undersail/internal/secret"
	"undersail/internal/store"
)

func (s *Service) link(ctx context.Context, by string, row store.User, life time.Duration) (Invitation, error) {
	code := secret.Token()
	if err := s.store.Invite(ctx, row.ID, secret.HashToken(code), by, life); err != nil {
		return Invitation{}, err
	}
	p, err := s.personNow(ctx, row.Name)
	// What follows # stays in the browser: it gets into no log on the way.
	return Invitation{Person: p, Link: s.signing.URL + "/welcome#" + code, Code: code, ExpiresAt: time.Now().Add(life).Truncate(time.Second)}, err
}

// operatorOfHost is who runs the service, in the audit.
const operatorOfHost = "(the service's operator)"

// FirstAdmin gives the link for the administrator of a service that nobody was ever an
// administrator of; nil says that there is one. Only whoever runs the service may call it.
func (s *Service) FirstAdmin(ctx context.Context) (*Invitation, error) {
	rows, err := s.store.Users(ctx)
	if err != nil {
		return nil, err
	}
	for _, u := range rows {
		if slices.Contains(u.Roles, "admin") && (u.PasswordHash != "" || u.Issuer != "") {
			return nil, nil
		}
	}
	i, err := s.AdminLink(ctx, "admin")
	return &i, err
}

// AdminLink gives a link for an administrator, who is made where there is none of the name:
// the way in for whoever runs the service, when nobody else is left.
func (s *Service) AdminLink(ctx context.Context, name string) (Invitation, error) {
	u, err := s.store.UserByName(ctx, name)
	switch {
	case errors.Is(err, store.ErrNotFound) && !userName.MatchString(name):
		return Invitation{}, refuse(Invalid, "use up to 63 small letters, digits, dots, hyphens and underscores", "%q is no name for a user", clip(name, 100))
	case errors.Is(err, store.ErrNotFound):
		u, err = s.store.AddUser(ctx, store.User{Name: name, FullName: "Administrator", Roles: []string{"admin"}, MadeBy: operatorOfHost})
	case err == nil && (!slices.Contains(u.Roles, "admin") || u.DisabledAt != nil || u.Issuer != ""):
		return Invitation{}, refuse(Conflict, "name another one with --name", "%s is there, and is no administrator with a password here", name)
	}
	if err != nil {
		return Invitation{}, err
	}
	if err := s.record(ctx, operatorOfHost, "link for administrator", name, "", nil); err != nil {
		return Invitation{}, err
	}
	return s.link(ctx, operatorOfHost, u, 24*time.Hour)
}

// passwordRules are what ASVS asks of passwords: length, and not a common or derived one;
// which characters it has is everybody's own choice.
var passwordRules = secretrule.Rules{Length: 12, Classes: 1}

const longestPassword = 200

func checkPassword(password string, u store.User) error {
	if len(password) > longestPassword {
		return refuse(Invalid, "a sentence of some words is long enough", "the password is longer than %d bytes", longestPassword)
	}
	if broken := passwordRules.Check(password, append(strings.Fields(u.FullName), u.Name, "undersail", "under sail")...); len(broken) > 0 {
		return refuse(Invalid, "take some words that nobody would say together", "the password: %s", strings.Join(broken, "; "))
	}
	return nil
}

// LookAtInvitation tells whom an invitation is for.
func (s *Service) LookAtInvitation(ctx context.Context, code string) (Person, error) {
	u, err := s.store.InvitedBy(ctx, secret.HashToken(code))
	if errors.Is(err, store.ErrNotFound) {
		return Person{}, usedUp()
	}
	return personOf(u, nil), err
}

func usedUp() error {
	return refuse(NotFound, "ask an administrator for a new one", "the invitation was used, or is over")
}

// TakeInvitation sets the password of whoever was invited, once, and signs them in.
func (s *Service) TakeInvitation(ctx context.Context, code, password, fullName string, from From) (User, Session, error) {
	u, err := s.store.InvitedBy(ctx, secret.HashToken(code))
	if errors.Is(err, store.ErrNotFound) {
		return User{}, Session{}, usedUp()
	}
	if err != nil {
		return User{}, Session{}, err
	}
	if err := checkPassword(password, u); err != nil {
		return User{}, Session{}, err
	}
	hash, err := s.hash(ctx, from, password)
	if err != nil {
		return User{}, Session{}, err
	}
	if err := s.store.TakeInvitation(ctx, secret.HashToken(code), hash, fullName); errors.Is(err, store.ErrNotFound) {
		return User{}, Session{}, usedUp()
	} else if err != nil {
		return User{}, Session{}, err
	}
	if u, err = s.store.UserByName(ctx, u.Name); err != nil {
		return User{}, Session{}, err
	}
	if err := s.record(ctx, u.Name, "take invitation", "", "", nil); err != nil {
		return User{}, Session{}, err
	}
	return s.begin(ctx, u, from)
}

// ChangePassword changes one's own password. The one before is asked for, and counts as a
// try to sign in; every other session ends.
func (s *Service) ChangePassword(ctx context.Context, u User, before, after, token string, from From) error {
	if !u.owns(u.Name) {
		return refuse(Forbidden, "sign in with the password, and change it then", "a token that was made for less than its owner may changes no password")
	}
	from.signedIn = true
	row, err := s.store.UserByName(ctx, u.Name)
	if err != nil {
		return err
	}
	if row.Issuer != "" {
		return refuse(Conflict, "change it there", "the password of %s is with the OpenID provider", u.Name)
	}
	if err := s.tryPassword(ctx, row, before, from); err != nil {
		return err
	}
	if err := checkPassword(after, row); err != nil {
		return err
	}
	if row, err = s.store.UserByName(ctx, u.Name); err != nil { // its hash may have been made anew
		return err
	}
	hash, err := s.hash(ctx, from, after)
	if err != nil {
		return err
	}
	if err := s.store.SetPassword(ctx, row.ID, row.PasswordHash, hash, secret.HashToken(token)); errors.Is(err, store.ErrNotFound) {
		return refuse(Conflict, "sign in with the new one", "the password was changed at this moment")
	} else if err != nil {
		return err
	}
	return s.record(ctx, u.Name, "change password", u.Name, "", nil)
}
