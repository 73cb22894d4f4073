package cli

import (
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"undersail/internal/core/cases"
	"undersail/internal/core/lang"
)

// block is one fenced block of a page.
type block struct {
	info, text string
	line       int
}

func blocks(t *testing.T, page string) []block {
	t.Helper()
	raw, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	var out []block
	var open *block
	for i, line := range strings.Split(string(raw), "\n") {
		info, fence := strings.CutPrefix(line, "```")
		switch {
		case fence && open == nil:
			open = &block{info: info, line: i + 1}
		case fence:
			out = append(out, *open)
			open = nil
		case open != nil:
			open.text += line + "\n"
		}
	}
	return out
}

// whole makes a template of a block that leaves out what it is not about.
func whole(text string) string {
	if !strings.Contains(text, "undersail: 1") {
		text = "undersail: 1\nabout: {name: page, version: 1.0.0, title: Page}\n" + text
	}
	if !strings.Contains(text, "\nresources:") {
		text += "resources: {net: {type: network, want: {range: 10.0.0.0/16}}}\n"
	}
	return text
}

// TestThePageOfTheLanguageIsTrue reads every block of the page: templates have no
// faults, wrong ones exactly those that are shown, commands exist.
func TestThePageOfTheLanguageIsTrue(t *testing.T) {
	t.Parallel()
	var parts []lang.Bundle
	all := blocks(t, "../../docs/template-language.md")
	seen := map[string]int{}
	for i, b := range all {
		kind := strings.Fields(b.info + " -")[0]
		if rest, ok := strings.CutPrefix(b.info, "yaml "); ok {
			kind, _, _ = strings.Cut(rest, "=")
		}
		seen[kind]++
		switch kind {
		case "yaml":
			_, found := lang.ReadBundle(lang.Bundle{File: "page", Source: whole(b.text), Parts: parts})
			if found.HasErrors() {
				t.Errorf("line %d: %v", b.line, found)
			}
		case "file":
			ref := strings.TrimPrefix(b.info, "yaml file=")
			parts = append(parts, lang.Bundle{Ref: ref, File: path.Clean(ref), Source: b.text})
			if _, found := lang.Read(ref, []byte(b.text)); len(found) > 0 {
				t.Errorf("line %d: %v", b.line, found)
			}
		case "wrong":
			_, found := lang.Read("site.sail.yaml", []byte(b.text))
			var got strings.Builder
			printDiagnostics(&got, found)
			if want := all[i+1].text; got.String() != want {
				t.Errorf("line %d: got\n%s\nwant\n%s", b.line, got.String(), want)
			}
		case "inputs":
			if _, found := lang.ReadInputs("page", []byte(b.text)); len(found) > 0 {
				t.Errorf("line %d: %v", b.line, found)
			}
		case "cases":
			if _, found := cases.Read("page", []byte(b.text)); len(found) > 0 {
				t.Errorf("line %d: %v", b.line, found)
			}
		case "console":
			for _, line := range strings.Split(strings.TrimSpace(b.text), "\n") {
				command(t, b.line, line)
			}
		}
	}
	if seen["yaml"] < 9 || seen["wrong"] == 0 || seen["file"] == 0 || seen["cases"] == 0 || seen["console"] == 0 {
		t.Errorf("the page has %v", seen)
	}
}

// command checks that a command of a page exists with its flags and arguments.
func command(t *testing.T, at int, line string) {
	t.Helper()
	line, _, _ = strings.Cut(line, " > ")
	args := strings.Fields(line)
	if args[0] != "undersail" {
		t.Errorf("line %d: %s", at, line)
		return
	}
	cmd, rest, err := newRoot(&app{}).Find(args[1:])
	if err == nil {
		err = cmd.ParseFlags(rest)
	}
	if err == nil {
		err = cmd.ValidateArgs(cmd.Flags().Args())
	}
	if err != nil {
		t.Errorf("line %d: %s: %v", at, line, err)
	}
}

// TestPagesNameTestsThatThereAre finds every test that a page leans on.
func TestPagesNameTestsThatThereAre(t *testing.T) {
	t.Parallel()
	there := map[string]bool{}
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".cache" || d.Name() == ".git") {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		raw, err := os.ReadFile(path)
		for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllStringSubmatch(string(raw), -1) {
			there[m[1]] = true
		}
		return err
	})
	pages, globErr := filepath.Glob("../../docs/*.md")
	if err != nil || globErr != nil || len(pages) == 0 || len(there) < 100 {
		t.Fatal(err, globErr, len(pages), len(there))
	}
	named := 0
	for _, page := range append(pages, "../../README.md") {
		raw, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range regexp.MustCompile(`\bTest[A-Z]\w+`).FindAllString(string(raw), -1) {
			if named++; !there[name] {
				t.Errorf("%s names %s, and there is no such test", filepath.Base(page), name)
			}
		}
	}
	if named < 20 {
		t.Errorf("only %d tests are named: this test reads the wrong pages", named)
	}
}
