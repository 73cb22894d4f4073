package people_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"log/slog"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/argon2"

	"undersail/internal/people"
	"undersail/internal/postgres/postgrestest"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/secret"
	"undersail/internal/store"
)

func TestMain(m *testing.M) {
	postgrestest.Main(m, func(url, owner string) error { return store.Migrate(context.Background(), url, owner) })
}

// house is people over a database of their own, with what was written down of them.
type house struct {
	*people.People
	t   *testing.T
	st  *store.Store
	ctx context.Context

	log     bytes.Buffer
	mu      sync.Mutex
	written []string
	deaf    error // what writing down fails with
}

func (h *house) Record(_ context.Context, who, action, subject, _ string, detail map[string]any) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	line := strings.TrimSpace(who + ": " + action + " " + subject)
	if detail["refused"] == true {
		line += " (refused)"
	}
	h.written = append(h.written, line)
	return h.deaf
}

func (h *house) Done(ctx context.Context, u people.User, action, subject string, detail map[string]any) {
	h.Record(ctx, u.Name, action, subject, "", detail)
}

// Known knows the one account that there is.
func (h *house) Known(_ context.Context, account string) error {
	if account != "saltmere-lab" {
		return refusal.New(refusal.NotFound, "", "there is no account %q", account)
	}
	return nil
}

// told takes what was written down since it was asked last.
func (h *house) told() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	defer func() { h.written = nil }()
	return strings.Join(h.written, "; ")
}

const goodPassword = "slack water at half past nine"

// boss administers the service; it is in no database.
var boss = people.User{Name: "ines", Roles: []string{"admin"}}

