package proposing_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"undersail/internal/audit"
	"undersail/internal/await"
	"undersail/internal/core/fit"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/core/storage"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
	"undersail/internal/store"
	"undersail/sim"
	"undersail/sim/market"
)

const modelLine = "model: {type: instance, want: {size: plain-4, image: tide-model-5, subnet: =lan.id}}"

func names(list []render.Consent) string {
	var out []string
	for _, c := range list {
		out = append(out, c.Name)
	}
	return strings.Join(out, " ")
}

func TestConsentsAreAskedByNameOnceAndRecorded(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	most := 20.0
	if _, err := b.Service.Accounts.Limit(ctx, b.Rig.Admin, "saltmere-lab", &most); err != nil {
		t.Fatal(err)
	}
	source := servicetest.Source(servicetest.NetLine, servicetest.LanLine, modelLine,
		"open: {type: firewall, want: {network: =net.id, rules: [{from: 0.0.0.0/1, port: 5432}, {from: 128.0.0.0/1, "+
			"port: 5432}]}}", "watched: {type: address, features: [monitoring]}")
	p := b.Propose("coast", source)
	if got := names(p.Consents); got != "open-access terms features cost" {
		t.Fatalf("asked for are %s", got)
	}
	_, err := b.Service.Proposing.Accept(ctx, b.Rig.Admin, p.ID, []string{"open-access", "cost"}, "")
	servicetest.WantKind(t, err, refusal.Consent, "")
	b.Done(p)
	p, err = b.Service.Proposing.Show(ctx, p.ID)
	if err != nil || len(p.Given) != 4 || p.Given[0].By != "ines" || p.Given[0].At.IsZero() {
		t.Errorf("recorded are %v (%v)", p.Given, err)
	}
	// Nothing of it is asked again, and terms were accepted at the cloud.
	again := b.Propose("coast", strings.Replace(source, "plain-4", "plain-8", 1))
	if names(again.Consents) != "cost stop" {
		t.Errorf("asked for again: %v", again.Consents)
	}
	o, err := b.Service.Accounts.Offers(ctx, "saltmere-lab", "north-fell", true)
	if image, _ := o.Image("tide-model-5"); err != nil || image.Terms == nil || !image.Terms.Accepted {
		t.Errorf("the terms: %+v %v", image.Terms, err)
	}
	if slices.Contains(o.Off, "monitoring") {
		t.Errorf("monitoring is off, and somebody agreed to turn it on: %v", o.Off)
	}
	if elsewhere, err := b.Service.Accounts.Offers(ctx, "saltmere-lab", "ember-coast", true); err != nil ||
		!slices.Contains(elsewhere.Off, "monitoring") {
		t.Errorf("it is on in a region where nobody asked: %v %v", elsewhere.Off, err)
	}
	if p.Cost.Licence == 0 || p.Cost.Month <= most {
		t.Errorf("the cost %+v", p.Cost)
	}
	list, err := b.Service.Journal.List(ctx, b.Rig.Admin, store.AuditQuery{})
	at := slices.IndexFunc(list, func(e audit.Entry) bool { return e.Action == "turn feature on" })
	if err != nil || at < 0 || list[at].Detail["feature"] != "monitoring" || list[at].Detail["region"] != "north-fell" {
		t.Errorf("nobody wrote down that a feature was turned on: %v %v", list, err)
	}
}

