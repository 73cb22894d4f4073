// Package cases runs the cases that a keeper writes beside a template: inputs,
// and what the rendering of them must find and hold.
package cases

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/budget"
	"undersail/internal/core/change"
	"undersail/internal/core/fit"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// Suffix ends the name of a file of cases: gauge-intake.cases.yaml.
const Suffix = ".cases.yaml"

// Case is one case.
type Case struct {
	Name     string
	Position lang.Position
	Preset   string
	Inputs   map[string]*lang.Node
	// Offers names a file of saved offers, or is empty.
	Offers string
	Expect Expectation
}

// Expectation is what must come out. What is not mentioned is not looked at,
// but for errors: those that are not expected fail a case.
type Expectation struct {
	Findings  []Finding
	Resources map[string]int64 // how many, by declaration
	Order     []string         // resources that come in this order
	Values    map[string]any   // by path: gateway.size, worker[0].disks[0].mount, outputs.address
	line      int
}

// Finding is an expected finding. Empty fields match any.
type Finding struct{ Code, Place, Severity string }

// Failure is what a case expected and did not get.
type Failure struct {
	Case    string `json:"case"`
	Line    int    `json:"line"`
	Message string `json:"message"`
}

// Read reads a file of cases for a template.
func Read(file string, source []byte) ([]Case, lang.Diagnostics) {
	tree, r := lang.ReadTree(file, source)
	if tree == nil || !r.Mapping(tree, "the file", "cases") {
		return nil, r.Found()
	}
	list := tree.Get("cases")
	if list == nil || list.Kind != lang.Sequence || len(list.Items) == 0 {
		r.Errorf("missing-key", tree.Position, "add `cases:` with a list", "there are no cases")
		return nil, r.Found()
	}
	var out []Case
	for _, n := range list.Items {
		if !r.Mapping(n, "a case", "name", "preset", "inputs", "offers", "expect") {
			continue
		}
		c := Case{Name: r.Text(n, "name"), Position: n.Position, Inputs: map[string]*lang.Node{}}
		if v := n.Get("preset"); v != nil {
			c.Preset = v.Text
		}
		if v := n.Get("offers"); v != nil {
			c.Offers = v.Text
		}
		if in := n.Get("inputs"); in != nil && r.Mapping(in, "inputs") {
			for _, e := range in.Entries {
				c.Inputs[e.Key] = e.Value
			}
		}
		expect(r, n, &c)
		out = append(out, c)
	}
	return out, r.Found()
}

func expect(r *lang.Reader, n *lang.Node, c *Case) {
	x := n.Get("expect")
	if x == nil {
		r.Errorf("missing-key", n.Position, "add `expect:` with findings, resources, order or values",
			"case %q expects nothing", c.Name)
		return
	}
	if !r.Mapping(x, "expect", "findings", "resources", "order", "values") {
		return
	}
	c.Expect.line = x.Line
	if list := x.Get("findings"); list != nil {
		for _, f := range list.Items {
			if r.Mapping(f, "a finding", "code", "place", "severity") {
				text := func(key string) string {
					if v := f.Get(key); v != nil {
						return v.Text
					}
					return ""
				}
				c.Expect.Findings = append(c.Expect.Findings, Finding{text("code"), text("place"), text("severity")})
			}
		}
	}
	if list := x.Get("order"); list != nil {
		for _, item := range list.Items {
			c.Expect.Order = append(c.Expect.Order, item.Text)
		}
	}
	if m := x.Get("resources"); m != nil && r.Mapping(m, "resources") {
		c.Expect.Resources = map[string]int64{}
		for _, e := range m.Entries {
			n, err := resource.Shape{Kind: resource.Integer}.ParseScalar(e.Value.Text)
			if err != nil {
				r.Errorf("value", e.Value.Position, "write how many there are", "%v", err)
				continue
			}
			c.Expect.Resources[e.Key] = n.(int64)
		}
	}
	if m := x.Get("values"); m != nil && r.Mapping(m, "values") {
		c.Expect.Values = map[string]any{}
		for _, e := range m.Entries {
			c.Expect.Values[e.Key] = e.Value.Plain()
		}
	}
}

