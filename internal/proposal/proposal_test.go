package proposal

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

const beacon = `undersail: 1
about: {name: beacon, version: 1.0.0, title: Beacon, takes: 5m, maturity: trial}
inputs:
  range: {type: string, format: cidr, free: 20}
  size: {picks: size, default: plain-2}
  open: {type: boolean, default: false, asks_consent: It is open to everybody}
resources:
  net: {type: network, want: {range: =inputs.range}}
  sub: {type: subnet, want: {network: =net.id, range: =inputs.range}}
  keys: {type: key_pair, want: {}}
  light: {type: instance, want: {size: =inputs.size, image: coast-1, subnet: =sub.id, key_pair: =keys.id}}
`

// region sells two sizes, and an image whose terms nobody has accepted.
func region() *offer.Offers {
	size := func(name string, vcpus int64, hour float64) offer.Size {
		return offer.Size{
			Name:         name,
			VCPUs:        vcpus,
			MemoryBytes:  vcpus * 4 << 30,
			Architecture: "x86_64",
			Hour:         hour,
			Zones:        []string{"north-fell-a"},
		}
	}
	return &offer.Offers{
		Cloud:    "larch",
		Account:  "saltmere-lab",
		Region:   "north-fell",
		Currency: "kr",
		Zones:    []string{"north-fell-a"},
		Types:    resource.TypeNames(),
		Sizes:    []offer.Size{size("plain-2", 2, 0.05), size("plain-4", 4, 0.1)},
		Images: []offer.Image{{
			Name:         "coast-1",
			User:         "tide",
			Architecture: "x86_64",
			Terms:        &offer.Terms{Name: "coast-terms"},
		}},
		Quotas: map[string]offer.Quota{"vcpus": {Limit: 32}, "networks": {Limit: 5}},
	}
}

func facts(t *testing.T, source string, inputs map[string]any) Facts {
	t.Helper()
	tmpl, found := lang.Read("beacon.sail.yaml", []byte(source))
	if tmpl == nil {
		t.Fatal(found)
	}
	if inputs == nil {
		inputs = map[string]any{}
	}
	return Facts{
		Stack:     render.Stack{Name: "beacon", ID: "s-1", Account: "saltmere-lab", Region: "north-fell"},
		Template:  tmpl,
		Inputs:    inputs,
		Secrets:   map[string]string{},
		Offers:    offer.At(*region()),
		Durations: Durations{Rate: 10},
		Today:     "2026-11-25",
	}
}

func errors(list []render.Finding) (out []string) {
	for _, f := range list {
		if f.Severity == lang.Error {
			out = append(out, f.Place+": "+f.Message)
		}
	}
	return out
}

func TestADocumentHoldsAllThatARunNeeds(t *testing.T) {
	t.Parallel()
	given := map[string]any{}
	d := facts(t, beacon, given).Render(budget.Boundless()).Judge(nil).Document()
	if found := errors(d.Findings); found != nil {
		t.Fatal(found)
	}
	if d.Inputs["range"] != "10.0.0.0/20" || len(given) != 0 {
		t.Errorf("the range that was drawn is kept as %v; what was given is now %v", d.Inputs, given)
	}
	if d.Promise != 300 || d.Offers.Region != "north-fell" || d.Cost.Hour != 0.05 || d.CostNow.Hour != 0 ||
		d.Seconds <= 0 {
		t.Errorf("promise %d, region %s, cost %v and now %v, %f s", d.Promise, d.Offers.Region, d.Cost.Hour,
			d.CostNow.Hour, d.Seconds)
	}
	if got := strings.Join(d.Terms(), " "); got != "coast-terms" {
		t.Errorf("terms %q", got)
	}
	if !slices.ContainsFunc(d.Findings,
		func(f render.Finding) bool { return f.Code == "trial" && f.Severity == lang.Note }) {
		t.Error("nothing tells that the template is on trial")
	}
	if len(d.Actions) < len(d.Changes) {
		t.Errorf("%d actions for %d changes", len(d.Actions), len(d.Changes))
	}
}

func TestADrawnRangeStaysWhenItIsTakenByTheStackItself(t *testing.T) {
	t.Parallel()
	first := facts(t, beacon, nil).Render(budget.Boundless()).Judge(nil).Document()
	again := facts(t, beacon, first.Inputs)
	again.Recorded = recorded(first)
	again.Offers.Home.Networks = []offer.Network{{ID: "net-1", Name: "net", Range: "10.0.0.0/20"}}
	second := again.Render(budget.Boundless()).Judge(nil).Document()
	for _, c := range second.Changes {
		if c.Change != change.Same {
			t.Errorf("%s would be %s: %v", c.Resource, c.Change, c.Fields)
		}
	}
	if len(second.Reserves) != 0 {
		t.Errorf("what is there already is reserved: %+v", second.Reserves)
	}
}

