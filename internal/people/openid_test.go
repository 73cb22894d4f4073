package people_test

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"undersail/internal/openid"
	"undersail/internal/people"
	"undersail/internal/refusal"
	provider "undersail/sim/openid"
)

// TestPeopleOfAProvider: who they are and what they may is what the provider says at each
// sign-in, and it is written down.
func TestPeopleOfAProvider(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	var p *provider.Provider
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.ServeHTTP(w, r) }))
	t.Cleanup(server.Close)
	p = provider.New(server.URL, []provider.Person{
		{
			Subject:  "1",
			Name:     "Wren",
			FullName: strings.Repeat("W", 300),
			Groups:   []string{"tide-operators", "tide-watch"},
		},
		{Subject: "2", Name: "bram", Groups: []string{"gardeners"}},
		{Subject: "3", Name: "ines", Groups: []string{"tide-watch"}},
		{Subject: "4", Name: "a b", Groups: []string{"tide-watch"}},
	}, map[string]provider.Client{"undersail": {Returns: func(string) bool { return true }}})
	h.add("ines", "admin")
	_, err := h.BeginTerminal(h.ctx, "192.0.2.90")
	refused(t, "where there is none", err, refusal.NotFound, "knows no OpenID provider")
	_, _, err = h.FinishOpenID(h.ctx, "x", "y", "z", "192.0.2.90")
	refused(t, "where there is none", err, refusal.NotFound, "knows no OpenID provider")
	if h.OffersOpenID() {
		t.Error("it offers what it has not")
	}
	known, err := openid.New(openid.Config{
		Issuer:   server.URL,
		ClientID: "undersail",
		Return:   "https://undersail.example/back",
	})
	if err != nil {
		t.Fatal(err)
	}
	h.SignInBy(people.Signing{
		OpenID: known,
		Groups: map[string][]string{"tide-operators": {"operator@saltmere-lab", "viewer"}, "tide-watch": {"viewer"}},
	})
	if !h.OffersOpenID() {
		t.Error("it does not offer what it has")
	}
	from := people.From{Address: "192.0.2.90", Terminal: true}
	as := func(person string) (people.User, people.Session, error) {
		t.Helper()
		h.sql("DELETE FROM tries")
		begun, err := h.BeginTerminal(h.ctx, from.Address)
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := h.AskTerminal(h.ctx, begun.Handle, from); !errors.As(err, new(*refusal.Error)) ||
			!strings.Contains(err.Error(), "nobody has entered the code yet") {
			t.Error("before it was entered:", err)
		}
		res, err := http.PostForm(server.URL+"/enter", url.Values{"user_code": {begun.Code}, "person": {person}})
		if err != nil || res.StatusCode != http.StatusOK {
			t.Fatal(res, err)
		}
		res.Body.Close()
		h.sql("UPDATE signing_in SET next_at = now() - interval '1 second'")
		h.told()
		return h.AskTerminal(h.ctx, begun.Handle, from)
	}
	p.Interval = 0
	u, session, err := as("Wren")
	if err != nil || u.Name != "wren" || len([]rune(u.FullName)) != 203 ||
		!slices.Equal(u.Roles, []string{"operator@saltmere-lab", "viewer"}) || !u.Elsewhere || session.Device != "" {
		t.Fatalf("%+v %v", u, err)
	}
	if got := h.told(); got != "wren: first sign in by openid wren; wren: sign in" {
		t.Error(got)
	}
	if who := h.by(session.Token); !who.May("operate", "saltmere-lab") || who.May("operate", "") {
		t.Errorf("%+v", who)
	}
	p.SetGroups("Wren", "tide-watch")
	if u, _, err = as("Wren"); err != nil || !slices.Equal(u.Roles, []string{"viewer"}) || h.told() != "wren: sign in" {
		t.Errorf("%+v %v", u, err)
	}
	if who := h.by(session.Token); who.May("operate", "saltmere-lab") {
		t.Error("a session of before has the roles of before")
	}
	p.SetGroups("Wren", "gardeners")
	_, _, err = as("Wren")
	refused(t, "who lost all groups", err, refusal.Forbidden, "none of your groups has a role here")
	if got := h.told(); got != "Wren: sign in (refused)" {
		t.Error(got)
	}
	_, err = h.ByToken(h.ctx, session.Token, "", true)
	refused(t, "and their session", err, refusal.Unauthenticated, "unknown or over")
	p.SetGroups("Wren", "tide-watch")
	h.sql("UPDATE users SET disabled_at = now() WHERE name = 'wren'")
	for person, words := range map[string]string{
		"Wren": "wren is disabled",
		"bram": "none of your groups",
		"ines": "there is a user ines here who does not sign in by OpenID Connect as you",
		"a b":  "gives you no name that can be used here",
	} {
		_, _, err = as(person)
		refused(t, person, err, refusal.Forbidden, words)
		if got := h.told(); got != person+": sign in (refused)" {
			t.Error(got)
		}
	}
	for range 120 {
		h.BeginTerminal(h.ctx, "192.0.2.91")
	}
	_, err = h.BeginTerminal(h.ctx, "192.0.2.91")
	refused(t, "after many", err, refusal.TooMany, "too many sign-ins were begun")
	to, keep, err := h.BeginOpenID(h.ctx, "192.0.2.92")
	if err != nil || !strings.HasPrefix(to, server.URL) || keep == "" {
		t.Fatal(to, err)
	}
	at, _ := url.Parse(to)
	for what, c := range map[string][3]string{
		"another browser": {"none", at.Query().Get("state"), "code"},
		"no state":        {keep, "", "code"},
	} {
		_, _, err = h.FinishOpenID(h.ctx, c[0], c[1], c[2], "192.0.2.92")
		refused(t, what, err, refusal.Unauthenticated, "belongs to no sign-in of this browser")
	}
	_, _, err = h.FinishOpenID(h.ctx, keep, at.Query().Get("state"), "code", "192.0.2.92")
	refused(t, "twice", err, refusal.Unauthenticated, "belongs to no sign-in of this browser")
	for state, code := range map[string]string{"another": "code", "own": ""} {
		if to, keep, err = h.BeginOpenID(h.ctx, "192.0.2.92"); err != nil {
			t.Fatal(err)
		}
		if at, _ = url.Parse(to); state == "own" {
			state = at.Query().Get("state")
		}
		_, _, err = h.FinishOpenID(h.ctx, keep, state, code, "192.0.2.92")
		refused(t, "another state or no code", err, refusal.Unauthenticated, "belongs to no sign-in of this browser")
	}
	if to, keep, err = h.BeginOpenID(h.ctx, "192.0.2.92"); err != nil {
		t.Fatal(err)
	}
	at, _ = url.Parse(to)
	_, _, err = h.FinishOpenID(h.ctx, keep, at.Query().Get("state"), "a code that nobody gave", "192.0.2.92")
	refused(t, "a code that nobody gave", err, refusal.Unauthenticated, "the OpenID provider did not sign you in")
	_, _, err = h.AskTerminal(h.ctx, "nothing", from)
	refused(t, "no such handle", err, refusal.Unauthenticated, "the sign-in is over")
	said := h.log.String()
	if !strings.Contains(said, "signing in by OpenID Connect") || strings.Contains(said, "a code that nobody gave") {
		t.Errorf("the log says %q", said)
	}
	away, err := openid.New(openid.Config{Issuer: server.URL + "/none", ClientID: "undersail"})
	if err != nil {
		t.Fatal(err)
	}
	h.log.Reset()
	h.SignInBy(people.Signing{OpenID: away})
	_, err = h.BeginTerminal(h.ctx, "192.0.2.94")
	refused(t, "a provider that is not there", err, refusal.CloudRefused, "does not answer as it should")
	if said := h.log.String(); !strings.Contains(said, "signing in by OpenID Connect") {
		t.Errorf("the log says %q", said)
	}
}