// Run renders a case and tells what is otherwise than expected. Offers are those
// that the case names, or nil.
func Run(t *lang.Template, c Case, offers *offer.Offers, b *budget.Budget) []Failure {
	var out []Failure
	fail := func(format string, args ...any) {
		out = append(out, Failure{c.Name, c.Position.Line, fmt.Sprintf(format, args...)})
	}
	preset, err := render.PresetLayer(t, c.Preset)
	if err != nil {
		fail("%v", err)
		return out
	}
	given := render.Layer{From: "case", Inputs: map[string]any{}}
	for name, n := range c.Inputs {
		given.Inputs[name] = n.Plain()
		if in := t.Input(name); in != nil {
			if v, err := lang.Normalise(n, in.Shape); err == nil {
				given.Inputs[name] = v
			}
		}
	}
	request := render.Request{Template: t, Stack: render.Stack{Name: t.About.Name}, Offers: offers, Rehearse: true}
	if offers != nil {
		request.Stack.Account, request.Stack.Cloud, request.Stack.Region = offers.Account, offers.Cloud, offers.Region
	}
	request.Inputs, request.Origins = render.Merge(preset, given)
	r := render.Render(b, request)
	sold := offer.Everywhere{Home: offers}
	r.Findings = slices.Concat(r.Findings, fit.Rendering(r, sold), fit.Reaching(r, nil, nil, sold),
		policy.Check(r, policy.Context{Offers: sold}).Findings)
	compareFindings(fail, r.Findings, c.Expect.Findings)
	compareResources(fail, r, c.Expect)
	return out
}

func compareFindings(fail func(string, ...any), got []render.Finding, want []Finding) {
	matches := func(f render.Finding, w Finding) bool {
		return (w.Code == "" || w.Code == f.Code) && (w.Place == "" || w.Place == f.Place) &&
			(w.Severity == "" || w.Severity == string(f.Severity))
	}
	for _, w := range want {
		if !slices.ContainsFunc(got, func(f render.Finding) bool { return matches(f, w) }) {
			fail("the finding %s was expected and is not there", strings.TrimSpace(w.Code+" "+w.Place))
		}
	}
	for _, f := range got {
		if f.Severity == lang.Error && !slices.ContainsFunc(want, func(w Finding) bool { return matches(f, w) }) {
			fail("an error was not expected: %s: %s (%s)", f.Place, f.Message, f.Code)
		}
	}
}

func compareResources(fail func(string, ...any), r *render.Rendering, x Expectation) {
	count := map[string]int64{}
	place := map[string]int{}
	for i, res := range r.Resources {
		count[res.Declared]++
		place[res.Name] = i + 1
	}
	for _, name := range slices.Sorted(maps.Keys(x.Resources)) {
		if count[name] != x.Resources[name] {
			fail("%d of %s were expected, and there are %d", x.Resources[name], name, count[name])
		}
	}
	for i := 1; i < len(x.Order); i++ {
		before, after := x.Order[i-1], x.Order[i]
		if place[before] == 0 || place[after] == 0 || place[before] > place[after] {
			fail("%s was expected before %s", before, after)
		}
	}
	for _, path := range slices.Sorted(maps.Keys(x.Values)) {
		got, found := lookUp(r, path)
		switch want := x.Values[path]; {
		case !found:
			fail("%s was expected to be %v, and is not there", path, want)
		case !change.Equal(got, want):
			fail("%s was expected to be %v, and is %v", path, want, got)
		}
	}
}

// lookUp finds a value by its path: a resource or outputs, then keys.
func lookUp(r *render.Rendering, path string) (any, bool) {
	leaves := map[string]any{}
	note := func(owner string, v any) {
		leaves[owner] = v
		resource.Leaves(v, func(p string, leaf any) { leaves[strings.TrimSuffix(owner+"."+p, ".")] = leaf })
		if m, ok := v.(map[string]any); ok {
			for k, x := range m {
				leaves[owner+"."+k] = x
			}
		}
	}
	for _, o := range r.Outputs {
		note("outputs."+o.Name, o.Value)
	}
	for _, res := range r.Resources {
		if strings.HasPrefix(path, res.Name+".") {
			note(res.Name, res.Want)
		}
	}
	v, ok := leaves[path]
	return v, ok
}
