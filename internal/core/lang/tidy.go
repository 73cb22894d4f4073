package lang

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Tidy formats a template without losing a comment or a blank line that
// separates: two blanks to a level, sections and the keys of a resource in the
// usual order, no blanks at line ends, one blank line at most. It works on
// lines, not on values: what is written between braces or in quotes stays as it
// was. The result says the same; a text that cannot be read is refused.
func Tidy(file string, source []byte) ([]byte, Diagnostics) {
	text := cleaned(string(source))
	r := newReport(file, []byte(text))
	if readTree(r, []byte(text)) == nil || r.found.HasErrors() {
		return nil, r.sorted()
	}
	for _, pass := range []func(*yaml.Node, []string) []string{indented, ordered} {
		root, err := rootOf(text)
		if err != nil || root == nil {
			break // the comparison below tells whether that matters
		}
		text = cleaned(strings.Join(pass(root, strings.Split(strings.TrimSuffix(text, "\n"), "\n")), "\n"))
	}
	if before, after := meaning(source), meaning([]byte(text)); before != after {
		r.errorf("tidy", Position{1, 1}, "leave the file as it is and report this",
			"tidying would change what the file says")
		return nil, r.sorted()
	}
	return []byte(text), nil
}

// cleaned ends lines without blanks and keeps one blank line at most. Block
// scalars keep theirs: blank lines in them are text.
func cleaned(text string) string {
	var out []string
	block := -1
	for _, line := range strings.Split(lineBreaks.Replace(text), "\n") {
		indent := len(line) - len(strings.TrimLeft(line, " "))
		trimmed := strings.TrimSpace(line)
		if block >= 0 && (trimmed == "" || indent > block) {
			out = append(out, line)
			continue
		}
		block = -1
		line = strings.TrimRight(line, " \t")
		if blockScalar.MatchString(line) {
			block = indent
		}
		if line == "" && (len(out) == 0 || out[len(out)-1] == "") {
			continue
		}
		out = append(out, line)
	}
	return strings.TrimRight(strings.Join(out, "\n"), "\n \t") + "\n"
}

func rootOf(text string) (*yaml.Node, error) {
	var doc yaml.Node
	if err := yaml.Load([]byte(text), &doc); err != nil {
		return nil, fmt.Errorf("finding the roots of trust: %w", err)
	}
	if len(doc.Content) == 0 {
		return nil, nil
	}
	return doc.Content[0], nil
}

// meaning is what a text says, without layout: keys in sorted order.
func meaning(source []byte) string {
	tree := readTree(newReport("", source), source)
	var b strings.Builder
	var write func(n *Node)
	write = func(n *Node) {
		if n == nil {
			return
		}
		switch n.Kind {
		case Mapping:
			entries := slices.SortedFunc(slices.Values(n.Entries),
				func(x, y Entry) int { return cmp.Compare(x.Key, y.Key) })
			b.WriteString("{")
			for _, e := range entries {
				fmt.Fprintf(&b, "%q:", e.Key)
				write(e.Value)
			}
			b.WriteString("}")
		case Sequence:
			b.WriteString("[")
			for _, item := range n.Items {
				write(item)
				b.WriteString(",")
			}
			b.WriteString("]")
		default:
			fmt.Fprintf(&b, "%d%v%q", n.Kind, n.Quoted, n.Text)
		}
	}
	write(tree)
	return b.String()
}

// indented gives every line the indentation of its level. A line that begins
// nothing of the block structure moves with the one above it; a comment moves
// with what comes below it.
func indented(root *yaml.Node, lines []string) []string {
	want := map[int]int{} // columns by line, both counted from 0
	var walk func(n *yaml.Node, level int)
	walk = func(n *yaml.Node, level int) {
		if n.Style&yaml.FlowStyle != 0 {
			return
		}
		switch n.Kind {
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				key, value := n.Content[i], n.Content[i+1]
				if _, taken := want[key.Line-1]; !taken {
					want[key.Line-1] = level
				}
				walk(value, level+2)
			}
		case yaml.SequenceNode:
			for _, item := range n.Content {
				// The dash stands two columns before its item.
				line := item.Line - 1
				_, taken := want[line]
				if !taken && line < len(lines) && strings.HasPrefix(strings.TrimLeft(lines[line], " "), "-") {
					want[line] = level
				}
				walk(item, level+2)
			}
		}
	}
	walk(root, 0)
	out := make([]string, len(lines))
	move := 0
	for i, line := range lines {
		trimmed := strings.TrimLeft(line, " ")
		at := len(line) - len(trimmed)
		switch column, known := want[i]; {
		case trimmed == "":
			out[i] = line
			continue
		case known:
			move = column - at
		case strings.HasPrefix(trimmed, "#") && !insideBlock(lines, i):
			if next := nextStructure(want, lines, i); next >= 0 {
				out[i] = strings.Repeat(" ", want[next]) + trimmed
				continue
			}
		}
		if _, known := want[i]; known {
			trimmed = dashes.ReplaceAllStringFunc(trimmed, func(lead string) string {
				return strings.Repeat("- ", strings.Count(lead, "-"))
			})
		}
		out[i] = strings.Repeat(" ", max(0, at+move)) + trimmed
	}
	return out
}

