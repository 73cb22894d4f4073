package change

import (
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
)

const text = `undersail: 1
about: {name: t, version: 1.0.0, title: T}
inputs:
  range: {type: string, default: 10.0.0.0/16}
  port: {type: integer, default: 80}
  disk: {type: string, default: 20GiB}
  second: {type: boolean, default: true}
resources:
  net: {type: network, want: {range: =inputs.range}}
  rules: {type: firewall, want: {network: =net.id, rules: [{from: 10.0.0.0/8, port: =inputs.port}]}}
  data: {type: disk, want: {size: =inputs.disk, type: solid}}
  extra: {type: address, repeat: =inputs.second ? [1].size() : 0}
`

func compute(t *testing.T, recorded []Recorded, inputs map[string]any) Plan {
	t.Helper()
	template, found := lang.Read("t", []byte(strings.ReplaceAll(text, "repeat: =inputs.second ? [1].size() : 0", "repeat: '=inputs.second ? 1 : 0'")))
	if template == nil {
		t.Fatal(found)
	}
	return Compute(render.Request{Template: template, Stack: render.Stack{Name: "s"}, Inputs: inputs}, recorded)
}

// applied is what would be recorded after the plan was carried out.
func applied(p Plan) []Recorded {
	var out []Recorded
	for _, r := range p.Rendering.Resources {
		var after []string
		for _, a := range r.After {
			after = append(after, a.Name)
		}
		want := plain(r.Want).(map[string]any)
		if r.Name == "rules" {
			want["network"] = "id-net"
		}
		out = append(out, Recorded{Name: r.Name, Type: r.Type, Want: want, Attributes: map[string]any{"id": "id-" + r.Name}, Healthy: true, After: after})
	}
	return out
}

func kinds(p Plan) string {
	var out []string
	for _, c := range p.Changes {
		out = append(out, string(c.Change)+" "+c.Resource)
	}
	return strings.Join(out, ", ")
}

func TestCompute(t *testing.T) {
	t.Parallel()
	first := compute(t, nil, nil)
	if got := kinds(first); got != "create net, create rules, create data, create extra[0]" {
		t.Fatal(got)
	}
	there := applied(first)
	sick := slices.Clone(there)
	sick[2].Healthy = false
	wreck := slices.Clone(there)
	wreck[2].Broken = true
	for _, c := range []struct {
		about    string
		recorded []Recorded
		inputs   map[string]any
		want     string
	}{
		{"nothing changed", there, nil, "same net, same rules, same data, same extra[0]"},
		{"in place", there, map[string]any{"port": int64(443)}, "same net, alter rules, same data, same extra[0]"},
		{"a rebuild reaches its dependents", there, map[string]any{"range": "10.1.0.0/16"}, "rebuild net, rebuild rules, same data, same extra[0]"},
		{"gone from the template", there, map[string]any{"second": false}, "same net, same rules, same data, remove extra[0]"},
		{"not proved healthy", sick, nil, "same net, same rules, alter data, same extra[0]"},
		{"a wreck is replaced", wreck, nil, "same net, same rules, rebuild data, same extra[0]"},
		{"one is missing", there[:3], nil, "same net, same rules, same data, create extra[0]"},
	} {
		if got := kinds(compute(t, c.recorded, c.inputs)); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.about, got, c.want)
		}
	}
	grown := compute(t, there, map[string]any{"disk": "30GiB"})
	if len(grown.Findings) != 0 || grown.Changes[2].Change != Alter {
		t.Errorf("growing a disk: %v %v", grown.Changes[2], grown.Findings)
	}
	if shrunk := compute(t, there, map[string]any{"disk": "10GiB"}); len(shrunk.Findings) != 1 || shrunk.Findings[0].Code != "shrink" {
		t.Errorf("shrinking a disk is not refused: %v", shrunk.Findings)
	}
}

func TestRetireRemovesDependentsFirst(t *testing.T) {
	t.Parallel()
	changes, _ := Retire(applied(compute(t, nil, nil)))
	at := func(name string) int {
		return slices.IndexFunc(changes, func(c Change) bool { return c.Resource == name })
	}
	if at("rules") > at("net") || len(changes[at("net")].After) != 1 || changes[at("net")].After[0].Name != "rules" {
		t.Errorf("the network goes before what is in it: %v", changes)
	}
	if Summary(changes) != "4 remove" {
		t.Error(Summary(changes))
	}
}
