package cli

import (
	"fmt"
	"io"
	"strings"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
)

func printDiagnostics(w io.Writer, list lang.Diagnostics) {
	for _, d := range list {
		fmt.Fprint(w, d.Text())
	}
}

// printFindings tells each finding once: what is the same of several resources
// is told of the first with the number of the others, and a remedy once. Of inputs
// that stand in a file it tells the file and the line.
func (a *app) printFindings(w io.Writer, list []render.Finding) {
	remedies := map[string]bool{}
	for _, f := range gathered(list) {
		place := f.Place
		if at := a.places[strings.SplitN(strings.SplitN(place, " ", 2)[0], "[", 2)[0]]; at != "" {
			place = at + ": " + place
		}
		fmt.Fprintf(w, "%-7s %s: %s (%s)\n", f.Severity, place, f.Message, f.Code)
		if from := a.comesFrom(f); from != "" {
			fmt.Fprintf(w, "        at %s\n", from)
		}
		if f.Remedy != "" && !remedies[f.Remedy] {
			fmt.Fprintf(w, "        remedy: %s\n", f.Remedy)
		}
		remedies[f.Remedy] = true
	}
}

// printErrors tells findings of a variant, what is alike once.
func printErrors(w io.Writer, list []render.Finding) {
	for _, f := range gathered(list) {
		wrapped(w, f.Place+": "+f.Message, 2)
		if f.Remedy != "" {
			wrapped(w, "remedy: "+f.Remedy, 6)
		}
	}
}

// gathered gives each finding once: of what is the same of several places the first,
// whose place tells of how many more.
func gathered(list []render.Finding) []render.Finding {
	alike := func(f render.Finding) render.Finding {
		f.Place, f.Line = "", 0
		return f
	}
	var out []render.Finding
	count, at := map[render.Finding]int{}, map[render.Finding]int{}
	for _, f := range list {
		key := alike(f)
		if count[key]++; count[key] == 1 {
			at[key], out = len(out), append(out, f)
		}
	}
	for key, n := range count {
		if n > 1 {
			out[at[key]].Place += fmt.Sprintf(" and %d more", n-1)
		}
	}
	return out
}
