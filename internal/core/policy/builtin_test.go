package policy

import (
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
)

var sold = offer.Offers{
	Cloud:    "larch",
	Region:   "north-fell",
	Zones:    []string{"a", "b"},
	Currency: "kr",
	Features: map[string]string{"monitoring": "figures of machines"},
	Sizes: []offer.Size{
		{Name: "plain-2", Hour: 0.04, VCPUs: 2, Zones: []string{"a"}},
		{Name: "gone-2", Hour: 0.04, Withdrawn: true},
	},
	Images: []offer.Image{
		{Name: "debian-11", System: "debian", Version: "11", Ends: "2026-08-31"},
		{Name: "debian-12", System: "debian", Version: "12", Ends: "2028-06-30"},
		{Name: "base-1", System: "base", Ends: "2027-01-31"},
		{Name: "model-5", System: "model", Terms: &offer.Terms{Name: "model-2026", Text: "It may not be sold."}},
		{Name: "model-4", Terms: &offer.Terms{Name: "model-2025", Accepted: true}},
	},
}

// judged renders resources and gives what rules say of them.
func judged(t *testing.T, c Context, inputs map[string]any, lines ...string) Opinion {
	t.Helper()
	text := "undersail: 1\nabout: {name: t, version: 1.0.0, title: T}\n"
	if inputs != nil {
		text += "inputs: {zones: {picks: zones}}\n"
	}
	template, found := lang.Read("t", []byte(text+"resources:\n  "+strings.Join(lines, "\n  ")+"\n"))
	if template == nil {
		t.Fatal(found)
	}
	r := render.Render(budget.Boundless(), render.Request{
		Template: template,
		Inputs:   inputs,
		Offers:   c.Offers.Home,
		Stack:    render.Stack{Name: "s", Region: "north-fell"},
	})
	if c.Offers.Home != nil {
		c.Cost = price.Of(r.Resources, c.Offers)
	}
	return Check(r, c)
}

// said tells an opinion in words: of findings severity, code and place, of consents the name.
func said(o Opinion) string {
	var out []string
	for _, f := range o.Findings {
		out = append(out, string(f.Severity)+" "+f.Code+" "+f.Place)
	}
	for _, c := range o.Consents {
		out = append(out, "ask "+c.Name)
	}
	return strings.Join(out, ", ")
}

const (
	net   = "net: {type: network, want: {range: 10.0.0.0/16}}"
	lan   = "lan: {type: subnet, want: {network: =net.id, range: 10.0.0.0/24}}"
	inner = "inner: {type: firewall, want: {network: =net.id, rules: [{from: 10.0.0.0/8, port: 22}]}}"
)

func door(rules string) string {
	return "door: {type: firewall, want: {network: =net.id, rules: [" + rules + "]}}"
}

func host(want string) string {
	return "host: {type: instance, want: {image: debian-12, size: plain-2, subnet: =lan.id" + want + "}}"
}

