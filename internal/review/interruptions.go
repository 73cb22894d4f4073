package review

import (
	"fmt"
	"strings"

	"undersail/internal/core/change"
)

// Interruptions tells, for one consent, what happens to what serves: for how long it is gone, since
// what, and which value of an input would avoid it. Members that fare alike are told together.
func Interruptions(list []change.Interruption, consent string, rate float64) []string {
	var said, out []string
	members := map[string][]string{}
	for _, i := range list {
		if i.How != consent {
			continue
		}
		words := interruption(i, rate)
		if members[words] == nil {
			said = append(said, words)
		}
		members[words] = append(members[words], i.Resource)
	}
	for _, words := range said {
		if words != "" {
			out = append(out, few(members[words])+" "+words)
		}
	}
	return out
}

func interruption(i change.Interruption, rate float64) string {
	var parts []string
	switch {
	case i.NewFirst:
		parts = append(parts, "is replaced: the new one is made before the old one goes")
	case i.Seconds > 0:
		parts = append(parts, "is gone for about "+Clock(i.Seconds, rate))
	}
	for _, c := range i.Causes {
		text := fmt.Sprintf("`%s` goes from %s to %s", c.Property, InBrief(c.Before), InBrief(c.After))
		switch {
		case c.Input == "":
		case c.Was == nil && c.Is == nil: // a secret one
			text = fmt.Sprintf("input `%s`, of which `%s` is made, is another", c.Input, c.Property)
		default:
			text = fmt.Sprintf("input `%s`, of which `%s` is made, goes from %s to %s; with %s it would not happen",
				c.Input, c.Property, InBrief(c.Was), InBrief(c.Is), InBrief(c.Was))
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "; ")
}

// few names some of many.
func few(names []string) string {
	if len(names) > 4 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:3], ", "), len(names)-3)
	}
	return strings.Join(names, ", ")
}
