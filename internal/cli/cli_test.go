package cli

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/proposing"
	"undersail/internal/stacks"
)

// execute runs a command line in this process, without a service.
func execute(t *testing.T, stdin string, args ...string) (out, errs string, err error) {
	t.Helper()
	root := newRoot(&app{version: "test"})
	var o, e bytes.Buffer
	root.SetOut(&o)
	root.SetErr(&e)
	root.SetIn(strings.NewReader(stdin))
	root.SetArgs(args)
	err = root.Execute()
	return o.String(), e.String(), err
}

func codeOf(err error) int {
	if err == nil {
		return 0
	}
	if e, ok := err.(*exit); ok {
		return e.code
	}
	return exitUsage
}

const template = `undersail: 1
about: {name: site, version: 1.0.0, title: Site}
inputs:
  port: {type: integer, default: 80}
  tag: {type: string, default: none}
  sources: {type: array, items: {type: string, format: cidr}}
  password: {secret: true, rules: {length: 14}}
resources:
  net: {type: network, want: {range: 10.0.0.0/16, tags: {team: =inputs.tag}}}
  word: {type: secret, want: {value: =inputs.password}}
  rules: {type: firewall, want: {network: =net.id, rules: '=inputs.sources.map(s, firewall_rule{from: s, port: inputs.port})'}}
outputs:
  id: {value: =net.id, about: The network}
`

func write(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestRenderWorksWithoutAService(t *testing.T) {
	t.Parallel()
	path := write(t, "site.sail.yaml", template)
	first := write(t, "a.yaml", "port: 443\ntag: 007\nsources: [10.1.0.0/16]\n")
	second := write(t, "b.json", `{"sources": ["10.2.0.0/16", "10.3.0.0/16"]}`)
	secret := write(t, "word", "Long-Enough-Word-1\n")
	out, errs, err := execute(t, "", "render", path, "--inputs", first, "--inputs", second, "--input", "port=8080",
		"--secret", "password="+secret, "-o", "json")
	if err != nil {
		t.Fatalf("%v\n%s", err, errs)
	}
	var r struct {
		Resources []struct {
			Name  string
			After []struct{ Name string }
			Want  map[string]any
		}
		Inputs []struct {
			Name, Origin string
			Value        any
		}
	}
	if err := json.Unmarshal([]byte(out), &r); err != nil {
		t.Fatal(err)
	}
	rules := r.Resources[2].Want["rules"].([]any)
	if len(rules) != 2 || rules[0].(map[string]any)["port"] != 8080.0 {
		t.Errorf("later values do not win: %v", rules)
	}
	if tags := r.Resources[0].Want["tags"].(map[string]any); tags["team"] != "007" {
		t.Errorf("007 became %v", tags["team"])
	}
	if r.Inputs[3].Value != "secret:password" || strings.Contains(out, "Long-Enough") {
		t.Errorf("the secret is shown as %v", r.Inputs[3].Value)
	}
	table, _, err := execute(t, "Long-Enough-Word-1", "render", path, "--inputs", second, "--secret", "password=-")
	if err != nil || !strings.Contains(table, "RESOURCE") || !strings.Contains(table, "waits for net.id") {
		t.Errorf("%v\n%s", err, table)
	}
}

func TestWhatIsWrongWithInputsIsSaid(t *testing.T) {
	t.Parallel()
	path := write(t, "site.sail.yaml", template)
	good := write(t, "good.yaml", "sources: [10.1.0.0/16]\n")
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"--inputs", good, "--input", "password=short"}, 3, "stands there in the clear"},
		{[]string{"--inputs", good}, 3, "give it with --secret password=FILE"},
		{[]string{"--inputs", good, "--input", "prt=1"}, 3, "did you mean `port`?"},
		{[]string{"--inputs", good, "--input", "port=many"}, 3, "is not a whole number"},
		{[]string{"--inputs", good, "--input", "port"}, 2, "NAME=VALUE"},
		{[]string{"--inputs", "none.yaml"}, 2, "no such file"},
		{[]string{"--inputs", write(t, "bad.yaml", "sources: [10.1.0.0/16\n")}, 3, "this is not YAML"},
		{[]string{"--inputs", write(t, "list.yaml", "- a\n")}, 3, "is a mapping of inputs"},
		{[]string{"--inputs", write(t, "expr.yaml", "port: =1\n")}, 3, "holds no expressions"},
		{[]string{"--inputs", write(t, "big.yaml", "tag: "+strings.Repeat("a", 2<<20))}, 3, "at most 1048576 are read"},
		{[]string{"--secret", "password"}, 2, "NAME=FILE"},
		{[]string{"--secret", "password=/none"}, 2, "no such file"},
		{[]string{"--account", "saltmere-lab"}, 2, "go together"},
		{[]string{"--offers", path}, 2, "holds no offers"},
	} {
		_, errs, err := execute(t, "", append([]string{"render", path}, c.args...)...)
		if all := errs + err.Error(); codeOf(err) != c.code || !strings.Contains(all, c.says) {
			t.Errorf("%v: exit code %d, want %d with %q:\n%s", c.args, codeOf(err), c.code, c.says, all)
		}
	}
}