func TestTheOrganisationsRulesBindAndAreTried(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Apply("coast", servicetest.Source(servicetest.NetLine))
	forbid := policy.Rule{
		Name:   "owner",
		Does:   policy.Forbid,
		Types:  []string{"network"},
		That:   "has(tags.owner)",
		Says:   "nobody owns it",
		Remedy: "add tags: {owner: NAME}",
	}
	trials, err := b.Service.Stacks.TryPolicy(ctx, b.Rig.Admin, forbid, nil)
	if err != nil || len(trials) != 1 || trials[0].Stack != "coast" || trials[0].Findings[0].Place != "net" {
		t.Fatalf("tried: %+v %v", trials, err)
	}
	if list, _ := b.Service.Templates.Policies(ctx); len(list) != 0 {
		t.Error("trying keeps the rule")
	}
	for version, rule := range []policy.Rule{forbid,
		{
			Name: "owner",
			Does: policy.Ask,
			That: `!resources.exists(r, r.type == "network" && !("owner" in r.tags))`,
			Says: "a network has no owner",
		}} {
		if p, err := b.Service.Templates.AddPolicy(ctx, b.Rig.Admin, rule); err != nil || p.Version != version+1 {
			t.Fatalf("version %d: %v", p.Version, err)
		}
		switch rule.Does {
		case policy.Forbid:
			text := b.Refused("quay", servicetest.Source(strings.Replace(servicetest.NetLine, "10.20", "10.29", 1)),
				"policy:owner")
			if !strings.Contains(text, "nobody owns it") {
				t.Error(text)
			}
		default:
			p := b.Propose("quay", servicetest.Source(strings.Replace(servicetest.NetLine, "10.20", "10.29", 1)))
			if names(p.Consents) != "policy-owner" {
				t.Errorf("asked for: %v", p.Consents)
			}
		}
	}
	if err := b.Service.Templates.RemovePolicy(ctx, b.Rig.Admin, "owner"); err != nil {
		t.Fatal(err)
	}
	if versions, err := b.Service.Templates.PolicyVersions(ctx, "owner"); err != nil || len(versions) != 3 ||
		versions[0].Does != "nothing" {
		t.Errorf("versions: %+v %v", versions, err)
	}
	servicetest.WantKind(t, b.Service.Templates.RemovePolicy(ctx, b.Rig.Admin, "owner"), refusal.Conflict,
		"withdrawn already")
	_, err = b.Service.Templates.AddPolicy(ctx, b.Rig.Admin, policy.Rule{
		Name: "bad",
		Does: policy.Warn,
		That: "want.size >",
		Says: "x",
	})
	servicetest.WantKind(t, err, refusal.Invalid, "column")
	_, err = b.Service.Templates.AddPolicy(ctx, people.User{Name: "tam", Roles: []string{"viewer"}}, forbid)
	servicetest.WantKind(t, err, refusal.Forbidden, "")
	_, err = b.Service.Templates.PolicyVersions(ctx, "ownr")
	servicetest.WantKind(t, err, refusal.NotFound, "")
}

const freeSource = "undersail: 1\nabout: {name: free, version: 1.0.0, title: F}\ninputs: {range: {type: string, " +
	"format: cidr, free: 20}}\nresources: {net: {type: network, want: {range: =inputs.range}}}\noutputs: {range: " +
	"{value: =net.range}}\n"

func rangeOf(p proposing.Proposal) string {
	for _, in := range p.Inputs {
		if in.Name == "range" {
			return fmt.Sprint(in.Value)
		}
	}
	return ""
}

