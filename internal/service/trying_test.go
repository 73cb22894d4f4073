package service_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"undersail/internal/core/lang"
	"undersail/internal/library"
	"undersail/internal/library/librarytest"
	"undersail/internal/people"
	"undersail/internal/proposing"
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
	b := newBench(t, nil)
	ctx := context.Background()
	publish := func(text string) {
		t.Helper()
		if _, _, err := b.s.Templates.Publish(ctx, b.r.Admin, lang.Bundle{File: "pier.sail.yaml", Source: text}); err != nil {
			t.Fatal(servicetest.Explain(err))
		}
	}
	publish(pierSource)
	if none, err := b.s.Templates.Cases(ctx, "pier"); err != nil || none.Template != "pier@1.0.0" || none.KeptWith != "" || len(none.Cases) != 0 {
		t.Errorf("before any are kept: %+v %v", none, err)
	}
	kept, err := b.s.Templates.KeepCases(ctx, b.r.Admin, "pier", library.Cases{Source: pierCases})
	if err != nil || kept.Holding != 2 || kept.KeptWith != "1.0.0" {
		t.Fatalf("kept: %+v %v", kept, err)
	}
	if got, want := strings.Join(kept.Cases[0].Expects, "; "), "4 data; outputs.left is 30GiB"; got != want {
		t.Errorf("expects %q, want %q", got, want)
	}
	if got := kept.Cases[1]; fmt.Sprint(got.Inputs) != "map[disks:9]" || fmt.Sprint(got.Expects) != "[error at inputs.disks]" {
		t.Errorf("the second: %+v", got)
	}
	publish(strings.NewReplacer("1.0.0", "1.1.0", "raid5", "raid1").Replace(pierSource))
	later, err := b.s.Templates.Cases(ctx, "pier@1.1.0")
	if err != nil || later.KeptWith != "1.0.0" || later.Holding != 1 || len(later.Cases[0].Failures) != 1 || !strings.Contains(later.Cases[0].Failures[0].Message, "outputs.left was expected to be 30GiB") {
		t.Errorf("those of 1.0.0 on 1.1.0: %+v %v", later, err)
	}
	if first, err := b.s.Templates.Cases(ctx, "pier@1.0.0"); err != nil || first.Holding != 2 {
		t.Errorf("1.0.0 stays: %+v %v", first, err)
	}
	if _, err := b.s.Templates.KeepCases(ctx, b.r.Admin, "pier@1.1.0", library.Cases{Source: strings.Replace(pierCases, "30GiB", "10GiB", 1)}); err != nil {
		t.Fatal(err)
	}
	if own, err := b.s.Templates.Cases(ctx, "pier"); err != nil || own.KeptWith != "1.1.0" || own.Holding != 2 {
		t.Errorf("its own: %+v %v", own, err)
	}
	if first, err := b.s.Templates.Cases(ctx, "pier@1.0.0"); err != nil || first.KeptWith != "1.0.0" || first.Holding != 2 {
		t.Errorf("later cases are not run on an earlier version: %+v %v", first, err)
	}

	_, err = b.s.Templates.KeepCases(ctx, b.r.Admin, "pier", library.Cases{Source: "cases: []\n"})
	wantKind(t, err, refusal.Findings, "")
	_, err = b.s.Templates.KeepCases(ctx, b.r.Admin, "pier", library.Cases{Source: pierCases, Offers: map[string]string{"x.json": strings.Repeat("x", 5<<20)}})
	wantKind(t, err, refusal.Invalid, "")
	_, err = b.s.Templates.KeepCases(ctx, people.User{Name: "tam", Roles: []string{"viewer"}}, "pier", library.Cases{Source: pierCases})
	wantKind(t, err, refusal.Forbidden, "")
	_, err = b.s.Templates.Cases(ctx, "nowhere")
	wantKind(t, err, refusal.NotFound, "")
}

// TestALibraryBringsTheCasesOfItsTemplates reads them with the saved offers that they
// name, and tells what fails without refusing the template.
func TestALibraryBringsTheCasesOfItsTemplates(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	repository := librarytest.New(t)
	b.s.Templates.OpenFolders(repository.Dir)
	repository.Commit("north.offers.json", `{"cloud": "larch", "region": "north-fell", "types": ["disk"], "disk_types": [{"name": "solid", "min_bytes": 1073741824, "max_bytes": 1099511627776}]}`)
	repository.Commit("pier.cases.yaml", pierCases+"  - name: where only solid is sold\n    offers: north.offers.json\n    expect: {resources: {data: 4}}\n  - name: where nobody looked\n    offers: gone.json\n    expect: {resources: {data: 4}}\n")
	repository.Commit("pier.sail.yaml", pierSource)
	l, err := b.s.Templates.AddLibrary(ctx, b.r.Admin, templates.NewLibrary{Name: "pier", Place: repository.Dir, Reference: "main"})
	if err != nil || len(l.Templates) != 1 || l.Templates[0].State != "published" || l.Templates[0].Problem != `case "where nobody looked" fails: the saved offers gone.json are not kept with it` {
		t.Fatalf("%+v %v", l, err)
	}
	runs, err := b.s.Templates.Cases(ctx, "pier")
	if err != nil || runs.Holding != 3 || len(runs.Cases) != 4 || runs.Cases[2].Offers != "north.offers.json" {
		t.Errorf("%+v %v", runs, err)
	}
	repository.Commit("pier.cases.yaml", "cases:\n  - nmae: four\n")
	if l, err = b.s.Templates.RefreshLibrary(ctx, b.r.Admin, "pier"); err != nil || !strings.Contains(l.Templates[0].Problem, "its cases: pier.cases.yaml:2:") {
		t.Errorf("cases with a fault: %+v %v", l.Templates, err)
	}
	if runs, err = b.s.Templates.Cases(ctx, "pier"); err != nil || len(runs.Cases) != 4 {
		t.Errorf("what was kept before is gone: %+v %v", runs, err)
	}
}

