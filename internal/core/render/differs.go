package render

import (
	"fmt"
	"reflect"
	"strings"

	"undersail/internal/core/resource"
)

// Differs finds the first value that was known and is now another. A value that
// was pending may become anything.
func Differs(at string, was, now any) (string, bool) {
	switch w := was.(type) {
	case map[string]any:
		if _, pending := w["pending"]; pending {
			return "", false
		}
		n, ok := now.(map[string]any)
		if !ok {
			return at, true
		}
		for k, v := range w {
			if p, d := Differs(strings.TrimPrefix(at+"."+k, "."), v, n[k]); d {
				return p, true
			}
		}
		for k := range n {
			if _, there := w[k]; !there {
				return strings.TrimPrefix(at+"."+k, "."), true
			}
		}
		return "", false
	case []any:
		n, ok := now.([]any)
		if !ok || len(n) != len(w) {
			return at, true
		}
		for i, v := range w {
			if p, d := Differs(fmt.Sprintf("%s[%d]", at, i), v, n[i]); d {
				return p, true
			}
		}
		return "", false
	}
	if a, isText := was.(string); isText {
		if b, isText := now.(string); isText {
			return at, !resource.SameText(a, b)
		}
	}
	return at, !reflect.DeepEqual(was, now)
}
