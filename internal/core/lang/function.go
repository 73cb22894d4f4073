package lang

import (
	"fmt"
	"strings"

	"cel.dev/cel-go/cel"

	"undersail/internal/core/expr"
	"undersail/internal/core/resource"
)

// Function is one function that the template defines.
type Function struct {
	*expr.Function
	Position Position
}

// parameterTypes are the words for the types of parameters.
var parameterTypes = map[string]resource.Kind{
	"string":  resource.String,
	"integer": resource.Integer,
	"number":  resource.Number,
	"boolean": resource.Boolean,
	"range":   resource.Range,
	"address": resource.Address,
	"amount":  resource.Data,
	"span":    resource.Span,
}

var parameterWords = []string{"string", "integer", "number", "boolean", "range", "address", "amount", "span"}

func (d *decoder) function(e Entry) {
	n := e.Value
	if !d.mapping(n, "function "+e.Key, "takes", "gives") {
		return
	}
	for _, f := range expr.Functions {
		if f.Name == e.Key {
			d.errorf("name", e.At, "choose another name", "`%s` is a function that every template has", e.Key)
			return
		}
	}
	var parameters []expr.Parameter
	if takes := n.Get("takes"); takes != nil && d.isMapping(takes, "`takes`") {
		for _, p := range takes.Entries {
			d.checkName(p, "parameter")
			parameters = append(parameters, expr.Parameter{Name: p.Key, Shape: d.parameter(p.Value)})
		}
	}
	body := n.Get("gives")
	if body == nil || body.Kind != Expression {
		at := e.At
		if body != nil {
			at = body.Position
		}
		d.errorf("missing-key", at, "add `gives: =EXPRESSION`", "function %s does not say what it gives", e.Key)
		return
	}
	d.brokenFunctions[e.Key] = true
	f, problems := expr.NewFunction(e.Key, parameters, body.Text, d.template.functions(), literals())
	for _, p := range problems {
		switch {
		case p.Name == e.Key:
			p.Message, p.Remedy = "a function cannot call itself", "compute it over a list with map, filter or reduce"
		case d.defined(p.Name):
			p.Message, p.Remedy = fmt.Sprintf("`%s` is defined below, and a function can call only those above it",
				p.Name), "move "+p.Name+" above "+e.Key
		}
		d.errorf("expression", body.place(p), p.Remedy, "%s", p.Message)
	}
	if f != nil {
		delete(d.brokenFunctions, e.Key)
		d.template.Functions = append(d.template.Functions, &Function{f, e.At})
	}
}

// defined reports whether the file defines a function, whatever is wrong with it.
func (d *decoder) defined(name string) bool {
	return d.root.Get("functions").Get(name) != nil
}

// parameter reads the type of a parameter: a word, or [word] for a list.
func (d *decoder) parameter(n *Node) resource.Shape {
	if n.Kind == Sequence && len(n.Items) == 1 {
		items := d.parameter(n.Items[0])
		return resource.Shape{Kind: resource.List, Items: &items}
	}
	kind, ok := parameterTypes[n.Text]
	if !ok || n.Kind != Scalar {
		d.errorf("unknown-type", n.Position,
			expr.Suggest(n.Text, parameterWords,
				"the types are "+strings.Join(parameterWords, ", ")+"; [string] is a list of texts"),
			"a parameter cannot have the type `%s`", n.Text)
		return resource.Shape{Kind: resource.Open}
	}
	return resource.Shape{Kind: kind}
}

func (t *Template) functions() []*expr.Function {
	out := make([]*expr.Function, len(t.Functions))
	for i, f := range t.Functions {
		out[i] = f.Function
	}
	return out
}

// place finds where in the file a problem of an expression lies.
func (n *Node) place(p expr.Problem) Position {
	if p.Line <= 1 {
		return Position{n.Line, n.Column + p.Column}
	}
	return Position{n.Line + p.Line - 1, p.Column + 1}
}

// literals are the struct types that expressions may write as typed literals.
func literals() map[string]map[string]*cel.Type {
	structs := map[string]map[string]*cel.Type{}
	for _, shape := range append(resource.Literals(), expr.Needs...) {
		declareShape(structs, shape)
	}
	return structs
}
