package resource

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// A value that a secret takes part in is shown with only the secret taken out: a mark
// stands in its place, and another where an attribute of a resource comes. Marks are made
// of characters of a private use area, which texts of templates and inputs may not hold, so
// that nobody writes one.
const (
	beginSecret    = '\uE000'
	beginAttribute = '\uE001'
	isNow          = '\uE002'
	endMark        = '\uE003'
)

// MarkSecret stands for the value of a secret. Of two variants one is longer: what is more
// than put in its place comes out otherwise with each.
func MarkSecret(reference string, second bool) string {
	if second {
		reference = "second " + strings.ToUpper(reference) + " " + reference
	}
	return string(beginSecret) + reference + string(endMark)
}

// MarkAttribute stands for an attribute such as db.private_address, with the value that it
// has now, if it has one.
func MarkAttribute(name, now string) string {
	return string(beginAttribute) + name + string(isNow) + now + string(endMark)
}

// ReferenceKey is the only key of a mapping that stands for a secret where one stack reads
// the outputs of another.
const ReferenceKey = "$secret"

// SeemsSecret reports whether a text in a tree, or a key, reads as if a secret stood in it,
// or has characters that only marks have.
func SeemsSecret(tree any) (seems bool) {
	MapTexts(tree, func(text string) string {
		seems = seems || text == ReferenceKey || len(Written(text)) > 0 ||
			strings.ContainsFunc(text, func(r rune) bool { return r >= beginSecret && r <= endMark })
		return text
	})
	return seems
}

var (
	secretMark    = regexp.MustCompile("\uE000(?:second [^ \uE000-\uE003]* )?([^\uE000-\uE003]*)\uE003")
	attributeMark = regexp.MustCompile("\uE001([^\uE000-\uE003]*)\uE002([^\uE000-\uE003]*)\uE003")
)

// Marked lists the secrets that have marks in a tree, sorted and once each.
func Marked(tree any) (references []string) {
	MapTexts(tree, func(text string) string {
		for _, m := range secretMark.FindAllStringSubmatch(text, -1) {
			references = append(references, m[1])
		}
		return text
	})
	slices.Sort(references)
	return slices.Compact(references)
}

// Placed gives a marked tree with references and names of attributes in their places: it
// stays the same while addresses and ids become others.
func Placed(tree any) any {
	return MapTexts(tree, func(text string) string {
		return named(attributeMark.ReplaceAllString(text, "⟨$1⟩"))
	})
}

// Shown gives a marked tree as people see it: references in the places of secrets, and
// attributes as far as they are known.
func Shown(tree any) any {
	return MapTexts(tree, func(text string) string {
		return named(attributeMark.ReplaceAllStringFunc(text, func(mark string) string {
			m := attributeMark.FindStringSubmatch(mark)
			return cmp.Or(m[2], "⟨"+m[1]+"⟩")
		}))
	})
}

// named puts references into the places of secrets. A text that is nothing but a secret
// reads as secret:REFERENCE.
func named(text string) string {
	if m := secretMark.FindStringSubmatch(text); m != nil && m[0] == text {
		return "secret:" + m[1]
	}
	return secretMark.ReplaceAllString(text, "⟨secret:$1⟩")
}

// Spread gives a marked tree as wanted values are: every text with a mark for something that
// is not known becomes a leaf of its own.
func Spread(marked any) any {
	switch t := marked.(type) {
	case string:
		u := Unresolved{Secrets: Marked(t), Marked: t}
		for _, m := range attributeMark.FindAllStringSubmatch(t, -1) {
			if m[2] == "" && !slices.Contains(u.Waits, m[1]) {
				u.Waits = append(u.Waits, m[1])
			}
		}
		if slices.Sort(u.Waits); len(u.Secrets)+len(u.Waits) == 0 {
			return Shown(t)
		}
		return u
	case []any:
		out := make([]any, len(t))
		for i, v := range t {
			out[i] = Spread(v)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(t))
		for k, v := range t {
			out[k] = Spread(v)
		}
		return out
	}
	return marked
}

