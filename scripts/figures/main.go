// Command figures tells how the Go code reads, in numbers: how long its lines and functions
// are, how many errors say on their way up what was being done, how much of it is tests,
// comments and examples. With -beside it counts the same in modules that are worth learning
// from, which have to be in the module graph; with -check it ends with 1 where a bound is
// passed, and names each place.
package main

import (
	"bytes"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"unicode/utf8"
)

const (
	widest  = 120 // columns of a line, a tab being four of them
	longest = 60  // lines of a function
	most    = 2.0 // percent of functions that may be longer: those that are one table or one sequence
	carried = 25  // percent of errors that say what was being done
)

// shown are packages that others call: each shows by two examples at least how it is used.
var shown = strings.Fields("internal/core/lang internal/core/render internal/core/expr internal/core/fit " +
	"internal/core/address internal/core/change internal/core/schedule internal/cloud internal/probe internal/secret")

// beside are modules that are worth learning from, by the name that a reader knows.
var beside = [][2]string{
	{"River", "github.com/riverqueue/river"},
	{"pgx", "github.com/jackc/pgx/v5"},
	{"cel-go", "cel.dev/cel-go"},
	{"Echo", "github.com/labstack/echo/v5"},
	{"Cobra", "github.com/spf13/cobra"},
}

// figures are what is counted in one tree.
type figures struct {
	lines, tests, comments, statements int
	wide, wider                        int // lines over 120 and over 140 columns
	functions, long                    int
	wrapped, bare                      int // errors that are returned with words, and as they came
	examples                           int
	exampled                           map[string]int // examples by folder
	places                             []string       // what passes a bound
}

func main() {
	models := flag.Bool("beside", false, "count modules that are worth learning from, too")
	check := flag.Bool("check", false, "end with 1 where a bound is passed")
	flag.Parse()
	ours, err := count(".")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	if *check {
		os.Exit(ours.judged())
	}
	rows := []string{"Under Sail"}
	all := []figures{ours}
	if *models {
		for _, m := range append(beside, [2]string{"net/http", ""}) {
			dir, err := where(m[1])
			if err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(1)
			}
			f, err := count(dir)
			if err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(1)
			}
			rows, all = append(rows, m[0]), append(all, f)
		}
	}
	show(rows, all)
}

// where a module, or net/http for none, has its sources.
func where(module string) (string, error) {
	ask := []string{"list", "-m", "-f", "{{.Dir}}", module}
	if module == "" {
		ask = []string{"list", "-f", "{{.Dir}}", "net/http"}
	}
	out, err := exec.Command("go", ask...).Output()
	if dir := strings.TrimSpace(string(out)); err == nil && dir != "" {
		return dir, nil
	}
	return "", fmt.Errorf("%s is not among the modules here: run go mod download", module)
}

// judged prints what passes a bound, and gives the status to end with.
func (f figures) judged() int {
	for _, p := range f.places {
		fmt.Println(p)
	}
	status := 0
	if len(f.places) > 0 {
		status = 1
	}
	if share := percent(f.wrapped, f.wrapped+f.bare); share < carried {
		fmt.Printf("%.1f%% of errors say on the way up what was being done, and %d%% are to\n", share, carried)
		status = 1
	}
	for _, dir := range shown {
		if n := f.exampled[filepath.FromSlash(dir)]; n < 2 {
			fmt.Printf("%s has %d example functions, and is to have two\n", dir, n)
			status = 1
		}
	}
	if share := percent(f.long, f.functions); share > most {
		fmt.Printf("%.1f%% of functions are longer than %d lines, and %.0f%% may be\n", share, longest, most)
		status = 1
	}
	return status
}

func show(names []string, all []figures) {
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', tabwriter.AlignRight)
	row := func(title string, value func(figures) string) {
		fmt.Fprint(w, title)
		for _, f := range all {
			fmt.Fprint(w, "\t", value(f))
		}
		fmt.Fprintln(w, "\t")
	}
	fmt.Fprintln(w, "\t"+strings.Join(names, "\t")+"\t")
	number := func(of func(figures) int) func(figures) string {
		return func(f figures) string { return fmt.Sprint(of(f)) }
	}
	share := func(of, all func(figures) int) func(figures) string {
		return func(f figures) string { return fmt.Sprintf("%.1f%%", percent(of(f), all(f))) }
	}
	lines := func(f figures) int { return f.lines }
	row("lines", number(lines))
	row("statements outside of tests", number(func(f figures) int { return f.statements }))
	row("lines of tests", share(func(f figures) int { return f.tests }, lines))
	row("lines of comments", share(func(f figures) int { return f.comments }, lines))
	row("lines over 120 columns", share(func(f figures) int { return f.wide }, lines))
	row("lines over 140 columns", share(func(f figures) int { return f.wider }, lines))
	row("functions over 60 lines", share(func(f figures) int { return f.long },
		func(f figures) int { return f.functions }))
	row("errors with what was being done", share(func(f figures) int { return f.wrapped },
		func(f figures) int { return f.wrapped + f.bare }))
	row("example functions", number(func(f figures) int { return f.examples }))
	w.Flush()
}

