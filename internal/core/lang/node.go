package lang

import (
	"errors"
	"io"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v4"

	"undersail/internal/core/expr"
)

// NodeKind tells what a node of the syntax tree is.
type NodeKind int

// The kinds of nodes.
const (
	Scalar NodeKind = iota
	Expression
	Sequence
	Mapping
)

// Node is one value of the syntax tree.
type Node struct {
	Position
	Kind NodeKind
	// Text of a scalar as it was written, or of an expression without its "=".
	Text string
	// Quoted says that a scalar is text whatever it looks like.
	Quoted  bool
	Items   []*Node
	Entries []Entry
	// Flow says that the value stands inside braces or brackets.
	Flow bool
	// Program is the checked expression.
	Program *expr.Program
}

// Entry is one key of a mapping with its value.
type Entry struct {
	Key   string
	At    Position
	Value *Node
}

// Get finds the value of a key, or nil.
func (n *Node) Get(key string) *Node {
	if n == nil {
		return nil
	}
	for _, e := range n.Entries {
		if e.Key == key {
			return e.Value
		}
	}
	return nil
}

func (n *Node) empty() bool {
	return n.Kind == Scalar && !n.Quoted && (n.Text == "" || n.Text == "null" || n.Text == "~")
}

// Limits of a file. They are far above any sensible template.
const (
	MaxBytes = 1 << 20
	maxNest  = 40
	maxNodes = 200_000
)

// readTree turns text into a syntax tree. It returns nil when there is no tree
// to go on with.
func readTree(r *report, source []byte) *Node {
	if len(source) > MaxBytes {
		r.errorf("too-large", Position{1, 1}, "split the template; large files are read with file(...)",
			"the file has %d bytes, and at most %d are read", len(source), MaxBytes)
		return nil
	}
	if depth, line := flowDepth(r.lines); depth > maxNest {
		r.errorf("too-deep", Position{line, 1}, "", "brackets are nested more than %d deep", maxNest)
		return nil
	}
	mended := protectExpressions(r)
	loader, err := yaml.NewLoader(strings.NewReader(mended))
	if err != nil {
		yamlErrors(r, err)
		return nil
	}
	var doc, second yaml.Node
	if err := loader.Load(&doc); errors.Is(err, io.EOF) {
		return &Node{Position: Position{1, 1}} // nothing but blanks and comments
	} else if err != nil {
		yamlErrors(r, err)
		return nil
	}
	if err := loader.Load(&second); err == nil {
		r.errorf("second-document", Position{second.Line, second.Column}, "put it into a file of its own",
			"a file holds one document, and a second one begins here")
	} else if !errors.Is(err, io.EOF) {
		yamlErrors(r, err)
	}
	if len(doc.Content) == 0 {
		return &Node{Position: Position{1, 1}}
	}
	budget := maxNodes
	return convert(r, doc.Content[0], 0, &budget)
}

// flowDepth bounds nesting before the parser recurses into it.
func flowDepth(lines []string) (deepest, line int) {
	depth := 0
	for i, l := range lines {
		for _, c := range l {
			switch c {
			case '[', '{':
				depth++
				if depth > deepest {
					deepest, line = depth, i+1
				}
			case ']', '}':
				depth = max(0, depth-1)
			}
		}
		indent := len(l) - len(strings.TrimLeft(l, " -"))
		if indent/2 > deepest && strings.TrimSpace(l) != "" && indent > 8*maxNest {
			deepest, line = indent/2, i+1
		}
	}
	return deepest, line
}

var (
	blockValue  = regexp.MustCompile(`^(\s*(?:- +)*(?:[^\s:#'"\[{\-][^:#{\[]*:\s+)?(?:- +)*)(=.*)$`)
	blockScalar = regexp.MustCompile(`[:\-]\s+[|>][-+0-9]*\s*(#.*)?$`)
)

// protectExpressions finds plain values that begin with "=" and hold ": " or
// " #", which YAML would not keep. Each is reported at its place and replaced,
// so that one slip does not hide the other faults of the file.
func protectExpressions(r *report) string {
	out := make([]string, len(r.lines))
	inBlock := -1 // indentation of the key that opened a block scalar
	for i, line := range r.lines {
		out[i] = line
		trimmed := strings.TrimLeft(line, " ")
		indent := len(line) - len(trimmed)
		if inBlock >= 0 {
			if trimmed == "" || indent > inBlock {
				continue
			}
			inBlock = -1
		}
		if strings.ContainsAny(line, "|>") && blockScalar.MatchString(line) {
			inBlock = indent
			continue
		}
		if !strings.Contains(line, "=") {
			continue
		}
		m := blockValue.FindStringSubmatch(line)
		if m == nil || strings.TrimSpace(m[1]) == "" {
			continue // an expression in the place of a key is told later
		}
		if at, slip := yamlSlip(m[2]); at >= 0 {
			r.errorf("unquoted-expression", Position{i + 1, len([]rune(m[1])) + len([]rune(m[2][:at])) + 1},
				"put the whole expression in single quotes: '"+strings.TrimSpace(strings.ReplaceAll(m[2], "'", "''"))+
					"'",
				"YAML ends a value at %s, so the expression is cut here", slip)
			out[i] = m[1] + `"\u0000"` // a placeholder that later stages pass over
		}
	}
	return strings.Join(out, "\n")
}

// yamlSlip finds where YAML would end an expression that goes on: at a colon and
// a blank, or at a blank and # within a text. A blank and # outside of texts
// begin a comment, since no expression holds a #.
func yamlSlip(text string) (at int, what string) {
	var quote byte
	for i := 0; i+1 < len(text); i++ {
		c := text[i]
		switch {
		case c == ':' && text[i+1] == ' ':
			return i, "a colon and a blank"
		case c == ' ' && text[i+1] == '#':
			if quote == 0 {
				return -1, ""
			}
			return i, "a blank and #"
		case quote != 0 && c == '\\':
			i++
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		}
	}
	return -1, ""
}

