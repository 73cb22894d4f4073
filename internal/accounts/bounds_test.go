package accounts_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"undersail/internal/accounts"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/reach"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
	"undersail/internal/store"
	"undersail/sim/world"
)

func findings(p proposing.Proposal, err error) []render.Finding {
	if refused, ok := err.(*refusal.Error); ok {
		return refused.Findings
	}
	return p.Findings
}

func has(list []render.Finding, code, text string) bool {
	return slices.ContainsFunc(list, func(f render.Finding) bool {
		return f.Code == code && strings.Contains(f.Message, text) && f.Remedy != ""
	})
}

// TestWhatAnAccountDoesNotAllowIsFoundBeforeTheFirstCall: each remedy makes it pass.
func TestWhatAnAccountDoesNotAllowIsFoundBeforeTheFirstCall(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	site := proposing.NewProposal{
		Stack:   "site",
		Source:  servicetest.Example(t, "warning-site"),
		Account: "saltmere-lab",
		Region:  "north-fell",
	}
	r.Await(s, r.Apply(s, "other", "warning-site", map[string]any{"range": "10.199.0.0/24"}))
	bound := func(b accounts.Bounds) {
		t.Helper()
		if _, err := s.Accounts.Bound(ctx, r.Admin, "saltmere-lab", b); err != nil {
			t.Fatal(servicetest.Explain(err))
		}
	}
	propose := func() []render.Finding {
		t.Helper()
		return findings(s.Proposing.Propose(ctx, r.Admin, site))
	}
	p := func(x float64) *float64 { return &x }
	only, none := []string{"ember-coast"}, []string{}
	soon, never, week := time.Now().Add(time.Second), time.Time{}, int64(7*24*3600)

	bound(accounts.Bounds{AllowedRegions: &only})
	if list := propose(); !has(list, "region-not-allowed", "north-fell") {
		t.Errorf("%v", list)
	}
	bound(accounts.Bounds{AllowedRegions: &none, EndsAt: &soon})
	if list := propose(); !has(list, "account-ends", "the lab account saltmere-lab end") {
		t.Errorf("%v", list)
	}
	bound(accounts.Bounds{EndsAt: &never, Budget: p(10)})
	if list := propose(); !has(list, "budget", "its budget is 10") {
		t.Errorf("%v", list)
	}
	bound(accounts.Bounds{Budget: p(-1), LeaseSeconds: &week})
	if list := propose(); !has(list, "lease", "7d") || render.HasErrors(list) {
		t.Errorf("%v", list)
	}
	// The cloud says what the rights include, when it is asked.
	r.Fault(world.Fault{Kind: "denied", On: "firewalls", Count: -1})
	d, err := s.Accounts.Test(ctx, r.Admin, "saltmere-lab")
	if err != nil || slices.Contains(d.Identity.Makes, "firewall") || !slices.Contains(d.Identity.Makes, "disk") {
		t.Fatalf("%+v %v", d.Identity, err)
	}
	if list := propose(); !has(list, "permission", "may not make a firewall") {
		t.Errorf("%v", list)
	}
	r.Lift()
	if _, err := s.Accounts.Test(ctx, r.Admin, "saltmere-lab"); err != nil {
		t.Fatal(err)
	}
	tags := map[string]string{"owner": "forecasting"}
	bound(accounts.Bounds{Tags: &tags})
	if list := propose(); render.HasErrors(list) {
		t.Errorf("after every remedy: %v", list)
	}
	r.Await(s, r.Apply(s, "site", "warning-site", nil))
	for _, x := range r.Ledger().Alive {
		if x.Tags["undersail-stack"] == "site" && x.Tags["owner"] != "forecasting" {
			t.Errorf("%s has the tags %v", x.Name, x.Tags)
		}
	}
	if v, err := s.Stacks.Verify(ctx, r.Admin, "site"); err != nil || !v.Healthy {
		t.Errorf("%+v %v", v, err)
	}
	wrong := map[string]string{"undersail-stack": "x"}
	_, err = s.Accounts.Bound(ctx, r.Admin, "saltmere-lab", accounts.Bounds{Tags: &wrong})
	if servicetest.Kind(err) != refusal.Invalid {
		t.Errorf("our own mark as a tag: %v", err)
	}
	_, err = s.Accounts.Bound(ctx, servicetest.Operator, "saltmere-lab", accounts.Bounds{})
	if servicetest.Kind(err) != refusal.Forbidden {
		t.Errorf("an operator bounds an account: %v", err)
	}
}

