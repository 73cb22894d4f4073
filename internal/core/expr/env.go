package expr

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/env"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"
	"github.com/jellydator/ttlcache/v3"

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
// type used by Vars, its fields; Files the texts that file(...) gives.
type Scope struct {
	Vars    map[string]*cel.Type
	Structs map[string]map[string]*cel.Type
	// Local names the structs that only this template has.
	Local     []string
	Functions []*Function
	Files     map[string]string
}

// With returns a copy of the scope with one more variable.
func (s Scope) With(name string, t *cel.Type) Scope {
	vars := maps.Clone(s.Vars)
	vars[name] = t
	s.Vars = vars
	return s
}

// Env checks expressions against one scope. It is safe for concurrent use.
type Env struct {
	scope Scope
	build func() (*cel.Env, error) // on first need: an expression seen before needs none
}

// base holds what every scope shares: the standard library, the extensions and
// our functions. Building it is the expensive part, so it is built once.
var base = sync.OnceValues(func() (*cel.Env, error) {
	opts := []cel.EnvOption{
		cel.StdLib(cel.StdLibSubset(&env.LibrarySubset{ExcludeFunctions: []*env.Function{{Name: "_*_"}}})),
		cel.OptionalTypes(),
		cel.ParserExpressionSizeLimit(maxLength),
		cel.ParserRecursionLimit(maxDepth),
		ext.Strings(), ext.Lists(), ext.Sets(), ext.Math(), ext.Regex(), ext.Network(), ext.Encoders(),
		ext.TwoVarComprehensions(),
	}
	return cel.NewCustomEnv(append(opts, functions()...)...)
})

// NewEnv gives the environment of a scope.
func NewEnv(scope Scope) *Env {
	e := &Env{scope: scope}
	e.build = sync.OnceValues(e.extend)
	return e
}

func (e *Env) extend() (*cel.Env, error) {
	shared, err := base()
	if err != nil {
		return nil, fmt.Errorf("build expression environment: %w", err)
	}
	opts := []cel.EnvOption{
		cel.CustomTypeProvider(&provider{structs: e.scope.Structs, base: shared.CELTypeProvider()}),
		cel.CustomTypeAdapter(adapter{}),
		fileMacro(e.scope.Files),
	}
	for _, name := range slices.Sorted(maps.Keys(e.scope.Vars)) {
		opts = append(opts, cel.Variable(name, e.scope.Vars[name]))
	}
	for _, f := range e.scope.Functions {
		opts = append(opts, f.options()...)
	}
	env, err := shared.Extend(opts...)
	if err != nil {
		return nil, fmt.Errorf("build expression environment: %w", err)
	}
	return env, nil
}

// Program is a checked expression. It is immutable and safe for concurrent use.
type Program struct {
	Text string
	Type *cel.Type
	// Uses lists what the expression mentions, in order of first mention.
	Uses []Use
	// Branches says that a pending value may hide others: what it waits for is
	// not all that it may read.
	Branches bool
	// Calls names the functions that it calls, in the order of their first call.
	Calls   []string
	program cel.Program
}

// Use is a variable that an expression mentions, with the fields read from it
// or, through an index or a loop, from its members. An output of an embedded
// template is the field outputs.NAME. Asked are the fields of which only
// has_value is asked.
type Use struct {
	Name   string
	Fields []string
	Asked  []string
}

// Problem is one fault of an expression. Line counts from 1 and Column from 0,
// both within the text.
type Problem struct {
	Line, Column int
	Message      string
	Remedy       string
	// Early says that the text ends in the middle of the expression.
	Early bool
	// Name is set when nothing has it.
	Name string
}

// Check parses and type-checks an expression. All problems are reported. An
// expression that was checked before among names of the same types is not
// checked again.
func (e *Env) Check(text string) (*Program, []Problem) {
	key := e.key(text)
	if known := checked.Get(key); known != nil {
		return known.Value(), nil
	}
	p, problems := e.check(text)
	if problems == nil {
		checked.Set(key, p, ttlcache.NoTTL)
	}
	return p, problems
}

