package access

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// program reads every file of the program that is no test.
func program(t *testing.T, visit func(path string, fset *token.FileSet, file *ast.File)) {
	t.Helper()
	files := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
			strings.HasSuffix(path, ".gen.go") {
			return err
		}
		fset := token.NewFileSet()
		file, err := parser.ParseFile(fset, path, nil, parser.SkipObjectResolution)
		if err == nil {
			files++
			visit(filepath.ToSlash(strings.TrimPrefix(path, "../")), fset, file)
		}
		return err
	})
	if err != nil || files < 200 {
		t.Fatal(files, err)
	}
}

// persons are fields that hold the name of somebody.
var persons = []string{"GivenBy", "CreatedBy", "DecidedBy", "StartedBy", "MadeBy", "MovingBy", "UserName", "Owner",
	"Giver", "Person", "Who", "EndedBy"}

// TestANameIsComparedHereAlone: who somebody is called decides nothing anywhere else, so that
// whatever is asked is asked of the rights of this moment.
func TestANameIsComparedHereAlone(t *testing.T) {
	t.Parallel()
	person := func(e ast.Expr) bool {
		s, is := e.(*ast.SelectorExpr)
		if !is {
			return false
		}
		of, isName := s.X.(*ast.Ident)
		return slices.Contains(persons, s.Sel.Name) ||
			s.Sel.Name == "Name" && isName &&
				(of.Name == "u" || of.Name == "user" || of.Name == "giver" || of.Name == "author")
	}
	empty := func(e ast.Expr) bool {
		l, is := e.(*ast.BasicLit)
		return is && (l.Value == `""` || l.Value == `"*"`)
	}
	program(t, func(path string, fset *token.FileSet, file *ast.File) {
		if strings.HasPrefix(path, "access/") || strings.HasPrefix(path, "core/") || strings.HasPrefix(path, "cloud/") {
			return
		}
		ast.Inspect(file, func(n ast.Node) bool {
			switch e := n.(type) {
			case *ast.BinaryExpr:
				if (e.Op == token.EQL || e.Op == token.NEQ) &&
					(person(e.X) && !empty(e.Y) || person(e.Y) && !empty(e.X)) {
					t.Errorf("%s compares the name of a person: ask the actor", fset.Position(e.Pos()))
				}
			case *ast.SwitchStmt:
				if e.Tag != nil && person(e.Tag) {
					t.Errorf("%s switches on the name of a person: ask the actor", fset.Position(e.Pos()))
				}
			}
			return true
		})
	})
}

// TestTheBoxIsOpenedByOnePackage: nothing else has what seals and opens.
func TestTheBoxIsOpenedByOnePackage(t *testing.T) {
	t.Parallel()
	program(t, func(path string, fset *token.FileSet, file *ast.File) {
		for _, i := range file.Imports {
			if strings.Contains(i.Path.Value, "filippo.io/age") && !strings.HasPrefix(path, "sealed/") {
				t.Errorf("%s imports the sealing box", path)
			}
		}
		if strings.HasPrefix(path, "sealed/") {
			return
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if l, is := n.(*ast.CompositeLit); is {
				s, is := l.Type.(*ast.SelectorExpr)
				if is && (s.Sel.Name == "Permit" || s.Sel.Name == "Agreement") && len(l.Elts) > 0 {
					if x, is := s.X.(*ast.Ident); is && x.Name == "sealed" {
						t.Errorf("%s makes a permit by itself", fset.Position(l.Pos()))
					}
				}
			}
			return true
		})
	})
}

// TestAnActorComesFromAuthenticationOrAnAgreement: nothing else says who acts.
func TestAnActorComesFromAuthenticationOrAnAgreement(t *testing.T) {
	t.Parallel()
	program(t, func(path string, fset *token.FileSet, file *ast.File) {
		if strings.HasPrefix(path, "access/") || strings.HasPrefix(path, "people/") ||
			strings.HasPrefix(path, "service/servicetest/") {
			return
		}
		ast.Inspect(file, func(n ast.Node) bool {
			l, is := n.(*ast.CompositeLit)
			if !is || len(l.Elts) == 0 {
				return true
			}
			s, is := l.Type.(*ast.SelectorExpr)
			if is && (s.Sel.Name == "Actor" || s.Sel.Name == "User" && isNamed(s.X, "people")) {
				t.Errorf("%s says who acts", fset.Position(l.Pos()))
			}
			return true
		})
	})
}

func isNamed(e ast.Expr, name string) bool {
	i, is := e.(*ast.Ident)
	return is && i.Name == name
}
