package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"undersail/internal/core/budget"
	"undersail/internal/core/change"
	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// large is a template of 50 declarations, repeated so that they make the number
// of resources together, with five expressions each; each declaration refers to
// the one before it.
func large(resources int) (*lang.Template, error) {
	var b strings.Builder
	b.WriteString("undersail: 1\nabout: {name: large, version: 1.0.0, title: Large}\ninputs: {prefix: {type: " +
		"string, default: tide}}\nresources:\n")
	for d := range declarations {
		before := "=inputs.prefix"
		if d > 0 {
			before = fmt.Sprintf("=d%d[index].id", d-1)
		}
		fmt.Fprintf(&b, "  d%d:\n    type: disk\n    repeat: %d\n    want:\n      name: =inputs.prefix + \"-\" + "+
			"string(index)\n      size: =string(index %% 90 + 10) + \"GiB\"\n      type: '=index %% 2 == 0 ? "+
			"\"solid\" : \"cold\"'\n      encrypted: =index %% 3 == 0\n      tags: {before: '%s'}\n", d,
			resources/declarations, before)
	}
	t, found := lang.Read("large.sail.yaml", []byte(b.String()))
	if t == nil {
		return nil, found
	}
	return t, nil
}

const declarations = 50

// stack is a large stack with the reference of its rendering.
type stack struct {
	request  render.Request
	recorded []change.Recorded
	// programs and vars are what the reference evaluates: the same expressions
	// with the same values, nothing else.
	programs []*expr.Program
	vars     []*expr.Vars
	plain    *render.Rendering
}

func newStack(n int, known bool) (*stack, error) {
	t, err := large(n)
	if err != nil {
		return nil, err
	}
	s := &stack{request: render.Request{Template: t, Stack: render.Stack{Name: "large"}}}
	if known {
		first := render.Render(budget.Boundless(), s.request)
		for _, r := range first.Resources {
			var after []string
			for _, a := range r.After {
				after = append(after, a.Name)
			}
			s.recorded = append(s.recorded, change.Recorded{
				Name:       r.Name,
				Type:       r.Type,
				Want:       r.Want,
				Attributes: map[string]any{"id": "dsk-" + r.Name},
				Healthy:    true,
				After:      after,
			})
		}
		s.plain = change.Compute(budget.Boundless(), s.request, s.recorded).Rendering
		for i := range s.recorded {
			s.recorded[i].Want = s.plain.Resources[i].Want
		}
	}
	plan := change.Compute(budget.Boundless(), s.request, s.recorded).Ordered(s.recorded, offer.Everywhere{})
	s.plain = plan.Rendering
	if len(s.plain.Resources) != n || len(s.plain.Findings) > 0 {
		return nil, fmt.Errorf("%d resources, %v", len(s.plain.Resources), s.plain.Findings)
	}
	if known && change.Summary(plan.Changes) != fmt.Sprintf("%d same", n) {
		return nil, fmt.Errorf("comparing gave %s", change.Summary(plan.Changes))
	}
	s.reference(known)
	return s, nil
}

// reference prepares the expressions of every resource with their values.
func (s *stack) reference(known bool) {
	inputs := &expr.Object{Type: "inputs", Fields: map[string]any{"prefix": "tide"}}
	lists := map[string][]any{}
	for _, r := range s.plain.Resources {
		id := any(resource.Unresolved{Waits: []string{r.Name + ".id"}})
		if known {
			id = "dsk-" + r.Name
		}
		lists[r.Declared] = append(lists[r.Declared], &expr.Object{Type: "disk", Fields: map[string]any{"id": id}})
	}
	for _, r := range s.plain.Resources {
		d := s.request.Template.Resource(r.Declared)
		vars := map[string]any{"inputs": inputs, "index": int64(r.Index)}
		for _, m := range d.Mentions {
			vars[m] = lists[m]
		}
		s.vars = append(s.vars, expr.NewVars().With(vars))
		for _, key := range []string{"name", "size", "type", "encrypted"} {
			s.programs = append(s.programs, d.Want.Get(key).Program)
		}
		s.programs = append(s.programs, d.Want.Get("tags").Get("before").Program)
	}
}