// dashes are those that begin the items of a line, with the blanks after them.
var dashes = regexp.MustCompile(`^(?:- +)+`)

// nextStructure finds the next line that begins something, if only blanks and
// comments lie between.
func nextStructure(want map[int]int, lines []string, i int) int {
	for j := i + 1; j < len(lines); j++ {
		if _, known := want[j]; known {
			return j
		}
		if t := strings.TrimSpace(lines[j]); t != "" && !strings.HasPrefix(t, "#") {
			return -1
		}
	}
	return -1
}

// insideBlock reports whether a line is text of a block scalar.
func insideBlock(lines []string, i int) bool {
	at := len(lines[i]) - len(strings.TrimLeft(lines[i], " "))
	for j := i - 1; j >= 0; j-- {
		if strings.TrimSpace(lines[j]) == "" {
			continue
		}
		indent := len(lines[j]) - len(strings.TrimLeft(lines[j], " "))
		if indent < at && blockScalar.MatchString(lines[j]) {
			return true
		}
		at = min(at, indent) // what is further in may be a text's own indentation
	}
	return false
}

// ordered puts the sections of the file and the keys of its resources into the
// usual order, each with the comments above it.
func ordered(root *yaml.Node, lines []string) []string {
	if root.Kind != yaml.MappingNode || root.Style&yaml.FlowStyle != 0 {
		return lines
	}
	for i := 0; i+1 < len(root.Content); i += 2 {
		if root.Content[i].Value != "resources" || root.Content[i+1].Kind != yaml.MappingNode {
			continue
		}
		section := root.Content[i+1]
		for j := 1; j < len(section.Content); j += 2 {
			lines = reordered(section.Content[j], lines, tidyResourceKeys)
		}
	}
	return reordered(root, lines, topKeys)
}

// tidyResourceKeys is the order in which the keys of a resource are read best.
var tidyResourceKeys = strings.Fields("type from when repeat after find was region inputs want features makes extra " +
	"health patience guard rebuild pace at_retire leave")

// reordered sorts the entries of a block mapping by the place of their keys in
// a list. Lines stay together with the comments above them.
func reordered(n *yaml.Node, lines []string, order []string) []string {
	if n.Kind != yaml.MappingNode || n.Style&yaml.FlowStyle != 0 || len(n.Content) < 4 {
		return lines
	}
	rank := func(key string) int {
		if i := slices.Index(order, key); i >= 0 {
			return i
		}
		return len(order)
	}
	sorted := true
	var starts []int
	for i := 0; i+1 < len(n.Content); i += 2 {
		starts = append(starts, n.Content[i].Line-1)
		sorted = sorted && (i == 0 || rank(n.Content[i-2].Value) <= rank(n.Content[i].Value))
	}
	if sorted || len(slices.Compact(slices.Clone(starts))) != len(starts) || !slices.IsSorted(starts) ||
		starts[len(starts)-1] >= len(lines) {
		return lines // several on a line, or lines that YAML counts otherwise
	}
	indent := n.Content[0].Column - 1
	for i := range starts { // comments above belong to the entry
		for starts[i] > 0 && i > 0 && starts[i]-1 > starts[i-1] && comment(lines, starts[i]-1, indent) {
			starts[i]--
		}
	}
	end := starts[len(starts)-1] + 1
	for end < len(lines) && (strings.TrimSpace(lines[end]) == "" ||
		len(lines[end])-len(strings.TrimLeft(lines[end], " ")) > indent) {
		end++
	}
	type part struct {
		rank  int
		lines []string
	}
	var parts []part
	for i, start := range starts {
		stop := end
		if i+1 < len(starts) {
			stop = starts[i+1]
		}
		parts = append(parts, part{rank(n.Content[2*i].Value), slices.Clone(lines[start:stop])})
	}
	slices.SortStableFunc(parts, func(a, b part) int { return cmp.Compare(a.rank, b.rank) })
	out := slices.Clone(lines[:starts[0]])
	for _, p := range parts {
		out = append(out, p.lines...)
	}
	return append(out, lines[end:]...)
}

// comment reports whether a line is a comment of what stands at an indentation or further in.
func comment(lines []string, i, indent int) bool {
	trimmed := strings.TrimLeft(lines[i], " ")
	return strings.HasPrefix(trimmed, "#") && len(lines[i])-len(trimmed) >= indent && !insideBlock(lines, i)
}
