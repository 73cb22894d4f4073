package render

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/offer"
)

const sized = `inputs:
  boats: {type: integer, default: 4}
  size:
    picks: size
    needs: {memory: 4GiB, architecture: x86_64}
    sized_by: {table: fleet, for: =inputs.boats}
    advice: '="for " + string(inputs.boats) + " boats"'
sizing:
  fleet:
    unit: boats
    source: the fleet's makers
    rows:
      - {upto: 8, needs: {vcpus: 1}}
      - {upto: 16, needs: {vcpus: 2, memory: 8GiB}}
      - {upto: 30, needs: {vcpus: 4, memory: 16GiB}}
resources:
  net: {type: network, want: {range: 10.0.0.0/16, tags: {size: =inputs.size}}}
`

// fleet renders the table above with inputs, in a region that sells three sizes.
func fleet(t *testing.T, text string, inputs map[string]any) *Rendering {
	t.Helper()
	o := &offer.Offers{Region: "north-fell", Currency: "kr", Zones: []string{"a"}}
	for _, n := range []int64{1, 2, 4} {
		o.Sizes = append(o.Sizes, offer.Size{
			Name:         fmt.Sprintf("plain-%d", n),
			VCPUs:        n,
			MemoryBytes:  n * 4 << 30,
			Architecture: "x86_64",
			Hour:         0.02 * float64(n),
			Zones:        []string{"a"},
		})
	}
	return Render(budget.Boundless(), Request{Template: template(t, text), Inputs: inputs, Offers: o})
}

func told(r *Rendering) string {
	var out []string
	for _, f := range r.Findings {
		out = append(out, fmt.Sprintf("%s %s %s: %s (%s)", f.Severity, f.Code, f.Place, f.Message, f.Remedy))
	}
	return strings.Join(out, "\n")
}

func TestASizingTableChoosesTheCheapestThatDoes(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		boats int64
		want  string
	}{{1, "plain-1"}, {8, "plain-1"}, {9, "plain-2"}, {16, "plain-2"}, {17, "plain-4"}, {30, "plain-4"}} {
		r := fleet(t, sized, map[string]any{"boats": c.boats})
		in := r.Inputs[slices.IndexFunc(r.Inputs, func(v InputValue) bool { return v.Name == "size" })]
		if in.Value != c.want || in.Origin != SizingTable || in.Advice != fmt.Sprintf("for %d boats", c.boats) ||
			told(r) != "" {
			t.Errorf("%d boats: %+v\n%s", c.boats, in, told(r))
		}
		if got := r.Resources[0].Want["tags"].(map[string]any)["size"]; got != c.want {
			t.Errorf("%d boats: the resource has %v", c.boats, got)
		}
		if slices.ContainsFunc(r.Compliance, func(c Compliance) bool { return !c.Met }) || len(r.Compliance) == 0 {
			t.Errorf("%d boats: %+v", c.boats, r.Compliance)
		}
	}
}

func TestATooSmallSizeIsToldWithWhatItDoesFor(t *testing.T) {
	t.Parallel()
	r := fleet(t, sized, map[string]any{"boats": int64(20), "size": "plain-2"})
	want := "error sizing inputs.size: plain-2 is too small for 20 boats: it has 2 vcpus (4 needed), 8GiB of memory " +
		"(16GiB needed) (choose plain-4 or a larger one, or up to 16 boats)"
	if told(r) != want {
		t.Errorf("got  %s\nwant %s", told(r), want)
	}
	if f := r.Findings[0]; f.Take != "plain-4" {
		t.Errorf("the finding offers %q", f.Take)
	}
	var lines []string
	for _, c := range r.Compliance {
		lines = append(lines, fmt.Sprintf("%s: %s %s/%s %v", c.By, c.What, c.Chosen, c.Needed, c.Met))
	}
	want = "the least machine: memory 8GiB/4GiB true; the least machine: architecture x86_64/x86_64 true; fleet, 20 " +
		"boats: vcpus 2/4 false; fleet, 20 boats: memory 8GiB/16GiB false"
	if got := strings.Join(lines, "; "); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
}

