package resource

import (
	"fmt"
	"math"
	"strings"

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

// MostOfCloudConfig is how many bytes [CloudConfig] writes of a document at the most: what is asked of
// every machine again and again is counted, which takes a small part of writing it.
func MostOfCloudConfig(document any) int64 {
	return int64(len("#cloud-config\n")) + mostOf(document, 1)
}

// mostOf is how many bytes a tree takes at the most, so many levels deep: each line of it stands
// behind four blanks a level, and no byte needs more than six.
func mostOf(tree any, depth int64) int64 {
	line := 4*depth + 8
	switch t := tree.(type) {
	case map[string]any:
		all := line
		for name, v := range t {
			all += line + mostOf(name, depth) + mostOf(v, depth+1)
		}
		return all
	case []any:
		all := line
		for _, v := range t {
			all += line + mostOf(v, depth+1)
		}
		return all
	case string: // it may be broken wherever it has a blank or a line's end
		breaks := strings.Count(t, " ") + strings.Count(t, "\n") + strings.Count(t, "\t")
		return 6*int64(len(t)) + line*int64(breaks+2)
	case nil, bool, int, int64, float64:
		return line + 32
	}
	return math.MaxInt32
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
