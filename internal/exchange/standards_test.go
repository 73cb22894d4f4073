package exchange

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v4"

	"undersail/examples"
	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

func compiled(t *testing.T, raw []byte) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("urn:test:schema", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("urn:test:schema")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// The schema is that of the OASIS standard, Static Analysis Results Interchange
// Format 2.1.0.
func TestDiagnosticsAreValidSARIF(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile("testdata/sarif-schema-2.1.0.json")
	if err != nil {
		t.Fatal(err)
	}
	schema := compiled(t, raw)
	for _, text := range []string{"undersail: 1\nresources: {net: {type: netwrk}, a: {type: address, want: {name: " +
		"=b}}}\noutputs: {x: =ned.id}\n", "", "{",
		"undersail: 1\nabout: {name: s, version: 1.0.0, title: S}\ninputs: {unused: {type: string, default: " +
			"x}}\nresources: {a: {type: address}}\n"} {
		_, found := lang.Read("some folder/site.sail.yaml", []byte(text))
		var b bytes.Buffer
		if err := SARIF(&b, "1.2.3", found); err != nil {
			t.Fatal(err)
		}
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b.Bytes()))
		if err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(doc); err != nil {
			t.Errorf("%d diagnostics: %v\n%s", len(found), err, b.String())
		}
	}
}