func TestATableThatAdvisesWarns(t *testing.T) {
	t.Parallel()
	text := strings.Replace(sized, "for: =inputs.boats}", "for: =inputs.boats, advises: true}", 1)
	r := fleet(t, text, map[string]any{"boats": int64(20), "size": "plain-1"})
	if got := told(r); !strings.HasPrefix(got, "warning sizing inputs.size: plain-1 is too small for 20 boats") {
		t.Error(got)
	}
}

func TestATableEndsAndSaysWhere(t *testing.T) {
	t.Parallel()
	for boats, size := range map[int64]any{31: nil, 400: "plain-4"} {
		inputs := map[string]any{"boats": boats}
		if size != nil {
			inputs["size"] = size
		}
		want := fmt.Sprintf("error sizing inputs.size: the sizing table fleet ends at 30 boats, and %d are wanted "+
			"(use less, or several of them)", boats)
		if got := told(fleet(t, sized, inputs)); !strings.Contains(got, want) {
			t.Errorf("got  %s\nwant %s", got, want)
		}
	}
}

func TestNothingSoldIsLargeEnough(t *testing.T) {
	t.Parallel()
	text := strings.Replace(sized, "vcpus: 4, memory: 16GiB", "vcpus: 64", 1)
	got := told(fleet(t, text, map[string]any{"boats": int64(30)}))
	if !strings.Contains(got,
		"error sizing inputs.size: no size sold in north-fell fits; the nearest is plain-4: it has 4 vcpus and 64 "+
			"are needed (choose another region)") {
		t.Error(got)
	}
}

const ranged = `inputs:
  first: {type: string, format: cidr, free: 20}
  second: {type: string, format: cidr, free: 24}
  third: {type: string, format: cidr, default: 10.0.16.0/24}
resources:
  net: {type: network, want: {range: =inputs.first}}
  other: {type: network, want: {range: =inputs.second}}
`

func TestAFreeRangeIsDisjointFromAllThatIsKnown(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		about         string
		offers        *offer.Offers
		inputs        map[string]any
		first, second string
	}{
		{"nothing is there", &offer.Offers{}, nil, "10.0.0.0/20", "10.0.16.0/24"},
		{"no offers are known", nil, nil, "10.0.0.0/20", "10.0.16.0/24"},
		{"a network is there", &offer.Offers{Networks: []offer.Network{{ID: "n", Range: "10.0.0.0/18"}}}, nil,
			"10.0.64.0/20", "10.0.80.0/24"},
		{"the premises have a range", &offer.Offers{Reserved: []offer.Reserved{{Range: "10.0.0.0/9"}}}, nil,
			"10.128.0.0/20", "10.128.16.0/24"},
		{"another input was given", &offer.Offers{}, map[string]any{"third": "10.0.0.0/24"}, "10.0.16.0/20",
			"10.0.1.0/24"},
		{"it was given itself", &offer.Offers{}, map[string]any{"first": "10.0.0.0/20"}, "10.0.0.0/20", "10.0.16.0/24"},
	} {
		r := Render(budget.Boundless(), Request{Template: template(t, ranged), Inputs: c.inputs, Offers: c.offers})
		values := map[string]InputValue{}
		for _, in := range r.Inputs {
			values[in.Name] = in
		}
		if values["first"].Value != c.first || values["second"].Value != c.second {
			t.Errorf("%s: %v and %v, want %s and %s\n%s", c.about, values["first"].Value, values["second"].Value,
				c.first, c.second, told(r))
		}
		given := c.inputs["first"] != nil
		if (values["first"].Origin == FreeRange) == given || values["second"].Origin != FreeRange {
			t.Errorf("%s: from %s and %s", c.about, values["first"].Origin, values["second"].Origin)
		}
	}
}

