package review

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"undersail/internal/core/change"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/proposing"
)

// Unmet are the lines of what a template needs that what was chosen does not reach.
func Unmet(list []render.Compliance) (out []render.Compliance) {
	for _, x := range list {
		if !x.Met {
			out = append(out, x)
		}
	}
	return out
}

// CostLine tells a cost, beside what is paid now.
func CostLine(after, now price.Cost) string {
	if after.Hour == 0 && now.Hour == 0 {
		if len(after.Untold) > 0 {
			return "not told: the cloud tells no price for " + strings.Join(after.Untold, ", ")
		}
		return "nothing that has a price"
	}
	s := fmt.Sprintf("%.3f %s an hour, about %.0f a month", after.Hour, after.Currency, after.Month)
	if after.Ahead > 0 {
		s += fmt.Sprintf(" (%.0f ahead)", after.Ahead)
	}
	if after.Licence > 0 {
		s += fmt.Sprintf(", %.0f of it licences", after.Licence*price.HoursPerMonth)
	}
	if after.Most > after.Hour {
		s += fmt.Sprintf(", at most %.0f when it has grown", after.Most*price.HoursPerMonth)
	}
	if now.Hour > 0 {
		s += fmt.Sprintf("; now %.3f an hour, a difference of %+.0f a month", now.Hour, after.Month-now.Month)
	}
	if len(after.Untold) > 0 {
		s += "; not told for " + strings.Join(after.Untold, ", ")
	}
	return s
}

// DurationLine tells how long a proposal takes, beside what its template promises.
func DurationLine(p proposing.Proposal) string {
	text := fmt.Sprintf("about %s", Clock(p.Seconds, p.Rate))
	if p.Promise > 0 {
		text += fmt.Sprintf(", where the template says %s", Seconds(float64(p.Promise)))
	}
	return text + "; decided by " + OrDash(strings.Join(p.Longest, " > "))
}

// ChangeLine tells why a resource changes, or what of it.
func ChangeLine(c change.Change) string {
	var parts []string
	switch {
	case c.Reason != "":
		parts = append(parts, c.Reason)
	case c.Change == change.Create: // what is wanted of it follows below
	default:
		for _, f := range c.Fields {
			parts = append(parts, f.Name)
		}
	}
	if c.Loses {
		parts = append(parts, "what it holds is lost")
	}
	return strings.Join(append(parts, c.Notes...), "; ")
}

// InBrief tells a value in a few words: of a mapping its keys, of a list of mappings
// each.
func InBrief(v any) string {
	switch t := v.(type) {
	case map[string]any:
		if resource.Pending(t) != nil {
			break
		}
		keys := slices.Sorted(maps.Keys(t))
		scalars := !slices.ContainsFunc(keys, func(k string) bool {
			switch t[k].(type) {
			case map[string]any, []any:
				return true
			}
			return false
		})
		if !scalars {
			return "{" + strings.Join(keys, ", ") + "}"
		}
	case []any:
		var items []string
		for _, item := range t {
			m, ok := item.(map[string]any)
			if !ok || resource.Pending(m) != nil {
				items = append(items, Value(item))
				continue
			}
			var parts []string
			for _, k := range slices.Sorted(maps.Keys(m)) {
				parts = append(parts, k+" "+Value(m[k]))
			}
			items = append(items, strings.Join(parts, ", "))
		}
		if items != nil {
			return "[" + strings.Join(items, "; ") + "]"
		}
	}
	return Value(v)
}

// Clock tells a span of real seconds on the account's clock, with the real time in
// brackets where that clock runs at another rate.
func Clock(real, rate float64) string {
	if rate <= 0 || math.Abs(rate-1) < 1e-9 {
		return Seconds(real)
	}
	return Seconds(real*rate) + " (" + Seconds(real) + " real)"
}

func Seconds(s float64) string {
	switch {
	case s >= 3600:
		return fmt.Sprintf("%dh %02dm", int(s)/3600, int(s)/60%60)
	case s >= 60:
		return fmt.Sprintf("%dm %02ds", int(s)/60, int(s)%60)
	case s >= 10:
		return fmt.Sprintf("%.0fs", s)
	}
	return fmt.Sprintf("%.1fs", s)
}

func Prefixed(prefix, s string) string {
	if s == "" {
		return ""
	}
	return prefix + s
}

func OrDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func Value(v any) string {
	switch t := inWords(v).(type) {
	case nil:
		return ""
	case string:
		return t
	default:
		raw, err := json.Marshal(t)
		if err != nil {
			return fmt.Sprint(t)
		}
		return string(raw)
	}
}

// Line writes a value on one line.
func Line(v any) string {
	return strings.ReplaceAll(strings.TrimSpace(Value(v)), "\n", " ⏎ ")
}

// inWords puts what is pending anywhere in a value into words.
func inWords(v any) any {
	switch t := v.(type) {
	case resource.Unresolved:
		return t.String()
	case map[string]any:
		if waits := resource.Pending(t); waits != nil {
			if text, shown := t["text"]; shown {
				return inWords(text)
			}
			return "waits for " + strings.Join(waits, ", ")
		}
		out := make(map[string]any, len(t))
		for k, x := range t {
			out[k] = inWords(x)
		}
		return out
	case []any:
		out := make([]any, len(t))
		for i, x := range t {
			out[i] = inWords(x)
		}
		return out
	}
	return v
}
