package lang

import (
	"cel.dev/cel-go/cel"

	"undersail/internal/core/expr"
	"undersail/internal/core/resource"
)

// learnLoops finds out which loops run over a number and which over a list, before
// the names of what they repeat are declared: how these are indexed follows from it.
func (c *checker) learnLoops() {
	open := false
	for _, r := range c.template.Resources {
		for i := range r.Repeat {
			loop := &r.Repeat[i]
			loop.Count = loop.Count || loop.Over.Kind == Scalar
			open = open || loop.Name != "" && loop.Over.Kind == Expression
		}
	}
	if !open {
		return
	}
	// What it reports is found again, and told, by the checker itself.
	trial := newChecker(&report{file: c.file, lines: c.lines, brokenFunctions: map[string]bool{}}, c.template)
	trial.declare()
	trial.calc()
	for _, r := range c.template.Resources {
		trial.loops(r)
	}
}

// loops checks the repetition and returns the variables it brings into scope.
func (c *checker) loops(r *Resource) map[string]*cel.Type {
	extra := map[string]*cel.Type{}
	for i := range r.Repeat {
		loop := &r.Repeat[i]
		n := loop.Over
		c.mustBeKnown("`repeat`", n)
		if _, taken := c.scope.Vars[loop.Name]; taken {
			c.errorf("name", n.Position, "choose another name", "`%s` is already the name of a resource", loop.Name)
		}
		switch {
		case n.Kind == Scalar:
			loop.Count = true
			c.scalar(n, resource.Shape{Kind: resource.Integer})
		case n.Kind == Expression:
			program := c.compile(n, site{})
			if program == nil {
				continue
			}
			switch {
			case expr.Assignable(program.Type, resource.Shape{Kind: resource.Integer}):
				loop.Count = true
			case !loop.Count && program.Type.Kind() == cel.ListKind &&
				expr.Assignable(program.Type.Parameters()[0], resource.Shape{Kind: resource.String}):
			default:
				c.errorf("type", n.Position, "give a whole number, or {NAME: =LIST OF TEXTS}",
					"`repeat` cannot run over %s", expr.TypeWords(program.Type))
			}
		default:
			c.tree(n, resource.Shape{Kind: resource.List, Items: &resource.Shape{Kind: resource.String}}, site{})
		}
		if loop.Name != "" {
			extra[loop.Name] = cel.StringType
			if loop.Count {
				extra[loop.Name] = cel.IntType
			}
		}
	}
	if r.Repeat != nil {
		extra["index"] = cel.IntType
	}
	return extra
}
