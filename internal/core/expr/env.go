package expr

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/ext"

	"undersail/internal/core/resource"
)

// Limits on one expression. They bound time and memory of a template that
// somebody else wrote; no sensible expression comes near them.
const (
	maxLength = 8 << 10
	maxDepth  = 60
	maxCost   = 2_000_000
)

// Scope says which names an expression may use. Structs gives, for each struct
// type used by Vars, its fields.
type Scope struct {
	Vars    map[string]*cel.Type
	Structs map[string]map[string]*cel.Type
}

// With returns a copy of the scope with one more variable.
func (s Scope) With(name string, t *cel.Type) Scope {
	vars := maps.Clone(s.Vars)
	vars[name] = t
	return Scope{Vars: vars, Structs: s.Structs}
}

// Env checks expressions against one scope. It is safe for concurrent use.
type Env struct {
	scope Scope
	env   *cel.Env
}

// base holds what every scope shares: the standard library, the extensions and
// our functions. Building it is the expensive part, so it is built once.
var base = sync.OnceValues(func() (*cel.Env, error) {
	opts := []cel.EnvOption{
		cel.StdLib(),
		cel.OptionalTypes(),
		cel.ParserExpressionSizeLimit(maxLength),
		cel.ParserRecursionLimit(maxDepth),
		ext.Strings(), ext.Lists(), ext.Sets(), ext.Math(), ext.Encoders(), ext.TwoVarComprehensions(),
	}
	return cel.NewCustomEnv(append(opts, functions()...)...)
})

// NewEnv builds the environment of a scope.
func NewEnv(scope Scope) (*Env, error) {
	shared, err := base()
	if err != nil {
		return nil, fmt.Errorf("build expression environment: %w", err)
	}
	opts := []cel.EnvOption{
		cel.CustomTypeProvider(&provider{structs: scope.Structs, base: shared.CELTypeProvider()}),
		cel.CustomTypeAdapter(adapter{}),
	}
	for _, name := range slices.Sorted(maps.Keys(scope.Vars)) {
		opts = append(opts, cel.Variable(name, scope.Vars[name]))
	}
	env, err := shared.Extend(opts...)
	if err != nil {
		return nil, fmt.Errorf("build expression environment: %w", err)
	}
	return &Env{scope: scope, env: env}, nil
}

// Program is a checked expression. It is immutable and safe for concurrent use.
type Program struct {
	Text string
	Type *cel.Type
	// Uses lists what the expression mentions, in order of first mention.
	Uses    []Use
	program cel.Program
}

// Use is a variable that an expression mentions, with the fields read from it
// or, through an index or a loop, from its members.
type Use struct {
	Name   string
	Fields []string
}

// Problem is one fault of an expression. Line counts from 1 and Column from 0,
// both within the text.
type Problem struct {
	Line, Column int
	Message      string
	Remedy       string
}

// Check parses and type-checks an expression. All problems are reported.
func (e *Env) Check(text string) (*Program, []Problem) {
	checked, issues := e.env.Compile(text)
	if issues != nil && issues.Err() != nil {
		var problems []Problem
		for _, err := range issues.Errors() {
			problems = append(problems, e.explain(text, err.Location.Line(), err.Location.Column(), err.Message))
		}
		return nil, problems
	}
	program, err := e.env.Program(checked, cel.CostLimit(maxCost), cel.InterruptCheckFrequency(1000))
	if err != nil {
		return nil, []Problem{{Line: 1, Message: plain(err.Error())}}
	}
	return &Program{Text: text, Type: checked.OutputType(), Uses: uses(checked.NativeRep()), program: program}, nil
}

// Eval computes the expression. The result is a tree of string, int64, float64,
// bool, nil, []any and map[string]any with [resource.Unresolved] leaves, or
// [Absent] for an optional without a value.
func (p *Program) Eval(vars map[string]any) (any, error) {
	out, _, err := p.program.Eval(vars)
	if err != nil {
		return nil, fmt.Errorf("%s", plain(err.Error()))
	}
	return fromVal(out)
}

// Mentions lists the variables that a text mentions, without checking types.
// It is empty when the text does not parse.
func Mentions(text string) []Use {
	parsed, issues := parseOnly.Parse(text)
	if issues != nil && issues.Err() != nil {
		return nil
	}
	return uses(parsed.NativeRep())
}

var parseOnly = func() *cel.Env {
	env, err := cel.NewCustomEnv(cel.OptionalTypes(), cel.Macros(cel.StandardMacros...),
		cel.ParserExpressionSizeLimit(maxLength), cel.ParserRecursionLimit(maxDepth), ext.TwoVarComprehensions())
	if err != nil {
		panic(err)
	}
	return env
}()

