package exchange

import (
	"encoding/json"
	"io/fs"
	"strings"
	"testing"

	"undersail/examples"
	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
)

func read(t *testing.T, name string) *lang.Template {
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

func TestSARIFHasEveryDiagnosticAtItsPlace(t *testing.T) {
	t.Parallel()
	_, found := lang.Read("site.sail.yaml",
		[]byte("undersail: 1\nabout: {name: s, version: 1.0.0, title: S}\nresources:\n  net: {type: "+
			"netwrk}\noutputs: {a: =nte.id}\n"))
	var b strings.Builder
	if err := SARIF(&b, "1.2.3", found); err != nil {
		t.Fatal(err)
	}
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID, Level string
				Message       struct{ Text string }
				Locations     []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	if err := json.Unmarshal([]byte(b.String()), &log); err != nil || log.Version != "2.1.0" || len(log.Runs) != 1 {
		t.Fatal(err, b.String())
	}
	run := log.Runs[0]
	if len(run.Results) != len(found) || len(run.Tool.Driver.Rules) != 2 {
		t.Fatalf("%d results of %d, %d rules", len(run.Results), len(found), len(run.Tool.Driver.Rules))
	}
	at := run.Results[0].Locations[0].PhysicalLocation
	if at.ArtifactLocation.URI != "site.sail.yaml" || at.Region.StartLine != 4 || at.Region.StartColumn != 15 ||
		!strings.Contains(run.Results[0].Message.Text, "did you mean `network`?") {
		t.Errorf("%+v", run.Results[0])
	}
}

func TestGraphsHoldEveryDependency(t *testing.T) {
	t.Parallel()
	r := render.Render(budget.Boundless(), render.Request{
		Template: read(t, "gauge-intake"),
		Stack:    render.Stack{Name: "s"},
		Inputs:   map[string]any{"zones": []any{"a"}, "admin_sources": []any{"10.0.0.0/8"}},
	})
	edges := 0
	for _, res := range r.Resources {
		edges += len(res.After)
	}
	var dot, mermaid strings.Builder
	if err := DOT(&dot, OfRendering(r)); err != nil {
		t.Fatal(err)
	}
	if err := Mermaid(&mermaid, OfRendering(r)); err != nil {
		t.Fatal(err)
	}
	if strings.Count(dot.String(), " -> ") != edges || !strings.Contains(dot.String(), `"gateway" -> "worker[0]";`) {
		t.Errorf("want %d edges in\n%s", edges, dot.String())
	}
	if strings.Count(mermaid.String(), " --> ") != edges ||
		!strings.Contains(mermaid.String(), `["worker[0]<br/>instance"]`) {
		t.Errorf("want %d edges in\n%s", edges, mermaid.String())
	}
}

func TestAnInputsFileCanBeFilledIn(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"gauge-intake", "tide-archive", "warning-site"} {
		template := read(t, name)
		var b strings.Builder
		if err := InputsFile(&b, template); err != nil {
			t.Fatal(err)
		}
		nodes, found := lang.ReadInputs(name, []byte(b.String()))
		if found.HasErrors() {
			t.Errorf("%s: %v\n%s", name, found, b.String())
		}
		for _, in := range template.Inputs {
			if _, open := nodes[in.Name]; open != in.Required() && !in.Secret {
				t.Errorf("%s: input %s stands open: %t", name, in.Name, open)
			}
			if !strings.Contains(b.String(), in.Name) {
				t.Errorf("%s: input %s is missing", name, in.Name)
			}
		}
	}
}
