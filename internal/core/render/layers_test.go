package render

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
)

func template(t testing.TB, text string) *lang.Template {
	t.Helper()
	read, found := lang.Read("t.sail.yaml", []byte("undersail: 1\nabout: {name: t, version: 1.0.0, title: T}\n"+text))
	if read == nil {
		t.Fatal(found)
	}
	return read
}

const layered = `inputs:
  nodes: {type: integer, default: 1}
  size: {type: string, default: plain-1}
  label: {type: string, default: '="board-" + string(inputs.nodes)'}
  disk: {type: string, format: amount, default: 10GiB}
  key: {secret: true, optional: true}
presets:
  storm: {title: Storm, inputs: {nodes: 8, size: broad-8}}
calc: {both: =inputs.nodes * 2, half: =inputs.nodes / 2}
resources:
  store: {type: disk, repeat: =inputs.nodes, want: {size: =inputs.disk * 2, type: solid, tags: {label: =inputs.label}}}
  board: {type: address, want: {tags: {keyed: '=has_value(inputs.key) ? "yes" : "no"', size: =inputs.size}}}
  net: {type: network, want: {range: 10.0.0.0/8}}
outputs:
  all: =inputs.disk * inputs.nodes
`

func TestLaterLayersReplaceInputsWholeAndAreTold(t *testing.T) {
	t.Parallel()
	tmpl := template(t, layered)
	preset, err := PresetLayer(tmpl, "storm")
	if err != nil {
		t.Fatal(err)
	}
	inputs, origins := Merge(preset,
		Layer{From: "file a.yaml", Inputs: map[string]any{"nodes": int64(4), "disk": "20GiB"}}, Layer{
			From:   "--input",
			Inputs: map[string]any{"nodes": int64(2)},
		})
	r := Render(budget.Boundless(), Request{Template: tmpl, Stack: Stack{Name: "s"}, Inputs: inputs, Origins: origins})
	if len(r.Findings) > 0 {
		t.Fatal(r.Findings)
	}
	got := map[string]string{}
	for _, in := range r.Inputs {
		got[in.Name] = fmt.Sprintf("%v, %s", in.Value, in.Origin)
	}
	want := map[string]string{
		"nodes": "2, --input",
		"size":  "broad-8, preset storm",
		"label": "board-2, computed default",
		"disk":  "20GiB, file a.yaml",
		"key":   "<nil>, left out",
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got  %v\nwant %v", got, want)
	}
	if r.Outputs[0].Value != "40GiB" || r.Resource("store[1]").Want["size"] != "40GiB" {
		t.Error(r.Outputs, r.Resource("store[1]").Want)
	}
	if _, err := PresetLayer(tmpl, "strom"); err == nil || !strings.Contains(err.Error(), "did you mean storm?") {
		t.Error(err)
	}
}

// TestChangingOneInputChangesOnlyWhatDependsOnIt changes each input in turn.
func TestChangingOneInputChangesOnlyWhatDependsOnIt(t *testing.T) {
	t.Parallel()
	tmpl := template(t, layered)
	base := Render(budget.Boundless(), Request{Template: tmpl, Stack: Stack{Name: "s"}})
	for input, c := range map[string]struct {
		value any
		want  []string
	}{
		"nodes": {int64(2), []string{"store[0]", "store[1]"}}, // the label counts the nodes
		"size":  {"plain-2", []string{"board"}},
		"label": {"other", []string{"store[0]"}},
		"disk":  {"11GiB", []string{"store[0]"}},
		"key":   {"Very-secret-1", []string{"board"}},
	} {
		changed := Render(budget.Boundless(), Request{
			Template: tmpl,
			Stack:    Stack{Name: "s"},
			Inputs:   map[string]any{input: c.value},
		})
		var got []string
		for _, r := range changed.Resources {
			a, _ := json.Marshal(r)
			b, _ := json.Marshal(base.Resource(r.Name))
			if string(a) != string(b) {
				got = append(got, r.Name)
			}
		}
		slices.Sort(got)
		if !slices.Equal(got, c.want) {
			t.Errorf("changing %s changes %v, want %v", input, got, c.want)
		}
	}
}

