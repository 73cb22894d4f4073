package expr

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	edlib "github.com/hbollon/go-edlib"
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
	p := Problem{Line: line, Column: max(0, column), Message: plain(message)}
	if m := undefinedField.FindStringSubmatch(message); m != nil {
		return e.explainField(p, text, m[1])
	}
	if m := undeclared.FindStringSubmatch(message); m != nil {
		return e.explainName(p, strings.TrimPrefix(m[1], "."))
	}
	if m := noOverload.FindStringSubmatch(message); m != nil && m[1][0] == '@' {
		return e.explainGuard(p, m[1], m[2])
	} else if m != nil {
		return explainOperation(p, m[1], m[2])
	}
	if p, ok := e.explainKey(p, text, message); ok {
		return p
	}
	p.Early = strings.Contains(message, "<EOF>")
	for _, w := range rewordings {
		if m := w.pattern.FindStringSubmatch(message); m != nil {
			p.Message, p.Remedy = w.say(m)
			break
		}
	}
	return p
}

// rewordings are the checker's other messages in our words, the first that
// matches.
var rewordings = []struct {
	pattern *regexp.Regexp
	say     func(m []string) (message, remedy string)
}{
	{regexp.MustCompile(`recursion limit exceeded`), func([]string) (string, string) {
		return fmt.Sprintf("the expression is nested more than %d deep", maxDepth), "compute parts of it under `calc`"
	}},
	{regexp.MustCompile(`expression code point size exceeds limit`), func([]string) (string, string) {
		return fmt.Sprintf("the expression is longer than %d characters", maxLength), "compute parts of it under `calc`"
	}},
	{regexp.MustCompile(`expected type of field '([^']*)' is '([^']*)' but provided type is '([^']*)'`),
		func(m []string) (string, string) {
			return fmt.Sprintf("`%s` wants %s, and this gives %s", m[1], friendlyTypes(m[2]), friendlyTypes(m[3])), ""
		}},
	{regexp.MustCompile(`type '([^']*)' does not support field selection`), func(m []string) (string, string) {
		return fmt.Sprintf("%s has no fields",
			friendlyTypes(m[1])), "functions are written with brackets, such as size(...)"
	}},
	{regexp.MustCompile(`expression of type '([^']*)' cannot be range of a comprehension`),
		func(m []string) (string, string) {
			return fmt.Sprintf("a loop cannot run over %s", friendlyTypes(m[1])), "loops run over lists and mappings"
		}},
	{regexp.MustCompile(`token recognition error at: '(.)`), func(m []string) (string, string) {
		if m[1] == "'" || m[1] == `"` {
			return "the text that begins here does not end", "close the quote"
		}
		return fmt.Sprintf("`%s` is no part of an expression", m[1]), "see the documentation of expressions"
	}},
	{regexp.MustCompile(`Syntax error: .*(?:mismatched input|missing .* at|no viable alternative at input) '<EOF>'`),
		func([]string) (string, string) {
			return "the expression ends too early", "add what is missing at its end, or close a bracket"
		}},
	{regexp.MustCompile(`Syntax error: (?:mismatched|extraneous) input '(.+?)'`), func(m []string) (string, string) {
		return fmt.Sprintf("`%s` is not expected here", m[1]), "check brackets, quotes and operators before this place"
	}},
	{regexp.MustCompile(`Syntax error: (.*)`), func(m []string) (string, string) {
		return "this is not a complete expression: " + m[1], "check brackets, quotes and operators before this place"
	}},
}

// literalBefore finds the typed literal whose fields are being written.
var literalBefore = regexp.MustCompile(`([a-z_][a-z0-9_]*)\{[^{}]*$`)

func (e *Env) explainField(p Problem, text, field string) Problem {
	before := lineUpTo(text, p.Line, p.Column)
	if m := literalBefore.FindStringSubmatch(before); m != nil && e.scope.Structs[m[1]] != nil {
		if at := strings.LastIndex(before, field); at >= 0 {
			p.Column = len([]rune(before[:at]))
		}
		p.Message = fmt.Sprintf("%s has no `%s`", m[1], field)
		p.Remedy = suggestOrList(field, slices.Sorted(maps.Keys(e.scope.Structs[m[1]])))
		return p
	}
	owner, fields := e.fieldsBefore(text, p.Line, p.Column)
	p.Column++ // the checker points at the dot
	p.Message = fmt.Sprintf("there is no `%s`", field)
	if owner != "" {
		p.Message = fmt.Sprintf("`%s` has no `%s`", owner, field)
		p.Remedy = suggestOrList(field, fields)
	}
	return p
}

