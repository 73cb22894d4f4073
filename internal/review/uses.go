package review

import (
	"fmt"
	"strings"

	"undersail/internal/core/resource"
	"undersail/internal/core/use"
)

// purposes say for people what a secret is opened for.
var purposes = map[string]string{
	use.Property: "a property", use.Check: "a check", use.SignIn: "signing in", use.Command: "a command",
	use.Answer: "what a machine that has it answers", use.Output: "an output", use.People: "people signing in",
}

// Purpose says what a secret is opened for.
func Purpose(u use.Use) string {
	if words, known := purposes[u.For]; known {
		return words
	}
	return u.For
}

// Members says of which members of a repetition something is a use.
func Members(u use.Use) string {
	if n := len(u.Members); n > 1 {
		return fmt.Sprintf(" (%d of them)", n)
	}
	return ""
}

// UseText tells what goes where a secret goes, leaf by leaf, each on a line of its own. What
// is nothing but the secret is told by its reference alone.
func UseText(u use.Use) (lines []string) {
	resource.Leaves(map[string]any{"": u.Text}, func(path string, leaf any) {
		path = strings.Trim(path, ".")
		text := Value(leaf)
		if text == "" {
			return
		}
		for i, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
			switch {
			case i > 0:
				lines = append(lines, "  "+line)
			case path == "":
				lines = append(lines, line)
			default:
				lines = append(lines, path+": "+line)
			}
		}
	})
	if u.Made != "" {
		lines = append(lines, "made by ="+u.Made)
	}
	if len(u.Waits) > 0 {
		lines = append(lines, "asked about once more when this is known: "+strings.Join(u.Waits, ", "))
	}
	return lines
}
