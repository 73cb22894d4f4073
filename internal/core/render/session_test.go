package render

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"

	"undersail/examples"
	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// bundled reads an example with all that it embeds from beside it.
func bundled(t testing.TB, file, ref string) lang.Bundle {
	t.Helper()
	source, err := fs.ReadFile(examples.Files, file)
	if err != nil {
		t.Fatal(err)
	}
	b := lang.Bundle{Ref: ref, File: file, Source: string(source)}
	if !lang.IsTemplateRef(ref) {
		return b
	}
	for _, inner := range lang.References(source) {
		at := path.Join(path.Dir(file), inner)
		if lang.IsTemplateRef(inner) && !lang.IsLocalRef(inner) {
			name, _, _ := strings.Cut(inner, "@")
			at = name + ".sail.yaml"
		}
		b.Parts = append(b.Parts, bundled(t, at, inner))
	}
	return b
}

// exampleRequest is an example with its own inputs file in the demo's market.
func exampleRequest(t testing.TB, name string) Request {
	t.Helper()
	template, found := lang.ReadBundle(bundled(t, name+".sail.yaml", "./"+name+".sail.yaml"))
	if template == nil {
		t.Fatal(found)
	}
	raw, err := fs.ReadFile(examples.Files, name+".inputs.yaml")
	if err != nil {
		t.Fatal(err)
	}
	inputs := map[string]any{}
	if err := yaml.Load(raw, &inputs); err != nil {
		t.Fatal(err)
	}
	market := offer.Offers{}
	if raw, err = fs.ReadFile(examples.Files, "north-fell.offers.json"); err == nil {
		err = json.Unmarshal(raw, &market)
	}
	if err != nil {
		t.Fatal(err)
	}
	secrets := map[string]string{}
	for _, in := range template.Inputs {
		if in.Secret && !in.Generate && !in.Optional {
			secrets[in.Name] = name + "/" + in.Name + "@1"
		}
	}
	return Request{
		Template: template,
		Secrets:  secrets,
		Stack:    Stack{Name: name, ID: FixedID, Account: "saltmere-lab", Cloud: "larch", Region: "north-fell"},
		Inputs:   inputs,
		Offers:   &market,
	}
}

// reports makes up what a resource reports; a second time it says otherwise.
func reports(r Resource, time int) map[string]any {
	t, _ := resource.ByName(r.Type)
	out := map[string]any{}
	for i, a := range t.Attributes {
		switch a.Shape.Kind {
		case resource.Integer:
			out[a.Name] = int64(10*i + time)
		case resource.Data:
			out[a.Name] = fmt.Sprintf("%dGiB", i+time)
		case resource.Boolean:
			out[a.Name] = time%2 == 0
		case resource.String:
			out[a.Name] = fmt.Sprintf("%s.%s/%d", r.Name, a.Name, time)
			if a.Secret {
				out[a.Name] = r.Name + "@1"
			}
		}
	}
	return out
}

func reveal(reference string) (string, bool) { return "value of " + reference, true }

// TestASessionResolvesWhatRenderingAllWouldGive makes every example step by step,
// and after each report the rendering of the whole template is the oracle.
func TestASessionResolvesWhatRenderingAllWouldGive(t *testing.T) {
	t.Parallel()
	requests := map[string]Request{
		"nested": {
			Template: nested(t, func(s string) string { return s }),
			Stack:    Stack{Name: "coast", ID: FixedID},
			Secrets:  map[string]string{"station[north].machine.password": "coast/one@1"},
		},
	}
	files, err := fs.Glob(examples.Files, "*.inputs.yaml")
	if err != nil || len(files) < 10 {
		t.Fatal(files, err)
	}
	for _, f := range files {
		name := strings.TrimSuffix(f, ".inputs.yaml")
		requests[name] = exampleRequest(t, name)
	}
	for name, request := range requests {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			known := map[string]map[string]any{}
			request.Known = func(r Resource) map[string]any { return known[r.Name] }
			session, accepted := Accept(budget.Boundless(), request)
			rounds := 2 // the second time every report is another one: what was altered
			if len(accepted.Resources) > 40 {
				rounds = 1
			}
			for round := range rounds {
				for _, r := range accepted.Resources {
					shown, sent, err := session.Resolve(r.Name, reveal)
					if err != nil {
						t.Fatal(err)
					}
					agree(t, shown, Render(budget.Boundless(), request).Resource(r.Name))
					if resource.Secrets(shown.Want) != nil || secretChecks(shown.Checks) {
						anew, _ := Accept(budget.Boundless(), request)
						_, want, err := anew.Resolve(r.Name, reveal)
						if err != nil {
							t.Fatal(err)
						}
						agree(t, sent, &want)
					}
					known[r.Name] = reports(r, round)
					session.Report(r.Name, maps.Clone(known[r.Name]))
				}
			}
		})
	}
}

func agree(t *testing.T, got Resource, want *Resource) {
	t.Helper()
	g, w := encode(t, map[string]any{"want": got.Want, "checks": got.Checks, "pending": got.Pending}),
		encode(t, map[string]any{"want": want.Want, "checks": want.Checks, "pending": want.Pending})
	if g != w {
		t.Errorf("%s is resolved as\n%s\nand rendered as\n%s", got.Name, g, w)
	}
}

// TestWhatIsReadThroughAWantedValueComesFirst: a value that another resource
// hands on comes from the resource that reported it.
func TestWhatIsReadThroughAWantedValueComesFirst(t *testing.T) {
	t.Parallel()
	r := Render(budget.Boundless(), Request{Template: template(t, `resources:
  net: {type: network, want: {range: 10.0.0.0/16}}
  first: {type: subnet, want: {network: =net.id, range: 10.0.0.0/24}}
  second: {type: subnet, want: {network: =first.network, range: 10.0.1.0/24}}
`), Stack: Stack{Name: "s"}})
	if after := r.Resource("second").After; len(after) != 1 || after[0].Name != "net" {
		t.Errorf("second comes after %v and waits for %v", after, r.Resource("second").Pending)
	}
}
