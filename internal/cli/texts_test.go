package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

const examplesDir = "../../examples/"

func TestANewTemplateIsWrittenFromAnswersAndPassesItsCheck(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "tide-board.sail.yaml")
	out, _, err := execute(t, "", "templates", "new", file, "--title", "Tide board", "--with", "public,disk")
	if err != nil || !strings.Contains(out, "next: undersail check "+file) {
		t.Fatal(out, err)
	}
	out, errs, err := execute(t, "", "check", file)
	if err != nil || errs != "" || !strings.Contains(out, "tide-board 0.1.0") {
		t.Errorf("%s%s%v", out, errs, err)
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"templates", "new", file}, "is there already"},
		{[]string{"templates", "new", "Board.yaml"}, "write FILE like tide-board.sail.yaml"},
		{[]string{"templates", "new", filepath.Join(t.TempDir(), "a.sail.yaml"), "--with", "pubic"},
			"did you mean public?"},
	} {
		if _, _, err := execute(t, "", c.args...); codeOf(err) != exitUsage || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%v: %v, want %q", c.args, err, c.want)
		}
	}
}

func TestTidyReplacesAFileOrOnlyTells(t *testing.T) {
	t.Parallel()
	const untidy = "about: {name: s, version: 1.0.0, title: S}\nundersail: 1\nresources:\n    a: {type: " +
		"address}   # kept\n"
	file := write(t, "s.sail.yaml", untidy)
	out, _, err := execute(t, "", "templates", "tidy", "--check", file)
	if codeOf(err) != exitFindings || !strings.Contains(out, "is not tidy") {
		t.Error(out, err)
	}
	if raw, _ := os.ReadFile(file); string(raw) != untidy {
		t.Error("--check has changed the file")
	}
	if _, _, err := execute(t, "", "templates", "tidy", file); err != nil {
		t.Error(err)
	}
	raw, _ := os.ReadFile(file)
	want := "undersail: 1\nabout: {name: s, version: 1.0.0, title: S}\nresources:\n  a: {type: address}   # kept\n"
	if string(raw) != want {
		t.Errorf("got %q", raw)
	}
	if out, _, err := execute(t, "", "templates", "tidy", "--check", file); err != nil || out != "" {
		t.Error(out, err)
	}
	broken := write(t, "b.sail.yaml", "a: [\n")
	_, errs, err := execute(t, "", "templates", "tidy", broken)
	if codeOf(err) != exitFindings || !strings.Contains(errs, "this is not YAML") {
		t.Error(errs, err)
	}
}

func TestTheCasesOfATemplateAreRun(t *testing.T) {
	t.Parallel()
	out, _, err := execute(t, "", "templates", "test", examplesDir+"reading-store.sail.yaml",
		examplesDir+"duty-desk.sail.yaml")
	if err != nil || !strings.Contains(out, "6 of 6 cases hold") {
		t.Error(out, err)
	}
	wrong := write(t, "wrong.cases.yaml",
		"cases:\n  - name: nobody knows\n    inputs: {forecasters: 198.51.100.0/24}\n    expect: {resources: "+
			"{worker: 9}}\n")
	out, _, err = execute(t, "", "templates", "test", examplesDir+"reading-store.sail.yaml", "--cases", wrong)
	if codeOf(err) != exitFindings ||
		!strings.Contains(out, "fails  reading-store: nobody knows\n       "+wrong+
			":2: 9 of worker were expected, and there are 3") {
		t.Error(out, err)
	}
	_, _, err = execute(t, "", "templates", "test", write(t, "none.sail.yaml", template))
	if codeOf(err) != exitUsage || !strings.Contains(err.Error(), "has no cases") {
		t.Error(err)
	}
}

func TestExplainTellsWhereValuesCameFrom(t *testing.T) {
	t.Parallel()
	inputs := write(t, "desk.yaml", "officers_from: 198.51.100.0/24\n")
	args := []string{"render", examplesDir + "duty-desk.sail.yaml", "--preset", "together", "--inputs", inputs,
		"--input", "disk=30GiB", "--offers", examplesDir + "north-fell.offers.json", "--explain"}
	out, _, err := execute(t, "", append(args, "desk[second]")...)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		"desk[second] (resource)",
		"size = plain-1",
		"inputs.size = plain-1",
		"input: sizing table desk, for 10 officers on a node, computed at ../../examples/duty-desk.sail.yaml:",
		"inputs.officers = 30",
		"input: preset together",
		"input: --input",
		"a value of the repetition",
		"reported by store[first], store[second], store[third] after creation",
		"waits for store[second].id",
		"comes after\n  rules (healthy): a value of it reads what rules reports",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("nothing of %q in\n%s", want, out)
		}
	}
	if _, _, err := execute(t, "", append(args, "dsk[second]")...); codeOf(err) != exitUsage ||
		!strings.Contains(err.Error(), "did you mean desk[second]?") {
		t.Error(err)
	}
	out, _, err = execute(t, "", append(args, "inputs.officers_from", "-o", "json")...)
	var explained struct{ Values []struct{ From string } }
	if json.Unmarshal([]byte(out), &explained) != nil || err != nil ||
		explained.Values[0].From != "input: file desk.yaml" {
		t.Errorf("%s %v", out, err)
	}
}

