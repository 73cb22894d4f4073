package lang

import (
	"regexp"
	"strings"

	"undersail/internal/core/resource"
)

// readsOne and readsAll are the expressions that give the id of one resource and
// those of all members of a repetition, with its name.
var (
	dotted   = regexp.MustCompile(`^([a-z][a-z0-9_]*)(?:\[[^\[\]]*\])*\.([a-z_][a-z0-9_]*)`)
	readsOne = regexp.MustCompile(`^\s*([a-z][a-z0-9_]*)(?:\[[^\[\]]*\])*\.id\s*$`)
	readsAll = regexp.MustCompile(`^\s*([a-z][a-z0-9_]*)\.map\(\s*[a-z_][a-z0-9_]*\s*,\s*[a-z_][a-z0-9_]*(?:\[[^\[\]]*\])?\.id\s*\)\s*$`)
)

// reference checks what should be the id of a resource, or a list of such: a text
// that forgot its `=`, and the id of a resource of another type.
func (c *checker) reference(n *Node, p resource.Property) {
	if p.Refers == "" {
		return
	}
	switch n.Kind {
	case Sequence:
		for _, item := range n.Items {
			c.reference(item, p)
		}
	case Scalar:
		c.forgotten(n, Error)
	case Expression:
		m := readsOne.FindStringSubmatch(n.Text)
		if m == nil {
			m = readsAll.FindStringSubmatch(n.Text)
		}
		if m == nil {
			return
		}
		r := c.template.Resource(m[1])
		if r != nil && r.Type.Name != "" && r.Type.Name != Embed && r.Type.Name != p.Refers {
			c.errorf("reference", n.Position, c.likelyMeant(p.Refers), "`%s` wants the id of %s, and %s is %s", p.Name,
				Article(p.Refers), m[1], Article(r.Type.Name))
		}
	}
}

// likelyMeant names the resources of a type.
func (c *checker) likelyMeant(typeName string) string {
	var names []string
	for _, r := range c.template.Resources {
		if r.Type.Name == typeName {
			names = append(names, r.Name+".id")
		}
	}
	if names == nil {
		return "declare " + Article(typeName) + " and give its id"
	}
	return "of that type are " + strings.Join(names, ", ")
}

// forgotten tells of a text that reads like the field of a resource, an input or a
// computed value.
func (c *checker) forgotten(n *Node, severity Severity) {
	m := dotted.FindStringSubmatch(n.Text)
	if m == nil || n.Quoted && severity != Error {
		return
	}
	known := false
	switch r := c.template.Resource(m[1]); {
	case r != nil && r.Type.Name != "" && r.Type.Name != Embed:
		_, known = r.Type.Field(m[2])
	case m[1] == "inputs":
		known = c.template.Input(m[2]) != nil
	case m[1] == "calc":
		for _, x := range c.template.Calc {
			known = known || x.Name == m[2]
		}
	}
	if known {
		c.add(severity, "forgotten", n.Position, "this is the text \""+n.Text+"\", and not a value of "+m[1],
			"write ="+n.Text)
	}
}
