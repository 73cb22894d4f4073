package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// hostile are files that must meet a limit, with the words that say so.
func hostile() map[string]struct{ text, want string } {
	head := "undersail: 1\nabout: {name: h, version: 1.0.0, title: H}\n"
	net := "resources: {a: {type: address, want: {name: =calc.last}}}\n"
	doubling := "calc:\n  v0: '" + strings.Repeat("x", 1000) + "'\n"
	for i := range 60 {
		doubling += fmt.Sprintf("  v%d: =calc.v%d + calc.v%d\n", i+1, min(i, 10), min(i, 9))
	}
	nested := "=[0,1,2,3,4,5,6,7,8,9]"
	for range 8 {
		nested = "=[0,1,2,3,4,5,6,7,8,9].map(x, " + nested[1:] + ")"
	}
	return map[string]struct{ text, want string }{
		"brackets": {head + "calc: {a: " + strings.Repeat("[", 100_000) + "}\n", "nested more than"},
		"aliases": {"a: &a [x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c " +
			"[*b,*b,*b,*b,*b,*b,*b]\nd: [*c,*c,*c,*c,*c,*c]\n", "aliases are not part"},
		"repeat": {head + "resources: {a: {type: address, repeat: 1000000000}}\n", "a number from 0 to 200000"},
		"repeats": {head + "resources: {a: {type: address, repeat: {x: 10000, y: 10000}}}\n",
			"more than 200000 resources"},
		"expression": {head + "calc: {last: '" + "=string(" + nested[1:] + ".size())'}\n" + net, "too much work"},
		"range": {head + "calc: {last: '=string(lists.range(100000).map(x, lists.range(100000)).size())'}\n" +
			net, "too much work"},
		"doubling":    {head + doubling + "  last: =calc.v60\n" + net, "32 MiB together"},
		"long":        {head + "calc: {last: ='" + strings.Repeat("x", 9000) + "'}\n" + net, "longer than"},
		"deep blocks": {head + "calc:\n" + deepBlocks(1300), "nested more than"},
	}
}

func deepBlocks(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i+1) + "a:\n")
	}
	return b.String()
}

// limits gives hostile files to the client, each in a process of its own, and
// tells the longest time and the most memory that any took to be refused.
func limits(int) ([]row, error) {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	binary := filepath.Join(dir, "undersail")
	if out, err := exec.Command("go", "build", "-o", binary, "./cmd/undersail").CombinedOutput(); err != nil {
		return nil, fmt.Errorf("build the client: %s", out)
	}
	var slowest time.Duration
	var largest float64
	slow, large := "", ""
	for name, h := range hostile() {
		file := filepath.Join(dir, "hostile.sail.yaml")
		if err := os.WriteFile(file, []byte(h.text), 0o600); err != nil {
			return nil, err
		}
		start := time.Now()
		cmd := exec.Command(binary, "render", file)
		out, err := cmd.CombinedOutput()
		took := time.Since(start)
		var failed *exec.ExitError
		if !errors.As(err, &failed) || failed.ExitCode() != 3 || !strings.Contains(string(out), h.want) {
			return nil, fmt.Errorf("%s: want a refusal with %q, got %v: %.300s", name, h.want, err, out)
		}
		if took > slowest {
			slowest, slow = took, name
		}
		usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage)
		if mb := float64(usage.Maxrss) / 1000; ok && mb > largest {
			largest, large = mb, name
		}
	}
	return []row{
		{
			id:        "-",
			what:      fmt.Sprintf("longest time until one of %d hostile files is refused", len(hostile())),
			measured:  short(slowest),
			reference: "1 s",
			ratio:     slowest.Seconds(),
			target:    1,
			note:      slow,
		},
		{
			id:        "-",
			what:      "most memory that refusing one took",
			measured:  fmt.Sprintf("%.0f MB", largest),
			reference: "200 MB",
			ratio:     largest / 200,
			target:    1,
			note:      large,
		},
	}, nil
}