func percent(part, of int) float64 { return 100 * float64(part) / float64(max(of, 1)) }

// count reads every Go file under a directory that somebody wrote by hand.
func count(dir string) (figures, error) {
	f := figures{exampled: map[string]int{}}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && path != dir && slices.Contains([]string{"node_modules", "vendor", "testdata"}, d.Name()),
			d.IsDir() && path != dir && strings.HasPrefix(d.Name(), "."):
			return filepath.SkipDir
		case d.IsDir() || !strings.HasSuffix(path, ".go"):
			return nil
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		return f.file(path, text)
	})
	return f, err
}

func (f *figures) file(path string, text []byte) error {
	set := token.NewFileSet()
	parsed, err := parser.ParseFile(set, path, text, parser.ParseComments)
	if err != nil {
		return fmt.Errorf("reading %s: %w", path, err)
	}
	if ast.IsGenerated(parsed) {
		return nil
	}
	isTest := strings.HasSuffix(path, "_test.go")
	rows := bytes.Split(text, []byte("\n"))
	f.lines += len(rows)
	if isTest {
		f.tests += len(rows)
	}
	for _, g := range parsed.Comments {
		f.comments += set.Position(g.End()).Line - set.Position(g.Pos()).Line + 1
	}
	f.width(path, rows, documents(set, parsed))
	for _, d := range parsed.Decls {
		if fn, is := d.(*ast.FuncDecl); is {
			f.function(path, set, fn, isTest)
		}
	}
	return nil
}

// documents are the lines that a raw string covers: a template, a query, an answer of a
// cloud are written as they are.
func documents(set *token.FileSet, file *ast.File) map[int]bool {
	covered := map[int]bool{}
	ast.Inspect(file, func(n ast.Node) bool {
		if l, is := n.(*ast.BasicLit); is && strings.HasPrefix(l.Value, "`") {
			for line := set.Position(l.Pos()).Line; line <= set.Position(l.End()).Line; line++ {
				covered[line] = true
			}
		}
		return true
	})
	return covered
}

func (f *figures) width(path string, rows [][]byte, documents map[int]bool) {
	for i, row := range rows {
		columns := utf8.RuneCount(row) + 3*bytes.Count(row, []byte("\t"))
		if columns <= widest || documents[i+1] {
			continue
		}
		f.wide++
		if columns > 140 {
			f.wider++
		}
		f.places = append(f.places, fmt.Sprintf("%s:%d: a line of %d columns; %d are enough",
			path, i+1, columns, widest))
	}
}

func (f *figures) function(path string, set *token.FileSet, fn *ast.FuncDecl, isTest bool) {
	if isTest {
		if strings.HasPrefix(fn.Name.Name, "Example") {
			f.examples++
			f.exampled[filepath.Dir(path)]++
		}
		return
	}
	f.functions++
	begins, ends := set.Position(fn.Pos()).Line, set.Position(fn.End()).Line
	if ends-begins+1 > longest {
		f.long++
	}
	ast.Inspect(fn, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.ReturnStmt:
			f.returned(n)
		case *ast.BlockStmt:
		case ast.Stmt:
			f.statements++
		}
		if _, is := n.(*ast.ReturnStmt); is {
			f.statements++
		}
		return true
	})
}

// returned counts an error that a call gave and a function passes on: with words of its own,
// which wrap it, or bare.
func (f *figures) returned(r *ast.ReturnStmt) {
	if len(r.Results) == 0 {
		return
	}
	switch last := r.Results[len(r.Results)-1].(type) {
	case *ast.Ident:
		if last.Name == "err" {
			f.bare++
		}
	case *ast.CallExpr:
		words := false
		ast.Inspect(last, func(n ast.Node) bool {
			l, is := n.(*ast.BasicLit)
			words = words || is && strings.Contains(l.Value, "%w")
			return true
		})
		if words {
			f.wrapped++
		}
	}
}