func (s *stack) whole() {
	plan := change.Compute(budget.Boundless(), s.request, s.recorded).Ordered(s.recorded, offer.Everywhere{})
	if _, err := json.Marshal(plan.Rendering); err != nil {
		panic(err)
	}
}

func (s *stack) alone() {
	for i, vars := range s.vars {
		for _, p := range s.programs[i*5 : i*5+5] {
			if _, err := p.Eval(vars); err != nil {
				panic(err)
			}
		}
	}
	if _, err := json.Marshal(s.plain); err != nil {
		panic(err)
	}
}

func repeated(times int, f func()) func() {
	return func() {
		for range times {
			f()
		}
	}
}

// rendering measures B1 and B2: for a new stack, whose references are pending,
// and for one that is there, which is compared.
func rendering(rounds int) ([]row, error) {
	var rows []row
	for _, known := range []bool{false, true} {
		kind := "a new stack"
		if known {
			kind = "an applied stack, compared"
		}
		ratios := map[int]float64{}
		for _, n := range []int{1_000, 10_000, 100_000} {
			s, err := newStack(n, known)
			if err != nil {
				return nil, err
			}
			times := rounds
			if n == 100_000 {
				times = min(rounds, 5)
			}
			// A small stack is done so often that a round takes as long as a larger one's.
			often := max(1, 10_000/n)
			m, r, ratio := paired(times, repeated(often, s.whole), repeated(often, s.alone))
			ratios[n] = ratio
			if n == 10_000 {
				rows = append(rows, row{id: "B1", what: "render, order, compare, encode 10 000 resources: " + kind,
					measured: short(m), reference: short(r), ratio: ratio, target: 3})
			}
		}
		rows = append(rows, row{
			id:        "B2",
			what:      "B1's ratio at 100 000 resources over that at 1 000: " + kind,
			measured:  fmt.Sprintf("%.2f", ratios[100_000]),
			reference: fmt.Sprintf("%.2f", ratios[1_000]),
			ratio:     ratios[100_000] / ratios[1_000],
			target:    1.3,
		})
	}
	peak, err := peakAlone()
	if err != nil {
		return nil, err
	}
	return append(rows, row{
		id:        "B1",
		what:      "peak memory of that for 10 000 resources, in a process of its own",
		measured:  fmt.Sprintf("%.0f MB", peak),
		reference: "400 MB",
		ratio:     peak / 400,
		target:    1,
	}), nil
}

// peak tells the most memory that this process ever held, in MB, by what the
// kernel counted.
func peak() (float64, error) {
	f, err := os.Open("/proc/self/status")
	if err != nil {
		return 0, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		var kb float64
		if _, err := fmt.Sscanf(lines.Text(), "VmHWM: %f kB", &kb); err == nil {
			return kb / 1000, nil
		}
	}
	return 0, errors.Join(errors.New("the kernel does not tell the peak of memory"), lines.Err())
}

// peakAlone measures the peak of memory in a process of its own, so that what
// other rows used does not count.
func peakAlone() (float64, error) {
	self, err := os.Executable()
	if err != nil {
		return 0, err
	}
	out, err := exec.Command(self, "-peak").Output()
	if err != nil {
		return 0, fmt.Errorf("measure memory: %w", err)
	}
	var mb float64
	_, err = fmt.Sscan(string(out), &mb)
	return mb, err
}

// peakOfOne renders once and prints the peak.
func peakOfOne() error {
	s, err := newStack(10_000, false)
	if err != nil {
		return err
	}
	s.whole()
	mb, err := peak()
	fmt.Println(mb)
	return err
}
