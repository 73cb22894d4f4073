package change

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// leafFields tells which leaves of a property differ, so that a change deep in a
// document is seen as that and no more. Items of a list that can be told apart are
// compared with their like, wherever they stand.
func leafFields(p resource.Property, name string, before, after any, alter resource.Alteration, ids *names) []Field {
	was, now := map[string]any{}, map[string]any{}
	resource.Leaves(map[string]any{name: keyed(p, before, ids)},
		func(path string, leaf any) { was[path] = plain(leaf) })
	resource.Leaves(map[string]any{name: keyed(p, after, ids)}, func(path string, leaf any) { now[path] = plain(leaf) })
	var out []Field
	for _, path := range fieldNames(was, now) {
		if !reflect.DeepEqual(was[path], now[path]) {
			out = append(out, Field{path, was[path], now[path], alter})
		}
	}
	if out == nil { // such as a list without items where there was none
		out = append(out, Field{name, plain(before), plain(after), alter})
	}
	return out
}

// rebuilds reports whether a cloud alters a property only by a rebuild: the whole of it, or
// those items of a list that have a field which it does so for. Where it is not known yet
// what of the list differs, it may be one of them.
func rebuilds(list []string, property string, p resource.Property, before, after any) bool {
	if slices.Contains(list, property) {
		return true
	}
	for _, entry := range list {
		field, of := strings.CutPrefix(entry, property+".")
		if of && slices.ContainsFunc(differingItems(p, before, after),
			func(item any) bool { return item == nil || hasField(item, field) }) {
			return true
		}
	}
	return false
}

// differingItems are the items of a list that come, go or change, as they were and as they
// will be; one that is nil says that nobody knows yet.
func differingItems(p resource.Property, before, after any) (out []any) {
	was, listed := keyed(p, before, nil).(map[string]any)
	now, listedNow := keyed(p, after, nil).(map[string]any)
	if !listed && before != nil || !listedNow && after != nil {
		return []any{nil}
	}
	for _, pair := range [][2]map[string]any{{was, now}, {now, was}} {
		for key, item := range pair[0] {
			if !Equal(item, pair[1][key]) {
				out = append(out, item)
			}
		}
	}
	return out
}

func hasField(item any, field string) bool {
	fields, _ := item.(map[string]any)
	return fields[field] != nil
}

func shrinking(r render.Resource, p resource.Property, before, after any) (render.Finding, bool) {
	if !p.GrowOnly {
		return render.Finding{}, false
	}
	b, errB := resource.ParseData(fmt.Sprint(before))
	a, errA := resource.ParseData(fmt.Sprint(after))
	if errA != nil || errB != nil || a >= b {
		return render.Finding{}, false
	}
	return render.Finding{Severity: lang.Error, Code: "shrink", Place: r.Name + "." + p.Name,
		Message: fmt.Sprintf("a %s can only grow, and this goes from %v to %v", r.Type, before, after),
		Remedy:  fmt.Sprintf("keep %v, or make a new %s and move the data", before, r.Type)}, true
}

// names tells the names of recorded resources by their ids, once somebody asks.
type names struct {
	recorded []Recorded
	byID     map[string]string
	offers   *offer.Offers // of the stack's region, where they are known
}

func (n *names) name(id string) string {
	if n == nil {
		return ""
	}
	if n.byID == nil {
		n.byID = make(map[string]string, len(n.recorded))
		for _, r := range n.recorded {
			if id := r.ID(); id != "" {
				n.byID[id] = r.Name
			}
		}
	}
	return n.byID[id]
}

// of names what an id stands for, one that is not known yet by what it waits for.
func (n *names) of(v any) any {
	switch t := v.(type) {
	case string:
		if name := n.name(t); name != "" {
			return name
		}
	case map[string]any:
		if waits := resource.Pending(t); len(waits) == 1 {
			return strings.TrimSuffix(waits[0], ".id")
		}
	}
	return v
}

// label gives an item of a list with the ids that tell it apart by their names.
func (n *names) label(s resource.Shape, item any) any {
	fields, ok := item.(map[string]any)
	if !ok || len(s.Identity) == 0 {
		return n.of(item)
	}
	out := maps.Clone(fields)
	for _, f := range s.Identity {
		if v, there := out[f]; there {
			out[f] = n.of(v)
		}
	}
	return out
}

// keyed gives the items of an unordered list by what tells them apart, so that
// their paths read rules[port 22 from 10.0.0.0/8]. Other values stay as they are.
func keyed(p resource.Property, v any, ids *names) any {
	list, ok := v.([]any)
	if !ok || !p.Unordered() {
		return v
	}
	out := make(map[string]any, len(list))
	for _, item := range list {
		key := "[" + p.Shape.Items.Key(ids.label(*p.Shape.Items, plain(item))) + "]"
		for _, twice := out[key]; twice; _, twice = out[key] {
			key += "'"
		}
		out[key] = item
	}
	return out
}

// differing lists the properties whose values differ, sorted.
func differing(t resource.Type, now, was map[string]any) []string {
	var out []string
	for name, v := range now {
		before, there := was[name]
		if there && Equal(v, before) {
			continue
		}
		if p, _ := t.Property(name); there && p.Unordered() && Equal(keyed(p, v, nil), keyed(p, before, nil)) {
			continue
		}
		out = append(out, name)
	}
	for name := range was {
		if _, there := now[name]; !there {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

func fieldNames(a, b map[string]any) []string {
	all := maps.Clone(a)
	maps.Copy(all, b)
	return slices.Sorted(maps.Keys(all))
}

// Equal compares a new value with a recorded one, which went through JSON: a
// whole number may have become a float64, a pending value a mapping.
func Equal(a, b any) bool {
	switch x := a.(type) {
	case string:
		if y, isText := b.(string); isText {
			return resource.SameText(x, y)
		}
	case nil, bool:
		if _, isUnresolved := b.(resource.Unresolved); !isUnresolved {
			return a == b
		}
	case int64:
		switch y := b.(type) {
		case int64:
			return x == y
		case float64:
			return float64(x) == y
		}
	case float64:
		switch y := b.(type) {
		case int64:
			return x == float64(y)
		case float64:
			return x == y
		}
	case []any:
		y, ok := b.([]any)
		return ok && slices.EqualFunc(x, y, Equal)
	case map[string]any:
		if y, ok := b.(map[string]any); ok {
			return maps.EqualFunc(x, y, Equal)
		}
	}
	x, y := plain(a), plain(b)
	if a, isText := x.(string); isText {
		if b, isText := y.(string); isText {
			return resource.SameText(a, b)
		}
	}
	return reflect.DeepEqual(x, y)
}

func plain(v any) any {
	raw, err := json.Marshal(v)
	if err != nil {
		return v
	}
	var out any
	if err := json.Unmarshal(raw, &out); err != nil {
		return v
	}
	return out
}

// Wanted lists what is wanted of a resource that is made, as fields that nothing was
// before.
func Wanted(want map[string]any) []Field {
	out := make([]Field, 0, len(want))
	for _, name := range fieldNames(want, nil) {
		out = append(out, Field{Name: name, After: plain(want[name])})
	}
	return out
}
