package lang

import (
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"undersail/examples"
)

const head = "undersail: 1\nabout: {name: gauge, version: 1.0.0, title: Gauge}\n"
const net = "resources:\n  net: {type: network, want: {range: 10.0.0.0/16}}\n"

func TestEveryFaultIsReportedAtItsPlace(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ about, text, want string }{
		{"nothing", "", "1:1 empty"},
		{"no mapping", "- a\n", "1:1 kind"},
		{"not YAML", head + "resources: [\n", "4:1 yaml"},
		{"other version", "undersail: 2\n" + head[13:] + net, "1:12 version"},
		{"unknown key", head + net + "outptus: {}\n", "5:1 unknown-key did you mean `outputs`?"},
		{"duplicate key", head + net + "about: {}\n", "5:1 duplicate-key"},
		{"merge key", head + "resources:\n  net:\n    <<: {}\n    type: network\n    want: {range: 10.0.0.0/16}\n",
			"5:5 merge-key"},
		{"alias", head + "resources:\n  net: &a {type: network, want: {range: 10.0.0.0/16}}\n  b: *a\n", "4:8 alias"},
		{"expression as key", head + "resources:\n  =x: {type: network}\n", "4:3 key"},
		{"version is no version", "undersail: 1\nabout: {name: a, version: one, title: T}\n" + net, "2:27 version"},
		{"unknown type", head + "resources:\n  net: {type: netwrk, want: {range: 10.0.0.0/16}}\n",
			"4:15 unknown-type did you mean `network`?"},
		{"unknown property", head + "resources:\n  net: {type: network, want: {rnge: 10.0.0.0/16}}\n",
			"4:31 unknown-property did you mean `range`?"},
		{"missing property", head + "resources:\n  net: {type: network}\n", "4:3 missing-property add `range:`"},
		{"host bits", head + "resources:\n  net: {type: network, want: {range: 10.0.0.1/16}}\n", "4:38 value"},
		{"wrong kind", head + "resources:\n  net: {type: network, want: {range: [a]}}\n", "4:38 kind"},
		{"misspelled attribute", head + net + "outputs: {a: =net.idd}\n", "5:19 expression did you mean `id`?"},
		{"unquoted colon", head + net + "outputs:\n  a: =true ? net.id : \"x\"\n",
			"6:21 unquoted-expression put the whole expression in single quotes"},
		{"unquoted comment", head + net + "outputs:\n  a: =\"net #\" + net.id\n", "6:11 unquoted-expression"},
		{"wrong type", head + "inputs: {n: {type: integer}}\nresources:\n  net: {type: network, want: {range: " +
			"=inputs.n}}\n", "5:39 type"},
		{"unknown schema keyword", head + "inputs: {n: {type: string, minLenght: 3}}\n" + net,
			"3:28 unknown-key did you mean `minLength`?"},
		{"bad pattern", head + "inputs: {n: {type: string, pattern: '('}}\n" + net, "3:37 pattern"},
		{"unknown pick", head + "inputs: {n: {picks: sise}}\n" + net, "3:21 value did you mean `size`?"},
		{"secret with default", head + "inputs: {n: {secret: true, default: x}}\n" + net, "3:37 value"},
		{"generate without secret", head + "inputs: {n: {type: string, generate: true}}\n" + net, "3:38 value"},
		{"default reads what is below",
			head + "inputs: {a: {type: string, default: =inputs.b}, b: {type: string}}\n" + net, "3:38 scope"},
		{"reserved name", head + "resources:\n  self: {type: network, want: {range: 10.0.0.0/16}}\n", "4:3 name"},
		{"when is known too late",
			head + "resources:\n  net: {type: network, want: {range: 10.0.0.0/16}}\n  b: {type: address, when: " +
				"'=net.id == \"\"'}\n", "5:30 pending"},
		{"when reads a secret", head +
			"inputs: {p: {secret: true}}\nresources:\n  a: {type: address, when: '=inputs.p == \"\"'}\n",
			"5:30 secret"},
		{"optional for required",
			head + "inputs: {on: {type: boolean}}\nresources:\n  net: {type: network, when: =inputs.on, want: " +
				"{range: 10.0.0.0/16}}\n  s: {type: subnet, want: {network: =net.id, range: 10.0.0.0/24}}\n",
			"6:38 optional"},
		{"repeat over text", head + "resources:\n  a: {type: address, repeat: =\"x\"}\n", "4:31 type"},
		{"after nothing", head + "resources:\n  a: {type: address, after: {b: healthy}}\n", "4:3 unknown-name"},
		{"after what", head + "resources:\n  a: {type: address}\n  b: {type: address, after: {a: ready}}\n",
			"5:33 value"},
		{"cycle", head + "resources:\n  a: {type: subnet, want: {network: =b.id, range: 10.0.0.0/24}}\n  b: {type: " +
			"subnet, want: {network: =a.id, range: 10.0.0.0/24}}\n", "4:3 cycle"},
		{"calc cycle", head + "calc: {a: =calc.b, b: =calc.a}\n" + net, "3:8 cycle"},
		{"two questions", head +
			"resources:\n  a: {type: address, health: [{tcp: {host: a, port: 1}, http: {url: b}}]}\n", "4:37 value"},
		{"no question", head + "resources:\n  a: {type: address, health: [{within: 1m}]}\n", "4:31 missing-key"},
		{"bad span", head + "resources:\n  a: {type: address, patience: soon}\n", "4:32 value"},
		{"unknown module", head +
			"resources:\n  n: {type: network, want: {range: 10.0.0.0/16}}\n  s: {type: subnet, want: {network: " +
			"=n.id, range: 10.0.0.0/24}}\n  m: {type: instance, want: {size: a, image: b, subnet: =s.id, user_data: " +
			"{package: [x]}}}\n", "6:76 unknown-key did you mean `packages`?"},
	} {
		_, found := Read("t.sail.yaml", []byte(c.text))
		var got []string
		ok := false
		for _, d := range found {
			line := fmt.Sprintf("%d:%d %s %s", d.Line, d.Column, d.Code, d.Remedy)
			got = append(got, line+" | "+d.Message)
			ok = ok || strings.HasPrefix(line, c.want)
		}
		if !ok || !found.HasErrors() {
			t.Errorf("%s: want %s, found:\n%s", c.about, c.want, strings.Join(got, "\n"))
		}
	}
}

