package larch

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"undersail/sim/market"
	"undersail/sim/world"
)

// limits are what the cloud takes of properties now, as it tells its customers: by kind and
// property. A fault of the kind limit makes one tighter at any time.
func (c *Cloud) limits(tx *world.Tx, account string) map[string]market.Limit {
	out := maps.Clone(c.market.Limits)
	if out == nil {
		out = map[string]market.Limit{}
	}
	out["roles.grants.may"] = market.Limit{
		Least:   1,
		Most:    out["roles.grants.may"].Most,
		Pattern: rightPattern(),
		Says:    "a kind of resource and read, make, write, change, remove or *, such as disk.read or instance.*",
	}
	for name, l := range out {
		if f, hit := tx.Planned("limit", account, name, "least"); hit {
			l.Least = f.Value
		}
		if f, hit := tx.Planned("limit", account, name, "most"); hit {
			l.Most = f.Value
		}
		out[name] = l
	}
	return out
}

// verbs are what a right allows to be done.
var verbs = []string{"read", "make", "write", "change", "remove"}

// rightPattern is what a right of a role looks like: a kind of resource and what is done to it.
func rightPattern() string {
	var names []string
	for _, k := range kinds {
		names = append(names, k.name)
	}
	slices.Sort(names)
	return `(` + strings.Join(names, "|") + `)\.(\*|` + strings.Join(verbs, "|") + `)`
}

// bounded refuses properties, those that are sent, that are beyond what is taken of them.
func (m *making) bounded(sent map[string]any) error {
	limits := m.cloud.limits(m.tx, m.x.Account)
	for _, name := range slices.Sorted(maps.Keys(limits)) {
		path := strings.Split(name, ".")
		if path[0] != m.x.Kind {
			continue
		}
		if v, there := sent[path[1]]; there && v != nil {
			if err := held(limits[name], path[1], path[2:], v); err != nil {
				return err
			}
		}
	}
	return nil
}

// held holds a value, or a field of each of its items, against a limit.
func held(l market.Limit, at string, fields []string, v any) error {
	items, isList := v.([]any)
	if len(fields) > 0 {
		for i, item := range items {
			one, _ := item.(map[string]any)
			if inner, there := one[fields[0]]; there {
				if err := held(l, fmt.Sprintf("%s[%d].%s", at, i, fields[0]), fields[1:], inner); err != nil {
					return err
				}
			}
		}
		return nil
	}
	members, isMap := v.(map[string]any)
	switch {
	case isList && l.Pattern != "":
		for i, item := range items {
			err := held(market.Limit{Pattern: l.Pattern, Says: l.Says}, fmt.Sprintf("%s[%d]", at, i), nil, item)
			if err != nil {
				return err
			}
		}
	case isMap && allRanges(members):
		for _, name := range slices.Sorted(maps.Keys(members)) {
			if err := held(l, at+"."+name, nil, members[name]); err != nil {
				return err
			}
		}
		return nil
	}
	if n, counts := amountOf(v); counts && (n < l.Least || l.Most > 0 && n > l.Most) {
		return invalid(at, "%s is from %d to %d%s, and not %d", at, l.Least, l.Most, unitOf(v), n)
	}
	if text, is := v.(string); is && l.Pattern != "" && !regexp.MustCompile(`^(?:`+l.Pattern+`)$`).MatchString(text) {
		return invalid(at, "%q is not %s", text, l.Says)
	}
	return nil
}

func allRanges(members map[string]any) bool {
	for _, v := range members {
		if _, err := netip.ParsePrefix(str(v)); err != nil {
			return false
		}
	}
	return len(members) > 0
}

// amountOf is how much of it there is: bits of a range, letters of a text, items, or the
// number itself.
func amountOf(v any) (int64, bool) {
	switch x := v.(type) {
	case string:
		if p, err := netip.ParsePrefix(x); err == nil {
			return int64(p.Bits()), true
		}
		return int64(utf8.RuneCountInString(x)), true
	case []any:
		return int64(len(x)), true
	case map[string]any:
		return int64(len(x)), true
	case int, int64, float64, json.Number:
		return number(x), true
	}
	return 0, false
}

func unitOf(v any) string {
	switch x := v.(type) {
	case string:
		if _, err := netip.ParsePrefix(x); err == nil {
			return " bits"
		}
		return " letters"
	case []any, map[string]any:
		return " items"
	}
	return ""
}
