package policy

import (
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
)

func TestCheckSaysWhatACarefulColleagueWould(t *testing.T) {
	t.Parallel()
	template, found := lang.Read("t", []byte(`undersail: 1
about: {name: t, version: 1.0.0, title: T}
resources:
  net: {type: network, want: {range: 10.0.0.0/16}}
  sub: {type: subnet, want: {network: =net.id, range: 10.0.0.0/24}}
  rules: {type: firewall, want: {network: =net.id, rules: [{from: 0.0.0.0/0, port: 22}, {from: 0.0.0.0/0, port: 443}]}}
  data: {type: disk, want: {size: 10GiB, type: solid}}
  safe: {type: disk, want: {size: 10GiB, type: solid, encrypted: true}}
  bare: {type: instance, want: {size: a, image: b, subnet: =sub.id, public: true}}
`))
	if template == nil {
		t.Fatal(found)
	}
	var got []string
	for _, f := range Check(render.Render(budget.Boundless(), render.Request{Template: template}), Context{}).Findings {
		got = append(got, f.Code+" "+f.Place)
	}
	if all := strings.Join(got, ", "); all != "open-to-world rules.rules, unreachable bare, not-encrypted data" {
		t.Error(all)
	}
}
