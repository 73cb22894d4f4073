package lang

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Difference is one thing that two versions of a template say differently.
type Difference struct {
	// Change is added, removed or changed.
	Change string `json:"change"`
	// What is the place: inputs.workers, resources.gateway.want.size.
	What string `json:"what"`
	// Lines tell before and after.
	Lines []string `json:"lines,omitempty"`
	// Breaking says that what worked with the one may not work with the other.
	Breaking bool `json:"breaking,omitempty"`
}

// Differences tells what changed from one template to another, in the order of
// the later one: sections, then names, then keys. Comments and layout do not
// count.
func Differences(before, after *Template) []Difference {
	out := []Difference{}
	a, b := readTree(newReport("", before.Source), before.Source), readTree(newReport("", after.Source), after.Source)
	if a == nil || b == nil {
		return out
	}
	compareTrees(&out, "", a, b, 0)
	for i, d := range out {
		name, isInput := strings.CutPrefix(d.What, "inputs.")
		if in := after.Input(name); isInput && d.Change == "added" && in != nil && in.Required() {
			out[i].Breaking = true
			out[i].Lines = append(out[i].Lines, "it has no default: whoever takes this version must give it")
		}
		if strings.HasPrefix(d.What, "outputs.") && d.Change == "removed" {
			out[i].Breaking = true
			out[i].Lines = append(out[i].Lines, "what reads it stops working")
		}
	}
	return out
}

// deepest is how far trees are compared key by key; below, a value is told whole.
const deepest = 4

func compareTrees(out *[]Difference, path string, a, b *Node, depth int) {
	if a.Kind != Mapping || b.Kind != Mapping || depth >= deepest {
		if x, y := a.words(), b.words(); x != y {
			*out = append(*out, Difference{
				Change: "changed",
				What:   path,
				Lines:  []string{"before  " + x, "after   " + y},
			})
		}
		return
	}
	at := func(key string) string { return strings.TrimPrefix(path+"."+key, ".") }
	for _, e := range b.Entries {
		was := a.Get(e.Key)
		if was == nil {
			*out = append(*out, Difference{Change: "added", What: at(e.Key), Lines: []string{e.Value.words()}})
			continue
		}
		compareTrees(out, at(e.Key), was, e.Value, depth+1)
	}
	for _, e := range a.Entries {
		if b.Get(e.Key) == nil {
			*out = append(*out, Difference{Change: "removed", What: at(e.Key)})
		}
	}
}

// words writes a value on one line.
func (n *Node) words() string {
	switch n.Kind {
	case Expression:
		return "=" + n.Text
	case Scalar:
		return n.Text
	}
	raw, err := yaml.Dump(n.textTree(), yaml.WithIndent(2))
	if err != nil {
		return fmt.Sprint(n.textTree())
	}
	line := strings.Join(strings.Fields(string(raw)), " ")
	if r := []rune(line); len(r) > 160 {
		line = string(r[:159]) + "…"
	}
	return line
}

func (n *Node) textTree() any {
	switch n.Kind {
	case Sequence:
		out := make([]any, len(n.Items))
		for i, item := range n.Items {
			out[i] = item.textTree()
		}
		return out
	case Mapping:
		out := yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}
		for _, e := range n.Entries {
			key, value := &yaml.Node{Kind: yaml.ScalarNode, Value: e.Key}, &yaml.Node{}
			if value.Encode(e.Value.textTree()) == nil {
				out.Content = append(out.Content, key, value)
			}
		}
		return &out
	case Expression:
		return "=" + n.Text
	}
	return n.Plain()
}
