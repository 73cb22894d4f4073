package people_test

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"testing"
	"time"

	"undersail/internal/openid"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

var errAway = errors.New("the store is away")

// failing is a store whose nth call fails; 0 is none.
type failing struct {
	people.Store
	calls, nth int
}

func (f *failing) away() error {
	if f.calls++; f.calls == f.nth {
		return errAway
	}
	return nil
}

func (f *failing) AddUser(ctx context.Context, u store.User) (out store.User, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.AddUser(ctx, u)
}

func (f *failing) UserByName(ctx context.Context, name string) (out store.User, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.UserByName(ctx, name)
}

func (f *failing) UserBySubject(ctx context.Context, issuer, subject string) (out store.User, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.UserBySubject(ctx, issuer, subject)
}

func (f *failing) Users(ctx context.Context) (out []store.User, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.Users(ctx)
}

func (f *failing) SetRoles(ctx context.Context, id int64, roles []string) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.SetRoles(ctx, id, roles)
}

func (f *failing) SetFullName(ctx context.Context, id int64, name string) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.SetFullName(ctx, id, name)
}

func (f *failing) Disable(ctx context.Context, id int64, disabled bool) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.Disable(ctx, id, disabled)
}

func (f *failing) SyncUser(ctx context.Context, id int64, fullName string, roles []string) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.SyncUser(ctx, id, fullName, roles)
}

func (f *failing) SignedIn(ctx context.Context, id int64, places ...string) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.SignedIn(ctx, id, places...)
}

func (f *failing) Invited(ctx context.Context) (out map[int64]time.Time, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.Invited(ctx)
}

func (f *failing) Invite(ctx context.Context, id int64, hash, by string, life time.Duration) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.Invite(ctx, id, hash, by, life)
}

func (f *failing) InvitedBy(ctx context.Context, hash string) (out store.User, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.InvitedBy(ctx, hash)
}

func (f *failing) TakeInvitation(ctx context.Context, hash, passwordHash, fullName string) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.TakeInvitation(ctx, hash, passwordHash, fullName)
}

func (f *failing) SetPassword(ctx context.Context, id int64, before, after, butToken string) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.SetPassword(ctx, id, before, after, butToken)
}

func (f *failing) RenewHash(ctx context.Context, id int64, before, after string) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.RenewHash(ctx, id, before, after)
}

func (f *failing) AddToken(ctx context.Context, hash string, userID int64, t store.Token,
	life time.Duration) (out store.Token, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.AddToken(ctx, hash, userID, t, life)
}

func (f *failing) Tokens(ctx context.Context, owner string) (out []store.Token, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.Tokens(ctx, owner)
}

func (f *failing) TokenByID(ctx context.Context, id int64) (out store.Token, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.TokenByID(ctx, id)
}

func (f *failing) HolderOf(ctx context.Context, hash, from string, again time.Duration,
	touch bool) (out store.Holder, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.HolderOf(ctx, hash, from, again, touch)
}

func (f *failing) RemoveToken(ctx context.Context, hash string) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.RemoveToken(ctx, hash)
}

func (f *failing) RemoveTokenByID(ctx context.Context, id int64) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.RemoveTokenByID(ctx, id)
}

func (f *failing) RemoveTokens(ctx context.Context, userID int64, kinds ...string) (out int64, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.RemoveTokens(ctx, userID, kinds...)
}

func (f *failing) CountTries(ctx context.Context, tries []store.Try,
	by map[string]store.Counting) (out time.Duration, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.CountTries(ctx, tries, by)
}

func (f *failing) TriesRight(ctx context.Context, tries []store.Try) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.TriesRight(ctx, tries)
}

func (f *failing) KnownFrom(ctx context.Context, name, place string) (out bool, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.KnownFrom(ctx, name, place)
}

func (f *failing) AddSigningIn(ctx context.Context, hash, kind string, sealed []byte, life time.Duration) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.AddSigningIn(ctx, hash, kind, sealed, life)
}

func (f *failing) TakeSigningIn(ctx context.Context, hash string) (out []byte, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.TakeSigningIn(ctx, hash)
}

func (f *failing) AskSigningIn(ctx context.Context, hash string, interval time.Duration) (out []byte, err error) {
	if err := f.away(); err != nil {
		return out, err
	}
	return f.Store.AskSigningIn(ctx, hash, interval)
}