func TestTheSameInputGivesTheSameBytes(t *testing.T) {
	t.Parallel()
	tmpl := template(t, strings.Replace(layered, "inputs:\n",
		"inputs:\n  rule: {type: object, properties: {port: {type: integer}, from: {type: string, format: cidr}}, "+
			"default: {}}\n", 1))
	var first string
	for range 50 {
		// Of two faults in one value it is always the same that is told.
		raw, err := json.Marshal(Render(budget.Boundless(), Request{
			Template: tmpl,
			Stack:    Stack{Name: "s"},
			Inputs:   map[string]any{"nodes": int64(5), "rule": map[string]any{"port": "x", "from": "y"}},
		}))
		if err != nil {
			t.Fatal(err)
		}
		if first == "" {
			first = string(raw)
		}
		if string(raw) != first {
			t.Fatal("two renderings differ")
		}
	}
}

// TestAfterFollowsWhatIsReadNotWhatIsNamed holds the order of single members.
// An expression that is pending and may take another branch comes after all that
// any branch reads.
func TestAfterFollowsWhatIsReadNotWhatIsNamed(t *testing.T) {
	t.Parallel()
	tmpl := template(t, `inputs: {first: {type: boolean, default: true}}
resources:
  data: {type: disk, repeat: 3, want: {size: 10GiB, type: solid}}
  flag: {type: secret, want: {value: x}}
  one: {type: address, want: {tags: {d: '=data[1].id'}}}
  all: {type: address, want: {tags: {d: '=data.map(d, d.id).join(" ")'}}}
  known: {type: address, want: {tags: {d: '=inputs.first ? data[0].id : data[2].id'}}}
  unsure: {type: address, want: {tags: {d: '=flag.version > 1 ? data[0].id : "none"'}}}
  wanted: {type: address, want: {tags: {d: '=data[2].type'}}}
`)
	r := Render(budget.Boundless(), Request{Template: tmpl, Stack: Stack{Name: "s"}})
	for name, want := range map[string]string{
		"one":    "data[1]",
		"all":    "data[0] data[1] data[2]",
		"known":  "data[0] data[1] data[2]",
		"unsure": "data[0] data[1] data[2] flag",
		"wanted": "",
	} {
		var got []string
		for _, a := range r.Resource(name).After {
			got = append(got, a.Name)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s comes after %v, want %s", name, got, want)
		}
	}
}

func TestWhatTheRegionSellsDecidesOnlyWithAPlace(t *testing.T) {
	t.Parallel()
	tmpl := template(t, `resources:
  net: {type: network, want: {range: 10.0.0.0/8}}
  spread: {type: address, repeat: =size(offers.zones)}
  fast: {type: disk, when: '=offers.disk_types.exists(d, d.name == "swift")', want: {size: 10GiB, type: swift}}
  host: {type: instance, want: {size: '=fit_size(offers, size_need{vcpus: 2})', image: i, subnet: s}}
`)
	bare := Render(budget.Boundless(), Request{Template: tmpl, Stack: Stack{Name: "s"}})
	if len(bare.Findings) != 2 || bare.Findings[0].Code != "no-place" || len(bare.Resources) != 2 ||
		fmt.Sprint(bare.Resource("host").Want["size"]) != "waits for offers" {
		t.Errorf("%v %v", bare.Findings, bare.Resources)
	}
	offers := &offer.Offers{
		Cloud:  "larch",
		Region: "r",
		Zones:  []string{"a", "b", "c"},
		Types:  []string{"network", "address", "disk", "instance"},
		Sizes:  []offer.Size{{Name: "two", VCPUs: 2, MemoryBytes: 1 << 30, Zones: []string{"a", "b", "c"}}},
		DiskTypes: []offer.DiskType{{
			Name:     "swift",
			MinBytes: 1 << 30,
			MaxBytes: 1 << 40,
			Zones:    []string{"a", "b", "c"},
		}},
		Images: []offer.Image{{Name: "i"}},
	}
	placed := Render(budget.Boundless(), Request{Template: tmpl, Stack: Stack{Name: "s"}, Offers: offers})
	if len(placed.Findings) > 0 || len(placed.Resources) != 6 || placed.Resource("host").Want["size"] != "two" {
		t.Errorf("%v %v", placed.Findings, placed.Resources)
	}
}