// loopOver finds what a loop runs over, by the name of its variable.
var loopOver = regexp.MustCompile(`([a-z_][a-zA-Z0-9_.]*)\.(?:map|filter|all|exists|exists_one)\(\s*([a-z_][a-zA-Z0-9_]*)\s*,`)

// explainKey tells of a loop over a mapping that its variable is the key.
func (e *Env) explainKey(p Problem, text, message string) (Problem, bool) {
	if !strings.Contains(message, "does not support field selection") {
		return p, false
	}
	line := lineOf(text, p.Line)
	if p.Column > len(line) {
		return p, false
	}
	m := chainBefore.FindStringSubmatch(line[:p.Column])
	if m == nil {
		return p, false
	}
	for _, loop := range loopOver.FindAllStringSubmatch(text, -1) {
		t := e.scope.Vars[loop[1]]
		if loop[2] == m[1] && t != nil && t.Kind() == cel.MapKind {
			p.Message = fmt.Sprintf("`%s` is a key of `%s` here, and a text", m[1], loop[1])
			p.Remedy = fmt.Sprintf("%s is repeated by its values: write %s[%s].%s", loop[1], loop[1], m[1],
				strings.TrimPrefix(fieldAfter(line[p.Column:]), "."))
			return p, true
		}
	}
	return p, false
}

func fieldAfter(text string) string { return step.FindString(text) }

func lineOf(text string, line int) string {
	lines := strings.Split(text, "\n")
	if line < 1 || line > len(lines) {
		return ""
	}
	return lines[line-1]
}

func (e *Env) explainName(p Problem, name string) Problem {
	known := slices.Sorted(maps.Keys(e.scope.Vars))
	functions := []string{"size", "has", "string", "int", "double"}
	for _, f := range Functions {
		functions = append(functions, f.Name)
	}
	p.Name = name
	for _, f := range e.scope.Functions {
		if f.Name == name {
			p.Message, p.Remedy = fmt.Sprintf("`%s` takes %s", name, count(len(f.Parameters), "value")),
				"write it like "+f.Form()
			return p
		}
	}
	if slices.Contains(known, name) {
		p.Message, p.Remedy = fmt.Sprintf("`%s` is a value, and is called here like a function", name),
			"take the brackets away, or name one of its fields after a dot"
		return p
	}
	if i := slices.Index(functions, name); i >= 0 {
		p.Message, p.Remedy = fmt.Sprintf("`%s` is a function, and stands here like a value", name),
			"give it its values in brackets: "+name+"(...)"
		return p
	}
	p.Message = fmt.Sprintf("nothing here is called `%s`", name)
	p.Remedy = Suggest(name, append(slices.Clone(known), functions...), "in scope are "+quoteList(known))
	return p
}

// operators are how people call what the checker calls by signs.
var operators = map[string]string{
	"?_:": "a choice (`... ? ... : ...`)",
	"[_]": "an index (`[...]`)",
	"!":   "`!`",
	"-":   "`-`",
}

