package exchange

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
)

// InputsFile writes an inputs file to fill in: every input with its title, what
// it wants and its default, page by page. Inputs that have a default are there as
// comments; those that need a value stand open.
func InputsFile(w io.Writer, t *lang.Template) error {
	var b strings.Builder
	fmt.Fprintf(&b, "# Inputs of %s %s: %s\n", t.About.Name, t.About.Version, t.About.Title)
	page := ""
	for _, in := range t.Inputs {
		if in.Page != page {
			page = in.Page
			fmt.Fprintf(&b, "\n# --- %s ---\n", page)
		}
		b.WriteString("\n")
		if in.Title != "" {
			fmt.Fprintf(&b, "# %s\n", in.Title)
		}
		fmt.Fprintf(&b, "# %s\n", wants(in))
		switch {
		case in.Secret:
			fmt.Fprintf(&b, "# Not here: give it with --secret %s=FILE\n", in.Name)
		case in.Default != nil && in.Default.Kind == lang.Expression:
			fmt.Fprintf(&b, "# %s:   # computed when left out\n", in.Name)
		case in.Default != nil:
			raw, err := yaml.Dump(map[string]any{in.Name: in.Default.Plain()}, yaml.WithIndent(2))
			if err != nil {
				return fmt.Errorf("write input %s: %w", in.Name, err)
			}
			for line := range strings.Lines(string(raw)) {
				b.WriteString("# " + line)
			}
		case in.Later:
			fmt.Fprintf(&b, "# %s:   # given in the middle of the run\n", in.Name)
		case in.Optional:
			fmt.Fprintf(&b, "# %s:   # may be left out\n", in.Name)
		default:
			fmt.Fprintf(&b, "%s:   # needs a value\n", in.Name)
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// wants says in one line what an input takes.
func wants(in *lang.Input) string {
	parts := []string{in.Shape.Describe()}
	switch {
	case in.Secret:
		parts[0] = "secret, " + in.Rules.Words()
		if in.Generate {
			parts = append(parts, "drawn when left out")
		}
		return strings.Join(parts, "; ")
	case in.Picks == "zones":
		parts[0] = "a list of zones of the region"
	case in.Picks != "":
		parts[0] = "a " + strings.ReplaceAll(in.Picks, "_", " ") + " that the region offers"
	}
	if in.Needs.VCPUs > 0 {
		parts = append(parts, fmt.Sprintf("at least %d vcpus", in.Needs.VCPUs))
	}
	if in.Needs.Memory > 0 {
		parts = append(parts, "at least "+resource.FormatData(in.Needs.Memory)+" of memory")
	}
	if in.Needs.Architecture != "" {
		parts = append(parts, in.Needs.Architecture)
	}
	for _, key := range slices.Sorted(maps.Keys(in.Schema)) {
		switch key {
		case "type", "items", "properties", "title", "description", "format":
		default:
			parts = append(parts, fmt.Sprintf("%s %v", key, in.Schema[key]))
		}
	}
	return strings.Join(parts, "; ")
}