func TestOutputsOfAnotherStackAreTypedAndPendingUntilKnown(t *testing.T) {
	t.Parallel()
	other := lang.Bundle{
		Ref:  "lamp@^1",
		File: "lamp@1.0.0",
		Source: "undersail: 1\nabout: {name: lamp, version: 1.0.0, title: L}\nresources: {a: {type: " +
			"address}}\noutputs: {at: =a.address, n: 4}\n",
	}
	tmpl, found := lang.ReadBundle(lang.Bundle{
		File:  "t",
		Parts: []lang.Bundle{other},
		Source: "undersail: 1\nabout: {name: t, version: 1.0.0, title: T}\ninputs: {lamp: {picks: stack, of: " +
			"lamp@^1}}\nresources:\n  a: {type: address, repeat: 2, want: {tags: {at: =inputs.lamp.outputs.at, n: " +
			"'=string(inputs.lamp.outputs.n + 1)', s: =inputs.lamp.name}}}\n",
	})
	if tmpl == nil {
		t.Fatal(found)
	}
	r := Render(budget.Boundless(), Request{
		Template: tmpl,
		Inputs:   map[string]any{"lamp": "red"},
		Stacks:   map[string]map[string]any{"red": {"at": "192.0.2.7", "n": int64(4)}},
	})
	if got := fmt.Sprint(r.Resource("a[1]").Want["tags"], r.Findings); got != "map[at:192.0.2.7 n:5 s:red] []" {
		t.Error(got)
	}
	// As they come back from a database: whole numbers as others.
	r = Render(budget.Boundless(), Request{
		Template: tmpl,
		Inputs:   map[string]any{"lamp": "red"},
		Stacks:   map[string]map[string]any{"red": {"at": "192.0.2.7", "n": 4.0}},
	})
	if got := fmt.Sprint(r.Resource("a[0]").Want["tags"], r.Findings); got != "map[at:192.0.2.7 n:5 s:red] []" {
		t.Error(got)
	}
	r = Render(budget.Boundless(), Request{Template: tmpl, Inputs: map[string]any{"lamp": "red"}})
	if got := fmt.Sprint(r.Resource("a[0]").Pending); got != "[stack red.outputs.at stack red.outputs.n]" {
		t.Error(got)
	}
}

func TestExplainSaysWhereEveryValueCameFrom(t *testing.T) {
	t.Parallel()
	tmpl := template(t, layered)
	inputs, origins := Merge(Layer{From: "file a.yaml", Inputs: map[string]any{"disk": "20GiB"}})
	explain := func(name string) string {
		r := Render(budget.Boundless(), Request{
			Template: tmpl,
			Stack:    Stack{Name: "s"},
			Inputs:   inputs,
			Origins:  origins,
			Explain:  name,
		})
		raw, err := json.Marshal(r.Explained)
		if err != nil {
			t.Fatal(err)
		}
		return string(raw)
	}
	for name, wants := range map[string][]string{
		"store[0]": {`"path":"size","value":"40GiB","from":"computed at t.sail.yaml:13:`,
			`"path":"inputs.disk","value":"20GiB","from":"input: file a.yaml"`,
			`"path":"type","value":"solid","from":"written at t.sail.yaml:13:`,
			"made from the names of stack and resource"},
		"inputs.label": {`"value":"board-1"`, "input: computed default, computed at t.sail.yaml:6:",
			`"path":"inputs.nodes","value":1,"from":"input: default, written at t.sail.yaml:4:`},
		"outputs.all": {`"kind":"output"`, `"value":"20GiB"`},
		"calc.both":   {`"name":"calc.both"`, `"value":2`, `"from":"computed at t.sail.yaml:11:`},
	} {
		got := explain(name)
		for _, want := range wants {
			if !strings.Contains(got, want) {
				t.Errorf("%s: nothing of %s in %s", name, want, got)
			}
		}
	}
	if got := explain("calc.both"); strings.Contains(got, "half") {
		t.Errorf("what was not asked for is explained: %s", got)
	}
	if got := explain("nothing"); got != "null" {
		t.Error(got)
	}
}