func TestThePublishedSchemaAcceptsEveryExample(t *testing.T) {
	t.Parallel()
	var b bytes.Buffer
	if err := Schema(&b); err != nil {
		t.Fatal(err)
	}
	schema := compiled(t, b.Bytes())
	check := func(source []byte) error {
		var plain any
		if err := yaml.Load(source, &plain); err != nil {
			t.Fatal(err)
		}
		raw, err := json.Marshal(plain)
		if err != nil {
			t.Fatal(err)
		}
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
		if err != nil {
			t.Fatal(err)
		}
		return schema.Validate(doc)
	}
	err := fs.WalkDir(examples.Files, ".", func(file string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(file, ".sail.yaml") {
			return err
		}
		source, err := fs.ReadFile(examples.Files, file)
		if err != nil {
			return err
		}
		if err := check(source); err != nil {
			t.Errorf("%s: %v", file, err)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	head := "undersail: 1\nabout: {name: s, version: 1.0.0, title: S}\n"
	for about, text := range map[string]string{
		"an unknown type":     head + "resources: {net: {type: netwrk}}\n",
		"an unknown property": head + "resources: {net: {type: network, want: {rnge: 10.0.0.0/8}}}\n",
		"a wrong kind":        head + "resources: {rules: {type: firewall, want: {network: x, rules: 4}}}\n",
		"a number too large": head +
			"resources: {p: {type: pool, want: {size: a, image: b, subnets: [], least: 0, most: 20000}}}\n",
		"an unknown input key": head + "inputs: {a: {tpe: string}}\nresources: {a: {type: address}}\n",
		"no resources":         head,
		"a bad name":           head + "resources: {Net: {type: address}}\n",
		"a bad guard":          head + "resources: {net: {type: address, guard: perhaps}}\n",
	} {
		if check([]byte(text)) == nil {
			t.Errorf("%s is accepted", about)
		}
	}
}

func TestTheReferenceOfTypesIsCurrent(t *testing.T) {
	t.Parallel()
	var b bytes.Buffer
	if err := TypesPage(&b); err != nil {
		t.Fatal(err)
	}
	page, err := os.ReadFile("../../docs/resource-types.md")
	if err != nil || !bytes.Equal(page, b.Bytes()) {
		t.Errorf("docs/resource-types.md is not what the descriptions say (%v); make it with: make generate", err)
	}
	for _, typ := range resource.Types() {
		if !strings.Contains(b.String(), "\n## "+typ.Name+"\n") {
			t.Errorf("nothing is said of %s", typ.Name)
		}
	}
}

// TestEveryStarterPassesEveryCheck writes a template for each set of answers.
func TestEveryStarterPassesEveryCheck(t *testing.T) {
	t.Parallel()
	for set := range 1 << len(Extras) {
		s := Starter{Name: "tide-board", Title: "Tide board"}
		if set%2 == 1 {
			s.Tiers = []Tier{{"middle", 2, 8080}, {"store", 1, 5432}}
		}
		if err := s.Faults(); err != nil {
			t.Fatal(err)
		}
		for i, x := range Extras {
			if set&(1<<i) != 0 {
				s.With = append(s.With, x.Name)
			}
		}
		var b bytes.Buffer
		if err := s.Write(&b); err != nil {
			t.Fatal(err)
		}
		template, found := lang.Read("tide-board.sail.yaml", b.Bytes())
		if len(found) > 0 {
			t.Errorf("with %v: %v", s.With, found)
			continue
		}
		if tidy, _ := lang.Tidy("x", b.Bytes()); !bytes.Equal(tidy, b.Bytes()) {
			t.Errorf("with %v it is not tidy:\n%s", s.With, tidy)
		}
		inputs := map[string]any{"size": "plain-1", "image": "debian-12", "disk_type": "solid"}
		maps.DeleteFunc(inputs, func(name string, _ any) bool { return template.Input(name) == nil })
		for _, in := range template.Inputs {
			if in.Required() && inputs[in.Name] == nil {
				inputs[in.Name] = []any{"198.51.100.0/24"}
			}
		}
		r := render.Render(budget.Boundless(), render.Request{
			Template: template,
			Inputs:   inputs,
			Stack:    render.Stack{Name: "board"},
		})
		if len(r.Findings) > 0 {
			t.Errorf("with %v: %v", s.With, r.Findings)
		}
		if workers := slices.Contains(s.With, "workers"); (r.Resource("worker[1]") != nil) != workers {
			t.Errorf("with %v there are workers: %v", s.With, !workers)
		}
		if len(s.Tiers) > 0 && (r.Resource("middle[1]") == nil || r.Resource("store_rules") == nil) {
			t.Errorf("with %v the tiers are not there", s.With)
		}
	}
}

// TestAStarterTellsWhatIsWrongWithItsAnswers gives answers of which none can be written.
func TestAStarterTellsWhatIsWrongWithItsAnswers(t *testing.T) {
	t.Parallel()
	nine := slices.Repeat([]Tier{{"a", 1, 80}}, 9)
	for words, s := range map[string]Starter{
		"no name of a template": {Name: "Tide Board"},
		"nothing called":        {Name: "board", With: []string{"lake"}},
		"more than 8":           {Name: "board", Tiers: nine},
		"no name of a tier":     {Name: "board", Tiers: []Tier{{"mid-dle", 1, 80}}},
		`"machine" is taken`:    {Name: "board", Tiers: []Tier{{"machine", 1, 80}}},
		`"a" is taken`:          {Name: "board", Tiers: []Tier{{"a", 1, 80}, {"a", 1, 80}}},
		"has 0 machines":        {Name: "board", Tiers: []Tier{{"a", 0, 80}}},
		"port 70000":            {Name: "board", Tiers: []Tier{{"a", 1, 70000}}},
	} {
		if err := s.Faults(); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%+v is told as %v, and not as %q", s, err, words)
		}
	}
}

// sixty is a rendering of about sixty resources in several layers.
func sixty(t *testing.T) *render.Rendering {
	t.Helper()
	template, found := lang.Read("sixty", []byte(`undersail: 1
about: {name: sixty, version: 1.0.0, title: Sixty}
resources:
  net: {type: network, want: {range: 10.0.0.0/8}}
  key: {type: key_pair}
  subnet: {type: subnet, repeat: 6, want: {network: =net.id, range: '="10." + string(index) + ".0.0/16"'}}
  rules: {type: firewall, repeat: 4, want: {network: =net.id, rules: []}}
  data: {type: disk, repeat: 20, want: {size: 10GiB, type: solid}}
  machine:
    type: instance
    repeat: 20
    want: {size: plain-1, image: debian-12, key_pair: =key.id, subnet: '=subnet[index % 6].id', firewalls: ['=rules[index % 4].id'], disks: [{disk: '=data[index].id'}]}
  front:
    type: instance
    repeat: 6
    want: {size: plain-1, image: debian-12, subnet: '=subnet[0].id', user_data: {write_files: [{path: /x, content: '=machine[index].private_address + machine[index + 6].private_address'}]}}
  board: {type: instance, after: {front: healthy}, want: {size: plain-1, image: debian-12, subnet: '=subnet[5].id'}}
`))
	if template == nil {
		t.Fatal(found)
	}
	return render.Render(budget.Boundless(), render.Request{Template: template, Stack: render.Stack{Name: "s"}})
}

func TestADrawingOfSixtyResourcesIsReadable(t *testing.T) {
	t.Parallel()
	g := OfRendering(sixty(t))
	if len(g.Nodes) != 59 {
		t.Fatalf("%d nodes", len(g.Nodes))
	}
	var a, b bytes.Buffer
	if SVG(&a, g) != nil || SVG(&b, g) != nil || !bytes.Equal(a.Bytes(), b.Bytes()) {
		t.Error("two drawings of one graph differ")
	}
	for _, n := range g.Nodes {
		if !strings.Contains(a.String(), "<title>"+n.Name+",") {
			t.Errorf("%s is not drawn", n.Name)
		}
	}
}

func TestBeyondSixtyRepeatsFold(t *testing.T) {
	t.Parallel()
	r := sixty(t)
	for i := range 10 {
		r.Resources = append(r.Resources, render.Resource{
			Name:     fmt.Sprintf("extra[%d]", i),
			Declared: "extra",
			Type:     "address",
			After:    []render.After{{Name: "board", Gate: lang.GateHealthy}},
		})
	}
	g := OfRendering(r)
	if len(g.Nodes) != 9 {
		t.Fatalf("%d nodes: %v", len(g.Nodes), g.Nodes)
	}
	var b bytes.Buffer
	if err := DOT(&b, g); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"machine\n20 of type instance"`, `"data" -> "machine"`, `"machine" -> "front"`,
		`"board" -> "extra"`} {
		if !strings.Contains(b.String(), want) {
			t.Errorf("nothing of %s in\n%s", want, b.String())
		}
	}
}