func (e *Env) check(text string) (*Program, []Problem) {
	env, err := e.build()
	if err != nil {
		return nil, []Problem{{Line: 1, Message: plain(err.Error())}}
	}
	parsed, issues := env.Parse(text)
	if issues.Err() == nil {
		if n := countNodes(parsed.NativeRep().Expr()); n > maxNodes {
			return nil, []Problem{{
				Line: 1,
				Message: fmt.Sprintf("the expression is too large: with its functions written out it has %d parts, "+
					"and at most %d are allowed", n, maxNodes),
				Remedy: "compute parts of it under `calc`",
			}}
		}
		parsed, issues = env.Check(parsed)
	}
	if issues.Err() != nil {
		var problems []Problem
		for _, err := range issues.Errors() {
			problems = append(problems, e.explain(text, err.Location.Line(), err.Location.Column(), err.Message))
		}
		return nil, problems
	}
	program, err := env.Program(parsed, cel.CostLimit(maxCost), cel.InterruptCheckFrequency(1000),
		cel.CustomDecoratorV2(orderedLoops(parsed.NativeRep())))
	if err != nil {
		return nil, []Problem{{Line: 1, Message: plain(err.Error())}}
	}
	return &Program{
		Text:     text,
		Type:     parsed.OutputType(),
		Uses:     uses(parsed.NativeRep()),
		Branches: branches(parsed.NativeRep()),
		Calls:    calls(parsed.NativeRep()),
		program:  program,
	}, nil
}

// branches reports whether an expression may leave parts of itself out.
func branches(a *ast.AST) bool {
	found := false
	ast.PreOrderVisit(a.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() == ast.CallKind {
			switch e.AsCall().FunctionName() {
			case "_?_:_", "_&&_", "_||_", "or", "orValue", "has_value":
				found = true
			}
		}
	}))
	return found
}

// calls lists the functions that an expression calls, operators left out.
func calls(a *ast.AST) []string {
	var out []string
	ast.PreOrderVisit(a.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind {
			return
		}
		if name := e.AsCall().FunctionName(); !strings.ContainsAny(name, "_@!") && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}))
	return out
}

// Eval computes the expression. The result is a tree of string, int64, float64,
// bool, nil, []any and map[string]any with [resource.Unresolved] leaves, or
// [Absent] for an optional without a value.
func (p *Program) Eval(vars *Vars) (any, error) {
	out, _, err := p.program.Eval(vars)
	if err != nil {
		return nil, fmt.Errorf("%s", plain(err.Error()))
	}
	return fromVal(out)
}

// EvalWithin is Eval for whoever may give up: it ends with the context, and tells what it
// cost in units of the language.
func (p *Program) EvalWithin(ctx context.Context, vars *Vars) (v any, cost int64, err error) {
	var out ref.Val
	var details *cel.EvalDetails
	if ctx.Done() == nil {
		out, details, err = p.program.Eval(vars)
	} else {
		out, details, err = p.program.ContextEval(ctx, vars)
	}
	if details != nil && details.ActualCost() != nil {
		cost = int64(min(*details.ActualCost(), maxCost))
	}
	if err != nil {
		return nil, cost + 1, fmt.Errorf("%s", plain(err.Error()))
	}
	v, err = fromVal(out)
	return v, cost + 1, err
}

// Mentions lists the variables that a text mentions, without checking types.
// It is empty when the text does not parse.
func Mentions(text string) []Use {
	if known := mentioned.Get(text); known != nil {
		return known.Value()
	}
	var found []Use
	if parsed, issues := parseOnly.Parse(text); issues.Err() == nil {
		found = uses(parsed.NativeRep())
	}
	mentioned.Set(text, found, ttlcache.NoTTL)
	return found
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
	found := map[string]*Use{}
	var order []*Use
	asking := false
	note := func(name, field string) {
		u := found[name]
		if u == nil {
			u = &Use{Name: name}
			found[name] = u
			order = append(order, u)
		}
		list := &u.Fields
		if asking {
			list = &u.Asked
		}
		if field != "" && !slices.Contains(*list, field) {
			*list = append(*list, field)
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
			name := e.AsSelect().FieldName()
			if name == "outputs" && field != "" {
				name += "." + field
			}
			walk(e.AsSelect().Operand(), bound, name)
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
			case "has_value":
				before := asking
				asking = true
				walk(args[0], bound, field)
				asking = before
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
			inner[c.AccuVar()] = rootsOf(c.AccuInit(), bound)
			walk(c.AccuInit(), inner, "")
			walk(c.LoopCondition(), inner, "")
			walk(c.LoopStep(), inner, "")
			walk(c.Result(), inner, "")
		}
	}
	walk(a.Expr(), map[string][]string{}, "")
	out := make([]Use, len(order))
	for i, u := range order {
		out[i] = *u
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
	case resource.Data:
		return t.Kind() == types.StringKind || t.TypeName() == AmountType.TypeName()
	case resource.Span:
		return t.Kind() == types.StringKind || t.TypeName() == SpanType.TypeName()
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
	case resource.Data:
		return AmountType
	case resource.Span:
		return SpanType
	}
	return cel.StringType
}

var _ types.Adapter = adapter{}
