package lang

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/expr"
	"undersail/internal/core/graph"
)

// mustBeKnown reports expressions that read a reported attribute or a secret
// where the value must be known at rendering.
func (c *checker) mustBeKnown(what string, nodes ...*Node) {
	for _, n := range nodes {
		if n == nil {
			continue
		}
		for _, u := range c.allUses(n) {
			if u.Name == "inputs" {
				for _, f := range append(slices.Clone(u.Fields), u.Asked...) {
					c.template.MustKnow[f] = what
				}
				for _, f := range u.Fields {
					if in := c.template.Input(f); in != nil && in.Secret {
						c.errorf("secret", n.Position, "decide it by an input that is no secret",
							"%s must be known before anything is made and cannot read the secret `inputs.%s`", what, f)
					} else if in != nil && in.Later {
						c.errorf("pending", n.Position, "decide it by an input that is given beforehand",
							"%s must be known before anything is made, and `inputs.%s` is given later", what, f)
					}
				}
			}
			if fields := c.reported(u); len(fields) > 0 {
				c.errorf("pending", n.Position, "compute it from inputs or from wanted properties",
					"%s must be known before anything is made, and `%s.%s` is known only afterwards", what, u.Name,
					fields[0])
			}
		}
	}
}

// reported lists the fields of a use that are known only after creation.
func (c *checker) reported(u expr.Use) []string {
	r := c.template.Resource(u.Name)
	if r == nil {
		return nil
	}
	if r.Type.Name == Embed {
		return c.reportedOutputs(r, u)
	}
	var out []string
	for _, f := range u.Fields {
		if f != "name" && r.Want.Get(f) == nil {
			out = append(out, f)
		}
	}
	return out
}

// allUses lists what the expressions of a tree mention, through calc.
func (c *checker) allUses(n *Node) []expr.Use {
	var out []expr.Use
	for _, u := range rawUses(n) {
		out = append(out, u)
		if u.Name == "calc" {
			for _, f := range u.Fields {
				out = append(out, c.calcUses[f]...)
			}
		}
	}
	return out
}

// rawUses lists what the expressions of a tree mention themselves.
func rawUses(n *Node) []expr.Use {
	if n == nil {
		return nil
	}
	var out []expr.Use
	if n.Kind == Expression {
		if n.Program != nil {
			return n.Program.Uses
		}
		return expr.Mentions(n.Text)
	}
	for _, item := range n.Items {
		out = append(out, rawUses(item)...)
	}
	for _, e := range n.Entries {
		out = append(out, rawUses(e.Value)...)
	}
	return out
}

// order works out what must come before what and refuses cycles.
func (c *checker) order() {
	index := map[string]int{}
	for i, r := range c.template.Resources {
		index[r.Name] = i
	}
	g := graph.Graph{Needs: make([][]int, len(c.template.Resources))}
	for i, r := range c.template.Resources {
		for _, tree := range r.trees() {
			for _, u := range c.allUses(tree) {
				if j, ok := index[u.Name]; ok {
					g.Needs[i] = append(g.Needs[i], j)
				}
			}
		}
		for _, a := range r.After {
			j, ok := index[a.Resource]
			if !ok {
				c.errorf("unknown-name", r.Position, expr.Suggest(a.Resource, slices.Sorted(maps.Keys(index)), ""),
					"`after` of %s names `%s`, and there is no such resource", r.Name, a.Resource)
				continue
			}
			g.Needs[i] = append(g.Needs[i], j)
		}
		for _, j := range g.Needs[i] {
			name := c.template.Resources[j].Name
			if !slices.Contains(r.Mentions, name) {
				r.Mentions = append(r.Mentions, name)
			}
		}
	}
	order, cycle := g.Order()
	if cycle != nil {
		c.cycle("resources", cycle, func(i int) (string, Position) {
			return c.template.Resources[i].Name, c.template.Resources[i].Position
		})
	}
	c.template.Order = order
}

// trees are all values of a declaration that may hold expressions.
func (r *Resource) trees() []*Node {
	trees := []*Node{r.Want, r.When, r.Inputs, r.Find, r.Region, r.Guard, r.Extra}
	for _, l := range r.Repeat {
		trees = append(trees, l.Over)
	}
	for _, h := range r.Health {
		trees = append(trees, h.Spec)
	}
	return trees
}

func (c *checker) cycle(what string, cycle []int, of func(int) (string, Position)) {
	var path []string
	for _, i := range append(slices.Clone(cycle), cycle[0]) {
		name, at := of(i)
		path = append(path, fmt.Sprintf("%s (line %d)", name, at.Line))
	}
	_, at := of(cycle[0])
	c.errorf("cycle", at, "break the circle: one of them must do without the other",
		"%s need each other in a circle: %s", what, strings.Join(path, " needs "))
}

// unused warns of what nothing reads.
func (c *checker) unused() {
	if c.found.HasErrors() {
		return
	}
	for _, in := range c.template.Inputs {
		if !c.used["inputs."+in.Name] && in.Consent == "" {
			c.add(Warning, "unused-input", in.Position, fmt.Sprintf("nothing reads the input `%s`", in.Name),
				"use it or remove it")
		}
	}
	for _, v := range c.template.Calc {
		if !c.used["calc."+v.Name] {
			c.add(Warning, "unused-calc", v.Position, fmt.Sprintf("nothing reads the computed value `calc.%s`", v.Name),
				"use it or remove it")
		}
	}
	for _, f := range c.template.Functions {
		if !c.used[f.Name] && !slices.ContainsFunc(c.template.Functions,
			func(g *Function) bool { return g != f && strings.Contains(g.Body, f.Name+"(") }) {
			c.add(Warning, "unused-function", f.Position, fmt.Sprintf("nothing calls the function `%s`", f.Name),
				"use it or remove it")
		}
	}
}
