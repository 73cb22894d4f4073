package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// mutant is one fault: other text in the place of some.
type mutant struct {
	part       *part
	file       string
	line       int
	begin, end int // bytes of the file
	with, what string
	// after stands behind what stays, where what was there stays between with and it.
	after string
	stays bool
}

// in gives a source with the fault in it.
func (m mutant) in(source string) string {
	between := ""
	if m.stays {
		between = source[m.begin:m.end]
	}
	return source[:m.begin] + m.with + between + m.after + source[m.end:]
}

// instead is what stands in the place of an operator.
var instead = map[token.Token]string{
	token.EQL:  "!=",
	token.NEQ:  "==",
	token.LSS:  ">=",
	token.LEQ:  ">",
	token.GTR:  "<=",
	token.GEQ:  "<",
	token.LAND: "||",
	token.LOR:  "&&",
}

// mutantsOf lists every fault that there can be in a part, in the order of its files.
func mutantsOf(p part) (out []mutant, err error) {
	for _, pattern := range p.files {
		glob, functions, _ := strings.Cut(pattern, ":")
		files, err := filepath.Glob(glob)
		if err != nil || len(files) == 0 {
			return nil, fmt.Errorf("%s matches nothing: %w", glob, err)
		}
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			of, err := mutantsIn(file, functions)
			if err != nil {
				return nil, err
			}
			out = append(out, of...)
		}
	}
	return out, nil
}

func mutantsIn(file, functions string) (out []mutant, err error) {
	fset := token.NewFileSet()
	tree, err := parser.ParseFile(fset, file, nil, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	put := func(n ast.Node, what, with string, args ...any) {
		at := fset.Position(n.Pos())
		out = append(out, mutant{
			file:  file,
			line:  at.Line,
			begin: at.Offset,
			end:   fset.Position(n.End()).Offset,
			with:  fmt.Sprintf(with, args...),
			what:  what,
		})
	}
	around := func(n ast.Node, before, after, what string) {
		at := fset.Position(n.Pos())
		out = append(out, mutant{
			file:  file,
			line:  at.Line,
			begin: at.Offset,
			end:   fset.Position(n.End()).Offset,
			with:  before,
			after: after,
			stays: true,
			what:  what,
		})
	}
	for _, d := range tree.Decls {
		f, is := d.(*ast.FuncDecl)
		if !is || f.Body == nil || functions != "" && !slices.Contains(strings.Split(functions, ","), f.Name.Name) {
			continue
		}
		ast.Inspect(f.Body, func(n ast.Node) bool {
			switch e := n.(type) {
			case *ast.BinaryExpr:
				if other := instead[e.Op]; other != "" {
					at := fset.Position(e.OpPos)
					out = append(out, mutant{
						file:  file,
						line:  at.Line,
						begin: at.Offset,
						end:   at.Offset + len(e.Op.String()),
						with:  other,
						what:  e.Op.String() + " becomes " + other,
					})
				}
			case *ast.UnaryExpr:
				if e.Op == token.NOT {
					at := fset.Position(e.Pos())
					out = append(out, mutant{
						file:  file,
						line:  at.Line,
						begin: at.Offset,
						end:   at.Offset + 1,
						what:  "! goes",
					})
				}
			case *ast.Ident:
				if e.Name == "true" || e.Name == "false" {
					put(e, e.Name+" turns", "%t", e.Name == "false")
				}
			case *ast.BasicLit:
				if v, err := strconv.Atoi(e.Value); e.Kind == token.INT && err == nil {
					put(e, e.Value+" is one more", "%d", v+1)
				}
			case *ast.IfStmt:
				around(e.Cond, "false && (", ")", "the condition never holds")
				around(e.Cond, "true || (", ")", "the condition always holds")
			case *ast.CaseClause:
				for _, x := range e.List {
					if _, is := x.(*ast.BinaryExpr); is {
						around(x, "false && (", ")", "the case never holds")
					}
				}
			case *ast.ReturnStmt:
				if len(e.Results) == 0 {
					break
				}
				if last, is := e.Results[len(e.Results)-1].(*ast.Ident); is && last.Name == "err" {
					put(last, "the error is dropped", "nil")
				}
			case *ast.ExprStmt:
				put(e, "the call is left out", "{}")
			case *ast.AssignStmt:
				if e.Tok != token.DEFINE {
					put(e, "nothing is assigned", "{}")
				}
			}
			return true
		})
	}
	return out, nil
}
