package render

import (
	"slices"
	"strings"

	"undersail/internal/core/lang"
)

// Locate tells of each finding where the template says what it is about, and which
// inputs the value there comes from.
func Locate(t *lang.Template, findings []Finding) []Finding {
	if t == nil {
		return findings
	}
	out := slices.Clone(findings)
	for i := range out {
		f := &out[i]
		if f.Line > 0 {
			continue
		}
		if name, ok := strings.CutPrefix(f.Place, "inputs."); ok {
			name, _, _ = strings.Cut(strings.NewReplacer("[", ".", "/", ".").Replace(name), ".")
			if in := t.Input(name); in != nil {
				f.File, f.Line, f.Inputs = t.File, in.Position.Line, name
			}
			continue
		}
		n := declared(t, f.Place)
		if n == nil {
			continue
		}
		f.File, f.Line = t.File, n.Line
		if from := declared(t, f.From); from != nil {
			n = from
		}
		inputs := readBy(t, n, 0)
		if f.From != "" && f.Take != "" { // of several that a rule is made of, those that can be what mends it
			fit := slices.DeleteFunc(slices.Clone(inputs), func(name string) bool { return !ranges(t.Input(name)) })
			if len(fit) > 0 {
				inputs = fit
			}
		}
		if f.Inputs = strings.Join(inputs, ","); len(inputs) != 1 {
			f.Take = "" // it is not known for which
		}
	}
	return out
}

// ranges reports whether an input is an address range, or several.
func ranges(in *lang.Input) bool {
	items, _ := in.Schema["items"].(map[string]any)
	return in.Schema["format"] == "cidr" || items["format"] == "cidr"
}

// InputsOf lists the inputs that a property is written with, directly or through calc, in the order
// in which it reads them. A place is such as gateway.size or worker[0].disks.
func InputsOf(t *lang.Template, place string) []string {
	if t == nil {
		return nil
	}
	return readBy(t, declared(t, place), 0)
}

// declared finds what a place such as gateway.size or worker[0].disks is written as.
func declared(t *lang.Template, place string) *lang.Node {
	parts := strings.SplitN(place, ".", 2)
	name, _, _ := strings.Cut(parts[0], "[")
	i := slices.IndexFunc(t.Resources, func(r *lang.Resource) bool { return r.Name == name })
	if i < 0 {
		return nil
	}
	r := t.Resources[i]
	whole := &lang.Node{Position: r.Position}
	if len(parts) < 2 || r.Want == nil {
		return whole
	}
	property, _, _ := strings.Cut(parts[1], "[")
	property, _, _ = strings.Cut(property, ".")
	if n := r.Want.Get(property); n != nil {
		return n
	}
	return whole
}

// readBy lists the inputs that a value reads, through calc too.
func readBy(t *lang.Template, n *lang.Node, depth int) []string {
	var out []string
	add := func(names ...string) {
		for _, name := range names {
			if !slices.Contains(out, name) && t.Input(name) != nil {
				out = append(out, name)
			}
		}
	}
	var walk func(n *lang.Node)
	walk = func(n *lang.Node) {
		if n == nil {
			return
		}
		if n.Program != nil {
			for _, use := range n.Program.Uses {
				for _, name := range use.Fields {
					switch v := t.CalcValue(name); {
					case use.Name == "inputs":
						add(name)
					case use.Name == "calc" && v != nil && depth < 20:
						add(readBy(t, v, depth+1)...)
					}
				}
			}
		}
		for _, e := range n.Entries {
			walk(e.Value)
		}
		for _, item := range n.Items {
			walk(item)
		}
	}
	walk(n)
	return out
}