// recorded is what would be recorded once a document is carried out.
func recorded(d Document) []change.Recorded {
	var out []change.Recorded
	for _, r := range d.Rendering.Resources {
		want := map[string]any{}
		for name, v := range r.Want {
			if id, ok := pendingID(v); ok {
				v = id
			}
			want[name] = v
		}
		var after []string
		for _, a := range r.After {
			after = append(after, a.Name)
		}
		attributes := map[string]any{"id": r.Name + "-1", "private_key": "secret:keys"}
		out = append(out, change.Recorded{
			Name:       r.Name,
			Type:       r.Type,
			Want:       want,
			Attributes: attributes,
			After:      after,
			Healthy:    true,
		})
	}
	return out
}

// pendingID is the id that stands for a value that waits for one.
func pendingID(v any) (string, bool) {
	u, ok := v.(resource.Unresolved)
	if !ok {
		return "", false
	}
	name, _, _ := strings.Cut(u.Waits[0], ".")
	return name + "-1", true
}

func TestReservesAreWhatIsTakenBeyondWhatIsThere(t *testing.T) {
	t.Parallel()
	reserves := func(list []Reserve) string {
		var out []string
		for _, r := range list {
			out = append(out, fmt.Sprintf("%s %s %d vcpus %q", r.Resource, r.Region, r.Quotas["vcpus"], r.Range))
		}
		return strings.Join(out, "; ")
	}
	first := facts(t, beacon, nil).Render(budget.Boundless()).Judge(nil).Document()
	got := reserves(first.Reserves)
	if !strings.Contains(got, `net north-fell 0 vcpus "10.0.0.0/20"`) ||
		!strings.Contains(got, `light north-fell 2 vcpus ""`) {
		t.Errorf("a new stack takes %s", got)
	}
	larger := facts(t, beacon, map[string]any{"range": "10.0.0.0/20", "size": "plain-4"})
	larger.Recorded = recorded(first)
	got = reserves(larger.Render(budget.Boundless()).Judge(nil).Document().Reserves)
	if got != `light north-fell 2 vcpus ""` {
		t.Errorf("two vcpus more take %s", got)
	}
	missing := larger
	missing.Recorded = recorded(first)
	for i := range missing.Recorded {
		missing.Recorded[i].Missing = missing.Recorded[i].Name == "light"
	}
	got = reserves(missing.Render(budget.Boundless()).Judge(nil).Document().Reserves)
	if !strings.Contains(got, `light north-fell 4 vcpus ""`) {
		t.Errorf("what was removed by hand takes %s", got)
	}
	gone := facts(t, beacon, nil)
	gone.Recorded = recorded(first)
	if got := gone.Remove().Judge(nil).Document(); len(got.Reserves) != 0 || got.Cost.Hour != 0 ||
		got.CostNow.Hour != 0.05 {
		t.Errorf("a removal takes %s and costs %v", reserves(got.Reserves), got.Cost)
	}
}

func TestConsentsAreAskedOnce(t *testing.T) {
	t.Parallel()
	names := func(list []render.Consent) string {
		var out []string
		for _, c := range list {
			out = append(out, c.Name)
		}
		return strings.Join(out, " ")
	}
	f := facts(t, beacon, nil)
	f.Offers.Home.Images[0].Terms = nil
	f.MostMonth = 20 // and the machine costs 36.50
	first := f.Render(budget.Boundless()).Judge(nil)
	if names(first.Consents) != policy.ConsentCost {
		t.Fatalf("asked are %q", names(first.Consents))
	}
	f.Agreed = first.Consents
	if again := f.Render(budget.Boundless()).Judge(nil); names(again.Consents) != "" {
		t.Errorf("asked again are %q", names(again.Consents))
	}
	f.Inputs["size"] = "plain-4"
	if dearer := f.Render(budget.Boundless()).Judge(nil); names(dearer.Consents) != policy.ConsentCost {
		t.Errorf("of twice the cost asked are %q", names(dearer.Consents))
	}
	f.MostMonth = 0
	if free := f.Render(budget.Boundless()).Judge(nil); names(free.Consents) != "" {
		t.Errorf("without a bound asked are %q", names(free.Consents))
	}
}

