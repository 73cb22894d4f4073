package expr

import (
	"regexp"
	"slices"
	"strings"
	"sync"
)

// checked keeps checked expressions, which are immutable, across templates and
// edits of one template. Results are never kept: they depend on inputs.
var checked = &programs{}

// programs is a cache of two generations: when the young one is full it becomes
// the old one, and what was in the old one and not used since is forgotten.
type programs struct {
	mu         sync.Mutex
	young, old map[string]*Program
}

const generation = 8192

func (c *programs) get(key string) (*Program, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if p, ok := c.young[key]; ok {
		return p, true
	}
	p, ok := c.old[key]
	if ok {
		c.keep(key, p)
	}
	return p, ok
}

func (c *programs) put(key string, p *Program) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.keep(key, p)
}

func (c *programs) keep(key string, p *Program) {
	if len(c.young) >= generation || c.young == nil {
		c.old, c.young = c.young, map[string]*Program{}
	}
	c.young[key] = p
}

// Forget empties the cache of checked expressions. Benchmarks measure with it
// what a first check costs.
func Forget() {
	checked.mu.Lock()
	defer checked.mu.Unlock()
	checked.young, checked.old = nil, nil
}

// scopeIndex tells by word what a scope declares, so that the key of an
// expression holds the types of the words in it and of no others: adding an
// input leaves the keys of expressions that do not read it as they are.
type scopeIndex struct{ words map[string]string }

func newScopeIndex(s Scope) *scopeIndex {
	lists := map[string][]string{}
	add := func(word, sign string) { lists[word] = append(lists[word], sign) }
	for name, t := range s.Vars {
		add(name, t.String())
	}
	for name, fields := range s.Structs {
		for field, t := range fields {
			add(field, name+"."+field+":"+t.String())
		}
	}
	all := "" // a function may call those before it, so their texts count too
	for _, f := range s.Functions {
		all += f.Form() + f.Body
		for _, p := range f.Parameters {
			all += "|" + TypeOf(p.Shape).String()
		}
		add(f.Name, all)
	}
	for name, text := range s.Files {
		add("file", name+"="+text)
	}
	x := &scopeIndex{words: map[string]string{}}
	for word, signs := range lists {
		slices.Sort(signs)
		x.words[word] = strings.Join(signs, "|")
	}
	return x
}

var wordPattern = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_]*`)

func (x *scopeIndex) key(text string) string {
	var b strings.Builder
	b.WriteString(text)
	for _, word := range slices.Compact(slices.Sorted(slices.Values(wordPattern.FindAllString(text, -1)))) {
		if sign, ok := x.words[word]; ok {
			b.WriteByte(0)
			b.WriteString(word)
			b.WriteByte(' ')
			b.WriteString(sign)
		}
	}
	return b.String()
}