func TestATemplateThatEmbedsOthersIsCheckedWithoutAService(t *testing.T) {
	t.Parallel()
	_, errs, err := execute(t, "", "check", examplesDir+"station-extension.sail.yaml", "--library", examplesDir)
	if err != nil {
		t.Error(errs, err)
	}
	if _, errs, err := execute(t, "", "check",
		examplesDir+"station-extension.sail.yaml"); codeOf(err) != exitFindings ||
		!strings.Contains(errs, "there is no template gauge-intake@^1") || !strings.Contains(errs, "--library") {
		t.Error(errs, err)
	}
	out, _, err := execute(t, "", "templates", "differences", "warning-site", examplesDir+"warning-site.sail.yaml",
		"--library", examplesDir)
	if err != nil || out != "they say the same\n" {
		t.Error(out, err)
	}
	changed := strings.Replace(template, "port: {type: integer, default: 80}",
		"port: {type: integer}\n  extra: {type: string}", 1)
	out, _, err = execute(t, "", "templates", "differences", write(t, "a.sail.yaml", template),
		write(t, "b.sail.yaml", strings.Replace(changed, "outputs:\n  id: {value: =net.id, about: The network}\n", "",
			1)))
	for _, want := range []string{"removed  inputs.port.default", "added    inputs.extra",
		"it has no default: whoever takes this version must give it", "removed  outputs"} {
		if !strings.Contains(out, want) {
			t.Errorf("nothing of %q in\n%s %v", want, out, err)
		}
	}
}

// TestThePicturesOfTheExamplesAreCurrent draws every example again.
func TestThePicturesOfTheExamplesAreCurrent(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob(examplesDir + "*.sail.yaml")
	if err != nil || len(files) < 10 {
		t.Fatal(files, err)
	}
	for _, file := range files {
		name := strings.TrimSuffix(filepath.Base(file), ".sail.yaml")
		out, _, err := execute(t, "", "render", file, "--inputs", examplesDir+name+".inputs.yaml", "--offers",
			examplesDir+"north-fell.offers.json", "--library", examplesDir, "--graph", "svg")
		if code := codeOf(err); code != 0 && code != exitFindings {
			t.Errorf("%s: %v", name, err)
		}
		if drawn, err := os.ReadFile("../../docs/graphs/" + name + ".svg"); err != nil || string(drawn) != out {
			t.Errorf("docs/graphs/%s.svg is not what is drawn now (%v); make it with: make generate", name, err)
		}
	}
}

func TestTypesAreDescribed(t *testing.T) {
	t.Parallel()
	out, _, err := execute(t, "", "templates", "types", "disk")
	if err != nil || !strings.Contains(out, "size *") || !strings.Contains(out, "May only grow") ||
		!strings.Contains(out, "rebuild") {
		t.Error(out, err)
	}
	if _, _, err := execute(t, "", "templates", "types", "dsk"); codeOf(err) != exitUsage ||
		!strings.Contains(err.Error(), "did you mean disk?") {
		t.Error(err)
	}
	out, _, err = execute(t, "", "templates", "types", "-o", "json")
	var types []struct {
		Name       string `json:"name"`
		Properties []struct {
			Name  string `json:"name"`
			Alter string `json:"alter"`
		} `json:"properties"`
	}
	if json.Unmarshal([]byte(out), &types) != nil || err != nil || len(types) < 20 || types[0].Name == "" ||
		types[0].Properties[0].Alter == "" {
		t.Errorf("%.300s %v", out, err)
	}
}

// TestRenderingsAreAsTheirSchemaSays validates every example's rendering.
func TestRenderingsAreAsTheirSchemaSays(t *testing.T) {
	t.Parallel()
	text, _, err := execute(t, "", "templates", "schema", "--rendering")
	if err != nil {
		t.Fatal(err)
	}
	read := func(text string) any {
		doc, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		return doc
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("urn:test:rendering", read(text)); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("urn:test:rendering")
	if err != nil {
		t.Fatal(err)
	}
	files, _ := filepath.Glob(examplesDir + "*.sail.yaml")
	for _, file := range files {
		name := strings.TrimSuffix(filepath.Base(file), ".sail.yaml")
		out, _, _ := execute(t, "", "render", file, "--inputs", examplesDir+name+".inputs.yaml", "--offers",
			examplesDir+"north-fell.offers.json", "--library", examplesDir, "-o", "json")
		if err := schema.Validate(read(out)); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	if schema.Validate(read(`{"resources": "none"}`)) == nil {
		t.Error("anything is a rendering")
	}
}