func TestHowAResourceBehavesInChangesIsRendered(t *testing.T) {
	t.Parallel()
	tmpl := template(t, `inputs: {existing: {picks: network, optional: true}, far: {picks: region, default: long-sound}}
resources:
  net: {type: network, find: '=inputs.existing.orValue("")', want: {range: 10.0.0.0/8}}
  named: {type: network, find: {name: old}}
  copy: {type: disk, region: =inputs.far, guard: true, rebuild: new_first, at_retire: keep, leave: [tags], extra: {tier: gold}, want: {size: 10GiB, type: solid}}
  data: {type: disk, was: files, repeat: 2, pace: {at_once: 1}, want: {size: 10GiB, type: solid}}
prove:
  - tcp: {host: =net.id, port: 80}
    within: 2m
`)
	made := Render(budget.Boundless(), Request{Template: tmpl, Stack: Stack{Name: "s", Region: "north-fell"}})
	used := Render(budget.Boundless(), Request{
		Template: tmpl,
		Stack:    Stack{Name: "s", Region: "long-sound"},
		Inputs:   map[string]any{"existing": "net-1"},
	})
	if made.Resource("net").Find != nil ||
		fmt.Sprint(used.Resource("net").Find, used.Resource("named").Find) != "map[id:net-1] map[name:old]" {
		t.Error(made.Resource("net").Find, used.Resource("net").Find, used.Resource("named").Find)
	}
	c := made.Resource("copy")
	if c.Region != "long-sound" || !c.Guard || !c.NewFirst || c.AtRetire != "keep" ||
		fmt.Sprint(c.Leave, c.Extra) != "[tags] map[tier:gold]" {
		t.Errorf("%+v", c)
	}
	if r := used.Resource("copy").Region; r != "" {
		t.Errorf("a resource in the region of its stack says %s", r)
	}
	if d := made.Resource("data[1]"); d.Was != "files[1]" || d.AtOnce != 1 {
		t.Errorf("%+v", d)
	}
	if len(made.Prove) != 1 || made.Prove[0].Within != 120 ||
		fmt.Sprint(made.Prove[0].Spec["host"]) != "waits for net.id" {
		t.Errorf("%+v", made.Prove)
	}
}

func TestReportedNumbersAndAmountsKeepTheirType(t *testing.T) {
	t.Parallel()
	tmpl := template(t, `resources:
  word: {type: secret, want: {value: x}}
  host: {type: instance, want: {size: s, image: i, subnet: n}}
outputs: {next: =word.version + 1, half: =host.memory / 2, odd: '=[word.version].map(v, v % 2)'}
`)
	r := Render(budget.Boundless(), Request{Template: tmpl, Known: func(r Resource) map[string]any {
		return map[string]map[string]any{
			"word": {"id": "sec-1", "version": 3.0},
			"host": {"id": "ins-1", "memory": "16GiB"},
		}[r.Name]
	}})
	got := fmt.Sprintf("%v %v %v %v", r.Outputs[0].Value, r.Outputs[1].Value, r.Outputs[2].Value, r.Findings)
	if got != "4 8GiB [1] []" {
		t.Error(got)
	}
}

