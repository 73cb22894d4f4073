package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/core/secretrule"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// User is who asks.
type User struct {
	ID       int64  `json:"-"`
	Name     string `json:"name"`
	FullName string `json:"full_name"`
	// Roles are each ROLE for the whole service, or ROLE@ACCOUNT in one account.
	Roles []string `json:"roles"`
	// May are the rights for the whole service beside reading, MayIn those in accounts;
	// whoever asks who they are is told.
	May   []string            `json:"may,omitempty"`
	MayIn map[string][]string `json:"may_in,omitempty"`
	// Elsewhere says that their password is with the provider of OpenID sign-ins.
	Elsewhere bool `json:"elsewhere,omitempty"`

	// limit are the only roles of the token that the request carries; nil are all.
	limit []string
	token int64
	// kind is that of the token: session or bearer.
	kind string
}

// may reports whether somebody has a right in an account; of an empty one they need it for
// the whole service. With a token that has roles of its own both must include it.
func (u User) may(right, account string) bool {
	return grantsOf(u.Roles).May(right, account) && (u.limit == nil || grantsOf(u.limit).May(right, account))
}

func (u User) must(right, account string) error {
	switch {
	case u.may(right, account):
		return nil
	case account == "":
		return refuse(Forbidden, "ask an administrator for another role", "the right to %s for the whole service is not among what %s may", right, u.called())
	}
	return refuse(Forbidden, "ask an administrator for another role", "the right to %s in account %s is not among what %s may", right, account, u.called())
}

// mustSomewhere asks for a right for the whole service or in any account.
func (u User) mustSomewhere(right string) error {
	for _, r := range grantsOf(u.Roles) {
		if u.may(right, r.Account) {
			return nil
		}
	}
	return u.must(right, "")
}

func (u User) called() string {
	roles := u.Roles
	if u.limit != nil {
		roles = u.limit
	}
	return fmt.Sprintf("%s (%s)", u.Name, strings.Join(roles, ", "))
}

// grantsOf reads roles that were checked when they were given.
func grantsOf(roles []string) access.Grants {
	g, err := access.ParseGrants(roles)
	if err != nil {
		return nil // a role of a newer program gives no right here
	}
	return g
}

// As narrows what is read under a context down to what somebody sees, and gives what is
// done for one request of theirs its budget.
func As(ctx context.Context, u User) context.Context {
	ctx = context.WithValue(ctx, computingKey{}, &budget{who: u.Name, left: computeBudget})
	only, everywhere := grantsOf(u.Roles).Accounts()
	if u.limit != nil {
		limited, all := grantsOf(u.limit).Accounts()
		switch {
		case all:
		case everywhere:
			only, everywhere = limited, false
		default:
			only = slices.DeleteFunc(only, func(a string) bool { return !slices.Contains(limited, a) })
		}
	}
	if everywhere {
		return ctx
	}
	return access.Within(ctx, only)
}

func userOf(u store.User) User {
	return User{ID: u.ID, Name: u.Name, FullName: u.FullName, Roles: u.Roles, Elsewhere: u.Issuer != ""}
}

// Myself tells somebody who they are and what they may.
func (u User) Myself() User {
	u.May, u.MayIn = []string{}, map[string][]string{}
	for _, right := range []string{access.Administer, access.Operate, access.Decide, access.Publish} {
		if u.may(right, "") {
			u.May = append(u.May, right)
		}
		for _, r := range grantsOf(u.Roles) {
			if r.Account != "" && u.may(right, r.Account) && !slices.Contains(u.MayIn[r.Account], right) {
				u.MayIn[r.Account] = append(u.MayIn[r.Account], right)
			}
		}
	}
	if u.limit != nil {
		u.Roles = u.limit
	}
	return u
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
		if row.Name == u.Name || u.may(access.Administer, "") {
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
	s.done(ctx, u, "link for user", name, nil)
	return s.link(ctx, u.Name, row, invitationLife)
}

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
	hash, err := s.hash(ctx, password)
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
func (s *Service) ChangePassword(ctx context.Context, u User, before, after, token string) error {
	row, err := s.store.UserByName(ctx, u.Name)
	if err != nil {
		return err
	}
	if row.Issuer != "" {
		return refuse(Conflict, "change it there", "the password of %s is with the OpenID provider", u.Name)
	}
	if err := s.rightPassword(ctx, row, before, ""); err != nil {
		return err
	}
	if err := checkPassword(after, row); err != nil {
		return err
	}
	if row, err = s.store.UserByName(ctx, u.Name); err != nil { // its hash may have been made anew
		return err
	}
	hash, err := s.hash(ctx, after)
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

// clip shortens what anybody may choose before it is kept.
func clip(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "..."
	}
	return text
}

// NewPassword draws a password for a user who is made by a program.
func NewPassword() string { return strings.ToLower(rand.Text()[:18]) }