func TestAllFaultsAtOnce(t *testing.T) {
	t.Parallel()
	text := head + `inputs:
  workers: {type: integr}
resources:
  net: {type: netwrk, want: {range: 10.0.0.0/16}}
  site:
    type: instance
    want: {size: plain-1, image: debian-12, subnet: =subnet.id, publik: true}
    health:
      - http: {url: '="http://" + self.public_adress'}
outputs:
  address: =site.private_adress
  other: =site.id ? 1 : 2
`
	_, found := Read("t.sail.yaml", []byte(text))
	lines := map[int]bool{}
	for _, d := range found {
		lines[d.Line] = true
		if d.Source == "" || d.Column < 1 {
			t.Errorf("no place in %+v", d)
		}
		if !strings.Contains(d.Text(), "^") {
			t.Errorf("no caret in %s", d.Text())
		}
	}
	for _, line := range []int{4, 6, 9, 11, 13, 14} {
		if !lines[line] {
			t.Errorf("the fault in line %d is not reported; found:\n%s", line, found.Error())
		}
	}
}

func TestCaretPointsAtTheFault(t *testing.T) {
	t.Parallel()
	_, found := Read("t.sail.yaml", []byte(head+net+"outputs:\n  address: ='http://' + net.idd\n"))
	want := "t.sail.yaml:6:29: error: `net` has no `idd` (expression)\n    6 |   address: ='http://' + net.idd\n    " +
		"  |                             ^\n      remedy: did you mean `id`?\n"
	if len(found) != 1 || found[0].Text() != want {
		t.Errorf("got:\n%s\nwant:\n%s", found[0].Text(), want)
	}
}