func TestCredentialsThatEndBeforeTheRunAreFound(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 1) // a run would take minutes
	s, _ := r.Still(engine.Config{}, nil)
	ctx := context.Background()
	servicetest.Query(t, r,
		`UPDATE accounts SET identity = jsonb_set(identity, '{ends}', to_jsonb(to_char(now() + interval '30 seconds', 'YYYY-MM-DD"T"HH24:MI:SS"Z"'))), tested_at = now()`)
	site := proposing.NewProposal{
		Stack:   "site",
		Source:  servicetest.Example(t, "warning-site"),
		Account: "saltmere-lab",
		Region:  "north-fell",
	}
	list := findings(s.Proposing.Propose(ctx, r.Admin, site))
	if !has(list, "credentials-end", "the credentials of account saltmere-lab end") {
		t.Errorf("%v", list)
	}
	r.Renew(s)
	if list := findings(s.Proposing.Propose(ctx, r.Admin, site)); render.HasErrors(list) {
		t.Errorf("after renewing: %v", list)
	}
}

// TestAnAccountThatVanishedIsClosedWithItsStacks: not before it is gone, and what was
// known there is told.
func TestAnAccountThatVanishedIsClosedWithItsStacks(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	r.Await(s, r.Apply(s, "site", "warning-site", nil))
	for gone, words := range map[bool]string{false: "living stacks: site", true: "it is not gone"} {
		_, err := s.Accounts.Close(ctx, r.Admin, "saltmere-lab", "", gone)
		if servicetest.Kind(err) != refusal.Conflict || !strings.Contains(err.Error(), words) {
			t.Errorf("gone %t: %v", gone, err)
		}
	}
	p, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:  "site",
		Inputs: map[string]any{"headline": "Flood expected"},
	})
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	r.Fault(world.Fault{Kind: "credentials-end", Count: -1})
	if d, err := s.Accounts.Test(ctx, r.Admin, "saltmere-lab"); err != nil || d.Problem == "" || d.Remedy == "" {
		t.Errorf("%+v %v", d, err)
	}
	closed, err := s.Accounts.Close(ctx, r.Admin, "saltmere-lab", "the course is over", true)
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if len(closed.Stacks) != 1 || len(closed.Stacks[0].Resources) != 4 || closed.Account.ClosedAt == nil ||
		!strings.Contains(closed.Account.ClosedWhy, "the course is over") {
		t.Errorf("%+v", closed)
	}
	if list, err := s.Stacks.List(ctx, "", 10); err != nil || len(list) != 0 {
		t.Errorf("%v %v", list, err)
	}
	if got, err := s.Proposing.Show(ctx, p.ID); err != nil || got.State != "refused" {
		t.Errorf("a proposal is %s, %v", got.State, err)
	}
	if _, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:   "new",
		Source:  servicetest.Example(t, "warning-site"),
		Account: "saltmere-lab",
		Region:  "north-fell",
	}); servicetest.Kind(err) != refusal.Conflict || !strings.Contains(err.Error(), "was closed") {
		t.Errorf("a stack in a closed account: %v", err)
	}
	entries, err := s.Journal.List(ctx, r.Admin, store.AuditQuery{Action: "close account"})
	if err != nil || len(entries) != 1 || entries[0].Detail["stacks"] == nil {
		t.Errorf("%v %v", entries, err)
	}
	_, err = s.Accounts.Renew(ctx, r.Admin, "saltmere-lab", nil)
	if servicetest.Kind(err) != refusal.Conflict || !strings.Contains(err.Error(), "was closed") {
		t.Errorf("renewing what is forgotten: %v", err)
	}
	r.Lift()
	r.Renew(s) // it is there again
	_, err = s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:   "new",
		Source:  servicetest.Example(t, "warning-site"),
		Account: "saltmere-lab",
		Region:  "north-fell",
		Inputs:  map[string]any{"range": "10.199.0.0/24"},
	})
	if err != nil {
		t.Errorf("after adding it again: %v", servicetest.Explain(err))
	}
}

