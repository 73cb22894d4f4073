package expr

import (
	"fmt"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"undersail/internal/core/resource"
)

// Parameter is one typed parameter of a function.
type Parameter struct {
	Name  string
	Shape resource.Shape
}

// Function is a function that a template defines. A call is written out where
// it stands when an expression is parsed, so that cost, order and secrecy of a
// call are those of its body. A function can call only those before it, so
// none can call itself.
type Function struct {
	Name       string
	Parameters []Parameter
	Body       string
	Type       *cel.Type // of the result
	body       ast.Expr
	nodes      int
}

// maxNodes bounds an expression after its function calls were written out.
const (
	maxNodes     = 20_000
	maxBodyNodes = 300
)

// NewFunction checks a body, in which only the parameters, the functions before
// it and typed literals are in scope.
func NewFunction(name string, parameters []Parameter, body string, before []*Function,
	literals map[string]map[string]*cel.Type) (*Function, []Problem) {
	vars := map[string]*cel.Type{}
	for _, p := range parameters {
		vars[p.Name] = TypeOf(p.Shape)
	}
	env := NewEnv(Scope{Vars: vars, Functions: before, Structs: literals})
	program, problems := env.Check(body)
	if problems != nil {
		return nil, problems
	}
	checker, err := env.build()
	if err != nil {
		return nil, []Problem{{Line: 1, Message: err.Error()}}
	}
	parsed, issues := checker.Parse(body)
	if issues.Err() != nil {
		return nil, []Problem{{Line: 1, Message: plain(issues.Err().Error())}}
	}
	f := &Function{Name: name, Parameters: parameters, Body: body, Type: program.Type, body: parsed.NativeRep().Expr()}
	factory := ast.NewExprFactory()
	ast.PreOrderVisit(f.body, ast.NewExprVisitor(func(e ast.Expr) {
		f.nodes++
		if e.Kind() == ast.IdentKind && vars[e.AsIdent()] != nil {
			e.SetKindCase(factory.NewIdent(e.ID(), f.hidden(e.AsIdent())))
		}
	}))
	if f.nodes > maxBodyNodes {
		return nil, []Problem{{
			Line: 1,
			Message: fmt.Sprintf("the function is too large: written out it has %d parts, and at most %d are allowed",
				f.nodes, maxBodyNodes),
			Remedy: "split what it computes over several values of `calc`",
		}}
	}
	return f, nil
}

// hidden is the name of a parameter inside the written-out body; no expression
// can write it, so an argument never meets a parameter of the same name.
func (f *Function) hidden(parameter string) string { return "@" + f.Name + "_" + parameter }

// guard is the name of the hidden function that checks an argument's type.
func (f *Function) guard(parameter string) string { return "@" + f.Name + "." + parameter }

// Form shows how the function is called.
func (f *Function) Form() string {
	var names []string
	for _, p := range f.Parameters {
		names = append(names, p.Name)
	}
	return f.Name + "(" + strings.Join(names, ", ") + ")"
}

func (f *Function) options() []cel.EnvOption {
	opts := []cel.EnvOption{cel.Macros(cel.GlobalMacro(f.Name, len(f.Parameters), f.expand))}
	for _, p := range f.Parameters {
		t := TypeOf(p.Shape)
		opts = append(opts, cel.Function(f.guard(p.Name), cel.Overload(f.guard(p.Name), []*cel.Type{t}, t,
			cel.UnaryBinding(func(v ref.Val) ref.Val { return v }))))
	}
	return opts
}

// expand binds each argument to its parameter around a copy of the body.
func (f *Function) expand(eh cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	out := eh.Copy(f.body)
	for i := len(args) - 1; i >= 0; i-- {
		p := f.Parameters[i]
		out = eh.NewComprehension(eh.NewList(), "#unused", f.hidden(p.Name), eh.NewCall(f.guard(p.Name), args[i]),
			eh.NewLiteral(types.False), eh.NewIdent(f.hidden(p.Name)), out)
	}
	return out, nil
}

// countNodes tells how large an expression is.
func countNodes(e ast.Expr) int {
	n := 0
	ast.PreOrderVisit(e, ast.NewExprVisitor(func(ast.Expr) { n++ }))
	return n
}

// fileMacro writes the text of a file that lies beside the template in the
// place of file("name").
func fileMacro(files map[string]string) cel.EnvOption {
	return cel.Macros(cel.GlobalMacro("file", 1,
		func(eh cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
			name, ok := args[0].AsLiteral().(types.String)
			if args[0].Kind() != ast.LiteralKind || !ok {
				return nil, eh.NewError(args[0].ID(),
					"file(...) takes the name of a file in quotes, not a computed one")
			}
			text, ok := files[string(name)]
			if !ok {
				return nil, eh.NewError(args[0].ID(),
					fmt.Sprintf("there is no file %q beside the template", string(name)))
			}
			return eh.NewLiteral(types.String(text)), nil
		}))
}

// FilesOf lists the names that a text reads with file(...).
func FilesOf(text string) []string {
	if !strings.Contains(text, "file(") {
		return nil
	}
	var names []string
	env, err := parseOnly.Extend(cel.Macros(cel.GlobalMacro("file", 1,
		func(eh cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
			if args[0].Kind() == ast.LiteralKind {
				if name, ok := args[0].AsLiteral().(types.String); ok {
					names = append(names, string(name))
				}
			}
			return eh.NewLiteral(types.String("")), nil
		})))
	if err == nil {
		env.Parse(text)
	}
	return names
}
