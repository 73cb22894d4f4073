package health

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Tells judges what a resource tells of itself, for a check of the kind tells: the
// attribute must be, or hold, what is wanted, or be at least as much.
func Tells(c Check, attributes map[string]any) (asked, answer string, passed bool) {
	name, _ := c.Spec["attribute"].(string)
	v, told := attributes[name]
	asked = "what it tells as " + name
	want, given := c.Spec["is"]
	least, bounded := numberOf(c.Spec["least"])
	switch {
	case given && bounded:
		asked += fmt.Sprintf(", which must be %s and at least %v", plain(want), least)
	case given:
		asked += ", which must be " + plain(want)
	case bounded:
		asked += fmt.Sprintf(", at least %v", least)
	}
	if !told {
		return asked, "it is not told", false
	}
	passed = !given || holds(want, v)
	if n, is := numberOf(v); bounded {
		passed = passed && is && n >= least
	}
	return asked, missing(plain(v), want, v, passed), passed
}

// missing names what of a mapping is not as wanted, where that is not all of it.
func missing(answer string, want, v any, passed bool) string {
	wanted, isMap := want.(map[string]any)
	has, _ := v.(map[string]any)
	if passed || !isMap {
		return answer
	}
	var out []string
	for name, x := range wanted {
		switch have, there := has[name]; {
		case !there:
			out = append(out, name+" is not there")
		case !holds(x, have):
			out = append(out, fmt.Sprintf("%s is %s", name, plain(have)))
		}
	}
	slices.Sort(out)
	return cmp.Or(strings.Join(out, "; "), answer)
}

func holds(want, v any) bool {
	switch w := want.(type) {
	case map[string]any:
		has, ok := v.(map[string]any)
		for name, x := range w {
			ok = ok && holds(x, has[name])
		}
		return ok
	case []any:
		has, ok := v.([]any)
		for _, x := range w {
			ok = ok && slices.ContainsFunc(has, func(y any) bool { return holds(x, y) })
		}
		return ok
	}
	return plain(want) == plain(v)
}

func numberOf(v any) (float64, bool) {
	switch n := v.(type) {
	case int64:
		return float64(n), true
	case int:
		return float64(n), true
	case float64:
		return n, true
	}
	return 0, false
}

// plain writes a value as it went through JSON.
func plain(v any) string {
	if text, ok := v.(string); ok {
		return text
	}
	if n, ok := numberOf(v); ok && n == float64(int64(n)) {
		return fmt.Sprint(int64(n))
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(raw)
}
