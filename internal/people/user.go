package people

import (
	"fmt"
	"slices"
	"strings"

	"undersail/internal/access"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// User is who asks.
type User struct {
	ID       int64  `json:"-"`
	Name     string `json:"name"`
	FullName string `json:"full_name"`
	// Roles are each ROLE for the whole service, or ROLE@ACCOUNT in one account.
	Roles []string `json:"roles"`
	// Rights are those for the whole service beside reading, RightsIn those in accounts;
	// whoever asks who they are is told.
	Rights   []string            `json:"may,omitempty"`
	RightsIn map[string][]string `json:"may_in,omitempty"`
	// Elsewhere says that their password is with the provider of OpenID sign-ins.
	Elsewhere bool `json:"elsewhere,omitempty"`

	// limit are the only roles of the token that the request carries; nil are all.
	limit []string
	token int64
	// kind is that of the token: session or bearer.
	kind string
}

// May reports whether somebody has a right in an account; of an empty one they need it for
// the whole service. With a token that has roles of its own both must include it.
func (u User) May(right, account string) bool {
	return u.Grants().May(right, account)
}

// Grants are the smaller of the token's and its owner's.
func (u User) Grants() access.Grants {
	if u.limit == nil {
		return GrantsOf(u.Roles)
	}
	return GrantsOf(u.Roles).Within(GrantsOf(u.limit))
}

// Actor is who acts, as rights are asked of them.
func (u User) Actor() access.Actor {
	a := access.Actor{Person: u.Name, Limited: u.limit != nil, Grants: u.Grants()}
	if u.kind == bearer {
		a.Token = u.token
	}
	return a
}

// Owns reports whether something of a person is one's own.
func (u User) Owns(person string) bool { return u.Actor().Owns(person) }

const bearer = "bearer"

// Must refuses whoever has not a right in an account, or, of an empty one, for the whole service.
func (u User) Must(right, account string) error {
	switch {
	case u.May(right, account):
		return nil
	case account == "":
		return refusal.New(refusal.Forbidden, "ask an administrator for another role",
			"the right to %s for the whole service is not among what %s may", right, u.Called())
	}
	return refusal.New(refusal.Forbidden, "ask an administrator for another role",
		"the right to %s in account %s is not among what %s may", right, account, u.Called())
}

// MustSomewhere asks for a right for the whole service or in any account.
func (u User) MustSomewhere(right string) error {
	for _, r := range GrantsOf(u.Roles) {
		if u.May(right, r.Account) {
			return nil
		}
	}
	return u.Must(right, "")
}

// Called is who somebody is in words, with what roles they ask.
func (u User) Called() string {
	roles := u.Roles
	if u.limit != nil {
		roles = u.limit
	}
	return fmt.Sprintf("%s (%s)", u.Name, strings.Join(roles, ", "))
}

// GrantsOf reads roles that were checked when they were given.
func GrantsOf(roles []string) access.Grants {
	g, err := access.ParseGrants(roles)
	if err != nil {
		return nil // a role of a newer program gives no right here
	}
	return g
}

func userOf(u store.User) User {
	return User{ID: u.ID, Name: u.Name, FullName: u.FullName, Roles: u.Roles, Elsewhere: u.Issuer != ""}
}

// Myself tells somebody who they are and what they may.
func (u User) Myself() User {
	u.Rights, u.RightsIn = []string{}, map[string][]string{}
	for _, right := range access.Rights() {
		if u.May(right, "") {
			u.Rights = append(u.Rights, right)
		}
		for _, r := range GrantsOf(u.Roles) {
			if r.Account != "" && u.May(right, r.Account) && !slices.Contains(u.RightsIn[r.Account], right) {
				u.RightsIn[r.Account] = append(u.RightsIn[r.Account], right)
			}
		}
	}
	if u.limit != nil {
		u.Roles = u.limit
	}
	return u
}

// Token is the id of the token or session that the request carries.
func (u User) Token() int64 { return u.token }

// Who is somebody as the store asks about them in the moment of an effect.
func (u User) Who() store.Who { return store.Who{Name: u.Name, Roles: u.Roles, Token: u.token} }
