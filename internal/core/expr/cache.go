package expr

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/jellydator/ttlcache/v3"
)

// checked has checked expressions, and mentioned what texts mention, across
// templates and edits of one template.
var (
	checked   = ttlcache.New(ttlcache.WithCapacity[string, *Program](4096))
	mentioned = ttlcache.New(ttlcache.WithCapacity[string, []Use](4096))
)

// Forget empties the memory of expressions. Benchmarks measure with it what a
// first check costs.
func Forget() {
	checked.DeleteAll()
	mentioned.DeleteAll()
}

// key holds the text of an expression and the types of the words in it, and of
// no others: adding an input leaves the keys of expressions that do not read it
// as they are. Structs that are the same for every template do not count.
func (e *Env) key(text string) string {
	var b strings.Builder
	b.WriteString(text)
	words := wordPattern.FindAllString(text, -1)
	slices.Sort(words)
	for _, word := range slices.Compact(words) {
		if t, ok := e.scope.Vars[word]; ok {
			b.WriteString("\x00" + word + " " + t.String())
		}
		for _, name := range e.scope.Local {
			if t, ok := e.scope.Structs[name][word]; ok {
				b.WriteString("\x00" + name + "." + word + " " + t.String())
			}
		}
		if word == "file" {
			for _, name := range slices.Sorted(maps.Keys(e.scope.Files)) {
				b.WriteString("\x00" + name + "=" + e.scope.Files[name])
			}
		}
		e.functionKey(&b, word)
	}
	return b.String()
}

// functionKey writes what a function called in the text is: its own text and,
// since it may call those before it, theirs.
func (e *Env) functionKey(b *strings.Builder, word string) {
	at := slices.IndexFunc(e.scope.Functions, func(f *Function) bool { return f.Name == word })
	for i := 0; i <= at; i++ {
		f := e.scope.Functions[i]
		b.WriteString("\x00" + f.Form() + f.Body)
		for _, p := range f.Parameters {
			b.WriteString("|" + TypeOf(p.Shape).String())
		}
	}
}

var wordPattern = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_]*`)
