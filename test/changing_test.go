package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const harbour = `undersail: 1
about: {name: harbour, version: 1.0.0, title: Harbour, maturity: trial}
inputs:
  range: {type: string, format: cidr, default: 10.81.0.0/24}
  gib: {type: integer, default: 10}
  ports: {type: array, items: {type: integer}, default: [22]}
resources:
  net: {type: network, want: {range: =inputs.range}}
  door: {type: firewall, want: {network: =net.id, rules: '=inputs.ports.map(p, firewall_rule{from: "10.0.0.0/8", port: p})'}}
  logs: {type: disk, want: {size: '=string(inputs.gib) + "GiB"', type: solid}}
  charts: {type: disk, at_retire: keep, want: {size: 10GiB, type: solid}}
`

// TestChangingOnesMindOnTheCommandLine goes the ways of somebody who made a stack from
// a file and changes it: nothing to do, one thing, too much, and with data at stake.
func TestChangingOnesMindOnTheCommandLine(t *testing.T) {
	t.Parallel()
	b := start(t, "--empty", "--pace", "240")
	template := file(t, "harbour.sail.yaml", harbour)
	shows := func(r result, words ...string) {
		t.Helper()
		for _, w := range words {
			if !strings.Contains(r.out+r.err, w) {
				t.Errorf("it does not say %q:\n%s%s", w, r.out, r.err)
			}
		}
	}
	first := b.must(0, "propose", "harbour", "--template", template, "--account", "saltmere-lab", "--region",
		"north-fell")
	shows(first, "4 create", "door wants ", "network=waits for net.id", "rules=[from 10.0.0.0/8, port 22]",
		"is on trial", " real)")
	if strings.Contains(first.out, "known after") || strings.Contains(b.must(0, "stacks").out, "harbour") {
		t.Errorf("a stack that is only proposed:\n%s", b.must(0, "stacks").out)
	}
	b.must(0, "apply", b.propose("harbour", template), "--watch")

	shows(b.must(0, "propose", "harbour"), "Nothing to change", "No proposal was made")
	var p proposed
	b.into(&p, "propose", "harbour", "--input", "ports=[22, 443]")
	if p.ID == 0 {
		t.Fatal("a stack made from a file is not proposed again")
	}
	b.must(0, "apply", b.accept(p), "--watch")

	inputs := filepath.Join(t.TempDir(), "harbour.yaml")
	if err := os.WriteFile(inputs, []byte("ports: [22]\nrnage: 10.82.0.0/24\ngib: ten\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	r := b.run("propose", "harbour", "--inputs", inputs)
	shows(r, inputs+":2: inputs.rnage", "did you mean `range`?", inputs+":3: inputs.gib")
	if r.code != 3 {
		t.Errorf("exit code %d", r.code)
	}

	r = b.must(0, "propose", "harbour", "--template",
		file(t, "harbour.sail.yaml", strings.ReplaceAll(harbour, "type: solid", "type: solid-plus")))
	shows(r, "2 rebuild, 2 same", "consent   lose-data", "logs (disk of 10GiB)", "the old one is kept",
		"--agree lose-data")
	b.into(&p, "propose", "harbour", "--template",
		file(t, "harbour.sail.yaml", strings.ReplaceAll(harbour, "type: solid", "type: solid-plus")))
	r = b.run("accept", itoa(p.ID))
	if r.code != 6 || !strings.Contains(r.err, "undersail accept "+itoa(p.ID)+" --agree lose-data") {
		t.Errorf("accepting without a consent: exit code %d\n%s", r.code, r.err)
	}
	b.must(0, "apply", b.accept(p), "--watch")
	shows(b.must(0, "kept"), "harbour/charts", "10GiB", "a month")
	shows(b.run("retire", "harbour", "--yes"), "logs (disk of 10GiB)")
	shows(b.retire("harbour"), "kept, and still paid for: charts, charts")
	r = b.run("kept", "remove", "harbour/charts")
	if r.code != 2 && r.code != 1 || !strings.Contains(r.err, "2 kept resources are called") {
		t.Errorf("exit code %d %s", r.code, r.err)
	}
}