func (f *failing) ForgetSigningIn(ctx context.Context, hash string) error {
	if err := f.away(); err != nil {
		return err
	}
	return f.Store.ForgetSigningIn(ctx, hash)
}

// TestNothingIsSaidToBeDoneWhenTheStoreIsAway: whatever call of the store fails, that is what
// its caller is told, and nobody gets anything.
func TestNothingIsSaidToBeDoneWhenTheStoreIsAway(t *testing.T) {
	t.Parallel()
	h, p := newHouse(t), provided(t)
	h.add("ines", "admin")
	known, err := openid.NewPipelines([]openid.Pipeline{{
		Name:   "gauges",
		Issuer: p.Issuer,
		Claims: map[string]string{"sub": "work"},
		Roles:  []string{"viewer"},
	}})
	if err != nil {
		t.Fatal(err)
	}
	f := &failing{Store: h.st}
	one := people.New(f, &plainSeals{}, h, h, slog.New(slog.NewTextHandler(io.Discard, nil)))
	one.SignInBy(people.Signing{Pipelines: known})
	from := people.From{Address: "192.0.2.50"}
	roles, yes, name := []string{"viewer"}, true, "Somebody"
	fresh := 0
	next := func() string { fresh++; return "some" + string(rune('a'+fresh/26)) + string(rune('a'+fresh%26)) }
	somebody := func() string { n := next(); h.add(n, "operator"); return n }
	invited := func() string {
		i, err := h.Invite(h.ctx, boss, people.NewPerson{Name: next(), Roles: roles})
		if err != nil {
			t.Fatal(err)
		}
		return i.Code
	}
	session := func() (people.User, string) {
		n := somebody()
		h.sql("DELETE FROM tries")
		return h.as(n)
	}
	for what, prepare := range map[string]func() func() error{
		"list": func() func() error { return func() error { _, err := one.List(h.ctx, boss); return err } },
		"invite": func() func() error {
			n := next()
			return func() error {
				_, err := one.Invite(h.ctx, boss, people.NewPerson{Name: n, Roles: roles})
				return err
			}
		},
		"invite again": func() func() error {
			n := somebody()
			return func() error { _, err := one.InviteAgain(h.ctx, boss, n); return err }
		},
		"put": func() func() error {
			n := next()
			return func() error { return one.Put(h.ctx, n, "", goodPassword, "viewer") }
		},
		"change": func() func() error {
			n := somebody()
			return func() error {
				_, err := one.Change(h.ctx, boss, n, people.PersonChange{
					Roles:    &roles,
					FullName: &name,
					Disabled: &yes,
				})
				return err
			}
		},
		"look": func() func() error {
			c := invited()
			return func() error { _, err := one.LookAtInvitation(h.ctx, c); return err }
		},
		"take": func() func() error {
			c := invited()
			return func() error { _, _, err := one.TakeInvitation(h.ctx, c, goodPassword, "", from); return err }
		},
		"first": func() func() error {
			h.sql("DELETE FROM users WHERE 'admin' = ANY(roles) AND name <> 'ines'")
			return func() error { _, err := one.FirstAdmin(h.ctx); return err }
		},
		"admin's link": func() func() error {
			n := next()
			return func() error { _, err := one.AdminLink(h.ctx, n); return err }
		},
		"sign in": func() func() error {
			n := somebody()
			h.sql("DELETE FROM tries")
			return func() error {
				_, _, err := one.SignIn(h.ctx, n, goodPassword, people.From{
					Address: "192.0.2.51",
					Device:  "some browser",
				})
				return err
			}
		},
		"change password": func() func() error {
			u, token := session()
			return func() error {
				return one.ChangePassword(h.ctx, u, goodPassword, "ebb and flow of the long year", token, from)
			}
		},
		"by token": func() func() error {
			_, token := session()
			return func() error { _, err := one.ByToken(h.ctx, token, "", true); return err }
		},
		"tokens": func() func() error { return func() error { _, err := one.Tokens(h.ctx, boss, "ines"); return err } },
		"add token": func() func() error {
			u, _ := session()
			made, err := h.AddToken(h.ctx, u, people.NewToken{About: "a", Seconds: 3600})
			if err != nil {
				t.Fatal(err)
			}
			u = h.by(made.Value)
			return func() error {
				_, err := one.AddToken(h.ctx, u, people.NewToken{About: "b", Seconds: 60})
				return err
			}
		},
		"revoke": func() func() error {
			u, _ := session()
			made, err := h.AddToken(h.ctx, u, people.NewToken{About: "a", Seconds: 3600})
			if err != nil {
				t.Fatal(err)
			}
			return func() error { return one.RevokeToken(h.ctx, u, made.ID) }
		},
		"everywhere": func() func() error {
			return func() error { return one.SignOutEverywhere(h.ctx, boss, "ines", true) }
		},
		"issue": func() func() error {
			n := somebody()
			return func() error { _, err := one.IssueToken(h.ctx, n, "x"); return err }
		},
		"sign out": func() func() error {
			_, token := session()
			return func() error { return one.SignOut(h.ctx, token) }
		},
		"absent": func() func() error {
			return func() error { _, err := one.Absent(h.ctx, "ines", roles, time.Now()); return err }
		},
		"a pipeline": func() func() error {
			h.sql("DELETE FROM tokens WHERE user_id IN (SELECT id FROM users WHERE name = 'gauges')")
			raw, err := p.Pipeline("undersail", nil)
			if err != nil {
				t.Fatal(err)
			}
			return func() error { _, err := one.SignInPipeline(h.ctx, raw, from); return err }
		},
	} {
		failed := 0
		for n := 1; ; n++ {
			f.nth = 0
			do := prepare()
			h.told()
			f.calls, f.nth = 0, n
			err := do()
			if f.calls < n {
				if err != nil {
					t.Errorf("%s: %v", what, err)
				}
				break
			}
			failed++
			var refused *refusal.Error
			if !errors.Is(err, errAway) || errors.As(err, &refused) {
				t.Errorf("%s: call %d failed, and it says %v", what, n, err)
			}
		}
		if failed == 0 {
			t.Errorf("%s asks the store nothing", what)
		}
	}
}