func TestAFreeRangeIsDrawnOnceAndNotTwice(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	_, err := b.Service.Accounts.DeclareRange(ctx, b.Rig.Admin, "saltmere-lab", "10.0.0.0/18", "the tide office")
	if err != nil {
		t.Fatal(err)
	}
	first, second := b.Propose("one", freeSource), b.Propose("two", freeSource)
	if rangeOf(first) != "10.0.64.0/20" || rangeOf(second) != "10.0.80.0/20" {
		t.Fatalf("drawn are %s and %s", rangeOf(first), rangeOf(second))
	}
	m, err := b.Service.Accounts.Addresses(ctx, "saltmere-lab", "north-fell", 20)
	if err != nil || len(m.Map.Areas) != 3 || m.Map.Next[0].String() != "10.0.96.0/20" ||
		m.Map.Areas[2].Kind != "wanted" {
		t.Errorf("the map: %+v %v", m.Map, err)
	}
	b.Done(first)
	// Proposed again it keeps what was drawn, though lower ones are free by now.
	if _, err := b.Service.Accounts.RemoveRange(ctx, b.Rig.Admin, "saltmere-lab", "10.0.0.0/18"); err != nil {
		t.Fatal(err)
	}
	if p := b.Propose("one", freeSource); p.State != proposing.Nothing {
		t.Errorf("again it is %s %s", p.Summary, rangeOf(p))
	}
	_, err = b.Service.Accounts.DeclareRange(ctx, b.Rig.Admin, "saltmere-lab", "10.0.0.1/18", "")
	servicetest.WantKind(t, err, refusal.Invalid, "not a range")
	_, err = b.Service.Accounts.RemoveRange(ctx, b.Rig.Admin, "saltmere-lab", "10.99.0.0/16")
	servicetest.WantKind(t, err, refusal.NotFound, "")
}

func TestOpenProposalsCountAgainstQuotas(t *testing.T) {
	b := servicetest.NewBench(t, map[string]int64{"networks": 2})
	b.Propose("one", freeSource)
	b.Propose("two", freeSource)
	p := b.Propose("three", freeSource)
	i := slices.IndexFunc(p.Findings, func(f render.Finding) bool { return f.Code == "quota" })
	if i < 0 || !strings.Contains(p.Findings[i].Message, "open proposals of other stacks want 2") {
		t.Errorf("findings: %v", p.Findings)
	}
	if q := p.Quota[0]; q.Name != "networks" || q.Adds != 1 || q.Left != 1 || q.Wanted != 2 {
		t.Errorf("quota: %+v", p.Quota)
	}
}

// question asks what a proposal would be.
func question(b *servicetest.Bench, source string, inputs map[string]any) proposing.Answer {
	b.T.Helper()
	a, err := b.Service.Proposing.Check(context.Background(), b.Rig.Admin, proposing.Question{
		NewProposal: proposing.NewProposal{
			Stack:   "asked",
			File:    "asked.sail.yaml",
			Source:  source,
			Account: "saltmere-lab",
			Region:  "north-fell",
			Inputs:  inputs,
		},
	})
	if err != nil {
		b.T.Fatal(servicetest.Explain(err))
	}
	return a
}

const formSource = `undersail: 1
about: {name: form, version: 1.0.0, title: F, takes: 5m}
inputs:
  size: {picks: size, needs: {vcpus: 2}, page: Machine, title: Size}
  stations: {type: integer, default: 20, page: Load, advice: '=string(inputs.stations) + " stations send " + string(inputs.stations * 4) + " readings a minute"'}
  range: {type: string, format: cidr, default: 10.8.0.0/24, page: Load}
resources:
  net: {type: network, want: {range: =inputs.range}}
  lan: {type: subnet, want: {network: =net.id, range: =inputs.range}}
  site: {type: instance, want: {size: =inputs.size, image: debian-12, subnet: =lan.id}}
`