const placeholder = "\x00"

var yamlPrefix = regexp.MustCompile(`^go-yaml load error in [a-z]+(?: \([^)]*\))? at L([0-9]+)\.C([0-9]+)(?:-L[0-9]+\.C[0-9]+)?: `)

var yamlLine = regexp.MustCompile(`(?:yaml: )?(?:.*?)line (\d+)(?:, column (\d+))?:?\s*`)

func yamlErrors(r *report, err error) {
	at := Position{1, 1}
	var load *yaml.LoadError
	if errors.As(err, &load) {
		at = Position{load.Mark.Line, max(load.Mark.Column, 1)}
	}
	message := err.Error()
	if m := yamlLine.FindStringSubmatchIndex(message); m != nil {
		if at.Line <= 1 {
			at.Line, _ = strconv.Atoi(message[m[2]:m[3]])
			if m[4] >= 0 {
				at.Column, _ = strconv.Atoi(message[m[4]:m[5]])
			}
		}
		message = message[m[1]:]
	}
	if m := yamlPrefix.FindStringSubmatch(message); m != nil {
		at.Line, _ = strconv.Atoi(m[1])
		at.Column, _ = strconv.Atoi(m[2])
		message = message[len(m[0]):]
	}
	r.errorf("yaml", at, "check indentation, quotes and brackets here and on the line before", "this is not YAML: %s",
		strings.TrimPrefix(message, "yaml: "))
}

func convert(r *report, y *yaml.Node, depth int, budget *int) *Node {
	n := &Node{Position: Position{y.Line, y.Column}}
	if *budget--; *budget < 0 || depth > maxNest {
		if *budget == -1 || depth == maxNest+1 {
			r.errorf("too-deep", n.Position, "", "the file has more than %d values or is nested more than %d deep",
				maxNodes, maxNest)
		}
		return n
	}
	if y.Anchor != "" || y.Kind == yaml.AliasNode {
		r.errorf("alias", n.Position, "write the value out, or compute it once under `calc`",
			"anchors and aliases are not part of the format")
		return n
	}
	switch y.Kind {
	case yaml.ScalarNode:
		return convertScalar(n, y)
	case yaml.SequenceNode:
		n.Kind = Sequence
		for _, item := range y.Content {
			n.Items = append(n.Items, inFlow(convert(r, item, depth+1, budget), y))
		}
	case yaml.MappingNode:
		n.Kind = Mapping
		for i := 0; i+1 < len(y.Content); i += 2 {
			convertEntry(r, n, y, y.Content[i], y.Content[i+1], depth, budget)
		}
	}
	return n
}

// inFlow notes that a value stands inside braces, where a comma ends it.
func inFlow(n *Node, parent *yaml.Node) *Node {
	n.Flow = parent.Style&yaml.FlowStyle != 0 && !n.Quoted
	return n
}

func convertEntry(r *report, n *Node, y, key, value *yaml.Node, depth int, budget *int) {
	at := Position{key.Line, key.Column}
	switch {
	case key.Kind != yaml.ScalarNode:
		r.errorf("key", at, "", "a key must be plain text")
		return
	case key.Value == "<<" && key.Style == 0:
		r.errorf("merge-key", at, "write the keys out", "merge keys are not part of the format")
		return
	case strings.HasPrefix(key.Value, "="):
		r.errorf("key", at, "only values are computed; write the key as plain text", "a key cannot be an expression")
		return
	}
	if n.Get(key.Value) != nil {
		r.errorf("duplicate-key", at, "remove one of the two", "the key `%s` stands here a second time", key.Value)
		return
	}
	n.Entries = append(n.Entries, Entry{Key: key.Value, At: at, Value: inFlow(convert(r, value, depth+1, budget), y)})
}

func convertScalar(n *Node, y *yaml.Node) *Node {
	n.Text = y.Value
	n.Quoted = y.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) != 0
	switch {
	case strings.HasPrefix(y.Value, "=="):
		n.Text, n.Quoted = y.Value[1:], true
	case strings.HasPrefix(y.Value, "="):
		n.Kind = Expression
		n.Text = strings.TrimPrefix(y.Value, "=")
		n.Column++
		switch {
		case y.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0:
			n.Column++
		case y.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
			// The text of a block begins on the next line; its indentation is
			// not kept by the parser, so columns there count from the text.
			n.Line++
			n.Column = 2
		}
	}
	return n
}

// Reader reads another file of the product's own, such as cases, with the same
// care as a template: positions, suggestions, all faults at once.
type Reader struct{ d *decoder }

// ReadTree reads a file into a syntax tree. The tree is nil when there is none
// to go on with.
func ReadTree(file string, source []byte) (*Node, *Reader) {
	r := newReport(file, source)
	return readTree(r, source), &Reader{&decoder{report: r, template: &Template{}}}
}

// Mapping checks that a node is a mapping with no other keys than those named,
// if any are. It reports unknown keys and goes on.
func (r *Reader) Mapping(n *Node, what string, keys ...string) bool {
	if len(keys) == 0 {
		return r.d.isMapping(n, what)
	}
	return r.d.mapping(n, what, keys...)
}

// Text reads a key that must be there and hold plain text.
func (r *Reader) Text(n *Node, key string) string { return r.d.text(n, key, true) }

// Errorf reports a fault.
func (r *Reader) Errorf(code string, at Position, remedy, format string, args ...any) {
	r.d.errorf(code, at, remedy, format, args...)
}

// Found is all that was reported, in the order of the file.
func (r *Reader) Found() Diagnostics { return r.d.sorted() }
