package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"undersail/internal/api/contract"
	"undersail/internal/review"
	"undersail/internal/stacks"
)

// printGuide writes the guide of a stack for its first use, and how its machines are
// connected to. A stack without either is told nothing of.
func printGuide(ctx context.Context, c *contract.Client, w io.Writer, stack string) {
	g, err := decode[stacks.Guide](c.GetGuide(ctx, stack))
	if err != nil {
		return // it was never applied
	}
	if g.Text != "" {
		fmt.Fprintf(w, "\n%s\n", strings.TrimSpace(g.Text))
	}
	if len(g.Certificates) > 0 {
		fmt.Fprintln(w)
		for _, x := range g.Certificates {
			fmt.Fprintf(w, "certificate of %s, SHA-256, as the last check saw it:\n  %s\n", x.Resource, x.Fingerprint)
		}
	}
	if len(g.Machines) > 0 {
		fmt.Fprintln(w)
		columns(w, "MACHINE\tTHROUGH\tCONNECT WITH", func(row func(string, ...any)) {
			for _, m := range g.Machines {
				row("%s\t%s\t%s", m.Resource, review.OrDash(m.Through), m.Command)
			}
		})
	}
}
