package lang

import (
	"strings"
	"unicode/utf8"

	"undersail/internal/core/expr"
	"undersail/internal/core/resource"
)

// GuidePiece is a part of a guide: text as it stands, an output of the template, or an
// expression.
type GuidePiece struct {
	Text   string
	Output string
	Value  *Node
}

// mostGuide is how many bytes a guide has at most.
const mostGuide = 32 << 10

// guide reads the text for first use: Markdown in which {=EXPRESSION} stands for a value.
func (d *decoder) guide(n *Node) {
	if n == nil {
		return
	}
	if n.Kind == Expression || n.Kind != Scalar {
		d.errorf("value", n.Position, "write `guide: |` and the text below it", "`guide` is a text")
		return
	}
	if len(n.Text) > mostGuide {
		d.errorf("limit", n.Position, "keep it short, and point to a longer text",
			"the guide has %d bytes, and at most %d are read", len(n.Text), mostGuide)
		return
	}
	rest := n.Text
	for {
		before, after, found := strings.Cut(rest, "{=")
		if before != "" {
			d.template.Guide = append(d.template.Guide, GuidePiece{Text: before})
		}
		if !found {
			return
		}
		end := closing(after)
		at := inGuide(n, len(n.Text)-len(after)-1)
		if end < 0 {
			d.errorf("value", at, "write {=EXPRESSION} on one line", "a value of the guide has no closing brace")
			return
		}
		text := strings.TrimSpace(after[:end])
		rest = after[end+1:]
		if name, isOutput := strings.CutPrefix(text, "outputs."); isOutput && namePattern.MatchString(name) {
			d.template.Guide = append(d.template.Guide, GuidePiece{Output: name, Value: &Node{Position: at}})
			continue
		}
		d.template.Guide = append(d.template.Guide, GuidePiece{
			Value: &Node{Position: at, Kind: Expression, Text: text},
		})
	}
}

// inGuide is where a byte of a guide stands in its file. The text of a block stands on
// the lines below its key, two blanks in, as tidy writes it.
func inGuide(n *Node, offset int) Position {
	if !strings.Contains(n.Text, "\n") {
		return Position{Line: n.Line, Column: n.Column + offset}
	}
	before := n.Text[:offset]
	return Position{
		Line:   n.Line + 1 + strings.Count(before, "\n"),
		Column: 3 + utf8.RuneCountInString(before[strings.LastIndex(before, "\n")+1:]),
	}
}

// closing finds the brace that closes a value, or gives -1 when the line ends before it.
func closing(text string) int {
	depth, quote, escaped := 0, rune(0), false
	for i, c := range text {
		switch {
		case c == '\n':
			return -1
		case escaped:
			escaped = false
		case quote != 0 && c == '\\':
			escaped = true
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '{':
			depth++
		case c == '}' && depth == 0:
			return i
		case c == '}':
			depth--
		}
	}
	return -1
}

// guide checks the values of the guide.
func (c *checker) guide() {
	names := make([]string, len(c.template.Outputs))
	for i, o := range c.template.Outputs {
		names[i] = o.Name
	}
	for _, p := range c.template.Guide {
		switch {
		case p.Output != "" && c.template.Output(p.Output) == nil:
			c.errorf("name", p.Value.Position, expr.Suggest(p.Output, names, "name one of the template's outputs"),
				"the guide names an output `%s` that there is not", p.Output)
		case p.Output == "" && p.Value != nil:
			c.tree(p.Value, resource.Shape{Kind: resource.Open}, site{})
		}
	}
}

// Output finds an output by name.
func (t *Template) Output(name string) *Output {
	for i := range t.Outputs {
		if t.Outputs[i].Name == name {
			return &t.Outputs[i]
		}
	}
	return nil
}
