package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// rooms are the packages whose files stand one above the other, in the order that the package's
// comment tells after "From the ground up:".
var rooms = []string{"request", "audit", "accounts", "templates", "stacks", "secrets", "proposing"}

// TestFilesStandOneAboveTheOther counts the arrows from a file of a room to a file above it:
// whoever reads a room from its ground up meets nothing that is told later.
func TestFilesStandOneAboveTheOther(t *testing.T) {
	t.Parallel()
	for _, room := range rooms {
		order, arrows := readRoom(t, filepath.Join("..", room))
		for _, a := range arrows {
			from, to := slices.Index(order, a.from), slices.Index(order, a.to)
			if from < 0 {
				t.Errorf("%s: the comment of the package does not say where %s stands", room, a.from)
			} else if to > from {
				t.Errorf("%s: %s (%s) names %s of %s, which stands above it", room, a.from, a.in, a.name, a.to)
			}
		}
	}
}

type arrow struct{ from, in, to, name string }

var groundUp = regexp.MustCompile(`(?s)From the ground up:(.*?)\.\n`)

// readRoom gives the order that a package's comment tells, and who names whom.
func readRoom(t *testing.T, dir string) (order []string, arrows []arrow) {
	t.Helper()
	fset := token.NewFileSet()
	names, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil || len(names) == 0 {
		t.Fatalf("%s: %v", dir, err)
	}
	var files []*ast.File
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(fset, name, nil, parser.ParseComments)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, f)
		if said := groundUp.FindStringSubmatch(f.Doc.Text() + "\n"); said != nil {
			for _, word := range strings.FieldsFunc(said[1],
				func(r rune) bool { return r == ',' || r == ' ' || r == '\n' || r == ';' }) {
				order = append(order, word+".go")
			}
		}
	}
	info := &types.Info{Uses: map[*ast.Ident]types.Object{}}
	// What other packages have is of no interest: they are empty here, and what is wrong by it
	// does not count.
	c := types.Config{Importer: nothing{}, Error: func(error) {}}
	pkg, _ := c.Check(dir, fset, files, info)
	file := func(p token.Pos) string { return filepath.Base(fset.Position(p).Filename) }
	for _, f := range files {
		for _, d := range f.Decls {
			in := "a declaration"
			if fn, ok := d.(*ast.FuncDecl); ok {
				in = fn.Name.Name
			}
			ast.Inspect(d, func(n ast.Node) bool {
				id, ok := n.(*ast.Ident)
				if !ok {
					return true
				}
				o := info.Uses[id]
				if o == nil || o.Pkg() != pkg || isLocal(o, pkg) || file(o.Pos()) == file(id.Pos()) {
					return true
				}
				arrows = append(arrows, arrow{file(id.Pos()), in, file(o.Pos()), o.Name()})
				return true
			})
		}
	}
	return order, arrows
}

// isLocal reports whether something is declared within a function.
func isLocal(o types.Object, pkg *types.Package) bool {
	switch x := o.(type) {
	case *types.Func:
		return false
	case *types.Var:
		return !x.IsField() && o.Parent() != pkg.Scope()
	}
	return o.Parent() != pkg.Scope()
}

type nothing struct{}

func (nothing) Import(path string) (*types.Package, error) {
	p := types.NewPackage(path, filepath.Base(path))
	p.MarkComplete()
	return p, nil
}
