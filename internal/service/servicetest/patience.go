package servicetest

import (
	"regexp"
	"strings"

	"undersail/internal/core/resource"
)

// resourceLine begins a resource of a template: in one line, or with its type in a line of its own.
var resourceLine = regexp.MustCompile(`^  [a-z_]+: \{type: ([a-z_]+)|^    type: ([a-z_]+)$`)

// Patient gives a template the patience of a test: at the pace of tests, hours
// of the cloud are seconds here, and a busy machine needs more for its own part. What says
// for itself how patient it is stays so.
func Patient(source string) string {
	lines := strings.Split(source, "\n")
	for i, line := range lines {
		at := resourceLine.FindStringSubmatchIndex(line)
		if at == nil || saysPatience(lines[i:]) {
			continue
		}
		if _, known := resource.ByName(line[max(at[2], at[4]):at[1]]); !known {
			continue // of an input
		}
		if at[2] >= 0 {
			lines[i] = line[:at[1]] + ", patience: 99h" + line[at[1]:]
			continue
		}
		lines[i] += "\n    patience: 99h"
	}
	return strings.Join(lines, "\n")
}

// saysPatience reports whether the resource that begins these lines says how patient it is.
func saysPatience(lines []string) bool {
	for i, line := range lines {
		switch {
		case i > 0 && !strings.HasPrefix(line, "    "):
			return false
		case i == 0 && strings.Contains(line, "patience: "), strings.HasPrefix(line, "    patience: "):
			return true
		}
	}
	return false
}
