package change

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// notes tell how a resource behaves in changes.
func notes(r render.Resource) []string {
	var out []string
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if r.Find != nil {
		add("uses the one with %s; never changed nor removed", findWords(r.Find))
	}
	if r.Guard {
		add("guarded")
	}
	if r.Region != "" {
		add("in region %s", r.Region)
	}
	if r.NewFirst {
		add("a rebuild makes the new one first")
	}
	if r.AtOnce > 0 {
		add("at most %d at a time", r.AtOnce)
	}
	if r.AtRetire == "keep" {
		add("kept when the stack is retired")
	}
	if r.AtRetire == "snapshot" {
		add("a snapshot is taken when the stack is retired")
	}
	if len(r.Leave) > 0 {
		add("others may alter %s", strings.Join(r.Leave, ", "))
	}
	if len(r.Extra) > 0 {
		add("own options of the cloud: %s", strings.Join(slices.Sorted(maps.Keys(r.Extra)), ", "))
	}
	return out
}

func findWords(find map[string]any) string {
	for _, by := range []string{"id", "name"} {
		if v, ok := find[by]; ok {
			return fmt.Sprintf("%s %v", by, v)
		}
	}
	tags, _ := find["tags"].(map[string]any)
	var words []string
	for _, k := range slices.Sorted(maps.Keys(tags)) {
		words = append(words, fmt.Sprintf("%s=%v", k, tags[k]))
	}
	return "tags " + strings.Join(words, " ")
}

// waves tells that the members of a group are replaced by an alteration.
func (c Change) waves() []string {
	if c.Waves == 0 {
		return nil
	}
	return []string{fmt.Sprintf("its members are replaced by new ones, a quarter at a time, each wave ready before "+
		"the next: %d waves", c.Waves)}
}

// wavesOf is in how many waves the members of a group are replaced by an alteration: in none
// where nothing of them changes. A quarter of the members goes at a time, at least one.
func (c Change) wavesOf(r render.Resource, was *Recorded) int {
	t, _ := resource.ByName(r.Type)
	ofMembers := func(f Field) bool {
		at := strings.IndexAny(f.Name+".", ".[")
		p, ok := t.Property(f.Name[:at])
		return ok && p.Waves
	}
	if c.Change != Alter || !slices.ContainsFunc(c.Fields, ofMembers) {
		return 0
	}
	members := 1
	for _, told := range []any{was.Attributes["count"], r.Want["members"], r.Want["least"]} {
		if n, err := strconv.Atoi(fmt.Sprint(told)); err == nil && n > 0 {
			members = n
			break
		}
	}
	at := max(1, members/4)
	return (members + at - 1) / at
}