func TestDurationIsTheLongestChain(t *testing.T) {
	t.Parallel()
	tmpl := template(t, `resources:
  net: {type: network, want: {range: 10.0.0.0/8}}
  lan: {type: subnet, want: {network: =net.id, range: 10.0.0.0/24}}
  host: {type: instance, want: {size: s, image: i, subnet: =lan.id}}
  data: {type: disk, want: {size: 10GiB, type: solid}}
  used: {type: private_cloud, find: pc-1}
`)
	seconds, longest := Render(budget.Boundless(), Request{Template: tmpl}).Duration()
	if seconds != 4+3+75 || strings.Join(longest, " ") != "net lan host" {
		t.Errorf("%d seconds by %v", seconds, longest)
	}
}

// TestWhatIsPickedIsOfTheOffers picks engines, families of hosts and hosts that are there.
func TestWhatIsPickedIsOfTheOffers(t *testing.T) {
	t.Parallel()
	template, found := lang.Read("t",
		[]byte("undersail: 1\nabout: {name: t, version: 1.0.0, title: T}\ninputs:\n  engine: {picks: engine}\n  "+
			"family: {picks: family}\n  host: {picks: host}\n"+
			"resources:\n  ground: {type: host, find: =inputs.host, want: {family: "+
			"=inputs.family}}\noutputs: {engine: "+
			"{value: =inputs.engine}, host: {value: =inputs.host}}\n"))
	if template == nil {
		t.Fatal(found)
	}
	o := &offer.Offers{
		Account: "lab",
		Region:  "north-fell",
		Engines: []string{"postgresql-15", "postgresql-16"},
		Hosts:   []offer.Host{{Family: "vast"}, {Family: "plain"}},
		OwnHosts: []offer.OwnHost{
			{ID: "hst-1", Name: "ground", Family: "vast", VCPUs: 64, Used: 64},
			{ID: "hst-2", Name: "pier", Family: "vast", VCPUs: 64},
		},
	}
	for _, c := range []struct {
		inputs map[string]any
		says   string // a finding with its remedy, or nothing
		host   string
	}{
		{map[string]any{"engine": "postgresql-16", "family": "vast", "host": "pier"}, "", "hst-2"},
		{map[string]any{"engine": "postgresql-16", "family": "vast", "host": "hst-1"}, "", "hst-1"},
		{map[string]any{"engine": "postgresql-61", "family": "vast", "host": "pier"},
			`region north-fell has no database engine "postgresql-61"; did you mean ` + "`postgresql-16`?", ""},
		{map[string]any{"engine": "postgresql-16", "family": "vats", "host": "pier"},
			`region north-fell sells no dedicated hosts of family "vats"; did you mean ` + "`vast`?", ""},
		{map[string]any{"engine": "postgresql-16", "family": "vast", "host": "peer"},
			`account lab has no host "peer" in north-fell; did you mean ` + "`pier`?", ""},
		{map[string]any{"family": "vast", "host": "pier"}, "it needs an engine, and none was chosen", ""},
	} {
		r := Render(budget.Boundless(), Request{
			Template: template,
			Stack:    Stack{Name: "s"},
			Inputs:   c.inputs,
			Offers:   o,
		})
		said := ""
		for _, f := range r.Findings {
			if f.Severity == lang.Error && strings.HasPrefix(f.Place, "inputs.") {
				said += f.Message + "; " + f.Remedy
			}
		}
		if c.says == "" && said != "" || !strings.Contains(said, c.says) {
			t.Errorf("%v: %q", c.inputs, said)
		}
		for _, out := range r.Outputs {
			if out.Name == "host" && c.host != "" && out.Value != c.host {
				t.Errorf("%v: the host is %v", c.inputs, out.Value)
			}
		}
	}
	hosts, _ := Options(template.Input("host"), o)
	if len(hosts) != 2 || hosts[0].WhyNot == nil || hosts[1].WhyNot != nil ||
		hosts[1].About != "vast in , 0 of 64 vcpus taken, hst-2" {
		t.Errorf("to be chosen are %+v", hosts)
	}
}
