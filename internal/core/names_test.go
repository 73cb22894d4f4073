package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"undersail/internal/core/resource"
)

// TestNobodyComparesTheBareNameOfAType: whoever asks what type something is names the constant of
// package resource, so that it is found from there.
func TestNobodyComparesTheBareNameOfAType(t *testing.T) {
	t.Parallel()
	compared := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.HasPrefix(path, "../core/resource") {
			return err
		}
		fset := token.NewFileSet()
		f, err := parser.ParseFile(fset, path, nil, 0)
		if err != nil {
			return err
		}
		for _, e := range comparedWithTypes(f) {
			compared++
			if l, bare := e.(*ast.BasicLit); bare {
				if name, err := strconv.Unquote(l.Value); err == nil && slices.Contains(resource.TypeNames(), name) {
					t.Errorf("%s: compare with the constant of package resource, not with %s", fset.Position(l.Pos()),
						l.Value)
				}
			}
		}
		return nil
	})
	if err != nil || compared < 50 {
		t.Errorf("%d comparisons were looked at: %v", compared, err)
	}
}

// comparedWithTypes are what the type of something is compared with, or looked for by.
func comparedWithTypes(f *ast.File) (out []ast.Expr) {
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BinaryExpr:
			if n.Op == token.EQL || n.Op == token.NEQ {
				if tellsType(n.X) {
					out = append(out, n.Y)
				}
				if tellsType(n.Y) {
					out = append(out, n.X)
				}
			}
		case *ast.SwitchStmt:
			if n.Tag == nil || !tellsType(n.Tag) {
				return true
			}
			for _, s := range n.Body.List {
				out = append(out, s.(*ast.CaseClause).List...)
			}
		case *ast.KeyValueExpr:
			if k, ok := n.Key.(*ast.Ident); ok && (k.Name == "Type" || k.Name == "Refers") {
				out = append(out, n.Value)
			}
		case *ast.CallExpr:
			if s, ok := n.Fun.(*ast.SelectorExpr); ok && s.Sel.Name == "ByName" {
				out = append(out, n.Args...)
			}
		}
		return true
	})
	return out
}

// tellsType reports whether an expression is the type of something.
func tellsType(e ast.Expr) bool {
	s, ok := e.(*ast.SelectorExpr)
	if !ok {
		return false
	}
	if s.Sel.Name == "Type" || s.Sel.Name == "Refers" {
		return true
	}
	of, ok := s.X.(*ast.SelectorExpr)
	return ok && s.Sel.Name == "Name" && of.Sel.Name == "Type"
}

// TestNobodyElseNamesACloud: what is to be known of a cloud its adapter tells. The demo alone
// names the cloud that it starts.
func TestNobodyElseNamesACloud(t *testing.T) {
	t.Parallel()
	folders, err := os.ReadDir("../cloud")
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, f := range folders {
		if f.IsDir() && f.Name() != "registry" && !strings.HasSuffix(f.Name(), "test") {
			names = append(names, f.Name())
		}
	}
	if len(names) < 2 {
		t.Fatalf("the adapters are %v", names)
	}
	read := 0
	see := func(root string, own func(path string) bool, suffixes ...string) {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || own(path) ||
				!slices.ContainsFunc(suffixes, func(s string) bool { return strings.HasSuffix(path, s) }) {
				return err
			}
			text, err := os.ReadFile(path)
			read++
			for _, name := range names {
				if strings.Contains(string(text), `"`+name+`"`) || strings.Contains(string(text), "'"+name+"'") {
					t.Errorf("%s names the cloud %s: let its adapter tell what is meant", path, name)
				}
			}
			return err
		})
		if err != nil {
			t.Error(err)
		}
	}
	see("..", func(path string) bool {
		return strings.HasPrefix(path, "../cloud/") || strings.HasPrefix(path, "../demo/") ||
			strings.HasSuffix(path, "_test.go") || strings.HasSuffix(filepath.Base(filepath.Dir(path)), "test")
	}, ".go")
	see("../../console/src", func(path string) bool { return strings.Contains(path, ".gen.") }, ".ts", ".tsx")
	if read < 300 {
		t.Errorf("only %d files were read", read)
	}
}
