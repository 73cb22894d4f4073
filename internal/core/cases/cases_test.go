package cases_test

import (
	"encoding/json"
	"io/fs"
	"path"
	"strings"
	"testing"

	"undersail/examples"
	"undersail/internal/core/budget"
	"undersail/internal/core/cases"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
	"undersail/internal/library"
)

func example(t *testing.T, file string) *lang.Template {
	t.Helper()
	b, err := library.Read(examples.Files, file, library.FromFolder(examples.Files))
	if err != nil {
		t.Fatal(err)
	}
	template, found := lang.ReadBundle(b)
	if len(found) > 0 {
		t.Fatalf("%s has faults:\n%s", file, found.Error())
	}
	return template
}

func templates(t *testing.T) []string {
	t.Helper()
	files, err := library.Templates(examples.Files)
	if err != nil || len(files) < 10 {
		t.Fatal(files, err)
	}
	return files
}

// TestTheCasesOfEveryExampleHold runs what the keepers of the examples expect.
func TestTheCasesOfEveryExampleHold(t *testing.T) {
	t.Parallel()
	for _, file := range templates(t) {
		t.Run(file, func(t *testing.T) {
			t.Parallel()
			template := example(t, file)
			beside := strings.TrimSuffix(file, library.Suffix) + cases.Suffix
			source, err := fs.ReadFile(examples.Files, beside)
			if err != nil {
				t.Fatal(err)
			}
			list, found := cases.Read(beside, source)
			if len(found) > 0 || len(list) == 0 {
				t.Fatal(found)
			}
			for _, c := range list {
				var offers *offer.Offers
				if c.Offers != "" {
					raw, err := fs.ReadFile(examples.Files, path.Join(path.Dir(file), c.Offers))
					if err != nil {
						t.Fatal(err)
					}
					offers = &offer.Offers{}
					if err := json.Unmarshal(raw, offers); err != nil {
						t.Fatal(err)
					}
				}
				for _, f := range cases.Run(template, c, offers, budget.Boundless()) {
					t.Errorf("%s: line %d: %s", f.Case, f.Line, f.Message)
				}
			}
		})
	}
}

// TestTheExamplesUseEveryFeature keeps the examples whole: each word of the
// language, each type and each function stands in one of them.
func TestTheExamplesUseEveryFeature(t *testing.T) {
	t.Parallel()
	all := ""
	types := map[string]bool{}
	err := fs.WalkDir(examples.Files, ".", func(file string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(file, library.Suffix) {
			return err
		}
		source, err := fs.ReadFile(examples.Files, file)
		all += string(source)
		b, readErr := library.Read(examples.Files, file, library.FromFolder(examples.Files))
		if readErr != nil {
			return readErr
		}
		if template, _ := lang.ReadBundle(b); template != nil {
			for _, r := range template.Resources {
				types[r.Type.Name] = true
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, typ := range append(resource.TypeNames(), lang.Embed) {
		if !types[typ] {
			t.Errorf("no example has a resource of type %s", typ)
		}
	}
	for _, word := range []string{"presets:", "functions:", "calc:", "require:", "prove:", "outputs:", "when:",
		"repeat: =", "repeat: {", "find:", "was:", "region:", "guard:", "rebuild:", "pace:", "at_retire: keep",
		"at_retire: snapshot", "leave:", "makes:", "extra:", "patience:", "after:", "from: ./", "of: gauge-intake@^1",
		"picks: stack", "picks: network", "picks: region", "shown_when:", "asks_consent:", "generate: true",
		"optional: true", "secret: true",
		"const:", "enum:", "multipleOf:", "pattern:", "format: amount", "format: span", "format: cidr", "offers",
		"fit_size(", "usable(", "round_up(", "amount(", "span(", "has_value(", "short_hash(", "carve(", "pad(", "file(",
		".orValue(", ".hasValue()", "firewall_rule{", "size_need{", "steady_for:", "passes:", "through:",
		"maturity: trial", "takes:"} {
		if !strings.Contains(all, word) {
			t.Errorf("no example uses %s", word)
		}
	}
}

func TestACaseThatDoesNotHoldSaysWhy(t *testing.T) {
	t.Parallel()
	template := example(t, "reading-store.sail.yaml")
	list, found := cases.Read("x", []byte(`cases:
  - name: wrong in every way
    inputs: {forecasters: 198.51.100.0/24, workers: 4}
    expect:
      findings: [{code: require}]
      resources: {worker: 5}
      order: [head, net]
      values: {outputs.usable: 1GiB, head.colour: red}
  - name: an error that nobody expects
    inputs: {forecasters: here}
    expect: {resources: {head: 1}}
  - name: an unknown preset
    preset: storm
    expect: {resources: {head: 1}}
`))
	if len(found) > 0 {
		t.Fatal(found)
	}
	var got []string
	for _, c := range list {
		for _, f := range cases.Run(template, c, nil, budget.Boundless()) {
			got = append(got, f.Message)
		}
	}
	for i, want := range []string{
		"the finding require was expected and is not there",
		"5 of worker were expected, and there are 4",
		"head was expected before net",
		"head.colour was expected to be red, and is not there",
		"outputs.usable was expected to be 1GiB, and is 120GiB",
		`an error was not expected: inputs.forecasters: "here" is not an address range such as 10.40.0.0/20 (input-kind)`,
		"template reading-store has no presets",
	} {
		if i >= len(got) || got[i] != want {
			t.Errorf("got  %q\nwant %q", got, want)
			break
		}
	}
	_, found = cases.Read("x", []byte("cases:\n  - name: a\n    expct: {}\n"))
	if len(found) != 2 || found[1].Remedy != "did you mean `expect`?" {
		t.Error(found)
	}
}
