package exchange

import (
	_ "embed"
	"fmt"
	"io"
	"strings"

	"undersail/internal/core/resource"
)

// TypesPage writes the reference of all resource types as Markdown, from their
// one description.
func TypesPage(w io.Writer) error {
	var b strings.Builder
	b.WriteString("# Resource types\n\n")
	b.WriteString("Made by `undersail templates types --markdown` from the descriptions that the program itself " +
		"uses; not written by hand.\n\n")
	b.WriteString("A *wanted property* is given under `want` and reads back at once. A *reported attribute* appears " +
		"after creation; what\nreads it waits until the resource is healthy. *Altering* says what a change of a " +
		"property costs: `in place`, `needs a\nstop`, or `rebuild`. Names without a remark may be left out.\n")
	for _, t := range resource.Types() {
		fmt.Fprintf(&b, "\n## %s\n\n%s Usually healthy after %s; a step is given up after %s.", t.Name, t.About,
			resource.FormatSpan(t.Expect), resource.FormatSpan(t.Patience))
		for _, quota := range t.Quotas() {
			fmt.Fprintf(&b, " Draws on the quota `%s`.", quota)
		}
		if t.HoldsData {
			b.WriteString(" Holds data: it is never removed without a consent.")
		}
		for _, u := range t.Unique {
			fmt.Fprintf(&b, " No two have the same `%s`%s.", u.Property, within(u))
		}
		b.WriteString("\n\n| property | what | value | altering |\n|---|---|---|---|\n")
		for _, p := range t.Properties {
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", p.Name, cell(p.About)+marks(p), cell(valueWords(p.Shape)),
				p.Alter)
		}
		b.WriteString("\n| attribute | what | value |\n|---|---|---|\n")
		for _, a := range t.Attributes {
			secret := ""
			if a.Secret {
				secret = " Secret."
			}
			fmt.Fprintf(&b, "| `%s` | %s%s | %s |\n", a.Name, cell(a.About), secret, cell(valueWords(a.Shape)))
		}
	}
	b.WriteString("\n## Mappings inside properties\n\nEach may be written as a mapping or, in an expression, as a " +
		"typed literal such as `firewall_rule{from: \"10.0.0.0/8\", port: 22}`.\n")
	for _, s := range resource.Literals() {
		fmt.Fprintf(&b, "\n### %s\n\n| field | what | value |\n|---|---|---|\n", s.TypeName)
		for _, p := range s.Fields {
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", p.Name, cell(p.About)+marks(p), cell(valueWords(p.Shape)))
		}
	}
	b.WriteString(altering)
	_, err := io.WriteString(w, b.String())
	return err
}

// altering is the table of what altering each property took, as a test saw it.
//
//go:embed altering.md
var altering string

func marks(p resource.Property) string {
	var out string
	if p.Required {
		out += " **Required.**"
	}
	if p.GrowOnly && !strings.Contains(p.About, "grow") {
		out += " May only grow."
	}
	return out
}

func cell(s string) string { return strings.ReplaceAll(s, "|", "\\|") }

// valueWords says what a value is, with its limits.
func valueWords(s resource.Shape) string {
	words := s.Describe()
	if s.Kind == resource.Object {
		return "`" + s.TypeName + "`"
	}
	if s.Kind == resource.List && s.Items.Kind == resource.Object {
		return "a list of `" + s.Items.TypeName + "`"
	}
	if s.Preferred {
		words += ", or a list in order of preference"
	}
	if len(s.Choices) > 0 {
		return strings.Join(s.Choices, ", ")
	}
	if s.Minimum != 0 || s.Maximum != 0 {
		words += fmt.Sprintf(", %d to %d", s.Minimum, s.Maximum)
	}
	return words
}

// within says where the value of a property is unique.
func within(u resource.Unique) string {
	words := ""
	if u.Overlap {
		words = ", nor one that overlaps it,"
	}
	if u.Within != "" {
		return words + " within their `" + u.Within + "`"
	}
	return words + " in a region at a time"
}
