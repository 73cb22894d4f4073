package render

import (
	"encoding/json"
	"io/fs"
	"slices"
	"strings"
	"testing"

	"undersail/examples"
	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

func offers() *offer.Offers {
	zones := []string{"north-fell-a", "north-fell-b"}
	size := func(name string, vcpus, gib int64, zones ...string) offer.Size {
		return offer.Size{
			Name:         name,
			VCPUs:        vcpus,
			MemoryBytes:  gib << 30,
			Architecture: "x86_64",
			Hour:         0.02 * float64(vcpus),
			Zones:        zones,
		}
	}
	return &offer.Offers{Cloud: "larch", Account: "saltmere-lab", Region: "north-fell", Currency: "kr", Zones: zones,
		Sizes: []offer.Size{size("plain-1", 1, 4, zones...), size("plain-2", 2, 8, zones...),
			size("broad-2", 2, 16, "north-fell-a"), size("vast-64", 64, 1536)},
		DiskTypes: []offer.DiskType{{Name: "solid", MinBytes: 4 << 30, MaxBytes: 1 << 40, Zones: zones}},
		Images: []offer.Image{
			{Name: "debian-12", Architecture: "x86_64"},
			{Name: "tide-base-3", Architecture: "x86_64"},
			{Name: "tide-archive-2", Architecture: "x86_64", MinMemoryBytes: 8 << 30},
		},
		Quotas: map[string]offer.Quota{
			"vcpus":     {Limit: 96},
			"networks":  {Limit: 5},
			"addresses": {Limit: 5},
			"disk_gib":  {Limit: 1000},
		},
		Types: resource.TypeNames()}
}

func example(t testing.TB, name string) *lang.Template {
	t.Helper()
	source, err := fs.ReadFile(examples.Files, name+".sail.yaml")
	if err != nil {
		t.Fatal(err)
	}
	template, found := lang.Read(name, source)
	if template == nil {
		t.Fatal(found)
	}
	return template
}

func gauge(t testing.TB, inputs map[string]any) Request {
	all := map[string]any{
		"zones":         []any{"north-fell-a", "north-fell-b"},
		"workers":       int64(2),
		"admin_sources": []any{"10.9.0.0/16"},
	}
	for k, v := range inputs {
		all[k] = v
	}
	return Request{
		Template: example(t, "gauge-intake"),
		Stack:    Stack{Name: "north", ID: FixedID, Account: "saltmere-lab", Region: "north-fell"},
		Inputs:   all,
		Offers:   offers(),
	}
}

func encode(t testing.TB, v any) string {
	t.Helper()
	raw, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}

func TestSameInputSameBytes(t *testing.T) {
	t.Parallel()
	first := encode(t, Render(budget.Boundless(), gauge(t, nil)))
	for range 5 {
		if encode(t, Render(budget.Boundless(), gauge(t, nil))) != first {
			t.Fatal("the same input gave other bytes")
		}
	}
}

func TestPendingValuesNameWhatTheyWaitFor(t *testing.T) {
	t.Parallel()
	r := Render(budget.Boundless(), gauge(t, nil))
	if len(r.Findings) > 0 {
		t.Fatalf("findings: %v", r.Findings)
	}
	worker := r.Resource("worker[1]")
	want := []string{"access.id", "gateway.private_address", "worker_rules.id", "worker_subnet[north-fell-b].id"}
	if !slices.Equal(worker.Pending, want) {
		t.Errorf("worker[1] waits for %v, want %v", worker.Pending, want)
	}
	var after []string
	for _, a := range worker.After {
		after = append(after, a.Name)
	}
	want = []string{"access", "gateway", "worker_rules", "worker_subnet[north-fell-b]"}
	if !slices.Equal(after, want) {
		t.Errorf("worker[1] comes after %v, want only its own subnet: %v", after, want)
	}
	if r.Resource("edge_subnet").Want["range"] != "10.44.0.0/26" {
		t.Errorf("carved %v", r.Resource("edge_subnet").Want["range"])
	}
}

func TestKnownAttributesResolveTheSameExpressions(t *testing.T) {
	t.Parallel()
	request := gauge(t, nil)
	request.Known = func(r Resource) map[string]any {
		return map[string]any{
			"id":              "id-of-" + r.Name,
			"private_address": "10.44.0.9",
			"public_address":  "127.64.0.1",
			"reach":           map[string]any{"8443": "127.64.0.1:8443", "22": "127.64.0.1:22"},
			"private_key":     "north/access@1",
		}
	}
	session, r := Accept(budget.Boundless(), request)
	want := r.Resource("worker[0]").Want
	if want["key_pair"] != "id-of-access" || want["subnet"] != "id-of-worker_subnet[north-fell-a]" {
		t.Errorf("resolved to %v", want)
	}
	for _, res := range r.Resources {
		_, sent, err := session.Resolve(res.Name, func(ref string) (string, bool) { return "KEY " + ref, true })
		if err != nil {
			t.Fatal(err)
		}
		if waits := append(resource.Waits(sent.Want), resource.Secrets(sent.Want)...); len(waits) > 0 {
			t.Errorf("%s still waits for %v", res.Name, waits)
		}
	}
	_, worker, _ := session.Resolve("worker[0]", func(ref string) (string, bool) { return "KEY " + ref, true })
	if spec := worker.Checks[1].Spec; spec["key"] != "KEY north/access@1" {
		t.Errorf("the check logs in with %v", spec["key"])
	}
}

func TestSecretsStayReferences(t *testing.T) {
	t.Parallel()
	const value = "Very-Secret-99-word"
	r := Render(budget.Boundless(), Request{
		Template: example(t, "tide-archive"),
		Stack:    Stack{Name: "archive"},
		Offers:   offers(),
		Inputs:   map[string]any{"forecasters": "10.9.0.0/16", "password": value},
		Secrets:  map[string]string{"password": "archive/password@1"},
	})
	text := encode(t, r)
	if strings.Contains(text, value) {
		t.Error("the secret's value is in the rendering")
	}
	if !strings.Contains(text, "secret:archive/password@1") {
		t.Error("the secret's reference is not in the rendering")
	}
}

func TestOneInputChangesOnlyWhatDependsOnIt(t *testing.T) {
	t.Parallel()
	before, after := Render(budget.Boundless(), gauge(t, nil)),
		Render(budget.Boundless(),
			gauge(t, map[string]any{"worker_size": "broad-2", "zones": []any{"north-fell-a", "north-fell-b"}}))
	for i, r := range after.Resources {
		changed := encode(t, r) != encode(t, before.Resources[i])
		if isWorker := strings.HasPrefix(r.Name, "worker["); changed != isWorker {
			t.Errorf("%s changed: %t", r.Name, changed)
		}
	}
}

func TestTakingAZoneAwayRenamesNothing(t *testing.T) {
	t.Parallel()
	r := Render(budget.Boundless(), gauge(t, map[string]any{"zones": []any{"north-fell-b"}}))
	if r.Resource("worker_subnet[north-fell-b]") == nil || r.Resource("worker_subnet[north-fell-a]") != nil {
		t.Error("members of a mapping are not named by their key")
	}
}

func TestOptionalPartsAndLoops(t *testing.T) {
	t.Parallel()
	template, found := lang.Read("t", []byte(`undersail: 1
about: {name: t, version: 1.0.0, title: T}
inputs:
  archive: {type: boolean, default: false}
  zones: {picks: zones}
resources:
  net: {type: network, want: {range: 10.0.0.0/16}}
  front: {type: address, when: =inputs.archive}
  disk:
    type: disk
    repeat: {zone: =inputs.zones, number: 2}
    want: {size: '=string(number + 10) + "GiB"', type: solid, zone: =zone}
  none: {type: address, repeat: 0}
outputs:
  front: =front.address
  text: '=front.address.orValue("none")'
  disks: '=disk["north-fell-b"].map(d, d.name)'
  empty: =size(none)
`))
	if template == nil {
		t.Fatal(found)
	}
	inputs := map[string]any{"zones": []any{"north-fell-a", "north-fell-b"}}
	r := Render(budget.Boundless(), Request{
		Template: template,
		Stack:    Stack{Name: "s"},
		Inputs:   inputs,
		Offers:   offers(),
	})
	if r.Resource("front") != nil || len(r.Outputs) != 3 || r.Outputs[0].Value != "none" {
		t.Errorf("without the optional part: %s", encode(t, r.Outputs))
	}
	if r.Resource("disk[north-fell-b][1]").Want["size"] != "11GiB" || len(r.Resources) != 5 {
		t.Errorf("loops gave %d resources", len(r.Resources))
	}
	inputs["archive"] = true
	if r = Render(budget.Boundless(), Request{
		Template: template,
		Stack:    Stack{Name: "s"},
		Inputs:   inputs,
		Offers:   offers(),
	}); r.Resource("front") == nil || len(r.Outputs) != 4 {
		t.Errorf("with the optional part: %s", encode(t, r.Outputs))
	}
}
