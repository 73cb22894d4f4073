package lang

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"

	"undersail/internal/core/expr"
	"undersail/internal/core/resource"
)

// StackFields are what expressions may read of `stack`.
var StackFields = []string{"account", "cloud", "id", "name", "region"}

// declare puts the inputs, the stack and every resource into scope.
func (c *checker) declare() {
	structs := map[string]map[string]*cel.Type{"inputs": {}, "calc": {}, "stack": {}}
	for _, f := range StackFields {
		structs["stack"][f] = cel.StringType
	}
	for _, in := range c.template.Inputs {
		t := expr.TypeOf(in.Shape)
		if in.Picks == "stack" && in.Other == nil {
			t = cel.DynType // told already
		}
		if in.Other != nil {
			name := "inputs." + in.Name
			declareOutputs(structs, name, in.Other, false)
			structs[Embed+" "+name]["name"] = cel.StringType
			t = cel.ObjectType(Embed + " " + name)
		}
		if in.Optional {
			t = cel.OptionalType(t)
		}
		structs["inputs"][in.Name] = t
		declareShape(structs, in.Shape)
	}
	for _, literal := range resource.Literals() {
		declareShape(structs, literal)
	}
	for _, need := range expr.Needs {
		declareShape(structs, need)
	}
	maps.Copy(structs, expr.OffersStructs())
	vars := map[string]*cel.Type{
		"inputs": cel.ObjectType("inputs"),
		"calc":   cel.ObjectType("calc"),
		"stack":  cel.ObjectType("stack"),
		"offers": cel.ObjectType("offers"),
	}
	for _, r := range c.template.Resources {
		switch {
		case r.Type.Name == "" || r.Type.Name == Embed && r.Embedded == nil:
			vars[r.Name] = cel.DynType // told already; what reads it is no fault of its own
			continue
		case r.Type.Name == Embed:
			declareOutputs(structs, r.Name, r.Embedded, r.When != nil)
		default:
			declareType(structs, r.Type)
		}
		t := r.resourceType()
		for _, loop := range slices.Backward(r.Repeat) { // indexed as it is nested
			if loop.Keyed() {
				t = cel.MapType(cel.StringType, t)
			} else {
				t = cel.ListType(t)
			}
		}
		vars[r.Name] = t
	}
	var local []string
	for name := range structs {
		if name == "inputs" || name == "calc" || strings.HasPrefix(name, "input ") ||
			strings.HasPrefix(name, "outputs ") || strings.HasPrefix(name, Embed+" ") {
			local = append(local, name)
		}
	}
	slices.Sort(local)
	c.scope = expr.Scope{
		Vars:      vars,
		Structs:   structs,
		Local:     local,
		Functions: c.template.functions(),
		Files:     c.template.Bundle.files(),
	}
}

func declareShape(structs map[string]map[string]*cel.Type, s resource.Shape) {
	if s.Items != nil {
		declareShape(structs, *s.Items)
	}
	if s.Kind != resource.Object || structs[s.TypeName] != nil {
		return
	}
	fields := map[string]*cel.Type{}
	for _, f := range s.Fields {
		fields[f.Name] = expr.TypeOf(f.Shape)
		declareShape(structs, f.Shape)
	}
	structs[s.TypeName] = fields
}

func declareType(structs map[string]map[string]*cel.Type, t resource.Type) {
	if structs[t.Name] != nil {
		return
	}
	plain, optional := map[string]*cel.Type{}, map[string]*cel.Type{}
	note := func(name string, s resource.Shape) {
		declareShape(structs, s)
		plain[name] = expr.TypeOf(s)
		optional[name] = cel.OptionalType(expr.TypeOf(s))
	}
	for _, p := range t.Properties {
		note(p.Name, p.Shape)
	}
	for _, a := range t.Attributes {
		note(a.Name, a.Shape)
	}
	structs[t.Name], structs[t.Name+"?"] = plain, optional
}

// site is where an expression stands: what is in scope beyond the template's
// names, and the condition under which the place exists.
type site struct {
	extra map[string]*cel.Type
	when  string
}

func (c *checker) env(s site) *expr.Env {
	var key strings.Builder
	for _, name := range slices.Sorted(maps.Keys(s.extra)) {
		fmt.Fprintf(&key, "%s %s;", name, s.extra[name])
	}
	if env, ok := c.envs[key.String()]; ok {
		return env
	}
	scope := c.scope
	for name, t := range s.extra {
		scope = scope.With(name, t)
	}
	env := expr.NewEnv(scope)
	c.envs[key.String()] = env
	return env
}

func typeOfTree(n *Node) *cel.Type {
	switch n.Kind {
	case Expression:
		if n.Program != nil {
			return n.Program.Type
		}
	case Sequence:
		return cel.ListType(common(n.Items))
	case Mapping:
		var values []*Node
		for _, e := range n.Entries {
			values = append(values, e.Value)
		}
		return cel.MapType(cel.StringType, common(values))
	case Scalar:
		switch coreScalar(n).(type) {
		case string:
			return cel.StringType
		case int64:
			return cel.IntType
		case float64:
			return cel.DoubleType
		case bool:
			return cel.BoolType
		}
	}
	return cel.DynType
}

// common is the type that all values of a list or mapping share, else any.
func common(list []*Node) *cel.Type {
	if len(list) == 0 {
		return cel.DynType
	}
	first := typeOfTree(list[0])
	for _, n := range list[1:] {
		if !typeOfTree(n).IsExactType(first) {
			return cel.DynType
		}
	}
	return first
}
