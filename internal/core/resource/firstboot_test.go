package resource

import (
	"math/rand/v2"
	"testing"
)

// TestMostOfADocumentIsNeverLessThanIsWritten writes documents of whatever is awkward in YAML.
func TestMostOfADocumentIsNeverLessThanIsWritten(t *testing.T) {
	t.Parallel()
	draw := rand.New(rand.NewPCG(26, 1))
	pieces := []string{"a", " ", "\n", "\t", "\x00", "\u00e9", "\ufeff", "\U0001f30a", "\u2028", "'", "\"", ": ", "- ",
		"#", "~", "tide gauge ", "0x1f", "\r", "null", "\\", "%", "@", "a long line without a blank in it at all "}
	text := func() string {
		out := ""
		for range draw.IntN(40) {
			out += pieces[draw.IntN(len(pieces))]
		}
		return out
	}
	var tree func(depth int) any
	tree = func(depth int) any {
		switch kind := draw.IntN(9); {
		case depth < 6 && kind < 2 || depth == 0:
			out := map[string]any{}
			for range draw.IntN(5) {
				out[text()] = tree(depth + 1)
			}
			return out
		case depth < 6 && kind < 4:
			out := []any{}
			for range draw.IntN(5) {
				out = append(out, tree(depth+1))
			}
			return out
		case kind == 4:
			return []any{nil, true, int64(-1 << 62), -1.2345678901234567e-300, 17}[draw.IntN(5)]
		}
		return text()
	}
	for range 3000 {
		document := tree(0)
		raw, err := CloudConfig(document)
		if err != nil {
			t.Fatal(err)
		}
		if most := MostOfCloudConfig(document); most < int64(len(raw)) || most > 40*int64(len(raw)) {
			t.Fatalf("at most %d bytes of %d:\n%s", most, len(raw), raw)
		}
	}
}