func TestEachBuiltInRuleSpeaksWhereItShouldAndOnlyThere(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		about string
		want  string
		lines []string
	}{
		{"pages are there to be read", "", []string{net, door("{from: 0.0.0.0/0, port: 443}")}},
		{"administration is not", "warning open-to-world door.rules, ask open-access",
			[]string{net, door("{from: 0.0.0.0/0, port: 22}")}},
		{"nor in two halves", "warning open-to-world door.rules, ask open-access",
			[]string{net, door("{from: 0.0.0.0/1, port: 5432}, {from: 128.0.0.0/1, port: 5432}")}},
		{"nor in many parts that make up half of it", "warning open-to-world door.rules",
			[]string{net, door("{from: 0.0.0.0/2, port: 9400}, {from: 64.0.0.0/2, port: 9400}")}},
		{"a quarter is not the world", "", []string{net, door("{from: 0.0.0.0/2, port: 22}")}},
		{"a part within another counts once", "",
			[]string{net, door("{from: 0.0.0.0/2, port: 22}, {from: 0.0.0.0/3, port: 22}, {from: " +
				"0.0.0.0/4, port: 22}")}},
		{"IPv6 has a world of its own", "warning open-to-world door.rules, ask open-access",
			[]string{net, door("{from: '::/0', port: 3306}")}},
		{"an end that is over", "warning until door.rules[0]",
			[]string{net, door("{from: 10.0.0.0/8, port: 22, until: 2026-11-24}")}},
		{"an end that is today", "", []string{net, door("{from: 10.0.0.0/8, port: 22, until: 2026-11-25}")}},
		{"an end that is none", "error until door.rules[0]",
			[]string{net, door("{from: 10.0.0.0/8, port: 22, until: 2026-02-30}")}},
		{"public without a firewall", "warning unreachable host", []string{net, lan, host(", public: true")}},
		{"public data behind an open door", "note public-data host",
			[]string{net, lan, door("{from: 0.0.0.0/0, port: 443}"),
				"data: {type: disk, want: {size: 10GiB, type: solid, encrypted: true}}",
				host(", public: true, firewalls: [=door.id], disks: [{disk: =data.id}]")}},
		{"public data behind a closed one", "",
			[]string{net, lan, inner, "data: {type: disk, want: {size: 10GiB, type: solid, encrypted: true}}",
				host(", public: true, firewalls: [=inner.id], disks: [{disk: =data.id}]")}},
		{"a disk that is not encrypted", "note not-encrypted data",
			[]string{"data: {type: disk, want: {size: 10GiB, type: solid}}"}},
		{"one that is not on purpose", "",
			[]string{"data: {type: disk, want: {size: 10GiB, type: solid, encrypted: false}}"}},
		{"a password where a key would do", "warning password-login host.user_data",
			[]string{net, lan, host(`, user_data: '={"ssh_pwauth": true}'`)}},
		{"a user with a password", "warning password-login host.user_data",
			[]string{net, lan, host(", user_data: {users: [{name: ines, passwd: x}]}")}},
		{"a user with a key", "",
			[]string{net, lan, host(", user_data: {users: [{name: ines, ssh_authorized_keys: [k]}]}")}},
		{"a tag that most have", "note untagged c",
			[]string{"a: {type: address, want: {tags: {owner: ines}}}",
				"b: {type: address, want: {tags: {owner: tam}}}", "c: {type: address}"}},
		{"a tag that few have", "",
			[]string{"a: {type: address, want: {tags: {owner: ines}}}", "b: {type: address}", "c: {type: address}"}},
		{"a role", "ask roles", []string{"r: {type: role, want: {grants: [{may: [disk.read]}]}}"}},
		{"an odd number of hosts", "error odd-hosts cloud.layout",
			[]string{"cloud: {type: private_cloud, want: {network: n-1, family: vast, password: Long-enough-1234, " +
				"ranges: {management: 10.0.0.0/24}, layout: [{zone: a, hosts: 2}, {zone: b, hosts: 1}, {zone: c, " +
				"hosts: 1, witness: true}]}}"}},
		{"an uneven one", "warning uneven-hosts cloud.layout",
			[]string{"cloud: {type: private_cloud, want: {network: n-1, family: vast, password: Long-enough-1234, " +
				"ranges: {management: 10.0.0.0/24}, layout: [{zone: a, hosts: 3}, {zone: b, hosts: 1}]}}"}},
		{"an even one", "", []string{"cloud: {type: private_cloud, want: {network: n-1, family: vast, password: " +
			"Long-enough-1234, ranges: {management: 10.0.0.0/24}, layout: [{zone: a, hosts: 2}, {zone: b, " +
			"hosts: 2}]}}"}},
	} {
		o := judged(t, Context{Today: "2026-11-25"}, nil, c.lines...)
		if got := said(o); got != c.want {
			t.Errorf("%s: %q, want %q", c.about, got, c.want)
		}
		for _, f := range o.Findings {
			if f.Remedy == "" {
				t.Errorf("%s: %s has no remedy", c.about, f.Message)
			}
		}
	}
}

