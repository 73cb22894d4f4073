// Package access says who may do what: roles, the rights that they include, and in which
// accounts they hold. It checks no passwords and keeps nothing.
package access

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// The rights that roles include beside reading. What belongs to no account, such as the
// library and people, needs a role for the whole service.
const (
	Administer = "administer"
	Operate    = "operate"
	Decide     = "decide"
	Publish    = "publish"
)

var included = map[string][]string{
	"viewer":   {},
	"operator": {Operate, Decide},
	"reviewer": {Decide},
	"keeper":   {Publish},
	"admin":    {Administer, Operate, Decide, Publish},
}

// Rights lists all rights.
func Rights() []string { return included["admin"] }

// Roles lists the names of all roles.
func Roles() []string { return slices.Sorted(maps.Keys(included)) }

// PersonName is how people and pipelines may be called.
var PersonName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// Role is held for the whole service, or where Account names one in that account alone.
type Role struct{ Name, Account string }

func (r Role) String() string {
	if r.Account == "" {
		return r.Name
	}
	return r.Name + "@" + r.Account
}

// ParseRole reads ROLE or ROLE@ACCOUNT.
func ParseRole(text string) (Role, error) {
	name, account, within := strings.Cut(text, "@")
	switch rights, ok := included[name]; {
	case !ok:
		return Role{}, fmt.Errorf("%q is no role; there are %s, each for the whole service or as ROLE@ACCOUNT for "+
			"one account", text, strings.Join(Roles(), ", "))
	case within && account == "":
		return Role{}, fmt.Errorf("%q names no account; say %s@ACCOUNT, or %s for the whole service", text, name, name)
	case within && slices.Equal(rights, []string{Publish}):
		return Role{}, fmt.Errorf("%q cannot be: all accounts share the library, so a %s is one for the whole service",
			text, name)
	}
	return Role{name, account}, nil
}

// Grants are the roles that somebody has.
type Grants []Role

// ParseGrants reads roles, each once and in order.
func ParseGrants(texts []string) (Grants, error) {
	var out Grants
	for _, text := range texts {
		r, err := ParseRole(text)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b Role) int { return strings.Compare(a.String(), b.String()) })
	return slices.Compact(out), nil
}

// Strings writes roles as they are read.
func (g Grants) Strings() []string {
	out := make([]string, len(g))
	for i, r := range g {
		out[i] = r.String()
	}
	return out
}

// May reports whether a right holds in an account; of an empty account it must hold for
// the whole service.
func (g Grants) May(right, account string) bool {
	return slices.ContainsFunc(g, func(r Role) bool {
		return (r.Account == "" || r.Account == account) && slices.Contains(included[r.Name], right)
	})
}

// Accounts lists the only accounts that somebody sees; everywhere says that they see all,
// as whoever has a role for the whole service does.
func (g Grants) Accounts() (only []string, everywhere bool) {
	for _, r := range g {
		if r.Account == "" {
			return nil, true
		}
		if !slices.Contains(only, r.Account) {
			only = append(only, r.Account)
		}
	}
	return only, false
}

// Beyond lists the roles among more that allow something that g does not: nobody hands on
// what they do not have.
func (g Grants) Beyond(more Grants) (out Grants) {
	only, everywhere := g.Accounts()
	for _, r := range more {
		sees := everywhere || slices.Contains(only, r.Account)
		for _, right := range included[r.Name] {
			sees = sees && g.May(right, r.Account)
		}
		if !sees {
			out = append(out, r)
		}
	}
	return out
}

type seenKey struct{}

// Within narrows what is read under a context down to some accounts.
func Within(ctx context.Context, accounts []string) context.Context {
	return context.WithValue(ctx, seenKey{}, accounts)
}

// Seen lists the only accounts that may be read of under a context; nil is all of them.
func Seen(ctx context.Context) []string {
	only, narrowed := ctx.Value(seenKey{}).([]string)
	if narrowed && only == nil {
		return []string{}
	}
	return only
}

// Sees reports whether something of an account may be read under a context.
func Sees(ctx context.Context, account string) bool {
	only := Seen(ctx)
	return only == nil || slices.Contains(only, account)
}

// Within gives what both allow: a token may do the smaller of its own grants and of its
// owner's of this moment.
func (g Grants) Within(limit Grants) Grants {
	var out Grants
	for _, a := range g {
		for _, b := range limit {
			account := a.Account
			switch {
			case a.Account == "":
				account = b.Account
			case b.Account != "" && b.Account != a.Account:
				continue
			}
			if name := common(a.Name, b.Name); !slices.Contains(out, Role{name, account}) {
				out = append(out, Role{name, account})
			}
		}
	}
	return out
}

// common is the role with exactly the rights that two have both. There is one for each two:
// a test holds it.
func common(a, b string) string {
	var both []string
	for _, right := range included[a] {
		if slices.Contains(included[b], right) {
			both = append(both, right)
		}
	}
	for _, name := range Roles() {
		if len(included[name]) == len(both) &&
			!slices.ContainsFunc(both, func(right string) bool { return !slices.Contains(included[name], right) }) {
			return name
		}
	}
	return "viewer"
}

// Actor is who acts: a person by a session or a token of theirs. It comes from
// authentication, or from an agreement that somebody gave.
type Actor struct {
	Person string
	// Token is the id of the bearer token that the request carries; 0 for a session.
	Token int64
	// Limited says that the token has roles of its own.
	Limited bool
	// Grants are the smaller of the token's and its owner's, of this moment.
	Grants Grants
}

// Owns reports whether something that belongs to a person is the actor's own: a token that
// was made for less than its owner may is not its owner.
func (a Actor) Owns(person string) bool { return !a.Limited && a.Person != "" && a.Person == person }

// IsOf reports whether the actor is somebody, by whatever token: this takes a right away
// where two people must agree, and gives none.
func (a Actor) IsOf(person string) bool { return a.Person == person }

// Kept is where a secret belongs, and who gave it or had it drawn. Without an account it
// belongs to whoever administers the service.
type Kept struct{ Account, GivenBy string }

// MayReveal reports whether the actor may read a secret at this moment: who administers
// where it belongs, and who gave it as long as they operate there. Having given it is no
// right by itself.
func (a Actor) MayReveal(k Kept) bool {
	if a.Grants.May(Administer, k.Account) {
		return true
	}
	return k.GivenBy != "" && a.Person == k.GivenBy && a.Grants.May(Operate, k.Account)
}
