package render_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/fit"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
)

func TestFindingsComeAllAtOnceWithRemedies(t *testing.T) {
	t.Parallel()
	o := *render.Offers()
	o.Quotas["vcpus"] = offer.Quota{Limit: 6, Used: 1}
	o.Networks = []offer.Network{{ID: "net-1", Name: "old", Range: "10.44.0.0/16"}}
	for _, c := range []struct {
		inputs map[string]any
		want   string
	}{
		{map[string]any{"worker_size": "vast-64"},
			"not-offered inputs.worker_size size vast-64 does not do: it is not sold in north-fell these fit: broad-2"},
		{map[string]any{"worker_size": "plain-1"},
			"not-offered inputs.worker_size size plain-1 does not do: it has 1 vcpus and 2 are needed"},
		{map[string]any{"worker_size": "broad-2"}, "zone north-fell-b does not sell it"},
		{map[string]any{"worker_size": "plane-2"}, "not-offered inputs.worker_size cloud larch has no size"},
		{map[string]any{"workers": int64(3)}, "require inputs 3 workers cannot be spread evenly over two zones"},
		{map[string]any{"workers": int64(40)}, "input-value inputs.workers"},
		{map[string]any{"workers": "two"}, "input-kind inputs.workers"},
		{map[string]any{"wrokers": int64(2)},
			"unknown-input inputs.wrokers the template has no input `wrokers` did you mean `workers`?"},
		{map[string]any{"prefix": "X"}, "input-value inputs.prefix"},
		{map[string]any{"zones": []any{"low-marsh-a"}},
			"not-offered inputs.zones[0] region north-fell has no zone \"low-marsh-a\""},
		{map[string]any{"zones": nil}, "missing-input inputs.zones"},
		{map[string]any{"range": "10.44.0.0/27"}, "compute calc.parts carve:"},
		{map[string]any{"admin_sources": []any{"0.0.0.0"}}, "input-kind inputs.admin_sources item 1"},
		{nil, "quota quota.vcpus the account may have 6 vcpus in north-fell and has 1; this needs 7, 2 too many"},
		{nil, "range-in-use net.range 10.44.0.0/20 overlaps 10.44.0.0/16 of the network old (net-1), which is there " +
			"already choose another range; 10.45.0.0/20 is the nearest that is free"},
	} {
		request := render.Gauge(t, c.inputs)
		request.Offers = &o
		found := false
		var all []string
		r := render.Render(budget.Boundless(), request)
		for _, f := range append(r.Findings, fit.Rendering(r, offer.At(o))...) {
			line := fmt.Sprintf("%s %s %s %s", f.Code, f.Place, f.Message, f.Remedy)
			all = append(all, line)
			found = found || strings.Contains(line, c.want) && f.Severity == lang.Error
		}
		if !found {
			t.Errorf("%v: want %q among:\n%s", c.inputs, c.want, strings.Join(all, "\n"))
		}
	}
}

func TestWhatTheCloudLacksIsFound(t *testing.T) {
	t.Parallel()
	tmpl := render.Template(t, `resources:
  plain: {type: address, extra: {speed: fast, tier: gold}}
  host: {type: instance, want: {size: small, image: i, subnet: n, cards: [{subnet: m}]}}
  store: {type: disk, at_retire: snapshot, rebuild: new_first, repeat: 2, want: {size: 10GiB, type: solid}}
  zone: {type: name_zone, want: {domain: a.example}}
  used: {type: domain, find: dom-1}
`)
	offers := &offer.Offers{
		Cloud:     "larch",
		Region:    "r",
		Zones:     []string{"a"},
		Types:     []string{"address", "instance", "disk"},
		Without:   map[string][]string{"instance": {"cards"}},
		Extra:     map[string][]string{"address": {"tier"}},
		Sizes:     []offer.Size{{Name: "small", Zones: []string{"a"}}},
		DiskTypes: []offer.DiskType{{Name: "solid", MaxBytes: 1 << 40, Zones: []string{"a"}}},
		Images:    []offer.Image{{Name: "i"}},
		Subnets:   []offer.Subnet{{ID: "n"}},
	}
	var got []string
	for _, f := range fit.Rendering(render.Render(budget.Boundless(), render.Request{Template: tmpl, Offers: offers}),
		offer.At(*offers)) {
		got = append(got, string(f.Severity)+" "+f.Code+" "+f.Place)
	}
	slices.Sort(got)
	want := "error not-supported host.cards, error not-supported plain.extra.speed, error not-supported " +
		"store[0].at_retire, error not-supported store[1].at_retire, error not-supported zone"
	if strings.Join(got, ", ") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, ", "), want)
	}
}

// TestWhatOffersGiveIsKeptAsAComputedValue lays disks out, keeps them under a name, and reads
// sizes as amounts from there.
func TestWhatOffersGiveIsKeptAsAComputedValue(t *testing.T) {
	t.Parallel()
	tmpl := render.Template(t, `calc:
  areas: '=lay_out(offers, layout_need{data: amount("100GiB"), log: true})'
  sizes: =offers.sizes
resources:
  disks: {type: disk, repeat: {area: '=calc.areas.map(a, a.use)'}, want: {size: '=calc.areas[index].size', type: '=calc.areas[index].type'}}
outputs:
  large: {value: '=calc.areas.filter(a, a.size > amount("60GiB")).map(a, a.use)'}
  whole: {value: '=calc.areas[0]'}
  cores: {value: '=calc.sizes[0].vcpus + 1'}
`)
	r := render.Render(budget.Boundless(), render.Request{
		Template: tmpl,
		Offers:   render.Offers(),
		Stack:    render.Stack{Name: "s", Region: "north-fell"},
	})
	if len(r.Findings) > 0 || len(r.Resources) != 2 || r.Resources[0].Want["size"] == nil {
		t.Fatalf("%v %+v", r.Findings, r.Resources)
	}
	outputs := map[string]any{}
	for _, o := range r.Outputs {
		outputs[o.Name] = o.Value
	}
	whole, _ := outputs["whole"].(map[string]any)
	large := outputs["large"]
	if fmt.Sprint(large) != "[data]" || whole["use"] != "data" || whole["size"] != r.Resources[0].Want["size"] {
		t.Errorf("large %v, whole %v", large, whole)
	}
}
