package expr

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
)

var (
	undefinedField = regexp.MustCompile(`undefined field '([^']*)'`)
	undeclared     = regexp.MustCompile(`undeclared reference to '([^']*)'`)
	noOverload     = regexp.MustCompile(`found no matching overload for '([^']*)' applied to '\(?(.*?)\)?'$`)
	chainBefore    = regexp.MustCompile(`([a-z_][a-zA-Z0-9_]*)((?:\.[a-zA-Z_][a-zA-Z0-9_]*|\[[^\[\]]*\])*)$`)
	step           = regexp.MustCompile(`\.[a-zA-Z_][a-zA-Z0-9_]*|\[[^\[\]]*\]`)
)

// explain puts the checker's message into the words of the product and adds
// what to do about it.
func (e *Env) explain(text string, line, column int, message string) Problem {
	p := Problem{Line: line, Column: column, Message: plain(message)}
	if m := undefinedField.FindStringSubmatch(message); m != nil {
		owner, fields := e.fieldsBefore(text, line, column)
		p.Column++ // the checker points at the dot
		p.Message = fmt.Sprintf("there is no `%s`", m[1])
		if owner != "" {
			p.Message = fmt.Sprintf("`%s` has no `%s`", owner, m[1])
			p.Remedy = suggestOrList(m[1], fields)
		}
		return p
	}
	if m := undeclared.FindStringSubmatch(message); m != nil {
		name := strings.TrimPrefix(m[1], ".")
		known := slices.Sorted(maps.Keys(e.scope.Vars))
		for _, f := range Functions {
			known = append(known, f.Name)
		}
		p.Message = fmt.Sprintf("nothing here is called `%s`", name)
		if close := Closest(name, append(known, "size", "has", "string", "int", "double")); close != "" {
			p.Remedy = fmt.Sprintf("did you mean `%s`?", close)
		} else {
			p.Remedy = "in scope are " + quoteList(slices.Sorted(maps.Keys(e.scope.Vars)))
		}
		return p
	}
	if m := noOverload.FindStringSubmatch(message); m != nil {
		op := strings.Trim(m[1], "_")
		p.Message = fmt.Sprintf("`%s` cannot be applied to %s", op, friendlyTypes(m[2]))
		if op == "+" && strings.Contains(m[2], "string") {
			p.Remedy = "turn the other side into text with string(...), or pad(...) for a number"
		} else if i := slices.IndexFunc(Functions, func(f struct{ Name, Form, About string }) bool { return f.Name == op }); i >= 0 {
			p.Remedy = "write it like " + Functions[i].Form
		}
		return p
	}
	if strings.Contains(message, "recursion limit exceeded") {
		return Problem{Line: 1, Message: fmt.Sprintf("the expression is nested more than %d deep", maxDepth), Remedy: "compute parts of it under `calc`"}
	}
	if strings.HasPrefix(message, "Syntax error") {
		p.Message = "this is not a complete expression: " + strings.TrimPrefix(p.Message, "Syntax error: ")
		p.Remedy = "check brackets, quotes and operators before this place"
	}
	return p
}

// fieldsBefore finds the chain of names that ends at a column, follows its
// types, and returns the chain with the fields its value has.
func (e *Env) fieldsBefore(text string, line, column int) (string, []string) {
	lines := strings.Split(text, "\n")
	if line < 1 || line > len(lines) {
		return "", nil
	}
	runes := []rune(lines[line-1])
	m := chainBefore.FindStringSubmatch(string(runes[:min(column, len(runes))]))
	if m == nil {
		return "", nil
	}
	t, ok := e.scope.Vars[m[1]]
	if !ok {
		return "", nil
	}
	for _, s := range step.FindAllString(m[2], -1) {
		if t, ok = e.member(t, s); !ok {
			return "", nil
		}
	}
	fields, ok := e.scope.Structs[t.TypeName()]
	if !ok {
		return "", nil
	}
	return m[1] + m[2], slices.Sorted(maps.Keys(fields))
}

func (e *Env) member(t *cel.Type, step string) (*cel.Type, bool) {
	if step[0] == '[' {
		switch t.Kind() {
		case types.ListKind:
			return t.Parameters()[0], true
		case types.MapKind:
			return t.Parameters()[1], true
		}
		return nil, false
	}
	next, ok := e.scope.Structs[t.TypeName()][step[1:]]
	return next, ok
}

// plain strips the checker's own decoration.
func plain(message string) string {
	message = strings.TrimPrefix(message, "ERROR: <input>:")
	message = strings.ReplaceAll(message, " (in container '')", "")
	if i := strings.Index(message, "\n"); i >= 0 {
		message = message[:i]
	}
	if strings.Contains(message, "actual cost limit exceeded") {
		return "the expression does too much work; make its lists smaller"
	}
	return strings.TrimSpace(message)
}

var friendly = strings.NewReplacer("string", "text", "int", "whole number", "double", "number", "bool", "true/false", ", ", " and ")

func friendlyTypes(list string) string { return friendly.Replace(list) }

// TypeWords describes a checked type to people.
func TypeWords(t *cel.Type) string { return friendlyTypes(t.String()) }

func suggestOrList(word string, candidates []string) string {
	if close := Closest(word, candidates); close != "" {
		return fmt.Sprintf("did you mean `%s`?", close)
	}
	return "it has " + quoteList(candidates)
}

func quoteList(names []string) string {
	const most = 14
	var quoted []string
	for i, n := range names {
		if i == most {
			quoted = append(quoted, fmt.Sprintf("and %d more", len(names)-most))
			break
		}
		quoted = append(quoted, "`"+n+"`")
	}
	return strings.Join(quoted, ", ")
}

// Closest returns the candidate most like the word by edit distance, or "" when
// none is close: at most a third of the longer word may differ, and at least two
// letters may.
func Closest(word string, candidates []string) string {
	best, bestDistance := "", 1<<30
	for _, c := range candidates {
		if d := distance(strings.ToLower(word), strings.ToLower(c)); d < bestDistance {
			best, bestDistance = c, d
		}
	}
	if best == "" || bestDistance > max(2, max(len(word), len(best))/3) || bestDistance >= len(best) {
		return ""
	}
	return best
}

// distance is the Levenshtein distance in bytes.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