// late is a store in which somebody else was first.
type late struct{ people.Store }

func (late) TakeInvitation(context.Context, string, string, string) error { return store.ErrNotFound }
func (late) SetPassword(context.Context, int64, string, string, string) error {
	return store.ErrNotFound
}
func (late) RemoveTokenByID(context.Context, int64) error { return store.ErrNotFound }

// TestOfTwoAtOnceOneIsTold: who comes second is told so in words.
func TestOfTwoAtOnceOneIsTold(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	second := people.New(late{h.st}, &plainSeals{}, h, h, slog.New(slog.DiscardHandler))
	if i, err := second.FirstAdmin(h.ctx); err != nil || i == nil {
		t.Fatal(err)
	}
	f := &failing{Store: h.st, nth: 2}
	_, err := people.New(f, &plainSeals{}, h, h, slog.New(slog.DiscardHandler)).FirstAdmin(h.ctx)
	if !errors.Is(err, errAway) {
		t.Error("a link for an administrator that there is not:", err)
	}
	h.add("ines", "admin")
	i, err := h.Invite(h.ctx, boss, people.NewPerson{Name: "oda", Roles: []string{"viewer"}})
	if err != nil {
		t.Fatal(err)
	}
	_, _, err = second.TakeInvitation(h.ctx, i.Code, goodPassword, "", people.From{Address: "192.0.2.60"})
	refused(t, "an invitation", err, refusal.NotFound, "was used, or is over")
	ines, token := h.as("ines")
	refused(t, "a password",
		second.ChangePassword(h.ctx, ines, goodPassword, "ebb and flow of the long year", token, people.From{
			Address: "192.0.2.60",
		}), refusal.Conflict, "was changed at this moment")
	refused(t, "a token", second.RevokeToken(h.ctx, ines, ines.Token()), refusal.NotFound, "there is no token")
}

// plainSeals seals nothing: what a provider is asked is no matter here.
type plainSeals struct{}

func (plainSeals) SignIn(_ string, raw []byte) ([]byte, error)        { return raw, nil }
func (plainSeals) OpenSignIn(_ string, sealed []byte) ([]byte, error) { return sealed, nil }
