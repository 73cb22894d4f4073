package service

import (
	"context"
	"crypto/rand"
	"errors"
	"regexp"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// The states of people.
const (
	Invited  = "invited" // and has not come yet
	Active   = "active"
	Disabled = "disabled"
)

// Person is a user as administrators see them.
type Person struct {
	Name     string   `json:"name"`
	FullName string   `json:"full_name"`
	Roles    []string `json:"roles"`
	State    string   `json:"state"`
	// SignsInBy is password or openid.
	SignsInBy    string     `json:"signs_in_by"`
	MadeBy       string     `json:"made_by,omitempty"`
	CreatedAt    time.Time  `json:"created_at"`
	SignedInAt   *time.Time `json:"signed_in_at,omitempty"`
	InvitedUntil *time.Time `json:"invited_until,omitempty"`
}

// Invitation is a link that lets somebody set a password, once. Code is what the link ends
// with. Both are told only here.
type Invitation struct {
	Person    Person    `json:"person"`
	Link      string    `json:"link"`
	Code      string    `json:"code"`
	ExpiresAt time.Time `json:"expires_at"`
}

// NewPerson is somebody to invite.
type NewPerson struct {
	Name     string   `json:"name"`
	FullName string   `json:"full_name"`
	Roles    []string `json:"roles"`
}

// PersonChange changes somebody; nil leaves a thing as it is.
type PersonChange struct {
	FullName *string   `json:"full_name,omitempty"`
	Roles    *[]string `json:"roles,omitempty"`
	Disabled *bool     `json:"disabled,omitempty"`
}

const invitationLife = 3 * 24 * time.Hour

var userName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

func personOf(u store.User, invited map[int64]time.Time) Person {
	p := Person{Name: u.Name, FullName: u.FullName, Roles: u.Roles, State: Active, SignsInBy: "password", MadeBy: u.MadeBy, CreatedAt: u.CreatedAt, SignedInAt: u.SignedInAt}
	if u.Issuer != "" {
		p.SignsInBy = "openid"
	} else if u.PasswordHash == "" {
		p.State = Invited
	}
	if u.DisabledAt != nil {
		p.State = Disabled
	}
	if until, ok := invited[u.ID]; ok && until.After(time.Now()) {
		p.InvitedUntil = &until
	}
	return p
}

// People lists everybody by name. Whoever is no administrator is told only of themselves.
func (s *Service) People(ctx context.Context, u User) ([]Person, error) {
	rows, err := s.store.Users(ctx)
	if err != nil {
		return nil, err
	}
	invited, err := s.store.Invited(ctx)
	out := []Person{}
	for _, row := range rows {
		if u.actor().IsOf(row.Name) || u.may(access.Administer, "") {
			out = append(out, personOf(row, invited))
		}
	}
	return out, err
}

func (s *Service) person(ctx context.Context, name string) (store.User, error) {
	u, err := s.store.UserByName(ctx, name)
	return u, missing(err, "user", clip(name, 100), "list them with: undersail users")
}

func (s *Service) personNow(ctx context.Context, name string) (Person, error) {
	u, err := s.person(ctx, name)
	if err != nil {
		return Person{}, err
	}
	invited, err := s.store.Invited(ctx)
	return personOf(u, invited), err
}

// rolesGiven checks roles that somebody is to have, and that their accounts are there.
func (s *Service) rolesGiven(ctx context.Context, texts []string) ([]string, error) {
	g, err := access.ParseGrants(texts)
	if err != nil {
		return nil, refuse(Invalid, "see: undersail users --help", "%v", err)
	}
	if len(g) == 0 {
		return nil, refuse(Invalid, "viewer is the least one", "somebody without a role sees nothing")
	}
	for _, r := range g {
		if r.Account != "" {
			if _, err := s.account(ctx, r.Account); err != nil {
				return nil, err
			}
		}
	}
	return g.Strings(), nil
}

// Invite makes a user who is to set a password by a link that works once.
func (s *Service) Invite(ctx context.Context, u User, n NewPerson) (Invitation, error) {
	if err := u.must(access.Administer, ""); err != nil {
		return Invitation{}, err
	}
	if !userName.MatchString(n.Name) {
		return Invitation{}, refuse(Invalid, "use up to 63 small letters, digits, dots, hyphens and underscores", "%q is no name for a user", clip(n.Name, 100))
	}
	roles, err := s.rolesGiven(ctx, n.Roles)
	if err != nil {
		return Invitation{}, err
	}
	row, err := s.store.AddUser(ctx, store.User{Name: n.Name, FullName: n.FullName, Roles: roles, MadeBy: u.Name})
	if errors.Is(err, store.ErrConflict) {
		return Invitation{}, refuse(Conflict, "a new link for them: undersail users link "+n.Name, "there is a user %s already", n.Name)
	}
	if err != nil {
		return Invitation{}, err
	}
	s.done(ctx, u, "invite user", n.Name, map[string]any{"roles": roles})
	return s.link(ctx, u.Name, row, invitationLife)
}

// InviteAgain gives a user a new link, in the place of any before: for whoever did not come,
// and for whoever lost a password, which holds until the link is used.
func (s *Service) InviteAgain(ctx context.Context, u User, name string) (Invitation, error) {
	if err := u.must(access.Administer, ""); err != nil {
		return Invitation{}, err
	}
	row, err := s.person(ctx, name)
	switch {
	case err != nil:
		return Invitation{}, err
	case row.DisabledAt != nil:
		return Invitation{}, refuse(Conflict, "let them in again first: undersail users enable "+name, "%s is disabled", name)
	case row.Issuer != "":
		return Invitation{}, refuse(Conflict, "their password is with the provider", "%s signs in by OpenID Connect", name)
	}
	i, err := s.link(ctx, u.Name, row, invitationLife)
	if err == nil {
		s.done(ctx, u, "link for user", name, nil)
	}
	return i, err
}

// PutUser makes a user with a password; only whoever runs the service may call it.
func (s *Service) PutUser(ctx context.Context, name, fullName, password string, roles ...string) error {
	if _, err := s.store.AddUser(ctx, store.User{Name: name, FullName: fullName, Roles: roles, PasswordHash: secret.HashPassword(password), MadeBy: operatorOfHost}); err != nil {
		return err
	}
	return s.record(ctx, operatorOfHost, "put user", name, "", map[string]any{"roles": roles})
}

// ChangePerson gives somebody other roles or another name, keeps them out, or lets them in
// again. Whoever is kept out loses every session and token at once.
func (s *Service) ChangePerson(ctx context.Context, u User, name string, c PersonChange) (Person, error) {
	if err := u.must(access.Administer, ""); err != nil {
		return Person{}, err
	}
	row, err := s.person(ctx, name)
	if err != nil {
		return Person{}, err
	}
	if c.Roles != nil {
		if row.Issuer != "" {
			return Person{}, refuse(Conflict, "change the groups that they are in with the provider", "the roles of %s come from the groups of the OpenID provider", name)
		}
		roles, err := s.rolesGiven(ctx, *c.Roles)
		if err != nil {
			return Person{}, err
		}
		if err := lastAdmin(s.store.SetRoles(ctx, row.ID, roles)); err != nil {
			return Person{}, err
		}
		s.done(ctx, u, "change roles", name, map[string]any{"roles": roles, "before": row.Roles})
	}
	if c.FullName != nil {
		if err := s.store.SetFullName(ctx, row.ID, *c.FullName); err != nil {
			return Person{}, err
		}
		s.done(ctx, u, "rename user", name, map[string]any{"full_name": *c.FullName})
	}
	if c.Disabled != nil {
		if err := lastAdmin(s.store.Disable(ctx, row.ID, *c.Disabled)); err != nil {
			return Person{}, err
		}
		s.done(ctx, u, map[bool]string{true: "disable user", false: "enable user"}[*c.Disabled], name, nil)
	}
	return s.personNow(ctx, name)
}

func lastAdmin(err error) error {
	if errors.Is(err, store.ErrLastAdmin) {
		return refuse(Conflict, "make somebody else an administrator first", "nobody would be left who is an administrator")
	}
	return err
}

// clip shortens what anybody may choose before it is kept.
func clip(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "..."
	}
	return text
}

// NewPassword draws a password for a user who is made by a program.
func NewPassword() string { return strings.ToLower(rand.Text()[:18]) }
