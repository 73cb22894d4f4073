package render

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"testing"

	"undersail/examples"
	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
)

// renderedHere makes the test below render and say what came out, in a process of its own.
const renderedHere = "UNDERSAIL_RENDERED_HERE"

// TestRenderingIsTheSameInEveryProcess renders every example and 1,000 random templates full of
// loops over mappings in three processes, or as many as UNDERSAIL_PROCESSES says, and compares
// the bytes.
func TestRenderingIsTheSameInEveryProcess(t *testing.T) {
	if os.Getenv(renderedHere) != "" {
		renderAll(t)
		return
	}
	t.Parallel()
	processes, err := strconv.Atoi(os.Getenv("UNDERSAIL_PROCESSES"))
	if err != nil {
		processes = 3
	}
	out := make([][]byte, processes)
	var all sync.WaitGroup
	slots := make(chan struct{}, 2)
	for i := range out {
		all.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			child := exec.Command(os.Args[0], "-test.run=^TestRenderingIsTheSameInEveryProcess$")
			child.Env = append(os.Environ(), renderedHere+"=1")
			var err error
			if out[i], err = child.Output(); err != nil {
				t.Errorf("%v: %s", err, out[i])
			}
		})
	}
	all.Wait()
	first := bytes.Split(out[0], []byte("\n"))
	if len(first) < 1010 {
		t.Fatalf("only %d renderings", len(first))
	}
	for _, other := range out[1:] {
		for i, line := range bytes.Split(other, []byte("\n")) {
			if bytes.HasPrefix(line, []byte("ok ")) || bytes.HasPrefix(line, []byte("PASS")) {
				break
			}
			if i >= len(first) || !bytes.Equal(line, first[i]) {
				t.Fatalf("another process renders otherwise: %s", line)
			}
		}
	}
}

// renderAll says what every template renders to.
func renderAll(t *testing.T) {
	files, err := fs.Glob(examples.Files, "*.inputs.yaml")
	if err != nil {
		t.Fatal(err)
	}
	say := func(name string, q Request) {
		raw, err := json.Marshal(Render(budget.Boundless(), q))
		if err != nil {
			t.Fatal(name, err)
		}
		fmt.Printf("%s %x\n", name, sha256.Sum256(raw))
	}
	for _, f := range files {
		name := strings.TrimSuffix(f, ".inputs.yaml")
		say(name, exampleRequest(t, name))
	}
	random := rand.New(rand.NewPCG(24, 2))
	for n := range 1000 {
		source := loops(random)
		q := Request{Stack: Stack{Name: "coast", ID: FixedID, Region: "north-fell"}}
		template, found := lang.Read("loops.sail.yaml", []byte(source))
		if template == nil {
			t.Fatalf("%v in\n%s", found, source)
		}
		q.Template = template
		if r := Render(budget.Boundless(), q); HasErrors(r.Findings) || len(r.Resources) < 5 {
			t.Fatalf("%v of\n%s", r.Findings, source)
		}
		say(fmt.Sprint("random ", n), q)
	}
}

// loops is a random template whose resources come from loops over mappings of all kinds.
func loops(random *rand.Rand) string {
	var b strings.Builder
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	keys := []string{"bay", "coast", "dune", "east", "fen", "gull", "haven", "isle", "jetty"}
	random.Shuffle(len(keys), func(i, j int) { keys[i], keys[j] = keys[j], keys[i] })
	keys = keys[:3+random.IntN(6)]
	pairs := make([]string, len(keys))
	for i, k := range keys {
		pairs[i] = fmt.Sprintf("%s: {rank: %d, note: %s}", k, random.IntN(9), pick("wide", "low", "old"))
	}
	b.WriteString("undersail: 1\nabout: {name: loops, version: 1.0.0, title: Loops}\n")
	fmt.Fprintf(&b, "inputs:\n  sites: {type: object, additionalProperties: {type: object, properties: {rank: "+
		"{type: integer}, note: {type: string}}, required: [rank, note]}, default: {%s}}\n", strings.Join(pairs, ", "))
	fmt.Fprintf(&b, "calc:\n  names: '=inputs.sites.map(k, k)'\n  some: '=inputs.sites.filter(k, "+
		"inputs.sites[k].rank > %d)'\n  ranks: '=inputs.sites.transformMap(k, v, v.rank * %d)'\n", random.IntN(5),
		1+random.IntN(3))
	fmt.Fprintf(&b, "  lines: '=%s'\n",
		pick(`inputs.sites.transformList(k, v, k + "-" + v.note)`, `calc.ranks.map(k, k + string(calc.ranks[k]))`,
			`{"z": 1, "y": 2, "x": 3}.map(k, k)`))
	b.WriteString("resources:\n  base: {type: key_pair}\n  each:\n    type: address\n    repeat: {site: " +
		"=calc.names}\n    want: {tags: {site: =site, rank: '=string(calc.ranks[site])', by: '=base.id'}}\n")
	b.WriteString("  few:\n    type: address\n    repeat: {site: =calc.some}\n    want: {tags: {lines: " +
		"'=calc.lines.join(\"/\")', of: '=each[site].id'}}\n")
	fmt.Fprintf(&b, "  whole: {type: address, want: {tags: {all: '=%s'}}}\n",
		pick(`each.map(k, each[k].id).join(",")`, `calc.names.map(n, each[n].id).join(",")`, `calc.names.join("+")`))
	b.WriteString("outputs:\n  lines: {value: =calc.lines}\n  ranks: {value: =calc.ranks}\n")
	return b.String()
}