// TestWhatIsUsableIsAnsweredWithTheDisks asks what a form would be told.
func TestWhatIsUsableIsAnsweredWithTheDisks(t *testing.T) {
	b := newBench(t, nil)
	for disks, want := range map[int]string{4: "4x10 left 30", 6: "6x10 left 50"} {
		a, err := b.s.Proposing.Check(context.Background(), b.r.Admin, proposing.Question{NewProposal: proposing.NewProposal{Stack: "pier", File: "pier.sail.yaml", Source: pierSource, Account: "saltmere-lab", Region: "north-fell", Inputs: map[string]any{"disks": disks}}})
		if err != nil || len(a.Disks) != 1 || len(a.Usable) != 1 {
			t.Fatalf("%+v %+v %v", a.Disks, a.Usable, err)
		}
		if got := fmt.Sprintf("%dx%d %s %d", a.Disks[0].Count, a.Disks[0].Bytes>>30, a.Usable[0].Name, a.Usable[0].Bytes>>30); got != want {
			t.Errorf("%d disks: %s, want %s", disks, got, want)
		}
		if a.Disks[0].MBps <= 0 || a.Disks[0].Month <= 0 {
			t.Errorf("neither speed nor price: %+v", a.Disks[0])
		}
	}
}

// TestWhatStrayedIsToldUntilItIsPutRight looks at a stack that somebody altered by hand,
// and at its page later.
func TestWhatStrayedIsToldUntilItIsPutRight(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	source := resources(netLine, "gate: {type: firewall, want: {network: =net.id, rules: [{from: 198.51.100.0/24, port: 443}]}}")
	b.apply("coast", source)
	strayed := func() string {
		t.Helper()
		st, err := b.s.Stacks.Show(ctx, "coast")
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, r := range st.Resources {
			for _, f := range r.Strayed {
				out = append(out, r.Name+" "+f.Name)
			}
		}
		return strings.Join(out, ", ")
	}
	verify := func() {
		t.Helper()
		if _, err := b.s.Stacks.Verify(ctx, b.r.Admin, "coast"); err != nil {
			t.Fatal(err)
		}
	}
	verify()
	if got := strayed(); got != "" {
		t.Errorf("nothing was altered, and %s is told", got)
	}
	b.r.ByHand("PATCH", b.alive("firewalls")[0], map[string]any{"inbound": []any{map[string]any{"source": "0.0.0.0/0", "port": 22}}})
	verify()
	if got := strayed(); got != "gate rules" {
		t.Errorf("altered is %q", got)
	}
	b.apply("coast", source)
	if got := strayed(); got != "" {
		t.Errorf("it was put right, and %s is told", got)
	}
}

// TestThePriceOfAStackIsKnownFromStepToStep makes a stack dearer and cheaper.
func TestThePriceOfAStackIsKnownFromStepToStep(t *testing.T) {
	b := newBench(t, nil)
	ctx := context.Background()
	disks := func(sizes ...string) string {
		var lines []string
		for i, s := range sizes {
			lines = append(lines, fmt.Sprintf("d%d: {type: disk, want: {size: %s, type: solid}}", i, s))
		}
		return resources(append(lines, netLine)...)
	}
	b.apply("coast", disks("100GiB"))
	b.apply("coast", disks("300GiB"))
	s, err := b.s.Stacks.Cost(ctx, "coast")
	if err != nil || len(s.History) == 0 {
		t.Fatalf("%+v %v", s, err)
	}
	last := s.History[len(s.History)-1]
	if diff := last.Hour - s.Cost.Hour; diff > 1e-9 || diff < -1e-9 {
		t.Errorf("it costs %v in an hour, and its history ends with %v", s.Cost.Hour, last.Hour)
	}
	for i, h := range s.History {
		if h.Hour < 0 || i > 0 && !h.At.After(s.History[i-1].At) {
			t.Errorf("step %d: %+v after %+v", i, h, s.History[max(i-1, 0)])
		}
	}
}