// uses collects mentioned variables. A field belongs to the variable at the
// root of its chain; a field read from a loop variable belongs to every
// variable that the loop runs over, since which one cannot be told.
func uses(a *ast.AST) []Use {
	fields := map[string][]string{}
	var order []string
	note := func(name, field string) {
		if _, seen := fields[name]; !seen {
			order = append(order, name)
			fields[name] = nil
		}
		if field != "" && !slices.Contains(fields[name], field) {
			fields[name] = append(fields[name], field)
		}
	}
	var walk func(e ast.Expr, bound map[string][]string, field string)
	walk = func(e ast.Expr, bound map[string][]string, field string) {
		switch e.Kind() {
		case ast.IdentKind:
			name := strings.TrimPrefix(e.AsIdent(), ".")
			if over, isLoop := bound[name]; isLoop {
				for _, root := range over {
					note(root, field)
				}
				return
			}
			note(name, field)
		case ast.SelectKind:
			walk(e.AsSelect().Operand(), bound, e.AsSelect().FieldName())
		case ast.CallKind:
			call := e.AsCall()
			args := call.Args()
			switch call.FunctionName() {
			case "_[_]", "_[?_]":
				walk(args[0], bound, field)
				walk(args[1], bound, "")
				return
			case "_?._":
				walk(args[0], bound, fmt.Sprint(args[1].AsLiteral().Value()))
				return
			}
			if call.IsMemberFunction() {
				walk(call.Target(), bound, field)
			}
			for _, arg := range args {
				walk(arg, bound, "")
			}
		case ast.ListKind:
			for _, el := range e.AsList().Elements() {
				walk(el, bound, "")
			}
		case ast.MapKind:
			for _, en := range e.AsMap().Entries() {
				walk(en.AsMapEntry().Key(), bound, "")
				walk(en.AsMapEntry().Value(), bound, "")
			}
		case ast.StructKind:
			for _, f := range e.AsStruct().Fields() {
				walk(f.AsStructField().Value(), bound, "")
			}
		case ast.ComprehensionKind:
			c := e.AsComprehension()
			walk(c.IterRange(), bound, "")
			roots := rootsOf(c.IterRange(), bound)
			inner := maps.Clone(bound)
			inner[c.IterVar()] = roots
			if c.IterVar2() != "" {
				inner[c.IterVar2()] = roots
			}
			inner[c.AccuVar()] = nil
			walk(c.AccuInit(), inner, "")
			walk(c.LoopCondition(), inner, "")
			walk(c.LoopStep(), inner, "")
			walk(c.Result(), inner, "")
		}
	}
	walk(a.Expr(), map[string][]string{}, "")
	out := make([]Use, len(order))
	for i, name := range order {
		out[i] = Use{Name: name, Fields: fields[name]}
	}
	return out
}

func rootsOf(e ast.Expr, bound map[string][]string) []string {
	var roots []string
	ast.PreOrderVisit(e, ast.NewExprVisitor(func(n ast.Expr) {
		if n.Kind() != ast.IdentKind {
			return
		}
		if over, isLoop := bound[n.AsIdent()]; isLoop {
			roots = append(roots, over...)
		} else if !strings.HasPrefix(n.AsIdent(), "@") {
			roots = append(roots, n.AsIdent())
		}
	}))
	return roots
}

// Assignable reports whether a value of the checked type may be given where
// the shape is wanted. An optional may be given where its content may.
func Assignable(t *cel.Type, s resource.Shape) bool {
	if t.Kind() == types.DynKind || t.Kind() == types.AnyKind || s.Kind == resource.Open {
		return true
	}
	if IsOptional(t) {
		return Assignable(t.Parameters()[0], s)
	}
	switch s.Kind {
	case resource.Integer:
		return t.Kind() == types.IntKind
	case resource.Number:
		return t.Kind() == types.IntKind || t.Kind() == types.DoubleKind
	case resource.Boolean:
		return t.Kind() == types.BoolKind
	case resource.List:
		return t.Kind() == types.ListKind && Assignable(t.Parameters()[0], *s.Items)
	case resource.Map:
		return t.Kind() == types.MapKind && Assignable(t.Parameters()[1], *s.Items)
	case resource.Object:
		return t.Kind() == types.StructKind && t.TypeName() == s.TypeName || t.Kind() == types.MapKind
	}
	return t.Kind() == types.StringKind
}

// IsOptional reports whether a type is an optional of something.
func IsOptional(t *cel.Type) bool {
	return t.Kind() == types.OpaqueKind && t.TypeName() == "optional_type"
}

// TypeOf gives the expression type of a shape.
func TypeOf(s resource.Shape) *cel.Type {
	switch s.Kind {
	case resource.Integer:
		return cel.IntType
	case resource.Number:
		return cel.DoubleType
	case resource.Boolean:
		return cel.BoolType
	case resource.List:
		return cel.ListType(TypeOf(*s.Items))
	case resource.Map:
		return cel.MapType(cel.StringType, TypeOf(*s.Items))
	case resource.Object:
		return cel.ObjectType(s.TypeName)
	case resource.Open:
		return cel.DynType
	}
	return cel.StringType
}

var _ types.Adapter = adapter{}
