package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/access"
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
	return u.grants().May(right, account)
}

// grants are the smaller of the token's and its owner's.
func (u User) grants() access.Grants {
	if u.limit == nil {
		return grantsOf(u.Roles)
	}
	return grantsOf(u.Roles).Within(grantsOf(u.limit))
}

// actor is who acts, as rights are asked of them.
func (u User) actor() access.Actor {
	a := access.Actor{Person: u.Name, Limited: u.limit != nil, Grants: u.grants()}
	if u.kind == bearer {
		a.Token = u.token
	}
	return a
}

// owns reports whether something of a person is one's own.
func (u User) owns(person string) bool { return u.actor().Owns(person) }

const bearer = "bearer"

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
	ctx = context.WithValue(ctx, computingKey{}, &allowance{who: u.Name, left: computeBudget, guard: computeGuard})
	only, everywhere := u.grants().Accounts()
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
	for _, right := range access.Rights() {
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