func count(n int, noun string) string {
	if n == 1 {
		return "one " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// explainGuard tells of an argument of a template's own function.
func (e *Env) explainGuard(p Problem, guard, given string) Problem {
	for _, f := range e.scope.Functions {
		for _, parameter := range f.Parameters {
			if f.guard(parameter.Name) == guard {
				p.Message = fmt.Sprintf("`%s` of %s is %s, and this is %s", parameter.Name, f.Form(),
					friendlyType(TypeOf(parameter.Shape).String()), friendlyTypes(given))
			}
		}
	}
	return p
}

func explainOperation(p Problem, name, types string) Problem {
	op := strings.Trim(name, "_")
	shown, named := operators[op]
	if !named {
		shown = "`" + op + "`"
	}
	p.Message = fmt.Sprintf("%s cannot be applied to %s", shown, friendlyTypes(types))
	i := slices.IndexFunc(Functions, func(f struct{ Name, Form, About string }) bool { return f.Name == op })
	switch {
	case strings.Contains(types, "optional_type"):
		p.Remedy = "say what to take when there is none, with .orValue(...)"
	case (strings.Contains(types, "amount") || strings.Contains(types, "span")) && i < 0:
		p.Remedy = `amounts go with amounts and spans with spans, such as amount("4GiB") and span("1h"); numbers only scale them`
	case op == "+" && strings.Contains(types, "string"):
		p.Remedy = "turn the other side into text with string(...), or pad(...) for a number"
	case op == "?_:":
		p.Remedy = "begin with a condition, and give both sides the same type"
	case op == "==" || op == "!=" || op == "<" || op == ">" || op == "<=" || op == ">=":
		p.Remedy = "compare values of one type"
	case i >= 0:
		p.Remedy = "write it like " + Functions[i].Form
	}
	return p
}

func lineUpTo(text string, line, column int) string {
	lines := strings.Split(text, "\n")
	if line < 1 || line > len(lines) {
		return ""
	}
	runes := []rune(lines[line-1])
	return string(runes[:min(max(column, 0), len(runes))])
}

// fieldsBefore finds the chain of names that ends at a column, follows its
// types, and returns the chain with the fields its value has.
func (e *Env) fieldsBefore(text string, line, column int) (string, []string) {
	m := chainBefore.FindStringSubmatch(lineUpTo(text, line, column))
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

var friendlyNames = map[string]string{
	"string": "text",
	"int":    "a whole number",
	"double": "a number",
	"bool":   "true/false",
	"dyn":    "any value",
	"null":   "nothing",
}

// friendlyTypes describes a list of checked types, separated by commas, to people.
func friendlyTypes(list string) string {
	var words []string
	depth, start := 0, 0
	for i, c := range list + "," {
		switch {
		case c == '(':
			depth++
		case c == ')':
			depth--
		case c == ',' && depth == 0:
			words = append(words, friendlyType(strings.TrimSpace(list[start:i])))
			start = i + 1
		}
	}
	return strings.Join(words, " and ")
}

func friendlyType(t string) string {
	outer, inner, composed := strings.Cut(strings.TrimSuffix(t, ")"), "(")
	switch {
	case friendlyNames[t] != "":
		return friendlyNames[t]
	case composed && outer == "list":
		return "a list (" + friendlyType(inner) + ")"
	case composed && outer == "map":
		_, value, _ := strings.Cut(inner, ", ")
		return "a mapping (" + friendlyType(value) + ")"
	case composed && outer == "optional_type":
		return "an optional (" + friendlyType(inner) + ")"
	}
	return t
}

// TypeWords describes a checked type to people.
func TypeWords(t *cel.Type) string { return friendlyType(t.String()) }

// Suggest asks whether the closest candidate was meant, or says something else
// when none is close.
func Suggest(word string, candidates []string, otherwise string) string {
	if close := Closest(word, candidates); close != "" {
		return fmt.Sprintf("did you mean `%s`?", close)
	}
	return otherwise
}

// Choose says what is offered, and which of it was probably meant.
func Choose(got string, from []string) string {
	if len(from) == 0 {
		return "there are none"
	}
	if close := Closest(got, from); close != "" {
		return fmt.Sprintf("did you mean `%s`? Offered are %s", close, strings.Join(from, ", "))
	}
	return "offered are " + strings.Join(from, ", ")
}

func suggestOrList(word string, candidates []string) string {
	if len(candidates) == 0 {
		return ""
	}
	return Suggest(word, candidates, "it has "+quoteList(candidates))
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
// none is close: at most a third of the longer word may differ, two letters at least,
// and one of a word of four letters.
func Closest(word string, candidates []string) string {
	best, bestDistance := "", 1<<30
	for _, c := range candidates {
		// two letters that changed places count once
		d := edlib.OSADamerauLevenshteinDistance(strings.ToLower(word), strings.ToLower(c))
		if d < bestDistance {
			best, bestDistance = c, d
		}
	}
	longer := max(len(word), len(best))
	allowed := max(2, longer/3)
	if longer <= 4 {
		allowed = 1
	}
	if best == "" || bestDistance > allowed || bestDistance >= len(best) {
		return ""
	}
	return best
}