func TestAFormIsAnsweredWithoutTheCloud(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	// The offers of every region are read once; else they would be read in the background.
	if _, err := b.Service.Proposing.Fit(ctx, proposing.Search{Account: "saltmere-lab"}); err != nil {
		t.Fatal(err)
	}
	question(b, formSource, nil)
	before := len(b.Rig.Ledger().Calls)
	a := question(b, formSource, map[string]any{"size": "plain-1", "range": "10.8.0.0/29"})
	if calls := len(b.Rig.Ledger().Calls); calls != before {
		t.Errorf("%d calls were made to the cloud", calls-before)
	}
	if len(a.Pages) != 2 || a.Pages[0].Title != "Machine" || a.Pages[0].Errors != 1 ||
		!strings.Contains(a.Pages[0].Fields[0].Findings[0].Message, "it has 1 vcpus and 2 are needed") {
		t.Errorf("pages: %+v", a.Pages)
	}
	if f := a.Pages[1].Fields[0]; f.Advice != "20 stations send 80 readings a minute" || f.Origin != "default" {
		t.Errorf("field: %+v", f)
	}
	a = question(b, formSource, map[string]any{"size": "plain-2"})
	if a.Errors != 0 || a.Cost.Month == 0 || a.Seconds == 0 || len(a.Longest) == 0 || len(a.Quota) == 0 ||
		len(a.Graph) != 3 || len(a.Compliance) != 1 || !a.Compliance[0].Met || a.Summary != "3 create" {
		t.Errorf("answer: %+v", a)
	}
	q := proposing.Question{
		NewProposal: proposing.NewProposal{
			Stack:   "asked",
			File:    "asked.sail.yaml",
			Source:  formSource,
			Account: "saltmere-lab",
			Region:  "north-fell",
			Inputs:  map[string]any{"size": "plain-2"},
		},
		Graph: a.GraphDigest,
		Form:  "f",
		Seq:   2,
	}
	if again, err := b.Service.Proposing.Check(ctx, b.Rig.Admin, q); err != nil || again.Graph != nil {
		t.Errorf("the graph is sent again: %v %v", again.Graph, err)
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := b.Service.Proposing.Check(gone, b.Rig.Admin, q); !errors.Is(err, context.Canceled) {
		t.Errorf("nobody waits for it: %v", err)
	}
	if list, err := b.Service.Proposing.List(ctx, "", 0, 10); err != nil || len(list) != 0 {
		t.Errorf("something was saved: %v %v", list, err)
	}
}

func TestADraftIsKeptAndChangedByWhoHasItsRevision(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Sells() // a cloud that does not answer in time gives a draft no place
	d, err := b.Service.Proposing.AddDraft(ctx, b.Rig.Admin, proposing.NewProposal{
		Stack:  "asked",
		File:   "asked.sail.yaml",
		Source: formSource,
	})
	if err != nil || d.Body.Account != "saltmere-lab" || d.Body.Region == "" || d.Answer == nil ||
		d.Answer.Pages[0].Missing != 1 || d.Answer.Pages[0].Errors != 0 {
		t.Fatalf("without a place: %+v %v", d, err)
	}
	place := json.RawMessage(`{"account": "saltmere-lab", "region": "north-fell", "inputs": {"size": "plain-2", "stations": 3}}`)
	if d, err = b.Service.Proposing.ChangeDraft(ctx, b.Rig.Admin, d.ID, d.Revision, place, ""); err != nil ||
		d.Answer == nil || d.Answer.Errors != 0 || d.Revision != 2 {
		t.Fatalf("with a place: %+v %v", d, err)
	}
	_, err = b.Service.Proposing.ChangeDraft(ctx, b.Rig.Admin, d.ID, 1, json.RawMessage(`{}`), "")
	servicetest.WantKind(t, err, refusal.Stale, "has revision 2")
	if d, err = b.Service.Proposing.ChangeDraft(ctx, b.Rig.Admin, d.ID, 2,
		json.RawMessage(`{"inputs": {"stations": null}}`), d.Answer.GraphDigest); err != nil ||
		len(d.Body.Inputs) != 1 || d.Answer.Graph != nil {
		t.Errorf("a value is taken away: %+v %v", d.Body.Inputs, err)
	}
	_, err = b.Service.Proposing.ChangeDraft(ctx, b.Rig.Admin, d.ID, 3, json.RawMessage(`{"colour": "red"}`), "")
	servicetest.WantKind(t, err, refusal.Invalid, "colour")
	_, err = b.Service.Proposing.AddDraft(ctx, b.Rig.Admin, proposing.NewProposal{
		Stack:   "x",
		Secrets: map[string]string{"a": "b"},
	})
	servicetest.WantKind(t, err, refusal.Invalid, "holds no secrets")
	choices, err := b.Service.Proposing.DraftChoices(ctx, b.Rig.Admin, d.ID, "size")
	if err != nil || choices[0].WhyNot != nil || choices[len(choices)-1].WhyNot == nil {
		t.Errorf("choices: %v %v", choices, err)
	}
	places, err := b.Service.Proposing.DraftPlaces(ctx, b.Rig.Admin, d.ID)
	if err != nil || len(places) != 1 || len(places[0].Variants) != 5 || len(places[0].Variants[0].Errors) != 0 ||
		places[0].Best == "" {
		t.Errorf("places: %+v %v", places, err)
	}
	if list, err := b.Service.Proposing.Drafts(ctx, b.Rig.Admin); err != nil || len(list) != 1 {
		t.Errorf("drafts: %v %v", list, err)
	}
	if err := b.Service.Proposing.RemoveDraft(ctx, b.Rig.Admin, d.ID); err != nil {
		t.Error(err)
	}
	_, err = b.Service.Proposing.Draft(ctx, b.Rig.Admin, d.ID, "")
	servicetest.WantKind(t, err, refusal.NotFound, "")
}

func TestNeedsAreRankedOverRegionsAndEveryRejectionSaysWhy(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	search := func(n fit.Need) proposing.Found {
		t.Helper()
		f, err := b.Service.Proposing.Fit(ctx, proposing.Search{Account: "saltmere-lab", Need: n})
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range f.Rejected {
			for _, why := range x.WhyNot {
				if why.Message == "" {
					t.Errorf("%s in %s is rejected for nothing", x.Size.Name, x.Region)
				}
			}
		}
		return f
	}
	cheap := search(fit.Need{Machine: offer.Need{VCPUs: 4, MemoryBytes: 16 << 30, Architecture: "x86_64"}})
	if x := cheap.Fits[0]; x.Size.Name != "plain-4" || x.Region != "quarry-hill" || x.Month == 0 {
		t.Errorf("the cheapest is %+v", x)
	}
	// Where disks decide, a dearer size with twice the disk speed wins.
	disks := search(fit.Need{
		Machine: offer.Need{MemoryBytes: 32 << 30},
		Disk:    storage.Need{Bytes: 2 << 40, MBps: 400},
		By:      "disk",
	})
	x := disks.Fits[0]
	if !strings.HasPrefix(x.Size.Name, "drive-") || x.Month <= disks.Fits[len(disks.Fits)-1].Month/10 {
		t.Errorf("by disks: %+v", x)
	}
	own := search(fit.Need{
		Machine: offer.Need{VCPUs: 8},
		By:      "figures",
		Figures: map[string]float64{"plain-8": 100, "brisk-8": 300},
	})
	if own.Fits[0].Size.Name != "brisk-8" || own.Fitting != 10 {
		t.Errorf("by own figures: %d, %+v", own.Fitting, own.Fits[0])
	}
	spread := search(fit.Need{Machine: offer.Need{VCPUs: 2}, Zones: 4})
	if spread.Fitting == 0 ||
		slices.ContainsFunc(spread.Fits, func(a fit.Answer) bool { return a.Region != "ember-coast" }) {
		t.Errorf("only one region has four zones: %+v", spread.Fits)
	}
	few := search(fit.Need{Machine: offer.Need{VCPUs: 4}, Count: 100})
	if few.Fitting != 0 || !strings.Contains(fmt.Sprint(few.Rejected[0].WhyNot), "of them fit") {
		t.Errorf("a hundred: %+v", few.Rejected[0])
	}
	_, err := b.Service.Proposing.Fit(ctx, proposing.Search{Account: "saltmere-lab", Need: fit.Need{By: "luck"}})
	servicetest.WantKind(t, err, refusal.Invalid, "luck")
	_, err = b.Service.Proposing.Fit(ctx, proposing.Search{Account: "saltmere-lba"})
	servicetest.WantKind(t, err, refusal.NotFound, "saltmere-lba")
	_, err = b.Service.Proposing.Fit(ctx, proposing.Search{
		Account: "saltmere-lab",
		Need:    fit.Need{Regions: []string{"nroth-fell"}},
	})
	servicetest.WantKind(t, err, refusal.Invalid, "")
}

func TestVariantsStandSideBySide(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	ask := proposing.NewProposal{
		Stack:   "asked",
		File:    "asked.sail.yaml",
		Source:  formSource,
		Account: "saltmere-lab",
		Region:  "north-fell",
		Inputs:  map[string]any{"size": "plain-2"},
	}
	c, err := b.Service.Proposing.Compare(ctx, proposing.Compared{
		NewProposal: ask,
		Variants: []proposing.NewVariant{{Name: "small"},
			{Name: "large", Inputs: map[string]any{"size": "plain-16"}}, {Name: "far", Region: "long-sound"},
			{Name: "gone", Inputs: map[string]any{"size": "plain-48"}}},
		Fixed: map[string]float64{"small": 400},
	})
	if err != nil {
		t.Fatal(err)
	}
	small, large, far, gone := c.Variants[0], c.Variants[1], c.Variants[2], c.Variants[3]
	if small.VCPUs != 2 || large.VCPUs != 16 || far.Region != "long-sound" || far.Cost.Hour <= small.Cost.Hour ||
		len(gone.Errors) == 0 {
		t.Errorf("variants: %+v", c.Variants)
	}
	// 400 + 0.042 x = 0.336 x where the large one has no fixed part.
	i := slices.IndexFunc(c.Overtakings,
		func(o fit.Overtaking) bool { return o.Cheaper == "small" && o.Than == "large" })
	if i >= 0 {
		t.Errorf("they cross beyond a month: %+v", c.Overtakings[i])
	}
	c, err = b.Service.Proposing.Compare(ctx, proposing.Compared{
		NewProposal: ask,
		Variants: []proposing.NewVariant{{Name: "small"},
			{Name: "large", Inputs: map[string]any{"size": "plain-16"}}},
		Fixed: map[string]float64{"small": 100},
	})
	i = slices.IndexFunc(c.Overtakings,
		func(o fit.Overtaking) bool { return o.Cheaper == "small" && o.Than == "large" })
	if want := 100 / (large.Cost.Hour - small.Cost.Hour); err != nil || i < 0 || c.Overtakings[i].Hours-want > 1e-6 {
		t.Errorf("they cross at %v, want %v (%v)", c.Overtakings, want, err)
	}
}

func TestAProposalGoesStaleAndSaysWhich(t *testing.T) {
	b := servicetest.NewBench(t, map[string]int64{"networks": 1})
	ctx := context.Background()
	accepted := func(stack, source string) int64 {
		p := b.Propose(stack, source)
		if _, err := b.Service.Proposing.Accept(ctx, b.Rig.Admin, p.ID, nil, ""); err != nil {
			t.Fatal(err)
		}
		return p.ID
	}
	quota := accepted("one", freeSource)
	b.Apply("two", freeSource)
	_, err := b.Service.Proposing.Apply(ctx, b.Rig.Admin, quota, "")
	if !strings.Contains(servicetest.Explain(err), "the account may have 1 networks") {
		t.Errorf("the quota is taken: %s", servicetest.Explain(err))
	}
	servicetest.WantKind(t, err, refusal.Stale, "")
}

func TestAFailedFirstBootTellsWhatTheMachineSaid(t *testing.T) {
	t.Parallel()
	m, err := market.Standard()
	if err != nil {
		t.Fatal(err)
	}
	m.Images[0].Packages = nil
	raw, err := yaml.Dump(m)
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "market.yaml") // of one image it is not told what it installs
	err = os.WriteFile(file, []byte(regexp.MustCompile(`\n *packages: \[\]`).ReplaceAllString(string(raw), "")), 0o600)
	if err != nil {
		t.Fatal(err)
	}
	r := servicetest.NewWith(t, sim.Config{Pace: 1200, Rate: 100_000, Market: file})
	s, _ := r.Start(engine.Config{CallRate: 100_000}, nil)
	b := &servicetest.Bench{T: t, Rig: r, Service: s}
	source := servicetest.Source("net: {type: network, want: {range: 10.0.0.0/16}}",
		"lan: {type: subnet, want: {network: =net.id, range: 10.0.0.0/24}}",
		"door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 80}]}}",
		`site: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, public: true, firewalls: [=door.id], user_data: {packages: [nignx]}}, health: [{tcp: {host: =self.public_address, port: 80}, within: 4m}]}`)
	run := r.Await(s, r.Carry(s, b.Propose("boot", source)))
	if !strings.Contains(run.Reason, "its log says: E: Unable to locate package nignx") {
		t.Errorf("the reason: %s", run.Reason)
	}
}

