package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
)

// thousand is a template of about 1 000 lines with many different expressions.
func thousand(edit int) string {
	var b strings.Builder
	b.WriteString("undersail: 1\nabout: {name: long, version: 1.0.0, title: Long}\ninputs:\n")
	for i := range 60 {
		fmt.Fprintf(&b, "  input_%d: {type: string, default: value-%d, title: Input %d}\n", i, i, i)
	}
	b.WriteString("calc:\n")
	for i := range 60 {
		fmt.Fprintf(&b, "  value_%d: =inputs.input_%d + \"-%d\"\n", i, i, i)
	}
	b.WriteString("resources:\n  net:\n    type: network\n    want: {range: 10.0.0.0/8}\n")
	for i := range 87 {
		fmt.Fprintf(&b, "  subnet_%d:\n    type: subnet\n    want:\n      name: =calc.value_%d + \"-%d\"\n      "+
			"network: =net.id\n      range: 10.%d.0.0/16\n", i, i%60, i, i)
		fmt.Fprintf(&b, "  rules_%d:\n    type: firewall\n    want:\n      network: =net.id\n      rules: '=[80, "+
			"%d].map(p, firewall_rule{from: subnet_%d.range, port: p})'\n", i, 1000+i, i)
	}
	fmt.Fprintf(&b, "outputs:\n  edited: =calc.value_%d + \"%d\"\n", edit%60, edit)
	return b.String()
}

// checking measures B8: an edit is checked again with what was checked before,
// and the client starts.
func checking(rounds int) ([]row, error) {
	text := thousand(0)
	edit := 0
	check := func(text string) {
		if t, found := lang.Read("long.sail.yaml", []byte(text)); t == nil {
			panic(found)
		}
	}
	m, r, ratio := paired(rounds,
		func() { edit++; check(thousand(edit)) },
		func() { expr.Forget(); check(thousand(0)) })
	rows := []row{{
		id:        "B8",
		what:      fmt.Sprintf("check of %d lines after one edit, over a first check", strings.Count(text, "\n")),
		measured:  short(m),
		reference: short(r),
		ratio:     ratio,
		target:    0.2,
	}}
	start, err := starting(rounds)
	return append(rows, start), err
}

// starting measures the start of the client beside a program that imports the
// same and does nothing.
func starting(rounds int) (row, error) {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return row{}, err
	}
	defer os.RemoveAll(dir)
	for _, pkg := range []string{"./cmd/undersail", "./test/bench/idle"} {
		build := exec.Command("go", "build", "-o", dir+"/", pkg)
		build.Stderr = os.Stderr
		if err := build.Run(); err != nil {
			return row{}, fmt.Errorf("build %s: %w", pkg, err)
		}
	}
	run := func(name string, args ...string) func() {
		return func() {
			for range 5 {
				if err := exec.Command(filepath.Join(dir, name), args...).Run(); err != nil {
					panic(err)
				}
			}
		}
	}
	m, r, ratio := paired(rounds, run("undersail", "--version"), run("idle"))
	return row{
		id:        "B8",
		what:      "start of the client over a program that imports the same",
		measured:  short(m / 5),
		reference: short(r / 5),
		ratio:     ratio,
		target:    2,
	}, nil
}