func TestWhatIsPickedIsJudgedByTheOffers(t *testing.T) {
	t.Parallel()
	o := &offer.Offers{
		Cloud:     "larch",
		Region:    "north-fell",
		Zones:     []string{"a", "b"},
		DiskTypes: []offer.DiskType{{Name: "solid"}},
		Networks: []offer.Network{
			{ID: "net-1", Name: "harbour"},
			{ID: "net-2", Name: "quay"},
			{ID: "net-3", Name: "quay"},
		},
		Subnets:  []offer.Subnet{{ID: "sub-1", Name: "front", Network: "net-1"}},
		KeyPairs: []offer.Named{{ID: "key-1", Name: "duty"}},
	}
	for _, c := range []struct {
		picks, given string
		value, says  string
	}{
		{"network", "harbour", "net-1", ""},
		{"network", "net-3", "net-3", ""},
		{"network", "quay", "", "2 have that name: choose one by its id, net-2 or net-3"},
		{"network", "sub-1", "", "sub-1 is a subnet (front), and not a network"},
		{"network", "harbor", "", "harbor"},
		{"subnet", "harbour/front", "sub-1", ""},
		{"key_pair", "duty", "key-1", ""},
		{"disk_type", "solid", "solid", ""},
		{"disk_type", "solud", "", "region north-fell has no disk type \"solud\""},
		{"zone", "a", "a", ""},
		{"zone", "c", "", "region north-fell has no zone \"c\""},
	} {
		text := fmt.Sprintf("inputs:\n  x: {picks: %s}\nresources:\n  net: {type: network, want: {range: "+
			"10.0.0.0/16, tags: {x: =inputs.x}}}\n", c.picks)
		r := Render(budget.Boundless(), Request{
			Template: template(t, text),
			Inputs:   map[string]any{"x": c.given},
			Offers:   o,
		})
		if c.says != "" {
			if got := told(r); !strings.Contains(got, c.says) || !strings.Contains(got, "inputs.x") {
				t.Errorf("%s %s: %s, want %q", c.picks, c.given, got, c.says)
			}
			continue
		}
		if got := r.Inputs[0].Value; got != c.value || told(r) != "" {
			t.Errorf("%s %s: %v, want %s\n%s", c.picks, c.given, got, c.value, told(r))
		}
	}
}

func TestOptionsAreThoseOfTheSchemaOrOfTheOffers(t *testing.T) {
	t.Parallel()
	tmpl := template(t, `inputs:
  nodes: {type: integer, enum: [1, 3]}
  size: {picks: size, needs: {vcpus: 2}}
  word: {type: string}
resources:
  net: {type: network, want: {range: 10.0.0.0/16}}
`)
	list := func(name string, o *offer.Offers) string {
		options, known := Options(tmpl.Input(name), o)
		if !known {
			return "anything"
		}
		var out []string
		for _, x := range options {
			out = append(out, fmt.Sprintf("%s %v", x.Value, x.WhyNot == nil))
		}
		return strings.Join(out, ", ")
	}
	for _, c := range []struct {
		name   string
		offers *offer.Offers
		want   string
	}{
		{"nodes", nil, "1 true, 3 true"}, {"word", offers(), "anything"}, {"size", nil, "anything"},
		{"size", offers(), "broad-2 true, plain-2 true, plain-1 false, vast-64 false"},
	} {
		if got := list(c.name, c.offers); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}

func TestAFindingIsLocatedInTheTemplate(t *testing.T) {
	t.Parallel()
	tmpl := template(t, sized)
	for place, want := range map[string]string{
		"inputs.size": "size:", "net.range": "range: 10.0.0.0/16", "net.tags.size": "size: =inputs.size", "net": "net:",
	} {
		got := Locate(tmpl, []Finding{{Place: place}})[0]
		lines := strings.Split(string(tmpl.Source), "\n")
		if got.Line < 1 || got.Line > len(lines) || !strings.Contains(lines[got.Line-1], want) {
			t.Errorf("%s is located in line %d, want that of %q", place, got.Line, want)
		}
	}
	if got := Locate(tmpl, []Finding{{Place: "quota.vcpus"}})[0]; got.Line != 0 {
		t.Errorf("a quota is located in line %d of the template", got.Line)
	}
}
