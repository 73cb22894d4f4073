// Package people has who uses the service, and how they show that it is them: people with
// their roles, invitations, passwords, sessions, tokens, and signing in by OpenID Connect.
// Who may do what once they are known is package access.
package people

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/gentle"
	"undersail/internal/refusal"
	"undersail/internal/secret"
	"undersail/internal/store"
	"undersail/internal/turnstile"
)

// People is safe for concurrent use.
type People struct {
	store    Store
	seals    Seals
	journal  Journal
	accounts Accounts
	log      *slog.Logger
	signing  Signing
	// hashing lets few passwords be hashed at a time: each takes 46 MiB and a processor.
	hashing *turnstile.Turnstile
}

// New makes the people of a service, who sign in as is usual until [People.SignInBy] says
// otherwise.
func New(st Store, seals Seals, j Journal, a Accounts, log *slog.Logger) *People {
	return &People{
		store:    st,
		seals:    seals,
		journal:  j,
		accounts: a,
		log:      log,
		signing:  usual(),
		hashing:  turnstile.New(max(1, gentle.Processors/2)),
	}
}

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
	// SignsInBy is password, openid or pipeline.
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

func personOf(u store.User, invited map[int64]time.Time) Person {
	p := Person{
		Name:       u.Name,
		FullName:   u.FullName,
		Roles:      u.Roles,
		State:      Active,
		SignsInBy:  "password",
		MadeBy:     u.MadeBy,
		CreatedAt:  u.CreatedAt,
		SignedInAt: u.SignedInAt,
	}
	if strings.HasPrefix(u.Issuer, ofPipelines) {
		p.SignsInBy = "pipeline"
	} else if u.Issuer != "" {
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

// List tells of everybody by name. Whoever is no administrator is told only of themselves.
func (p *People) List(ctx context.Context, u User) ([]Person, error) {
	rows, err := p.store.Users(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the people: %w", err)
	}
	invited, err := p.store.Invited(ctx)
	out := []Person{}
	for _, row := range rows {
		if u.Actor().IsOf(row.Name) || u.May(access.Administer, "") {
			out = append(out, personOf(row, invited))
		}
	}
	return out, err
}

func (p *People) person(ctx context.Context, name string) (store.User, error) {
	u, err := p.store.UserByName(ctx, name)
	return u, refusal.Missing(err, "user", refusal.Clip(name, 100), "list them with: undersail users")
}

// Absent is somebody who does not ask, and in whose name something is done all the same.
type Absent struct {
	// User has the smaller of what they have now and what they had when they said so.
	User User
	// Roles are all that they have now.
	Roles []string
	// Why says why nothing is done in their name any more: behind their name, in words.
	Why string
}

// Absent finds somebody who said something with some roles, with what they may at a moment.
func (p *People) Absent(ctx context.Context, name string, with []string, now time.Time) (Absent, error) {
	row, err := p.store.UserByName(ctx, name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return Absent{Why: "is nobody here"}, nil
	case err != nil:
		return Absent{}, err
	case row.DisabledAt != nil:
		return Absent{Why: "is disabled"}, nil
	case row.Issuer != "" && (row.SignedInAt == nil || now.Sub(*row.SignedInAt) > p.signing.AskEvery):
		return Absent{
			Why: "was not asked about with the OpenID provider for longer than " + spanWords(p.signing.AskEvery),
		}, nil
	}
	u := userOf(row)
	u.Roles = GrantsOf(p.rolesNow(row)).Within(GrantsOf(with)).Strings()
	return Absent{User: u, Roles: row.Roles}, nil
}

func (p *People) personNow(ctx context.Context, name string) (Person, error) {
	u, err := p.person(ctx, name)
	if err != nil {
		return Person{}, err
	}
	invited, err := p.store.Invited(ctx)
	return personOf(u, invited), err
}

// rolesGiven checks roles that somebody is to have, and that their accounts are there.
func (p *People) rolesGiven(ctx context.Context, texts []string) ([]string, error) {
	g, err := access.ParseGrants(texts)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "see: undersail users --help", "%v", err)
	}
	if len(g) == 0 {
		return nil, refusal.New(refusal.Invalid, "viewer is the least one", "somebody without a role sees nothing")
	}
	for _, r := range g {
		if r.Account != "" {
			if err := p.accounts.Known(ctx, r.Account); err != nil {
				return nil, err
			}
		}
	}
	return g.Strings(), nil
}

