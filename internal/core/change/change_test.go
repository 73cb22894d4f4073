package change

import (
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
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
	template, found := lang.Read("t",
		[]byte(strings.ReplaceAll(text, "repeat: =inputs.second ? [1].size() : 0", "repeat: '=inputs.second ? 1 : 0'")))
	if template == nil {
		t.Fatal(found)
	}
	return Compute(budget.Boundless(),
		render.Request{Template: template, Stack: render.Stack{Name: "s"}, Inputs: inputs}, recorded)
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
		if _, within := want["network"]; within {
			want["network"] = "id-net"
		}
		out = append(out, Recorded{
			Name:       r.Name,
			Type:       r.Type,
			Want:       want,
			Attributes: map[string]any{"id": "id-" + r.Name},
			Healthy:    true,
			After:      after,
		})
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
		{"a rebuild reaches its dependents", there, map[string]any{"range": "10.1.0.0/16"},
			"rebuild net, rebuild rules, same data, same extra[0]"},
		{"gone from the template", there, map[string]any{"second": false},
			"same net, same rules, same data, remove extra[0]"},
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
	shrunk := compute(t, there, map[string]any{"disk": "10GiB"})
	if len(shrunk.Findings) != 1 || shrunk.Findings[0].Code != "shrink" {
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

const conduct = `undersail: 1
about: {name: t, version: 1.0.0, title: T}
inputs: {range: {type: string, default: 10.0.0.0/16}, owner: {type: string, default: ines}, use: {picks: network, optional: true}, guard: {type: boolean, default: true}}
resources:
  net: {type: network, find: '=inputs.use.orValue("")', want: {range: =inputs.range}}
  front: {type: address, guard: true, leave: [tags], want: {tags: {owner: =inputs.owner}}}
  store: {type: disk, was: data, at_retire: keep, want: {size: 10GiB, type: solid}}
  lan: {type: subnet, guard: true, want: {network: =net.id, range: 10.0.0.0/24}}
`

func conducted(t *testing.T, inputs map[string]any, recorded []Recorded) Plan {
	t.Helper()
	template, found := lang.Read("t", []byte(conduct))
	if template == nil {
		t.Fatal(found)
	}
	return Compute(budget.Boundless(),
		render.Request{
			Template: template,
			Stack:    render.Stack{Name: "s"},
			Inputs:   inputs,
			Known: func(r render.Resource) map[string]any {
				return map[string]any{"id": "net-found"}
			},
		}, recorded)
}

func (p Plan) of(name string) Change {
	return p.Changes[slices.IndexFunc(p.Changes, func(c Change) bool { return c.Resource == name })]
}

func TestConductOfResourcesInChanges(t *testing.T) {
	t.Parallel()
	there := applied(conducted(t, nil, nil))
	for i, r := range there {
		there[i].Guard = r.Name == "front" || r.Name == "lan"
		if r.Name == "store" {
			there[i].Name, there[i].Want = "data", map[string]any{"name": "s-data", "size": "10GiB", "type": "solid"}
			there[i].AtRetire = "keep"
		}
	}
	renamed := conducted(t, nil, there)
	if c := renamed.of("store"); c.Change != Alter || c.Was != "data" || len(renamed.Findings) > 0 {
		t.Errorf("a renamed disk: %+v %v", c, renamed.Findings)
	}
	if c := conducted(t, map[string]any{"owner": "tam"}, there).of("front"); c.Change != Same {
		t.Errorf("what others may alter is altered back: %+v", c)
	}
	rebuilt := conducted(t, map[string]any{"range": "10.0.0.0/8"}, there)
	if rebuilt.of("net").Change != Rebuild || rebuilt.of("lan").Change != Rebuild || len(rebuilt.Findings) != 1 ||
		rebuilt.Findings[0].Place != "lan" || rebuilt.Findings[0].Code != "guard" {
		t.Errorf("rebuilding a guarded subnet: %v", rebuilt.Findings)
	}
	used := conducted(t, map[string]any{"use": "net-found"}, there[1:])
	c := used.of("net")
	if c.Change != Same || !slices.Contains(c.Notes, "uses the one with id net-found; never changed nor removed") {
		t.Errorf("a network that is used: %+v", c)
	}
	summary := Summary(conducted(t, map[string]any{"use": "net-found"}, nil).Changes)
	if summary != "3 create, 1 same" {
		t.Error(summary)
	}
	_, findings := Retire(there)
	if len(findings) != 2 || findings[0].Code != "guard" {
		t.Errorf("retiring what is guarded: %v", findings)
	}
	for i := range there {
		there[i].Guard = false
	}
	changes, findings := Retire(there)
	if len(findings) > 0 || Summary(changes) != "3 remove, 1 keep" || changes[0].Resource != "data" ||
		changes[0].Reason != "it is kept when the stack is retired" {
		t.Errorf("%v %v", changes, findings)
	}
}

func TestWhatAKeptResourceNeedsIsKeptToo(t *testing.T) {
	t.Parallel()
	changes, _ := Retire([]Recorded{
		{Name: "net", Type: "network"},
		{Name: "lan", Type: "subnet", After: []string{"net"}},
		{Name: "store", Type: "disk", AtRetire: "keep", After: []string{"lan"}},
		{Name: "board", Type: "instance", After: []string{"lan", "store"}},
	})
	if got := Summary(changes); got != "1 remove, 3 keep" {
		t.Error(got, changes)
	}
}

func TestEqualComparesWithWhatWentThroughJSON(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		now, was any
		want     bool
	}{
		{int64(3), 3.0, true},
		{int64(3), 4.0, false},
		{"3", 3.0, false},
		{2.5, 2.5, true},
		{nil, nil, true},
		{true, true, true},
		{[]any{int64(1), "a"}, []any{1.0, "a"}, true},
		{[]any{int64(1)}, []any{1.0, 2.0}, false},
		{map[string]any{"a": int64(1)}, map[string]any{"a": 1.0}, true},
		{map[string]any{"a": int64(1)}, map[string]any{"b": 1.0}, false},
		{resource.Unresolved{Secrets: []string{"s/p@1"}}, "secret:s/p@1", true},
		{resource.Unresolved{Waits: []string{"net.id"}}, map[string]any{"pending": []any{"net.id"}}, true},
		{"x", resource.Unresolved{Waits: []string{"net.id"}}, false},
	} {
		if got := Equal(c.now, c.was); got != c.want {
			t.Errorf("Equal(%v, %v) = %v", c.now, c.was, got)
		}
	}
}