// Filled gives a marked tree with everything in its place; false says that a secret or an
// attribute is not known.
func Filled(tree any, secret func(reference string) (string, bool)) (out any, whole bool) {
	whole = true
	out = MapTexts(tree, func(text string) string {
		text = attributeMark.ReplaceAllStringFunc(text, func(mark string) string {
			m := attributeMark.FindStringSubmatch(mark)
			whole = whole && m[2] != ""
			return m[2]
		})
		return secretMark.ReplaceAllStringFunc(text, func(mark string) string {
			value, known := secret(secretMark.FindStringSubmatch(mark)[1])
			whole = whole && known
			return value
		})
	})
	return out, whole
}

// MapTexts gives a tree with every text in it, keys too, as f makes it.
func MapTexts(tree any, f func(string) string) any {
	switch t := tree.(type) {
	case string:
		return f(t)
	case []any:
		out := make([]any, len(t))
		for i, v := range t {
			out[i] = MapTexts(v, f)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(t))
		for k, v := range t {
			out[f(k)] = MapTexts(v, f)
		}
		return out
	}
	return tree
}

var (
	written = regexp.MustCompile(`⟨secret:([^⟨⟩]+)⟩`)
	// whole is how a value reads that is nothing but secrets, or, of older programs, that has
	// any in it.
	whole = regexp.MustCompile(`^secret:[^\s⟨⟩+]+( \+ secret:[^\s⟨⟩+]+)*$`)
)

// Written lists the secrets that a recorded or shown text is made with, in the order in
// which they are named.
func Written(text string) (references []string) {
	if whole.MatchString(text) {
		for part := range strings.SplitSeq(text, " + ") {
			references = append(references, strings.TrimPrefix(part, "secret:"))
		}
		return references
	}
	for _, m := range written.FindAllStringSubmatch(text, -1) {
		references = append(references, m[1])
	}
	return references
}

// Without is a copy of wanted values that lacks some.
func Without(values map[string]any, names ...string) map[string]any {
	out := maps.Clone(values)
	for _, name := range names {
		delete(out, name)
	}
	return out
}

// Recorded lists the secrets in what is wanted of a resource, as it is computed or as it is
// recorded, sorted and each once.
func Recorded(tree any) []string {
	secrets := []string{}
	Leaves(tree, func(_ string, leaf any) {
		switch t := leaf.(type) {
		case Unresolved:
			secrets = append(secrets, t.Secrets...)
		case string:
			secrets = append(secrets, Written(t)...)
		case map[string]any: // it waited for something besides
			list, _ := t["secrets"].([]any)
			for _, s := range list {
				secrets = append(secrets, fmt.Sprint(s))
			}
		}
	})
	slices.Sort(secrets)
	return slices.Compact(secrets)
}

// Refilled puts secrets into a recorded text, as far as they are known.
func Refilled(text string, secret func(reference string) (string, bool)) string {
	if whole.MatchString(text) {
		if value, known := secret(strings.TrimPrefix(text, "secret:")); known {
			return value
		}
		return text
	}
	return written.ReplaceAllStringFunc(text, func(part string) string {
		if value, known := secret(written.FindStringSubmatch(part)[1]); known {
			return value
		}
		return part
	})
}

// SameText compares recorded or shown texts. Older programs recorded of a text with secrets
// in it their references alone: it is the same as any with those secrets.
func SameText(a, b string) bool {
	return a == b || older(a, b) || older(b, a)
}

func older(was, now string) bool {
	if !whole.MatchString(was) || whole.MatchString(now) {
		return false
	}
	references := Written(now)
	slices.Sort(references)
	return len(references) > 0 && slices.Equal(Written(was), slices.Compact(references))
}

// filling are the attributes that say where something is and what it is called: they may
// come into a text beside a secret without being asked about. What a machine or a person
// wrote, as the output of a task or a file that was read, may not.
var filling = []string{"id", "address", "addresses", "card_addresses", "database", "endpoint", "fingerprint",
	"full_name", "host", "host_key", "path", "port", "private_address", "public_address", "public_name", "servers",
	"standby"}

// Fills reports whether an attribute of a type only says where something is and what it is
// called.
func (t *Type) Fills(attribute string) bool {
	return !t.Own && slices.Contains(filling, attribute)
}
