package use

import (
	"regexp"
	"slices"
	"strings"

	"undersail/internal/core/resource"
)

// What goes with a secret, with everything in its place: references, names of attributes, and
// of what is not known in any way what it waits for.

// member is what tells the members of a repetition apart.
var member = regexp.MustCompile(`\[[^\[\]]*\]`)

// ofItself names what a member of a repetition tells of itself by the repetition: what each
// sends to itself is the same for all, and so for one more.
func ofItself(tree any, members []string) any {
	if len(members) != 1 {
		return tree
	}
	declared := member.ReplaceAllString(members[0], "")
	if declared == members[0] {
		return tree
	}
	return resource.MapTexts(tree, func(text string) string {
		return strings.ReplaceAll(text, "⟨"+members[0]+".", "⟨"+declared+".")
	})
}

// versionless takes the versions out of the references in a tree: a new version of a secret
// goes where the one before it went.
func versionless(tree any) any {
	return resource.MapTexts(tree, func(text string) string {
		for _, reference := range resource.Written(text) {
			name, _, _ := strings.Cut(reference, "@")
			text = strings.ReplaceAll(text, "secret:"+reference, "secret:"+name)
		}
		return text
	})
}

// place gives a value with references and names of attributes in their places. Marks is the
// same value with marks there, as far as it could be computed so; what is not known in any
// way stays pending.
func place(value, marks any) any {
	switch t := value.(type) {
	case resource.Unresolved:
		switch {
		case t.Marked != nil:
			return resource.Placed(t.Marked)
		case len(t.Secrets) == 0 && marks != nil && !unknown(marks):
			return resource.Placed(marks)
		case len(t.Waits) == 0:
			return t.String()
		}
		return map[string]any{"pending": list(t.Waits), "secrets": list(t.Secrets)}
	case []any:
		items, _ := marks.([]any)
		out := make([]any, len(t))
		for i, v := range t {
			var m any
			if len(items) == len(t) {
				m = items[i]
			}
			out[i] = place(v, m)
		}
		return out
	case map[string]any:
		fields, _ := marks.(map[string]any)
		out := make(map[string]any, len(t))
		for k, v := range t {
			out[k] = place(v, fields[k])
		}
		return out
	}
	if marks != nil && !unknown(marks) && len(resource.Marked(marks)) == 0 {
		return resource.Placed(marks)
	}
	return value
}

func list(texts []string) []any {
	out := make([]any, len(texts))
	for i, t := range texts {
		out[i] = t
	}
	return out
}

func unknown(tree any) bool {
	found := false
	resource.Leaves(tree, func(_ string, leaf any) {
		_, is := leaf.(resource.Unresolved)
		found = found || is
	})
	return found
}

// spec is what a check or a task is made of, with everything in its place.
func spec(values, marks map[string]any) map[string]any {
	out, _ := place(values, marks).(map[string]any)
	return out
}

// made lists the expressions that make more of a secret than putting it in its place.
func made(tree any) string {
	var list []string
	resource.Leaves(tree, func(_ string, leaf any) {
		if u, is := leaf.(resource.Unresolved); is && u.Made != "" && !slices.Contains(list, u.Made) {
			list = append(list, u.Made)
		}
	})
	return strings.Join(list, "; ")
}

// pending lists what is not known yet of what goes with a secret, beside what only says
// where something is: that has its place.
func pending(placed any) []string {
	var out []string
	resource.Leaves(placed, func(_ string, leaf any) {
		if t, is := leaf.(map[string]any); is {
			out = append(out, resource.Pending(t)...)
		}
	})
	slices.Sort(out)
	return slices.Compact(out)
}
