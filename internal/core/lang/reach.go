package lang

import (
	"fmt"
	"slices"

	"undersail/internal/core/expr"
	"undersail/internal/core/resource"
)

// maxCases bounds how many combinations of inputs are tried on a condition.
const maxCases = 512

// reach warns of resources that can never be there: conditions over inputs
// with few possible values are tried with all of them.
func (c *checker) reach() {
	if c.found.HasErrors() {
		return
	}
	for _, r := range c.template.Resources {
		if r.When == nil || r.When.Program == nil {
			continue
		}
		always, never, decided := c.tryAll(r.When.Program)
		switch {
		case decided && never:
			c.add(Warning, "unreachable", r.When.Position,
				fmt.Sprintf("no value of its inputs makes this true, so %s is never made", r.Name),
				"correct the condition, or remove the resource")
		case decided && always:
			c.add(Warning, "always", r.When.Position,
				fmt.Sprintf("every value of its inputs makes this true, so %s is always made", r.Name),
				"remove `when`; its values are then no optionals")
		}
	}
}

// tryAll evaluates a condition for every combination of the inputs it reads. It
// decides nothing when an input has too many values or anything else is read.
func (c *checker) tryAll(p *expr.Program) (always, never, decided bool) {
	var names []string
	var values [][]any
	cases := 1
	for _, u := range p.Uses {
		if u.Name != "inputs" || len(u.Asked) > 0 {
			return false, false, false
		}
		for _, f := range u.Fields {
			in := c.template.Input(f)
			if in == nil || in.Optional {
				return false, false, false
			}
			all := in.possible()
			if cases *= len(all); all == nil || cases > maxCases {
				return false, false, false
			}
			names, values = append(names, f), append(values, all)
		}
	}
	always, never = true, true
	for n := range cases {
		fields := map[string]any{}
		for i, name := range names {
			fields[name] = expr.Typed(c.template.Input(name).Shape, values[i][n%len(values[i])])
			n /= len(values[i])
		}
		v, err := p.Eval(expr.NewVars().With(map[string]any{"inputs": &expr.Object{Type: "inputs", Fields: fields}}))
		holds, ok := v.(bool)
		if err != nil || !ok {
			return false, false, false
		}
		always, never = always && holds, never && !holds
	}
	return always, never, true
}

// possible lists every value that an input can have, or nil when there are too
// many to list.
func (in *Input) possible() []any {
	var out []any
	low, hasLow := in.Schema["minimum"].(int64)
	high, hasHigh := in.Schema["maximum"].(int64)
	enum, hasEnum := in.Schema["enum"].([]any)
	switch {
	case in.Secret:
		return nil
	case hasEnum:
		out = slices.Clone(enum)
	case in.Schema["const"] != nil:
		out = []any{in.Schema["const"]}
	case in.Shape.Kind == resource.Boolean:
		return []any{true, false}
	case in.Shape.Kind == resource.Integer && hasLow && hasHigh && high >= low && high-low < maxCases:
		for n := low; n <= high; n++ {
			out = append(out, n)
		}
	}
	for i, v := range out {
		typed, err := Normalise(v, in.Shape)
		if err != nil {
			return nil
		}
		out[i] = typed
	}
	return out
}