// Invite makes a user who is to set a password by a link that works once.
func (p *People) Invite(ctx context.Context, u User, n NewPerson) (Invitation, error) {
	if err := u.Must(access.Administer, ""); err != nil {
		return Invitation{}, err
	}
	if !access.PersonName.MatchString(n.Name) {
		return Invitation{}, refusal.New(refusal.Invalid,
			"use up to 63 small letters, digits, dots, hyphens and underscores", "%q is no name for a user",
			refusal.Clip(n.Name, 100))
	}
	roles, err := p.rolesGiven(ctx, n.Roles)
	if err != nil {
		return Invitation{}, err
	}
	row, err := p.store.AddUser(ctx, store.User{Name: n.Name, FullName: n.FullName, Roles: roles, MadeBy: u.Name})
	if errors.Is(err, store.ErrConflict) {
		return Invitation{}, refusal.New(refusal.Conflict, "a new link for them: undersail users link "+n.Name,
			"there is a user %s already", n.Name)
	}
	if err != nil {
		return Invitation{}, err
	}
	p.journal.Done(ctx, u, "invite user", n.Name, map[string]any{"roles": roles})
	return p.link(ctx, u.Name, row, invitationLife)
}

// InviteAgain gives a user a new link, in the place of any before: for whoever did not come,
// and for whoever lost a password, which holds until the link is used.
func (p *People) InviteAgain(ctx context.Context, u User, name string) (Invitation, error) {
	if err := u.Must(access.Administer, ""); err != nil {
		return Invitation{}, err
	}
	row, err := p.person(ctx, name)
	switch {
	case err != nil:
		return Invitation{}, err
	case row.DisabledAt != nil:
		return Invitation{}, refusal.New(refusal.Conflict, "let them in again first: undersail users enable "+name,
			"%s is disabled", name)
	case row.Issuer != "":
		return Invitation{}, refusal.New(refusal.Conflict, "their password is with the provider",
			"%s signs in by OpenID Connect", name)
	}
	i, err := p.link(ctx, u.Name, row, invitationLife)
	if err == nil {
		p.journal.Done(ctx, u, "link for user", name, nil)
	}
	return i, err
}

// Put makes a user with a password; only whoever runs the service may call it.
func (p *People) Put(ctx context.Context, name, fullName, password string, roles ...string) error {
	_, err := p.store.AddUser(ctx, store.User{
		Name:         name,
		FullName:     fullName,
		Roles:        roles,
		PasswordHash: secret.HashPassword(password),
		MadeBy:       OperatorOfHost,
	})
	if err != nil {
		return fmt.Errorf("adding a person: %w", err)
	}
	return p.journal.Record(ctx, OperatorOfHost, "put user", name, "", map[string]any{"roles": roles})
}

// Change gives somebody other roles or another name, keeps them out, or lets them in
// again. Whoever is kept out loses every session and token at once.
func (p *People) Change(ctx context.Context, u User, name string, c PersonChange) (Person, error) {
	if err := u.Must(access.Administer, ""); err != nil {
		return Person{}, err
	}
	row, err := p.person(ctx, name)
	if err != nil {
		return Person{}, err
	}
	if c.Roles != nil {
		if row.Issuer != "" {
			return Person{}, rolesAreElsewhere(row)
		}
		roles, err := p.rolesGiven(ctx, *c.Roles)
		if err != nil {
			return Person{}, err
		}
		if err := lastAdmin(p.store.SetRoles(ctx, row.ID, roles)); err != nil {
			return Person{}, err
		}
		p.journal.Done(ctx, u, "change roles", name, map[string]any{"roles": roles, "before": row.Roles})
	}
	if c.FullName != nil {
		if err := p.store.SetFullName(ctx, row.ID, *c.FullName); err != nil {
			return Person{}, fmt.Errorf("setting the full name of person %d: %w", row.ID, err)
		}
		p.journal.Done(ctx, u, "rename user", name, map[string]any{"full_name": *c.FullName})
	}
	if c.Disabled != nil {
		if err := lastAdmin(p.store.Disable(ctx, row.ID, *c.Disabled)); err != nil {
			return Person{}, err
		}
		p.journal.Done(ctx, u, map[bool]string{true: "disable user", false: "enable user"}[*c.Disabled], name, nil)
	}
	return p.personNow(ctx, name)
}

func rolesAreElsewhere(u store.User) error {
	if strings.HasPrefix(u.Issuer, ofPipelines) {
		return refusal.New(refusal.Conflict, "change them where the service is started, in the file of --pipelines",
			"the roles of %s are those of a pipeline", u.Name)
	}
	return refusal.New(refusal.Conflict, "change the groups that they are in with the provider",
		"the roles of %s come from the groups of the OpenID provider", u.Name)
}

func lastAdmin(err error) error {
	if errors.Is(err, store.ErrLastAdmin) {
		return refusal.New(refusal.Conflict, "make somebody else an administrator first",
			"nobody would be left who is an administrator")
	}
	return err
}

// NewPassword draws a password for a user who is made by a program.
func NewPassword() string { return strings.ToLower(rand.Text()[:18]) }
