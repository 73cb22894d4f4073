package resource

import (
	"fmt"

	"go.yaml.in/yaml/v4"
)

// CloudConfig writes first-boot configuration as cloud-init reads it.
func CloudConfig(document any) ([]byte, error) {
	raw, err := yaml.Dump(document)
	if err != nil {
		return nil, fmt.Errorf("encode user data: %w", err)
	}
	return append([]byte("#cloud-config\n"), raw...), nil
}

// Known is a tree with nothing in the places of what is not known yet.
func Known(tree any) any {
	switch t := tree.(type) {
	case map[string]any:
		out := make(map[string]any, len(t))
		for name, v := range t {
			out[name] = Known(v)
		}
		return out
	case []any:
		out := make([]any, len(t))
		for i, v := range t {
			out[i] = Known(v)
		}
		return out
	case Unresolved:
		return ""
	}
	return tree
}
