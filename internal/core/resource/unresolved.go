package resource

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Unresolved stands in a tree of values for a leaf that is not known yet: it
// waits for attributes of resources that are still to be made, or it is made
// with secrets, which stay references until the moment of the call.
type Unresolved struct {
	Waits   []string // such as net.id or worker[0].private_address, sorted
	Secrets []string // such as gauge-intake/admin_password@1, sorted
	// Marked is the value with marks in the places of secrets and attributes: what stands
	// around them. It is nil where something else of it is not known, and where it is more
	// than put together: then Made is the expression that makes it.
	Marked any
	Made   string
}

// MarshalJSON writes what is known around secrets with their references in their places,
// alone as "secret:NAME"; what waits as {"pending": [...]}.
func (u Unresolved) MarshalJSON() ([]byte, error) {
	switch {
	case len(u.Waits) == 0 && u.Marked != nil:
		return json.Marshal(Shown(u.Marked))
	case len(u.Waits) == 0:
		return json.Marshal(u.String())
	}
	out := map[string]any{"pending": u.Waits}
	if len(u.Secrets) > 0 {
		out["secrets"] = u.Secrets
	}
	if u.Marked != nil {
		out["text"] = Shown(u.Marked)
	}
	return json.Marshal(out)
}

// String shows the leaf to people.
func (u Unresolved) String() string {
	var parts []string
	for _, s := range u.Secrets {
		parts = append(parts, "secret:"+s)
	}
	if len(u.Waits) > 0 {
		parts = append(parts, "waits for "+strings.Join(u.Waits, ", "))
	}
	return strings.Join(parts, " + ")
}

// Pending gives what a leaf waits for that went through JSON: {"pending": [...]}. It
// is nil for anything else.
func Pending(tree map[string]any) []string {
	list, ok := tree["pending"].([]any)
	for key := range tree {
		ok = ok && (key == "pending" || key == "secrets" || key == "text")
	}
	if !ok {
		return nil
	}
	out := []string{}
	for _, v := range list {
		out = append(out, fmt.Sprint(v))
	}
	return out
}

// Leaves calls f for every leaf of a tree of maps and lists, in a fixed order.
func Leaves(tree any, f func(path string, leaf any)) { leaves("", tree, f) }

func leaves(path string, tree any, f func(string, any)) {
	switch t := tree.(type) {
	case map[string]any:
		if Pending(t) != nil {
			f(path, tree)
			return
		}
		keys := make([]string, 0, len(t))
		for k := range t {
			keys = append(keys, k)
		}
		slices.Sort(keys)
		for _, k := range keys {
			p := k
			switch {
			case strings.HasPrefix(k, "["): // an item of a list, by what tells it apart
				p = path + k
			case path != "":
				p = path + "." + k
			}
			leaves(p, t[k], f)
		}
	case []any:
		for i, e := range t {
			leaves(path+"["+strconv.Itoa(i)+"]", e, f)
		}
	default:
		f(path, tree)
	}
}

// Waits lists what the unresolved leaves of a tree wait for, sorted and once each.
func Waits(tree any) []string {
	return collect(tree, func(u Unresolved) []string { return u.Waits })
}

// Secrets lists the secrets that the unresolved leaves of a tree are made with.
func Secrets(tree any) []string {
	return collect(tree, func(u Unresolved) []string { return u.Secrets })
}

func collect(tree any, of func(Unresolved) []string) []string {
	out := gather(nil, tree, of)
	slices.Sort(out)
	return slices.Compact(out)
}

// gather appends what the unresolved leaves of a tree hold, in any order.
func gather(out []string, tree any, of func(Unresolved) []string) []string {
	switch t := tree.(type) {
	case Unresolved:
		return append(out, of(t)...)
	case map[string]any:
		for _, v := range t {
			out = gather(out, v, of)
		}
	case []any:
		for _, v := range t {
			out = gather(out, v, of)
		}
	}
	return out
}