func TestCheckAnswersAsJSON(t *testing.T) {
	t.Parallel()
	out, _, err := execute(t, "", "check", write(t, "bad.sail.yaml", "undersail: 1\n"), "-o", "json")
	var got struct{ Diagnostics lang.Diagnostics }
	if codeOf(err) != 3 || json.Unmarshal([]byte(out), &got) != nil || len(got.Diagnostics) != 2 ||
		got.Diagnostics[0].Code != "missing-key" {
		t.Errorf("%v %s", err, out)
	}
	out, _, err = execute(t, "", "check", write(t, "good.sail.yaml", template), "-o", "yaml")
	if err != nil || !strings.Contains(out, "diagnostics: []") {
		t.Errorf("%v %s", err, out)
	}
}

func TestProblemsBecomeExitCodes(t *testing.T) {
	t.Parallel()
	for kind, code := range map[string]int{
		"findings":      3,
		"stale":         4,
		"conflict":      4,
		"not-allowed":   4,
		"not-signed-in": 5,
		"not-found":     1,
		"internal":      1,
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusTeapot)
			io.WriteString(w, `{"type":"urn:undersail:`+kind+`","title":"no","status":418,"remedy":"try tea"}`)
		}))
		_, err := decode[stacks.Stack](http.Get(server.URL))
		server.Close()
		if codeOf(err) != code || !strings.Contains(err.Error(), "no\nremedy: try tea") {
			t.Errorf("%s: %d %v", kind, codeOf(err), err)
		}
	}
	if _, err := decode[stacks.Stack](http.Get("http://127.0.0.1:1/")); codeOf(err) != exitUnreachable {
		t.Errorf("nobody there: %v", err)
	}
}

func TestAProposalIsReadable(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	(&app{}).printProposal(&b, proposing.Proposal{
		ID:       7,
		Stack:    "site",
		State:    "open",
		Account:  "saltmere-lab",
		Region:   "north-fell",
		Template: "site@1.0.0",
		Summary:  "1 create, 1 alter",
		Changes: []change.Change{
			{Resource: "net", Type: "network", Change: change.Create},
			{Resource: "data", Type: "disk", Change: change.Alter, After: []render.After{{Name: "net"}},
				Fields: []change.Field{{Name: "size", Before: "20GiB", After: "30GiB", Alter: "in place"}}},
		},
		Findings: []render.Finding{{
			Severity: lang.Warning,
			Code:     "open-to-world",
			Place:    "rules",
			Message:  "port 22 is open",
			Remedy:   "close it",
		}},
		Cost:    price.Cost{Hour: 0.5, Month: 365, Currency: "kr"},
		Seconds: 95,
		Longest: []string{"net", "data"},
	})
	for _, want := range []string{"Proposal 7 for stack site: 1 create, 1 alter  [open]",
		"data.size (in place)\n    before  20GiB\n    after   30GiB", "0.500 kr an hour, about 365 a month",
		"about 1m 35s; decided by net > data",
		"warning rules: port 22 is open (open-to-world)\n        remedy: close it", "next: undersail accept 7"} {
		if !strings.Contains(b.String(), want) {
			t.Errorf("want %q in:\n%s", want, b.String())
		}
	}
}

func TestARunIsReadableWithoutColour(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	end := at.Add(90 * time.Second)
	var b strings.Builder
	printRun(&b, stacks.Run{
		ID:        3,
		Stack:     "site",
		State:     "failed",
		Total:     3,
		Finished:  1,
		StartedAt: &at,
		EndedAt:   &end,
		UnderWayS: 90,
		WaitedS:   30,
		Reason:    "site: no answer",
		Next:      "undersail continue site",
		Steps: []stacks.Step{
			{Resource: "net", Change: "create", State: "healthy", BeganAt: &at, EndedAt: &end},
			{Resource: "site", Change: "create", State: "failed", BeganAt: &at, EndedAt: &end, Reason: "no answer"},
			{Resource: "board", Change: "create", State: "skipped"},
		},
	}, end)
	for _, want := range []string{"Run 3 of stack site is failed: 1 of 3 steps after 1m 30s, waited 30s", "● net",
		"■ site", "– board", "next: undersail continue site"} {
		if !strings.Contains(b.String(), want) {
			t.Errorf("want %q in:\n%s", want, b.String())
		}
	}
	if strings.Contains(b.String(), "\x1b") {
		t.Error("there is an escape sequence in what no terminal asked for")
	}
}

func TestLinesEndAtTheTerminalsEdge(t *testing.T) {
	t.Parallel()
	if got := clipLines("short\na line that is too long\n", 10); got != "short\na line th…\n" {
		t.Errorf("%q", got)
	}
	if got := clipLines("as it is\n", 0); got != "as it is\n" {
		t.Errorf("%q", got)
	}
}

func TestEveryCommandHasAnExampleAndAGroup(t *testing.T) {
	t.Parallel()
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			if sub.Name() != "help" && sub.Name() != "completion" && sub.Parent().Name() != "completion" {
				if sub.Example == "" || sub.Short == "" {
					t.Errorf("%s has no example or no description", sub.CommandPath())
				}
				walk(sub)
			}
		}
	}
	walk(newRoot(&app{}))
}