func TestAnAccountHasPricesOfItsOwn(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Still(engine.Config{}, nil)
	ctx := context.Background()
	before, err := s.Accounts.Offers(ctx, "saltmere-lab", "north-fell", false)
	if err != nil {
		t.Fatal(err)
	}
	set := func(l offer.PriceList) error {
		_, err := s.Accounts.Bound(ctx, r.Admin, "saltmere-lab", accounts.Bounds{Prices: &l})
		return err
	}
	hour := func() float64 {
		t.Helper()
		o, err := s.Accounts.Offers(ctx, "saltmere-lab", "north-fell", false)
		if err != nil {
			t.Fatal(err)
		}
		size, _ := o.Size("plain-1")
		return size.Hour
	}
	was := hour()
	if err := set(offer.PriceList{Currency: before.Currency, Sizes: map[string]float64{"plain-1": 0.5}}); err != nil ||
		hour() != 0.5 {
		t.Errorf("%v, %v an hour", err, hour())
	}
	p, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:   "site",
		Source:  servicetest.Example(t, "warning-site"),
		Account: "saltmere-lab",
		Region:  "north-fell",
	})
	if err != nil || p.Cost.Hour < 0.5 {
		t.Errorf("a proposal costs %v, %v", p.Cost.Hour, err)
	}
	err = set(offer.PriceList{Currency: "kr", Sizes: map[string]float64{"plian-1": 1}})
	if servicetest.Kind(err) != refusal.Invalid || !strings.Contains(err.Error(), `sells "plian-1"`) {
		t.Errorf("a slip: %v", err)
	}
	if err := set(offer.PriceList{}); err != nil || hour() != was {
		t.Errorf("without the list it costs %v, %v", hour(), err)
	}
}

// TestAnAccountThatPaysForKeptThingsIsNotClosed: until they are removed, or it is gone.
func TestAnAccountThatPaysForKeptThingsIsNotClosed(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	source := "undersail: 1\nabout: {name: store, version: 1.0.0, title: Store}\nresources:\n  data: {type: disk, " +
		"at_retire: keep, want: {size: 10GiB, type: solid}}\n"
	r.Await(s, r.ApplySource(s, "store", source, nil))
	p, err := s.Proposing.Retire(ctx, r.Admin, "store")
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	r.Await(s, r.Carry(s, p))
	if _, err := s.Accounts.Close(ctx, r.Admin, "saltmere-lab", "", false); servicetest.Kind(err) != refusal.Conflict ||
		!strings.Contains(err.Error(), "disk store/data") {
		t.Errorf("%v", err)
	}
	r.Fault(world.Fault{Kind: "credentials-end", Count: -1})
	closed, err := s.Accounts.Close(ctx, r.Admin, "saltmere-lab", "", true)
	if err != nil || len(closed.Kept) != 1 || !strings.HasPrefix(closed.Kept[0], "disk store/data ") {
		t.Errorf("%+v %v", closed, err)
	}
	if list, err := s.Proposing.Kept(ctx); err != nil || len(list) != 0 {
		t.Errorf("it is still listed: %v %v", list, err)
	}
}

// TestCredentialsAreShownToNoAddressInside: an endpoint in the network of the service, or
// the address at which clouds answer for the machine that asks.
func TestCredentialsAreShownToNoAddressInside(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	asked := 0
	inside := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked++ }))
	defer inside.Close()
	policy, err := reach.NewPolicy()
	if err != nil {
		t.Fatal(err)
	}
	s, _ := r.Still(engine.Config{}, nil) // adds the rig's account
	closed, _ := r.Still(engine.Config{Reach: policy}, nil)
	for _, endpoint := range []string{inside.URL, "http://169.254.169.254", "http://10.1.1.1", "http://[::1]:80"} {
		n := accounts.NewAccount{
			Name:        "inside",
			Cloud:       "larch",
			Endpoint:    endpoint,
			Credentials: map[string]string{"client_id": "x", "client_secret": "y"},
		}
		_, err := closed.Accounts.Add(context.Background(), r.Admin, n)
		if servicetest.Kind(err) != refusal.CloudRefused || !strings.Contains(err.Error(), "reached") {
			t.Errorf("%s: %v", endpoint, err)
		}
	}
	if asked > 0 {
		t.Errorf("a server inside was asked %d times", asked)
	}
	if d, err := s.Accounts.Test(context.Background(), r.Admin, "saltmere-lab"); err != nil || d.Problem != "" {
		t.Errorf("where it is opened: %s %v", d.Problem, err)
	}
}