func TestGoingOnCarriesConsentsThatWereGiven(t *testing.T) {
	t.Parallel()
	lose, open := render.Consent{Name: change.LoseData, About: "the store"},
		render.Consent{Name: "open", About: "to all"}
	accepted := document(change.Change{Resource: "store", Change: change.Rebuild, Loses: true}, nil, lose, open)
	for about, c := range map[string]struct {
		change       change.Kind
		given, asked string
		beyond       bool
	}{
		"the same":       {change.Rebuild, "lose-data open", "", false},
		"something else": {change.Remove, "open lose-data", "", true},
	} {
		now := document(change.Change{Resource: "store", Change: c.change, Loses: true}, nil)
		j := Judged{
			Changed:  Changed{Plan: change.Plan{Rendering: now.Rendering, Changes: now.Changes}},
			Consents: []render.Consent{open, lose, {Name: "new"}},
		}
		going, beyond := j.GoesOn(accepted)
		if (beyond != "") != c.beyond {
			t.Errorf("%s: beyond %q", about, beyond)
		}
		if len(going.Consents) != 1 || going.Consents[0].Name != "new" || len(going.Given) != 2 {
			t.Errorf("%s: asked %v, given %v", about, going.Consents, going.Given)
		}
	}
	other := lose
	other.About = "another store"
	going, _ := (Judged{
		Consents: []render.Consent{other},
	}).GoesOn(document(change.Change{Resource: "store", Change: change.Keep}, nil, lose))
	if len(going.Given) != 1 { // nothing is done that was not accepted, whatever the words are
		t.Errorf("given %v, asked %v", going.Given, going.Consents)
	}
}

func TestSecretsAreDrawnForWhatNeedsThem(t *testing.T) {
	t.Parallel()
	f := facts(t, beacon, nil)
	r := f.Render(budget.Boundless()).Plan.Rendering
	count := 0
	reference := func(name string) string { count++; return fmt.Sprintf("ref-%s-%d", name, count) }
	drawn, more := f.Drawn(r, reference)
	if !more || drawn.Secrets["keys"] != "ref-keys-1" || len(drawn.Draw) != 1 || drawn.Draw[0].Kind != "private_key" ||
		len(f.Secrets) != 0 {
		t.Fatalf("drawn %+v %v; the facts before have %v", drawn.Draw, drawn.Secrets, f.Secrets)
	}
	if _, more := drawn.Drawn(r, reference); more {
		t.Error("it is drawn twice")
	}
	f.Recorded = []change.Recorded{{
		Name:       "keys",
		Type:       "key_pair",
		Attributes: map[string]any{"private_key": "ref-old"},
	}}
	if kept, more := f.Drawn(r, reference); !more || kept.Secrets["keys"] != "ref-old" || len(kept.Draw) != 0 {
		t.Errorf("a recorded key pair has %v, drawn %v", kept.Secrets, kept.Draw)
	}
}

func TestADearerOfferIsToldAndACheaperIsNot(t *testing.T) {
	t.Parallel()
	before := facts(t, beacon, nil).Render(budget.Boundless()).Judge(nil).Document()
	for hour, want := range map[float64]string{
		0.05: "",
		0.02: "",
		0.25: "it would now cost 0.250 kr an hour, and not 0.050: dearer are light",
	} {
		f := facts(t, beacon, before.Inputs)
		f.Offers.Home.Sizes[0].Hour = hour
		if got := before.Differs(f.Render(budget.Boundless()).Judge(nil).Document()); got != want {
			t.Errorf("at %g: %q, want %q", hour, got, want)
		}
	}
}

func TestTheOrganisationsRulesSpeakInAProposal(t *testing.T) {
	t.Parallel()
	rules, faults := policy.Compile([]policy.Rule{
		{
			Name:  "team",
			Does:  policy.Forbid,
			Types: []string{"network"},
			That:  `has_value(tags.team)`,
			Says:  "a network names its team",
		},
		{Name: "small", Does: policy.Ask, That: `month < 10.0`, Says: "more than ten a month"}})
	if faults != nil {
		t.Fatal(faults)
	}
	f := facts(t, beacon, nil)
	f.Rules = rules
	j := f.Render(budget.Boundless()).Judge(nil)
	if got := strings.Join(errors(j.Findings), "; "); !strings.Contains(got, "a network names its team") {
		t.Errorf("found %q", got)
	}
	i := slices.IndexFunc(j.Consents, func(c render.Consent) bool { return c.Name == "policy-small" })
	if i < 0 || !strings.Contains(j.Consents[i].About, "more than ten a month") {
		t.Errorf("asked are %+v", j.Consents)
	}
}
