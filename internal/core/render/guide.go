package render

import (
	"fmt"
	"strings"

	"undersail/internal/core/resource"
)

// unknown is written in a guide for a value that is not known yet.
const unknownYet = "..."

// guide fills the template's guide in. Secrets stand in it as references; a rendering
// that reveals them has none.
func (e *evaluator) guide() string {
	if len(e.template.Guide) == 0 {
		return ""
	}
	outputs := map[string]any{}
	for _, o := range e.out.Outputs {
		outputs[o.Name] = o.Value
	}
	var out strings.Builder
	for _, p := range e.template.Guide {
		switch {
		case p.Output != "":
			out.WriteString(guideText(outputs[p.Output]))
		case p.Value != nil:
			v, err := e.eval(p.Value, resource.Shape{Kind: resource.Open}, e.vars)
			if err != nil {
				e.broken("guide", p.Value, err)
				v = nil
			}
			out.WriteString(guideText(v))
		default:
			out.WriteString(p.Text)
		}
	}
	return out.String()
}

func guideText(v any) string {
	switch t := v.(type) {
	case nil:
		return unknownYet
	case resource.Unresolved:
		if len(t.Waits) > 0 {
			return unknownYet
		}
		return t.String()
	case []any:
		parts := make([]string, len(t))
		for i, x := range t {
			parts[i] = guideText(x)
		}
		return strings.Join(parts, ", ")
	}
	return fmt.Sprint(v)
}
