package render

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

// nested is a coast of two stations, each with a machine in a subnet of its
// own: three templates deep.
func nested(t testing.TB, change func(text string) string) *lang.Template {
	t.Helper()
	machine := lang.Bundle{Ref: "./machine.sail.yaml", File: "parts/machine.sail.yaml", Source: change(`undersail: 1
about: {name: machine, version: 1.0.0, title: Machine}
inputs:
  subnet: {type: string}
  size: {type: string, default: plain-1}
  password: {secret: true, generate: true, rules: {length: 14}}
resources:
  disk: {type: disk, want: {size: 20GiB, type: solid}}
  host:
    type: instance
    want:
      size: =inputs.size
      image: debian-12
      subnet: =inputs.subnet
      disks: [{disk: =disk.id}]
      user_data: {write_files: [{path: /etc/pass, content: =inputs.password}]}
outputs:
  address: {value: =host.private_address}
  size: =inputs.size
  disk_size: =disk.size
`)}
	station := lang.Bundle{
		Ref:  "./parts/station.sail.yaml",
		File: "parts/station.sail.yaml",
		Source: change(`undersail: 1
about: {name: station, version: 1.0.0, title: Station}
inputs:
  network: {type: string}
  range: {type: string, format: cidr}
resources:
  subnet: {type: subnet, want: {network: =inputs.network, range: =inputs.range}}
  machine:
    type: template
    from: ./machine.sail.yaml
    inputs: {subnet: =subnet.id}
outputs:
  address: =machine.outputs.address
  store: =machine.outputs.disk_size * 2
`),
		Parts: []lang.Bundle{machine},
	}
	top := lang.Bundle{File: "coast.sail.yaml", Source: change(`undersail: 1
about: {name: coast, version: 1.0.0, title: Coast}
inputs:
  stations: {type: array, items: {type: string}, default: [north, south]}
calc:
  parts: '=carve("10.40.0.0/20", inputs.stations.map(s, s + "/26"))'
resources:
  net: {type: network, want: {range: 10.40.0.0/20}}
  station:
    type: template
    from: ./parts/station.sail.yaml
    repeat: {name: =inputs.stations}
    inputs: {network: =net.id, range: '=calc.parts[name]'}
  rules:
    type: firewall
    want:
      network: =net.id
      rules: '=station.map(s, firewall_rule{from: station[s].outputs.address + "/32", port: 22})'
outputs:
  addresses: =station.map(s, station[s].outputs.address)
  store: =station["north"].outputs.store
`), Parts: []lang.Bundle{station}}
	template, found := lang.ReadBundle(top)
	if template == nil {
		t.Fatal(found)
	}
	return template
}

func same(s string) string { return s }

func TestATemplateNestedThreeDeepGivesScopedNames(t *testing.T) {
	t.Parallel()
	r := Render(budget.Boundless(), Request{Template: nested(t, same), Stack: Stack{Name: "coast"}})
	if len(r.Findings) > 0 {
		t.Fatal(r.Findings)
	}
	var names []string
	for _, x := range r.Resources {
		names = append(names, x.Name)
	}
	want := "net station[north].subnet station[north].machine.disk station[north].machine.host " +
		"station[south].subnet station[south].machine.disk station[south].machine.host rules"
	if got := strings.Join(names, " "); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	after := func(name string) string {
		var out []string
		for _, a := range r.Resource(name).After {
			out = append(out, a.Name)
		}
		return strings.Join(out, " ")
	}
	for name, want := range map[string]string{
		"station[north].subnet":       "net",
		"station[north].machine.disk": "",
		"station[north].machine.host": "station[north].machine.disk station[north].subnet",
		"rules":                       "net station[north].machine.host station[south].machine.host",
	} {
		if got := after(name); got != want {
			t.Errorf("%s comes after %q, want %q", name, got, want)
		}
	}
	if got := r.Resource("station[south].machine.host").Declared; got != "station.machine.host" {
		t.Error(got)
	}
	if got := r.Resource("station[south].machine.host").Want["name"]; got != "coast-station[south].machine.host" {
		t.Error(got)
	}
	got := resource.Waits(r.Outputs[0].Value)
	if !slices.Equal(got, []string{"station[north].machine.host.private_address",
		"station[south].machine.host.private_address"}) {
		t.Error(got)
	}
	if r.Outputs[1].Value != "40GiB" {
		t.Error(r.Outputs[1].Value)
	}
	raw, _ := json.Marshal(r.Generated)
	if string(raw) !=
		`[{"name":"station[north].machine.password","rules":{"length":14}},{"name":"station[south].machine.password","rules":{"length":14}}]` {
		t.Error(string(raw))
	}
}

func TestAnErrorInsideANestedTemplatePointsIntoItsFile(t *testing.T) {
	t.Parallel()
	b := nested(t, same).Bundle
	b.Parts[0].Parts[0].Source = strings.Replace(b.Parts[0].Parts[0].Source, "disk.size", "disk.sise", 1)
	template, found := lang.ReadBundle(b)
	if template != nil || len(found) != 3 {
		t.Fatal(found)
	}
	var deepest lang.Diagnostic
	for _, d := range found {
		if d.Code == "expression" {
			deepest = d
		}
	}
	if deepest.File != "parts/machine.sail.yaml" || deepest.Line != 20 || deepest.Remedy != "did you mean `size`?" {
		t.Errorf("%+v", deepest)
	}
}

func TestExplainTracesValuesThroughEmbeddedTemplates(t *testing.T) {
	t.Parallel()
	r := Render(budget.Boundless(), Request{
		Template: nested(t, same),
		Stack:    Stack{Name: "coast"},
		Explain:  "station[north].subnet",
	})
	raw, _ := json.MarshalIndent(r.Explained, "", " ")
	for _, want := range []string{"parts/station.sail.yaml:7:",
		"given by the template above, computed at coast.sail.yaml:13:", "input: default", `"10.40.0.0/26"`,
		"reported by net after creation", "a value of it reads what net reports"} {
		if !strings.Contains(string(raw), want) {
			t.Errorf("nothing of %q in %s", want, raw)
		}
	}
}
