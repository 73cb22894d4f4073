package people_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"undersail/internal/openid"
	"undersail/internal/people"
	"undersail/internal/refusal"
	provider "undersail/sim/openid"
)

// provided starts a provider of ID tokens.
func provided(t *testing.T) *provider.Provider {
	t.Helper()
	var p *provider.Provider
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.ServeHTTP(w, r) }))
	t.Cleanup(server.Close)
	p = provider.New(server.URL, nil, nil)
	return p
}

func TestAPipelineSignsInForMinutes(t *testing.T) {
	t.Parallel()
	h, p := newHouse(t), provided(t)
	h.add("tomas", "operator")
	from := people.From{Address: "192.0.2.80", Terminal: true}
	_, err := h.SignInPipeline(h.ctx, "x", from)
	refused(t, "where there are none", err, refusal.NotFound, "knows no pipelines")
	let := func(minutes int, rules ...openid.Pipeline) {
		t.Helper()
		for i := range rules {
			rules[i].Issuer, rules[i].Minutes = p.Issuer, minutes
		}
		known, err := openid.NewPipelines(rules)
		if err != nil {
			t.Fatal(err)
		}
		h.SignInBy(people.Signing{Pipelines: known})
	}
	gauges := openid.Pipeline{
		Name:   "gauges",
		Claims: map[string]string{"repository": "tide-office/gauges", "protected": "true", "attempt": "2"},
		Roles:  []string{"operator@saltmere-lab"},
	}
	let(0, openid.Pipeline{
		Name:   "other",
		Claims: map[string]string{"repository": "tide-office/other"},
		Roles:  []string{"viewer"},
	}, gauges)
	mint := func(audience string, change map[string]any) string {
		t.Helper()
		claims := map[string]any{"repository": "tide-office/gauges", "protected": true, "attempt": 2}
		for k, v := range change {
			claims[k] = v
		}
		raw, err := p.Pipeline(audience, claims)
		if err != nil {
			t.Fatal(err)
		}
		return raw
	}
	raw := mint("undersail", nil)
	made, err := h.SignInPipeline(h.ctx, "\n"+raw+"\n", from)
	if err != nil {
		t.Fatal(err)
	}
	if got := h.told(); got != "gauges: first sign in of a pipeline gauges; gauges: sign in" {
		t.Error(got)
	}
	u := h.by(made.Value)
	left := time.Until(made.ExpiresAt)
	if left > 15*time.Minute || left < 14*time.Minute || made.About != "signed in as work" {
		t.Error(left, made.About)
	}
	if u.Name != "gauges" || !u.May("operate", "saltmere-lab") || u.May("decide", "other") || u.May("operate", "") ||
		u.Actor().Token != made.ID {
		t.Errorf("%+v", u)
	}
	if list, err := h.List(h.ctx, boss); err != nil || list[0].Name != "gauges" || list[0].SignsInBy != "pipeline" ||
		list[0].State != people.Active {
		t.Error(list, err)
	}
	_, err = h.AddToken(h.ctx, u, people.NewToken{About: "for a year", Seconds: 365 * 24 * 60 * 60})
	refused(t, "a token of a year by one of minutes", err, refusal.Forbidden, "outlives it")
	_, err = h.SignInPipeline(h.ctx, raw, from)
	refused(t, "a token that was used", err, refusal.Unauthenticated, "was used already")
	_, err = h.SignInPipeline(h.ctx, raw+"=", from)
	refused(t, "written otherwise", err, refusal.Unauthenticated, "")
	h.told()

	for what, token := range map[string]string{
		"another audience":   mint("somebody-else", nil),
		"another repository": mint("undersail", map[string]any{"repository": "tide-office/gauge"}),
		"no claim":           mint("undersail", map[string]any{"protected": nil}),
		"a claim in a list":  mint("undersail", map[string]any{"repository": []string{"tide-office/gauges"}}),
		"for two readers":    mint("undersail", map[string]any{"aud": []string{"undersail", "another"}}),
		"for another party":  mint("undersail", map[string]any{"azp": "another"}),
		"no token":           "nothing", "an empty one": "", "no issuer": "e30.e30.e30",
	} {
		_, err := h.SignInPipeline(h.ctx, token, from)
		refused(t, what, err, refusal.Unauthenticated, "no pipeline is let in")
		if got := h.told(); got != "a pipeline: sign in (refused)" {
			t.Error(what, got)
		}
	}
	for _, fault := range []string{provider.OtherIssuer, provider.OtherKey, provider.Ended, provider.Unsigned} {
		p.Fail(fault)
		_, err := h.SignInPipeline(h.ctx, mint("undersail", nil), from)
		refused(t, "fault "+fault, err, refusal.Unauthenticated, "no pipeline is let in")
	}

	if said := h.log.String(); !strings.Contains(said, "its claim repository is not that of pipeline gauges") {
		t.Errorf("the log says %q", said)
	}

	// What the operator takes away is gone at this moment, for tokens and for what was said.
	let(5, openid.Pipeline{Name: "gauges", Claims: gauges.Claims, Roles: []string{"viewer@saltmere-lab"}})
	if u := h.by(made.Value); u.May("operate", "saltmere-lab") {
		t.Error("a pipeline has roles that were taken away")
	}
	if a, err := h.Absent(h.ctx, "gauges", []string{"operator@saltmere-lab"}, time.Now()); err != nil ||
		a.User.May("operate", "saltmere-lab") {
		t.Error(a, err)
	}
	if made, err = h.SignInPipeline(h.ctx, mint("undersail", nil), from); err != nil ||
		time.Until(made.ExpiresAt) > 5*time.Minute {
		t.Error(made.ExpiresAt, err)
	}
	h.SignInBy(people.Signing{})
	if u := h.by(made.Value); len(u.Grants()) > 0 {
		t.Errorf("a pipeline that nobody lets in has %v", u.Grants())
	}

	let(5, openid.Pipeline{Name: "tomas", Claims: gauges.Claims, Roles: []string{"viewer"}})
	_, err = h.SignInPipeline(h.ctx, mint("undersail", nil), from)
	refused(t, "a pipeline that is called as somebody", err, refusal.Forbidden,
		"there is a user tomas here who is not this pipeline")
	let(5, gauges)
	h.sql("UPDATE users SET disabled_at = now() WHERE name = 'gauges'")
	_, err = h.SignInPipeline(h.ctx, mint("undersail", nil), from)
	refused(t, "one that is disabled", err, refusal.Forbidden, "gauges is disabled")
	_, err = h.Change(h.ctx, boss, "gauges", people.PersonChange{Roles: &[]string{"admin"}})
	refused(t, "its roles", err, refusal.Conflict, "those of a pipeline")
	for range 120 {
		if _, err = h.SignInPipeline(h.ctx, "nothing", people.From{Address: "192.0.2.81"}); err == nil {
			t.Fatal("nothing signs in")
		}
	}
	_, err = h.SignInPipeline(h.ctx, mint("undersail", nil), people.From{Address: "192.0.2.81"})
	refused(t, "after many tries", err, refusal.TooMany, "too many sign-ins")
}