func TestWhatAStackHasCostIsCountedFromItsFirstHour(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Apply("coast", servicetest.Source(servicetest.NetLine,
		`data: {type: disk, want: {size: 100GiB, type: solid, tags: {owner: ines}}}`,
		`logs: {type: disk, want: {size: 50GiB, type: solid, tags: {owner: tam}}}`))
	first, err := b.Service.Stacks.Cost(ctx, "coast")
	if err != nil || len(first.Cost.Lines) != 2 || first.Spent <= 0 {
		t.Fatalf("%+v %v", first, err)
	}
	if owners := first.Tags["owner"]; owners["ines"] != 2*owners["tam"] || owners["tam"] == 0 {
		t.Errorf("by owner: %v", owners)
	}
	later, err := b.Service.Stacks.Cost(ctx, "coast")
	if err != nil || later.Spent <= first.Spent {
		t.Errorf("it was %v and is %v (%v)", first.Spent, later.Spent, err)
	}
	_, err = b.Service.Stacks.Cost(ctx, "nowhere")
	servicetest.WantKind(t, err, refusal.NotFound, "")
}

func TestAFormForNoStackYetIsNoneThatIsThere(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	b.Apply("draft", servicetest.Source(servicetest.NetLine))
	a, err := b.Service.Proposing.Check(context.Background(), b.Rig.Admin, proposing.Question{
		NewProposal: proposing.NewProposal{
			File:    "asked.sail.yaml",
			Source:  formSource,
			Account: "saltmere-lab",
			Region:  "north-fell",
			Inputs:  map[string]any{"size": "plain-2"},
		},
	})
	if err != nil || a.Summary != "3 create" {
		t.Errorf("%s %v", a.Summary, err)
	}
}

// TestAFormKnowsWhatARunHasJustMade fills a form in before and after another stack takes
// the range.
func TestAFormKnowsWhatARunHasJustMade(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	question := proposing.Question{
		NewProposal: proposing.NewProposal{
			Stack:   "pier",
			File:    "coast.sail.yaml",
			Source:  servicetest.Source(servicetest.NetLine),
			Account: "saltmere-lab",
			Region:  "north-fell",
		},
	}
	before, err := b.Service.Proposing.Check(context.Background(), b.Rig.Admin, question)
	if err != nil || len(before.Findings) != 0 {
		t.Fatalf("before: %+v %v", before.Findings, err)
	}
	b.Apply("coast", servicetest.Source(servicetest.NetLine))
	await.Until(t, "the form says that the range is taken", func() bool {
		after, err := b.Service.Proposing.Check(context.Background(), b.Rig.Admin, question)
		if err != nil {
			t.Fatal(err)
		}
		return slices.ContainsFunc(after.Findings, func(f finding) bool { return f.Code == "range-in-use" })
	})
}
