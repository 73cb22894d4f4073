package templates_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"undersail/internal/core/lang"
	"undersail/internal/library"
	"undersail/internal/library/librarytest"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
	"undersail/internal/templates"
)

const pierSource = `undersail: 1
about: {name: pier, version: 1.0.0, title: Pier}
inputs:
  disks: {type: integer, minimum: 3, maximum: 8, default: 4}
  each: {type: string, format: amount, default: 10GiB}
calc:
  left: =usable("raid5", inputs.disks, inputs.each)
resources:
  data: {type: disk, repeat: =inputs.disks, want: {size: =inputs.each, type: solid}}
outputs:
  left: {value: =calc.left, about: What is usable}
`

const pierCases = `cases:
  - name: four disks leave three
    expect: {resources: {data: 4}, values: {outputs.left: 30GiB}}
  - name: nine are too many
    inputs: {disks: 9}
    expect: {findings: [{place: inputs.disks, severity: error}]}
`

// TestCasesAreKeptWithAVersionAndRunOnItsText keeps them by hand and from a library, and
// runs those of an earlier version on a later one.
func TestCasesAreKeptWithAVersionAndRunOnItsText(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	publish := func(text string) {
		t.Helper()
		_, _, err := b.Service.Templates.Publish(ctx, b.Rig.Admin, lang.Bundle{File: "pier.sail.yaml", Source: text})
		if err != nil {
			t.Fatal(servicetest.Explain(err))
		}
	}
	publish(pierSource)
	none, err := b.Service.Templates.Cases(ctx, "pier")
	if err != nil || none.Template != "pier@1.0.0" || none.SavedWith != "" || len(none.Cases) != 0 {
		t.Errorf("before any are kept: %+v %v", none, err)
	}
	kept, err := b.Service.Templates.SaveCases(ctx, b.Rig.Admin, "pier", library.Cases{Source: pierCases})
	if err != nil || kept.Holding != 2 || kept.SavedWith != "1.0.0" {
		t.Fatalf("kept: %+v %v", kept, err)
	}
	if got, want := strings.Join(kept.Cases[0].Expects, "; "), "4 data; outputs.left is 30GiB"; got != want {
		t.Errorf("expects %q, want %q", got, want)
	}
	got := kept.Cases[1]
	if fmt.Sprint(got.Inputs) != "map[disks:9]" || fmt.Sprint(got.Expects) != "[error at inputs.disks]" {
		t.Errorf("the second: %+v", got)
	}
	publish(strings.NewReplacer("1.0.0", "1.1.0", "raid5", "raid1").Replace(pierSource))
	later, err := b.Service.Templates.Cases(ctx, "pier@1.1.0")
	if err != nil || later.SavedWith != "1.0.0" || later.Holding != 1 || len(later.Cases[0].Failures) != 1 ||
		!strings.Contains(later.Cases[0].Failures[0].Message, "outputs.left was expected to be 30GiB") {
		t.Errorf("those of 1.0.0 on 1.1.0: %+v %v", later, err)
	}
	if first, err := b.Service.Templates.Cases(ctx, "pier@1.0.0"); err != nil || first.Holding != 2 {
		t.Errorf("1.0.0 stays: %+v %v", first, err)
	}
	if _, err := b.Service.Templates.SaveCases(ctx, b.Rig.Admin, "pier@1.1.0", library.Cases{
		Source: strings.Replace(pierCases, "30GiB", "10GiB", 1),
	}); err != nil {
		t.Fatal(err)
	}
	if own, err := b.Service.Templates.Cases(ctx, "pier"); err != nil || own.SavedWith != "1.1.0" || own.Holding != 2 {
		t.Errorf("its own: %+v %v", own, err)
	}
	if first, err := b.Service.Templates.Cases(ctx, "pier@1.0.0"); err != nil || first.SavedWith != "1.0.0" ||
		first.Holding != 2 {
		t.Errorf("later cases are not run on an earlier version: %+v %v", first, err)
	}

	_, err = b.Service.Templates.SaveCases(ctx, b.Rig.Admin, "pier", library.Cases{Source: "cases: []\n"})
	servicetest.WantKind(t, err, refusal.Findings, "")
	_, err = b.Service.Templates.SaveCases(ctx, b.Rig.Admin, "pier", library.Cases{
		Source: pierCases,
		Offers: map[string]string{"x.json": strings.Repeat("x", 5<<20)},
	})
	servicetest.WantKind(t, err, refusal.Invalid, "")
	_, err = b.Service.Templates.SaveCases(ctx, people.User{Name: "tam", Roles: []string{"viewer"}}, "pier",
		library.Cases{Source: pierCases})
	servicetest.WantKind(t, err, refusal.Forbidden, "")
	_, err = b.Service.Templates.Cases(ctx, "nowhere")
	servicetest.WantKind(t, err, refusal.NotFound, "")
}

// TestALibraryBringsTheCasesOfItsTemplates reads them with the saved offers that they
// name, and tells what fails without refusing the template.
func TestALibraryBringsTheCasesOfItsTemplates(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	repository := librarytest.New(t)
	b.Service.Templates.OpenFolders(repository.Dir)
	repository.Commit("north.offers.json",
		`{"cloud": "larch", "region": "north-fell", "types": ["disk"], "disk_types": [{"name": "solid", "min_bytes": 1073741824, "max_bytes": 1099511627776}]}`)
	repository.Commit("pier.cases.yaml",
		pierCases+"  - name: where only solid is sold\n    offers: north.offers.json\n    expect: {resources: "+
			"{data: 4}}\n  - name: where nobody looked\n    offers: gone.json\n    expect: {resources: {data: 4}}\n")
	repository.Commit("pier.sail.yaml", pierSource)
	l, err := b.Service.Templates.AddLibrary(ctx, b.Rig.Admin, templates.NewLibrary{
		Name:      "pier",
		Place:     repository.Dir,
		Reference: "main",
	})
	if err != nil || len(l.Templates) != 1 || l.Templates[0].State != "published" ||
		l.Templates[0].Problem != `case "where nobody looked" fails: the saved offers gone.json are not kept with it` {
		t.Fatalf("%+v %v", l, err)
	}
	runs, err := b.Service.Templates.Cases(ctx, "pier")
	if err != nil || runs.Holding != 3 || len(runs.Cases) != 4 || runs.Cases[2].Offers != "north.offers.json" {
		t.Errorf("%+v %v", runs, err)
	}
	repository.Commit("pier.cases.yaml", "cases:\n  - nmae: four\n")
	if l, err = b.Service.Templates.RefreshLibrary(ctx, b.Rig.Admin, "pier"); err != nil ||
		!strings.Contains(l.Templates[0].Problem, "its cases: pier.cases.yaml:2:") {
		t.Errorf("cases with a fault: %+v %v", l.Templates, err)
	}
	if runs, err = b.Service.Templates.Cases(ctx, "pier"); err != nil || len(runs.Cases) != 4 {
		t.Errorf("what was kept before is gone: %+v %v", runs, err)
	}
}
