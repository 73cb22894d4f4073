package lang

import (
	"strings"

	"undersail/internal/core/expr"
)

// Preset is a named set of input values, all literals.
type Preset struct {
	Name, Title, Text string
	Position          Position
	Inputs            []Entry
}

// Preset finds a preset by name.
func (t *Template) Preset(name string) *Preset {
	for _, p := range t.Presets {
		if p.Name == name {
			return p
		}
	}
	return nil
}

func (d *decoder) preset(e Entry) {
	p := &Preset{Name: e.Key, Position: e.At}
	if !d.mapping(e.Value, "preset "+e.Key, "title", "text", "inputs") {
		return
	}
	p.Title, p.Text = d.text(e.Value, "title", true), d.text(e.Value, "text", false)
	inputs := e.Value.Get("inputs")
	if inputs == nil || !d.isMapping(inputs, "`inputs`") || len(inputs.Entries) == 0 {
		if inputs == nil || inputs.Kind == Mapping {
			d.errorf("missing-key", e.At, "add `inputs:` with at least one value", "preset %s sets nothing", e.Key)
		}
		return
	}
	p.Inputs = inputs.Entries
	d.template.Presets = append(d.template.Presets, p)
}

// presets checks the values of presets against the inputs.
func (c *checker) presets() {
	var names []string
	for _, in := range c.template.Inputs {
		names = append(names, in.Name)
	}
	for _, p := range c.template.Presets {
		for _, e := range p.Inputs {
			in := c.template.Input(e.Key)
			switch {
			case in == nil:
				c.errorf("unknown-input", e.At, expr.Suggest(e.Key, names, "the inputs are "+strings.Join(names, ", ")),
					"preset %s sets `%s`, and there is no such input", p.Name, e.Key)
			case in.Secret:
				c.errorf("secret", e.At, "leave it to whoever proposes",
					"preset %s sets the secret `%s`: everybody could read it here", p.Name, e.Key)
			case computed(e.Value):
				c.errorf("value", e.Value.Position, "write the value itself; only defaults are computed",
					"a preset holds values, not expressions")
			default:
				c.inputLiteral(in, e.Value)
			}
		}
	}
}

// computed reports whether a tree holds an expression.
func computed(n *Node) bool {
	if n.Kind == Expression {
		return true
	}
	for _, item := range n.Items {
		if computed(item) {
			return true
		}
	}
	for _, e := range n.Entries {
		if computed(e.Value) {
			return true
		}
	}
	return false
}