func TestRulesThatReadOffers(t *testing.T) {
	t.Parallel()
	with := func(image string) string { return strings.Replace(host(""), "debian-12", image, 1) }
	for _, c := range []struct {
		about, want string
		lines       []string
	}{
		{"an image that lasts", "", []string{net, lan, host("")}},
		{"one that has ended", "warning image-ends host.image", []string{net, lan, with("debian-11")}},
		{"one that ends within half a year", "warning image-ends host.image", []string{net, lan, with("base-1")}},
		{"terms that nobody accepted", "warning terms host.image, ask terms", []string{net, lan, with("model-5")}},
		{"terms that were accepted", "", []string{net, lan, with("model-4")}},
		{"a size that is sold no more", "warning withdrawn host.size",
			[]string{net, lan, strings.Replace(host(""), "plain-2", "gone-2", 1)}},
		{"a feature", "ask features", []string{"a: {type: address, features: [monitoring]}"}},
		{"a price that is not told", "warning cost-not-told data",
			[]string{"data: {type: disk, want: {size: 10GiB, type: solid, encrypted: true}}"}},
	} {
		o := judged(t, Context{Offers: offer.At(sold), Today: "2026-11-25"}, nil, c.lines...)
		got := said(o)
		if c.about == "a feature" {
			got = strings.TrimPrefix(got, "warning cost-not-told a, ")
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.about, got, c.want)
		}
	}
	ended := judged(t, Context{Offers: offer.At(sold), Today: "2026-11-25"}, nil, net, lan, with("debian-11"))
	f := ended.Findings[0]
	if f.Take != "debian-12" || f.Remedy != "choose debian-12" || !strings.Contains(f.Message, "ended on 2026-08-31") {
		t.Errorf("%+v", f)
	}
	costly := judged(t, Context{Offers: offer.At(sold), MostMonth: 20}, nil, net, lan, host(""))
	if said(costly) != "ask cost" || !strings.Contains(costly.Consents[0].About, "about 29 kr; above 20") {
		t.Errorf("%+v", costly)
	}
	if o := judged(t, Context{Offers: offer.At(sold), MostMonth: 30}, nil, net, lan, host("")); len(o.Consents) > 0 {
		t.Errorf("below the limit: %+v", o.Consents)
	}
	two := []string{net, lan, host(", zone: a"), strings.Replace(host(", zone: a"), "host:", "other:", 1)}
	got := said(judged(t, Context{Offers: offer.At(sold)}, map[string]any{"zones": []any{"a", "b"}}, two...))
	if got != "warning zones-unused inputs.zones" {
		t.Errorf("two zones and one is used: %q", got)
	}
}

func TestWhatIsAskedForTwiceIsOneConsent(t *testing.T) {
	t.Parallel()
	o := judged(t, Context{}, nil, net, door("{from: 0.0.0.0/0, port: 22}, {from: 0.0.0.0/0, port: 5432}"))
	if len(o.Consents) != 1 || !strings.Contains(o.Consents[0].About, "port 22") ||
		!strings.Contains(o.Consents[0].About, "port 5432") {
		t.Errorf("%+v", o.Consents)
	}
}

func TestTheOrganisationsRulesAreJudged(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		rule Rule
		want string
	}{
		{Rule{Does: Forbid, Types: []string{"disk"}, That: `has(tags.owner)`}, "error policy:r data"},
		{Rule{Does: Warn, Types: []string{"disk"}, That: `=want.size == "20GiB"`}, "warning policy:r data"},
		{Rule{Does: Ask, Types: []string{"disk"}, That: `want.encrypted == true`}, "ask policy-r"},
		{Rule{Does: Forbid, Types: []string{"disk"}, That: `want.type == "solid" && resource.region == ""`}, ""},
		{Rule{Does: Forbid, That: `resources.size() <= 2`}, "error policy:r stack"},
		{Rule{Does: Forbid, That: `month < 1000.0 && stack.name == "s"`}, ""},
		{Rule{Does: Forbid, That: `resource.type != "address"`}, "error policy:r front"},
		{Rule{Does: Forbid, Types: []string{"subnet"}, That: `want.network != "net-1"`}, "note policy:r lan"},
		{Rule{Does: Forbid, Types: []string{"address"}, That: `want.tags.owner == "ines"`}, "error policy:r front"},
		{Rule{Does: Warn, Types: []string{"bucket"}, That: `false`}, ""},
	} {
		c.rule.Name, c.rule.Says = "r", "it is not so"
		rules, faults := Compile([]Rule{c.rule})
		if faults != nil {
			t.Fatal(faults)
		}
		o := judged(t, Context{Rules: rules}, nil, net, lan,
			"data: {type: disk, want: {size: 10GiB, type: solid, encrypted: false}}", "front: {type: address}")
		if got := said(o); got != c.want {
			t.Errorf("%s: %q, want %q", c.rule.That, got, c.want)
		}
	}
}

func TestRulesWithFaultsSayWhatToWrite(t *testing.T) {
	t.Parallel()
	good := Rule{Name: "good", Does: Warn, That: "true", Says: "x"}
	for says, spoil := range map[string]func(*Rule){
		"use small letters":                    func(r *Rule) { r.Name = "Bad Name" },
		`it may forbid, warn or ask`:           func(r *Rule) { r.Does = "deny" },
		"does not say what is wrong":           func(r *Rule) { r.Says = " " },
		"did you mean `instance`?":             func(r *Rule) { r.Types = []string{"instnce"} },
		"column 1":                             func(r *Rule) { r.That = "whant.size" },
		"gives text, and must be true or fals": func(r *Rule) { r.That = "stack.name" },
	} {
		bad := good
		spoil(&bad)
		rules, faults := Compile([]Rule{bad, good})
		if len(faults) != 1 || !strings.Contains(faults[0].Error(), says) || len(rules.list) != 1 {
			t.Errorf("%q: %v", says, faults)
		}
	}
}
