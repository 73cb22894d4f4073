package cli

import (
	"fmt"
	"io"
	"strings"

	"undersail/internal/proposing"
	"undersail/internal/review"
)

// printReviewed tells what a reviewer asks of a proposal beside its changes.
func printReviewed(w io.Writer, p proposing.Proposal) {
	if broken := review.Unmet(p.Compliance); len(p.Compliance) > 0 {
		text := fmt.Sprintf("%d of %d met", len(p.Compliance)-len(broken), len(p.Compliance))
		for _, x := range broken {
			text += fmt.Sprintf("; %s of %s: %s is needed by %s, %s is chosen", x.What, x.Input, x.Needed, x.By,
				x.Chosen)
		}
		labelled(w, "needs", text)
	}
	labelled(w, "public", strings.Join(p.Public, ", "))
	labelled(w, "data", strings.Join(p.Data, ", "))
	labelled(w, "reads", strings.Join(p.Reads, ", "))
	var quota []string
	for _, q := range p.Quota {
		text := fmt.Sprintf("%s %d of %d left", q.Name, q.Left, q.Limit)
		if q.Region != p.Region {
			text = q.Region + " " + text
		}
		if q.Wanted > 0 {
			text += fmt.Sprintf(", %d of it wanted by other proposals", q.Wanted)
		}
		quota = append(quota, text)
	}
	labelled(w, "quota", strings.Join(quota, "; "))
}

// labelled writes a line of a proposal's summary, where there is anything to say.
func labelled(w io.Writer, label, text string) {
	if text == "" {
		return
	}
	var out strings.Builder
	wrapped(&out, text, 10)
	first := strings.TrimLeft(out.String(), " ")
	fmt.Fprintf(w, "%-10s%s", label, first)
}