func TestLimitsAreStated(t *testing.T) {
	t.Parallel()
	for about, text := range map[string]string{
		"size":   head + strings.Repeat("# padding\n", 200_000),
		"flow":   head + "calc: {a: " + strings.Repeat("[", 5000) + strings.Repeat("]", 5000) + "}\n",
		"block":  head + "calc:\n" + nested(3000),
		"bomb":   "a: &a [x,x]\nb: &b [*a,*a]\nc: [*b,*b]\n",
		"values": head + "calc: {a: [" + strings.Repeat("1,", 220_000) + "]}\n",
	} {
		if _, found := Read("t.sail.yaml", []byte(text)); !found.HasErrors() {
			t.Errorf("%s: no limit met", about)
		}
	}
}

func nested(depth int) string {
	var b strings.Builder
	for i := range depth {
		b.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	return b.String()
}

func TestInputsFilesHoldNoExpressions(t *testing.T) {
	t.Parallel()
	nodes, found := ReadInputs("i.yaml", []byte("mode: 0644\nversion: 3.10\nbad: =1\n"))
	if len(found) != 1 || found[0].Line != 3 {
		t.Errorf("found %v", found)
	}
	if nodes["mode"].Text != "0644" || nodes["version"].Text != "3.10" {
		t.Error("scalars did not stay what was written")
	}
}

func FuzzRead(f *testing.F) {
	files, err := fs.Glob(examples.Files, "*.yaml")
	if err != nil {
		f.Fatal(err)
	}
	for _, file := range files {
		source, err := fs.ReadFile(examples.Files, file)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(source)
	}
	f.Fuzz(func(t *testing.T, source []byte) {
		template, found := Read("fuzz", source)
		if template == nil && !found.HasErrors() {
			t.Error("no template and no fault")
		}
		ReadInputs("fuzz", source)
	})
}

// TestHostileFilesMeetALimit gives hostile files; each must be refused with the
// limit it met.
func TestHostileFilesMeetALimit(t *testing.T) {
	t.Parallel()
	head := "undersail: 1\nabout: {name: g, version: 1.0.0, title: G}\n"
	deep := strings.Repeat("(", 400) + "1" + strings.Repeat(")", 400)
	functions := "functions:\n  f0: {takes: {n: integer}, gives: =n + n}\n"
	for i := range 30 {
		functions += fmt.Sprintf("  f%d: {takes: {n: integer}, gives: =f%d(n) + f%d(n) + f%d(n)}\n", i+1, i, i, i)
	}
	for about, c := range map[string]struct{ text, want string }{
		"a file of two megabytes": {head + strings.Repeat("# padding\n", 200_000),
			"at most 1048576 are read"},
		"five thousand brackets": {head + "calc: {a: " + strings.Repeat("[", 5000) +
			strings.Repeat("]", 5000) + "}\n", "nested more than 40 deep"},
		"a bomb of aliases": {"a: &a [x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: " +
			"&c [*b,*b,*b,*b,*b,*b,*b,*b]\nd: [*c,*c,*c,*c,*c,*c,*c]\n",
			"anchors and aliases are not part of the format"},
		"values without end": {head + "calc: {a: [" + strings.Repeat("1,", 220_000) + "]}\n",
			"more than 200000 values"},
		"a deep expression": {head + "calc: {a: =" + deep + "}\nresources: {a: {type: address}}\n",
			"nested more than 60 deep"},
		"a long expression": {head + "calc: {a: =" + strings.Repeat("1+", 9000) +
			"1}\nresources: {a: {type: address}}\n", "longer than 8192 characters"},
		"functions that triple each other": {head + functions +
			"resources: {a: {type: address, want: {name: '=string(f31(1))'}}}\n", "the function is too large"},
		"a template with two files too many": {head + "resources: {a: {type: template, from: ./a.sail.yaml}}\n",
			"there is no template ./a.sail.yaml"},
	} {
		_, found := Read("t.sail.yaml", []byte(c.text))
		if !found.HasErrors() || !strings.Contains(found.Error(), c.want) {
			t.Errorf("%s: want %q, got %.400s", about, c.want, found.Error())
		}
	}
	_, found := ReadBundle(Bundle{
		File:   "t",
		Source: head,
		Parts:  []Bundle{{Ref: "x.txt", Source: strings.Repeat("x", MaxBundle)}},
	})
	if !strings.Contains(found.Error(), "at most 4194304 are read") {
		t.Error(found)
	}
}