func TestPipelinesAreNamedWhole(t *testing.T) {
	t.Parallel()
	good := openid.Pipeline{
		Name:   "gauges",
		Issuer: "https://pipelines.saltmere.example",
		Claims: map[string]string{"sub": "x"},
		Roles:  []string{"viewer"},
	}
	for words, change := range map[string]func(*openid.Pipeline){
		"small letters":            func(p *openid.Pipeline) { p.Name = "Gauges" },
		"names no claim":           func(p *openid.Pipeline) { p.Claims = nil },
		"it has no role":           func(p *openid.Pipeline) { p.Roles = nil },
		"61 minutes":               func(p *openid.Pipeline) { p.Minutes = 61 },
		"-1 minutes":               func(p *openid.Pipeline) { p.Minutes = -1 },
		"must be reached by https": func(p *openid.Pipeline) { p.Issuer = "http://pipelines.saltmere.example" },
		"the URL of its issuer":    func(p *openid.Pipeline) { p.Issuer = "" },
	} {
		bad := good
		change(&bad)
		_, err := openid.NewPipelines([]openid.Pipeline{bad})
		if err == nil || !strings.Contains(err.Error(), words) || !strings.HasPrefix(err.Error(), "pipeline 1, ") {
			t.Errorf("%s: %v", words, err)
		}
	}
	_, err := openid.NewPipelines([]openid.Pipeline{good, good})
	if err == nil || !strings.Contains(err.Error(), "two have this name") {
		t.Error(err)
	}
	if _, err := openid.NewPipelines([]openid.Pipeline{good}); err != nil {
		t.Error(err)
	}
}