func newHouse(t *testing.T) *house {
	t.Helper()
	h := &house{t: t, ctx: t.Context()}
	var err error
	if h.st, err = store.Open(h.ctx, postgrestest.Database(t)); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(h.st.Close)
	box, err := sealed.OpenBox(filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	h.People = people.New(h.st, sealed.New(box, h.st), h, h, slog.New(slog.NewTextHandler(&h.log, nil)))
	h.SignInBy(people.Signing{URL: "https://undersail.example"})
	return h
}

// add makes a user with a password.
func (h *house) add(name string, roles ...string) {
	h.t.Helper()
	if err := h.Put(h.ctx, name, "Somebody "+name, goodPassword, roles...); err != nil {
		h.t.Fatal(err)
	}
	h.told()
}

// as gives somebody by a new session of theirs.
func (h *house) as(name string) (people.User, string) {
	h.t.Helper()
	_, session, err := h.SignIn(h.ctx, name, goodPassword, people.From{Address: "192.0.2.7", Terminal: true})
	if err != nil {
		h.t.Fatal(err)
	}
	return h.by(session.Token), session.Token
}

func (h *house) by(token string) people.User {
	h.t.Helper()
	u, err := h.ByToken(h.ctx, token, "192.0.2.7", true)
	if err != nil {
		h.t.Fatal(err)
	}
	h.told()
	return u
}

func (h *house) sql(query string, args ...any) {
	h.t.Helper()
	if _, err := h.st.Pool.Exec(h.ctx, query, args...); err != nil {
		h.t.Fatal(err)
	}
}

// refused holds an error against the kind that it must be of, and words that it says.
func refused(t *testing.T, what string, err error, kind refusal.Kind, words string) {
	t.Helper()
	var e *refusal.Error
	if !errors.As(err, &e) || e.Kind != kind || !strings.Contains(e.Title, words) {
		t.Errorf("%s: %v; wanted %s with %q", what, err, kind, words)
	}
}

func TestInvitingPeople(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add("ines", "admin")
	h.add("tomas", "operator")
	tomas, _ := h.as("tomas")
	_, err := h.Invite(h.ctx, tomas, people.NewPerson{Name: "oda", Roles: []string{"viewer"}})
	refused(t, "by an operator", err, refusal.Forbidden,
		"administer for the whole service is not among what tomas (operator) may")
	for what, c := range map[string]struct {
		n     people.NewPerson
		kind  refusal.Kind
		words string
	}{
		"a strange name": {people.NewPerson{Name: "O da", Roles: []string{"viewer"}}, refusal.Invalid,
			`"O da" is no name for a user`},
		"a long name": {people.NewPerson{Name: strings.Repeat("o", 64), Roles: []string{"viewer"}}, refusal.Invalid,
			"is no name"},
		"no role": {people.NewPerson{Name: "oda"}, refusal.Invalid, "without a role"},
		"no such role": {people.NewPerson{Name: "oda", Roles: []string{"captain"}}, refusal.Invalid,
			`"captain" is no role`},
		"no account": {people.NewPerson{Name: "oda", Roles: []string{"viewer@elsewhere"}}, refusal.NotFound,
			`no account "elsewhere"`},
		"somebody there": {people.NewPerson{Name: "tomas", Roles: []string{"viewer"}}, refusal.Conflict,
			"there is a user tomas already"},
	} {
		_, err := h.Invite(h.ctx, boss, c.n)
		refused(t, what, err, c.kind, c.words)
	}
	if got := h.told(); got != "" {
		t.Errorf("refused, and written down: %s", got)
	}
	i, err := h.Invite(h.ctx, boss, people.NewPerson{
		Name:     "oda",
		FullName: "Oda Fen",
		Roles:    []string{"viewer@saltmere-lab", "viewer@saltmere-lab"},
	})
	if err != nil {
		t.Fatal(err)
	}
	left := time.Until(i.ExpiresAt)
	if i.Link != "https://undersail.example/welcome#"+i.Code || left > 72*time.Hour || left < 71*time.Hour ||
		i.Person.State != people.Invited || i.Person.InvitedUntil == nil || i.Person.MadeBy != "ines" ||
		!slices.Equal(i.Person.Roles, []string{"viewer@saltmere-lab"}) {
		t.Errorf("%+v", i)
	}
	if got := h.told(); got != "ines: invite user oda" {
		t.Error(got)
	}
	_, _, err = h.SignIn(h.ctx, "oda", "", people.From{Address: "192.0.2.9"})
	refused(t, "who has not come yet", err, refusal.Unauthenticated, "not right")
	h.told()

	again, err := h.InviteAgain(h.ctx, boss, "oda")
	if err != nil || again.Code == i.Code || h.told() != "ines: link for user oda" {
		t.Error(again.Code == i.Code, err)
	}
	_, err = h.LookAtInvitation(h.ctx, i.Code)
	refused(t, "the link before", err, refusal.NotFound, "was used, or is over")
	if p, err := h.LookAtInvitation(h.ctx, again.Code); err != nil || p.Name != "oda" {
		t.Error(p, err)
	}
	from := people.From{Address: "192.0.2.9"}
	for what, c := range map[string]struct{ password, words string }{
		"short":   {"tide", "the password: "},
		"derived": {"undersail-oda-1", "the password: "},
		"long":    {strings.Repeat("slack water ", 17), "longer than 200 bytes"},
	} {
		_, _, err := h.TakeInvitation(h.ctx, again.Code, c.password, "", from)
		refused(t, what, err, refusal.Invalid, c.words)
	}
	_, _, err = h.TakeInvitation(h.ctx, "nothing", goodPassword, "", from)
	refused(t, "no such code", err, refusal.NotFound, "was used, or is over")
	u, session, err := h.TakeInvitation(h.ctx, again.Code, goodPassword, "Oda of the Fen", from)
	if err != nil || u.Name != "oda" || u.FullName != "Oda of the Fen" || session.Device == "" ||
		session.Life != 12*time.Hour {
		t.Fatal(u, session.Life, err)
	}
	if got := h.told(); got != "oda: take invitation" {
		t.Error(got)
	}
	_, _, err = h.TakeInvitation(h.ctx, again.Code, goodPassword, "", from)
	refused(t, "taken twice", err, refusal.NotFound, "was used, or is over")
	if who := h.by(session.Token); who.Name != "oda" {
		t.Error(who)
	}
	h.sql("UPDATE users SET disabled_at = now() WHERE name = 'oda'")
	_, err = h.InviteAgain(h.ctx, boss, "oda")
	refused(t, "who is disabled", err, refusal.Conflict, "oda is disabled")
	h.sql("INSERT INTO users (name, full_name, password_hash, roles, issuer, subject) VALUES ('wren', 'Wren', '', " +
		"'{viewer}', 'https://people.example', '1')")
	_, err = h.InviteAgain(h.ctx, boss, "wren")
	refused(t, "who signs in elsewhere", err, refusal.Conflict, "signs in by OpenID Connect")
	_, err = h.InviteAgain(h.ctx, boss, "nobody")
	refused(t, "nobody", err, refusal.NotFound, "there is no user nobody")
	_, err = h.InviteAgain(h.ctx, tomas, "tomas")
	refused(t, "by an operator", err, refusal.Forbidden, "administer")
	list, err := h.List(h.ctx, boss)
	states := ""
	for _, p := range list {
		states += p.Name + " " + p.State + " " + p.SignsInBy + "; "
	}
	if err != nil || states !=
		"ines active password; oda disabled password; tomas active password; wren active openid; " {
		t.Error(states, err)
	}
	if list, err = h.List(h.ctx, tomas); err != nil || len(list) != 1 || list[0].Name != "tomas" {
		t.Error("what an operator is told of people:", list, err)
	}
}

func TestChangingPeople(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add("ines", "admin")
	h.add("tomas", "operator")
	tomas, session := h.as("tomas")
	roles, yes, no, name := []string{"reviewer", "viewer"}, true, false, "Tomas Reed"
	_, err := h.Change(h.ctx, tomas, "tomas", people.PersonChange{Roles: &[]string{"admin"}})
	refused(t, "oneself", err, refusal.Forbidden, "administer")
	_, err = h.Change(h.ctx, boss, "nobody", people.PersonChange{})
	refused(t, "nobody", err, refusal.NotFound, "there is no user nobody")
	_, err = h.Change(h.ctx, boss, "ines", people.PersonChange{Roles: &roles})
	refused(t, "the last administrator", err, refusal.Conflict, "nobody would be left")
	_, err = h.Change(h.ctx, boss, "ines", people.PersonChange{Disabled: &yes})
	refused(t, "the last administrator", err, refusal.Conflict, "nobody would be left")
	_, err = h.Change(h.ctx, boss, "tomas", people.PersonChange{Roles: &[]string{}})
	refused(t, "no roles", err, refusal.Invalid, "without a role")
	if got := h.told(); got != "" {
		t.Error(got)
	}
	p, err := h.Change(h.ctx, boss, "tomas", people.PersonChange{Roles: &roles, FullName: &name})
	if err != nil || p.FullName != name || !slices.Equal(p.Roles, roles) ||
		h.told() != "ines: change roles tomas; ines: rename user tomas" {
		t.Error(p, err)
	}
	if u := h.by(session); u.May("operate", "") || !u.May("decide", "") {
		t.Error("a session has the roles of before")
	}
	if p, err = h.Change(h.ctx, boss, "tomas", people.PersonChange{Disabled: &yes}); err != nil ||
		p.State != people.Disabled || h.told() != "ines: disable user tomas" {
		t.Error(p, err)
	}
	_, err = h.ByToken(h.ctx, session, "", true)
	refused(t, "the session of whoever is disabled", err, refusal.Unauthenticated, "unknown or over")
	_, _, err = h.SignIn(h.ctx, "tomas", goodPassword, people.From{Address: "192.0.2.7"})
	refused(t, "signing in", err, refusal.Forbidden, "tomas is disabled")
	h.told()
	if p, err = h.Change(h.ctx, boss, "tomas", people.PersonChange{Disabled: &no}); err != nil ||
		p.State != people.Active || h.told() != "ines: enable user tomas" {
		t.Error(p, err)
	}
	h.sql("INSERT INTO users (name, full_name, password_hash, roles, issuer, subject) VALUES ('wren', 'Wren', '', " +
		"'{viewer}', 'https://people.example', '1')")
	_, err = h.Change(h.ctx, boss, "wren", people.PersonChange{Roles: &roles})
	refused(t, "whose roles are elsewhere", err, refusal.Conflict, "come from the groups")
}

func TestTokens(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add("ines", "admin")
	h.add("tomas", "operator")
	h.add("nils", "operator@saltmere-lab")
	tomas, _ := h.as("tomas")
	const day = 24 * 60 * 60
	for what, c := range map[string]struct {
		n     people.NewToken
		kind  refusal.Kind
		words string
	}{
		"no name":    {people.NewToken{About: " ", Seconds: day}, refusal.Invalid, "needs a name"},
		"no end":     {people.NewToken{About: "a"}, refusal.Invalid, "needs an end"},
		"before now": {people.NewToken{About: "a", Seconds: -1}, refusal.Invalid, "needs an end"},
		"too long":   {people.NewToken{About: "a", Seconds: 366*day + 1}, refusal.Invalid, "needs an end"},
		"more": {people.NewToken{About: "a", Seconds: day, Roles: []string{"admin"}}, refusal.Forbidden,
			"admin is more than tomas (operator) may"},
		"nothing": {people.NewToken{About: "a", Seconds: day, Roles: []string{}}, refusal.Invalid,
			"without a role"},
		"no such role": {people.NewToken{About: "a", Seconds: day, Roles: []string{"captain"}}, refusal.Invalid,
			"is no role"},
	} {
		_, err := h.AddToken(h.ctx, tomas, c.n)
		refused(t, what, err, c.kind, c.words)
	}
	whole, err := h.AddToken(h.ctx, tomas, people.NewToken{About: "all", Seconds: 366 * day})
	if err != nil || whole.Kind != "bearer" || whole.Owner != "tomas" || whole.Roles != nil || h.told() == "" {
		t.Fatal(whole, err)
	}
	less, err := h.AddToken(h.ctx, tomas, people.NewToken{
		About:   "less",
		Seconds: day,
		Roles:   []string{"viewer@saltmere-lab"},
	})
	if err != nil || !slices.Equal(less.Roles, []string{"viewer@saltmere-lab"}) || h.told() == "" {
		t.Fatal(less, err)
	}
	byAll, byLess := h.by(whole.Value), h.by(less.Value)
	a := byLess.Actor()
	if a.Token != less.ID || !a.Limited || byLess.May("operate", "saltmere-lab") || byLess.Owns("tomas") ||
		byLess.Called() != "tomas (viewer@saltmere-lab)" {
		t.Errorf("%+v", a)
	}
	if a := byAll.Actor(); a.Token != whole.ID || a.Limited || !byAll.Owns("tomas") || tomas.Actor().Token != 0 {
		t.Errorf("%+v", a)
	}
	child, err := h.AddToken(h.ctx, byLess, people.NewToken{About: "child", Seconds: 60})
	if err != nil || !slices.Equal(child.Roles, less.Roles) {
		t.Error("a token of less makes one of more:", child, err)
	}
	_, err = h.AddToken(h.ctx, byLess, people.NewToken{About: "child", Seconds: day + 60})
	refused(t, "one that outlives it", err, refusal.Forbidden, "outlives it")
	_, err = h.AddToken(h.ctx, byLess, people.NewToken{
		About:   "child",
		Seconds: 60,
		Roles:   []string{"operator@saltmere-lab"},
	})
	refused(t, "one that may more", err, refusal.Forbidden, "more than tomas (viewer@saltmere-lab) may")

	abouts := func(u people.User, owner string) string {
		t.Helper()
		list, err := h.Tokens(h.ctx, u, owner)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, x := range list {
			about := x.About
			if x.This {
				about += "!"
			}
			out = append(out, about)
		}
		slices.Sort(out)
		return strings.Join(out, " ")
	}
	nils, _ := h.as("nils")
	for _, c := range []struct {
		what, got, want string
	}{
		{"one's own", abouts(tomas, ""), "all child less terminal!"},
		{"by name", abouts(tomas, "tomas"), "all child less terminal!"},
		{"of one that may less", abouts(byLess, ""), "less!"},
		{"an administrator", abouts(boss, "tomas"), "all child less terminal"},
		{"of everybody", abouts(boss, "*"), "all child less terminal terminal"},
		{"another's own", abouts(nils, ""), "terminal!"},
	} {
		if c.got != c.want {
			t.Errorf("tokens, %s: %q, wanted %q", c.what, c.got, c.want)
		}
	}
	_, err = h.Tokens(h.ctx, nils, "tomas")
	refused(t, "another's", err, refusal.Forbidden, "administer")
	_, err = h.Tokens(h.ctx, byLess, "tomas")
	refused(t, "by a token that may less", err, refusal.Forbidden, "administer")
	_, err = h.Tokens(h.ctx, boss, "nobody")
	refused(t, "nobody's", err, refusal.NotFound, "no user nobody")
	h.told()

	refused(t, "another's", h.RevokeToken(h.ctx, nils, less.ID), refusal.NotFound, "no token")
	refused(t, "the wider one", h.RevokeToken(h.ctx, byLess, whole.ID), refusal.NotFound, "no token")
	refused(t, "none", h.RevokeToken(h.ctx, boss, 999999), refusal.NotFound, "no token")
	if h.told() != "" {
		t.Error("what was refused is written down")
	}
	if err := h.RevokeToken(h.ctx, byLess, less.ID); err != nil || !strings.HasPrefix(h.told(), "tomas: revoke token") {
		t.Error("itself:", err)
	}
	_, err = h.ByToken(h.ctx, less.Value, "", true)
	refused(t, "a token that was revoked", err, refusal.Unauthenticated, "unknown or over")

	refused(t, "another's sessions", h.SignOutEverywhere(h.ctx, nils, "tomas", true), refusal.Forbidden, "administer")
	refused(t, "nobody's", h.SignOutEverywhere(h.ctx, boss, "nobody", true), refusal.NotFound, "no user nobody")
	if err := h.SignOutEverywhere(h.ctx, byAll, "tomas", false); err != nil || abouts(byAll, "") != "all! child" {
		t.Error(abouts(byAll, ""), err)
	}
	if err := h.SignOutEverywhere(h.ctx, boss, "tomas", true); err != nil || abouts(boss, "tomas") != "" ||
		!strings.Contains(h.told(), "ines: sign out everywhere tomas") {
		t.Error(abouts(boss, "tomas"), err)
	}
	given, err := h.IssueToken(h.ctx, "nils", "for the demo")
	if u := h.by(given); err != nil || u.Name != "nils" {
		t.Error(u, err)
	}
	if err := h.SignOut(h.ctx, given); err != nil {
		t.Error(err)
	}
	_, err = h.ByToken(h.ctx, given, "", true)
	refused(t, "after signing out", err, refusal.Unauthenticated, "unknown or over")
	_, err = h.IssueToken(h.ctx, "nobody", "x")
	refused(t, "nobody's", err, refusal.NotFound, "no user nobody")
}

func TestSigningInIsCounted(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add("ines", "admin")
	at := func(address string) people.From { return people.From{Address: address, Terminal: true} }
	try := func(name, password string, from people.From) error {
		_, _, err := h.SignIn(h.ctx, name, password, from)
		return err
	}
	known := at("192.0.2.1")
	if err := try("ines", goodPassword, known); err != nil || h.told() != "ines: sign in" {
		t.Fatal(err)
	}
	for i := range 5 { // one and the same network of IPv6
		refused(t, "wrong", try("ines", "wrong", at("2001:db8::"+string(rune('1'+i)))), refusal.Unauthenticated,
			"the name or the password is not right")
	}
	if got := h.told(); strings.Count(got, "ines: sign in (refused)") != 5 {
		t.Error(got)
	}
	refused(t, "the sixth", try("ines", goodPassword, at("2001:db8::9")), refusal.TooMany, "too many tries")
	if h.told() != "" {
		t.Error("a try that was not looked at is written down")
	}
	if err := try("ines", goodPassword, at("2001:db8:0:1::9")); err != nil {
		t.Error("another network:", err)
	}
	if err := try("ines", goodPassword, known); err != nil {
		t.Error("from where they signed in before:", err)
	}
	for range 5 {
		try("ines", "wrong", known)
	}
	refused(t, "from there too", try("ines", goodPassword, known), refusal.TooMany, "too many tries")
	_, session, err := h.SignIn(h.ctx, "ines", goodPassword, people.From{Address: "192.0.2.33"})
	if err != nil || session.Device == "" {
		t.Fatal(err)
	}
	for i := range 20 {
		try("nobody"+strconv.Itoa(i), "x", at("192.0.2.44"))
	}
	refused(t, "a stranger at an address", try("ines", goodPassword, at("192.0.2.44")), refusal.TooMany,
		"too many tries")
	if err := try("ines", goodPassword, people.From{Address: "192.0.2.44", Device: session.Device}); err != nil {
		t.Error("with a browser that is known:", err)
	}
	h.SignInBy(people.Signing{Life: time.Hour, Idle: time.Minute})
	if _, session, err = h.SignIn(h.ctx, "ines", goodPassword, people.From{
		Address: "192.0.2.44",
		Device:  session.Device,
	}); err != nil || session.Life != time.Hour || session.Device != "" {
		t.Error(session, err)
	}
	h.by(session.Token)
	h.sql("UPDATE tokens SET used_at = now() - interval '2 minutes'")
	if _, err := h.ByToken(h.ctx, session.Token, "", true); err == nil {
		t.Error("a session is used after it lay idle")
	}
	_, session, err = h.SignIn(h.ctx, "ines", goodPassword, people.From{Address: "192.0.2.45"})
	if err != nil {
		t.Fatal(err)
	}
	h.told()
	h.deaf = errors.New("the disk is full")
	err = try("ines", goodPassword, people.From{Address: "192.0.2.44", Device: session.Device})
	if !errors.Is(err, h.deaf) {
		t.Error("signed in, and nobody knows:", err)
	}
	err = try("ines", "wrong", people.From{Address: "192.0.2.44", Device: session.Device})
	if !errors.Is(err, h.deaf) {
		t.Error("a guess that nobody knows of:", err)
	}
}

func TestChangingAPassword(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add("ines", "admin")
	ines, here := h.as("ines")
	_, there := h.as("ines")
	from := people.From{Address: "192.0.2.7"}
	const next = "ebb and flow of the long year"
	refused(t, "by a guess", h.ChangePassword(h.ctx, ines, "a guess", next, here, from), refusal.Unauthenticated,
		"not right")
	refused(t, "a weak one", h.ChangePassword(h.ctx, ines, goodPassword, "short", here, from), refusal.Invalid,
		"the password: ")
	less, err := h.AddToken(h.ctx, ines, people.NewToken{About: "less", Seconds: 3600, Roles: []string{"viewer"}})
	if err != nil {
		t.Fatal(err)
	}
	refused(t, "by a token of less", h.ChangePassword(h.ctx, h.by(less.Value), goodPassword, next, less.Value, from),
		refusal.Forbidden, "changes no password")
	h.told()
	if err := h.ChangePassword(h.ctx, ines, goodPassword, next, here, from); err != nil ||
		h.told() != "ines: change password ines" {
		t.Fatal(err)
	}
	h.by(here)
	_, err = h.ByToken(h.ctx, there, "", true)
	refused(t, "another session", err, refusal.Unauthenticated, "unknown or over")
	_, _, err = h.SignIn(h.ctx, "ines", goodPassword, from)
	refused(t, "the password of before", err, refusal.Unauthenticated, "not right")
	for range 5 {
		h.ChangePassword(h.ctx, ines, "a guess", next, here, from)
	}
	refused(t, "guessing in a session", h.ChangePassword(h.ctx, ines, next, goodPassword, here, from), refusal.TooMany,
		"too many tries")
	if _, _, err := h.SignIn(h.ctx, "ines", next, from); err != nil {
		t.Error("guesses in a session keep out who signs in:", err)
	}
	h.sql("INSERT INTO users (name, full_name, password_hash, roles, issuer, subject) VALUES ('wren', 'Wren', '', " +
		"'{viewer}', 'https://people.example', '1')")
	refused(t, "who signs in elsewhere", h.ChangePassword(h.ctx, people.User{Name: "wren"}, "", next, "", from),
		refusal.Conflict, "with the OpenID provider")

	// A hash that was made more cheaply is made anew when its password is there.
	salt := []byte("sixteen of bytes")
	e := base64.RawStdEncoding
	cheap := "$argon2id$v=19$m=64,t=1,p=1$" + e.EncodeToString(salt) + "$" +
		e.EncodeToString(argon2.IDKey([]byte(next), salt, 1, 64, 1, 32))
	h.sql("UPDATE users SET password_hash = $1 WHERE name = 'ines'", cheap)
	for range 2 {
		if _, _, err := h.SignIn(h.ctx, "ines", next, people.From{Address: "192.0.2.99"}); err != nil {
			t.Fatal(err)
		}
		u, err := h.st.UserByName(h.ctx, "ines")
		if err != nil || secret.IsOutdated(u.PasswordHash) || !secret.CheckPassword(u.PasswordHash, next) {
			t.Error("a cheap hash stays:", err)
		}
	}
}

func TestTheWayInForWhoeverRunsTheService(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	i, err := h.FirstAdmin(h.ctx)
	if err != nil || i == nil || i.Person.Name != "admin" || !slices.Equal(i.Person.Roles, []string{"admin"}) ||
		h.told() != people.OperatorOfHost+": link for administrator admin" {
		t.Fatal(i, err)
	}
	if left := time.Until(i.ExpiresAt); left > 24*time.Hour || left < 23*time.Hour {
		t.Error(left)
	}
	if again, err := h.FirstAdmin(h.ctx); err != nil || again == nil || again.Code == i.Code {
		t.Error("nobody came yet:", again, err)
	}
	h.add("tomas", "operator")
	if i, err = h.FirstAdmin(h.ctx); err != nil || i == nil {
		t.Error("an operator is no administrator:", err)
	}
	h.add("ines", "admin")
	if i, err = h.FirstAdmin(h.ctx); err != nil || i != nil {
		t.Error("there is one:", i, err)
	}
	h.told()
	_, err = h.AdminLink(h.ctx, "No Name")
	refused(t, "no name", err, refusal.Invalid, "is no name for a user")
	_, err = h.AdminLink(h.ctx, "tomas")
	refused(t, "an operator", err, refusal.Conflict, "is no administrator with a password here")
	h.sql("INSERT INTO users (name, full_name, password_hash, roles, issuer, subject) VALUES ('wren', 'Wren', '', " +
		"'{admin}', 'https://people.example', '1')")
	_, err = h.AdminLink(h.ctx, "wren")
	refused(t, "who signs in elsewhere", err, refusal.Conflict, "is no administrator with a password here")
	h.deaf = errors.New("the disk is full")
	if _, err = h.AdminLink(h.ctx, "ines"); !errors.Is(err, h.deaf) {
		t.Error("a link that nobody knows of:", err)
	}
	h.deaf = nil
	if link, err := h.AdminLink(h.ctx, "ines"); err != nil || link.Person.Name != "ines" {
		t.Error(err)
	}
	h.sql("UPDATE users SET disabled_at = now() WHERE name = 'ines'")
	_, err = h.AdminLink(h.ctx, "ines")
	refused(t, "who is disabled", err, refusal.Conflict, "is no administrator")
}

func TestWhoIsAbsentHasNoMoreThanNow(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.add("tomas", "operator", "reviewer@saltmere-lab")
	h.sql("INSERT INTO users (name, full_name, password_hash, roles, issuer, subject, signed_in_at) VALUES ('wren', " +
		"'Wren', '', '{admin}', 'https://people.example', '1', now() - interval '6 days')")
	absent := func(name string, with ...string) people.Absent {
		t.Helper()
		a, err := h.Absent(h.ctx, name, with, time.Now())
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	a := absent("tomas", "reviewer")
	if a.Why != "" || a.User.May("operate", "") || !a.User.May("decide", "") ||
		!slices.Equal(a.Roles, []string{"operator", "reviewer@saltmere-lab"}) || a.User.Name != "tomas" {
		t.Errorf("%+v", a)
	}
	if a := absent("tomas", "admin"); a.User.May("administer", "") || !a.User.May("operate", "") {
		t.Errorf("what they had is more than they have: %+v", a)
	}
	if a := absent("wren", "admin"); a.Why != "" || !a.User.May("administer", "") {
		t.Errorf("%+v", a)
	}
	h.sql("UPDATE users SET signed_in_at = now() - interval '8 days' WHERE name = 'wren'")
	a = absent("wren", "admin")
	if !strings.Contains(a.Why, "was not asked about with the OpenID provider for longer than 7d") ||
		len(a.User.Roles) > 0 {
		t.Errorf("%+v", a)
	}
	h.sql("UPDATE users SET signed_in_at = NULL WHERE name = 'wren'")
	token, err := h.IssueToken(h.ctx, "wren", "for a year")
	if err != nil {
		t.Fatal(err)
	}
	_, err = h.ByToken(h.ctx, token, "", true)
	refused(t, "a token of whoever the provider was not asked about", err, refusal.Unauthenticated,
		"was not asked about wren for longer than 7d")
	if a := absent("wren", "admin"); a.Why == "" {
		t.Errorf("%+v", a)
	}
	h.sql("UPDATE users SET disabled_at = now() WHERE name = 'tomas'")
	if a := absent("tomas", "operator"); a.Why != "is disabled" || len(a.User.Roles) > 0 {
		t.Errorf("%+v", a)
	}
	if a := absent("nobody", "operator"); a.Why != "is nobody here" {
		t.Errorf("%+v", a)
	}
}

func TestRightsInWords(t *testing.T) {
	t.Parallel()
	u := people.User{Name: "oda", Roles: []string{"viewer", "operator@saltmere-lab"}}
	me := u.Myself()
	if len(me.Rights) != 0 || !slices.Equal(me.RightsIn["saltmere-lab"], []string{"operate", "decide"}) ||
		len(me.RightsIn) != 1 {
		t.Errorf("%+v", me)
	}
	if me := boss.Myself(); !slices.Equal(me.Rights, []string{"administer", "operate", "decide", "publish"}) {
		t.Errorf("%+v", me)
	}
	if err := u.MustSomewhere("operate"); err != nil {
		t.Error(err)
	}
	refused(t, "nowhere", u.MustSomewhere("administer"), refusal.Forbidden,
		"for the whole service is not among what oda (viewer, operator@saltmere-lab) may")
	refused(t, "elsewhere", u.Must("operate", "other"), refusal.Forbidden, "operate in account other is not among")
	if err := u.Must("operate", "saltmere-lab"); err != nil {
		t.Error(err)
	}
	if strange := (people.User{Name: "x", Roles: []string{"admin", "captain"}}); strange.May("administer", "") {
		t.Error("roles of a newer program give rights")
	}
}
