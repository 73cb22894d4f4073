package cli

import (
	"cmp"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/stacks"
)

func (a *app) quietCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "quiet",
		Short: "Tell whether the service is quiet, and what is otherwise in the clouds than it has recorded",
		Args:  cobra.NoArgs,
		Long: `A service whose database was filled from a backup, or is behind what the service did, is quiet: it looks at every
stack and changes nothing, until it is started once with --in-charge. This tells from which moment its records
are, and what is altered, missing or recorded nowhere since, by us or by others.`,
		Example: "  undersail quiet",
		RunE: a.asking(func(cmd *cobra.Command, _ []string, c *contract.Client) error {
			q, err := decode[stacks.Quiet](c.GetQuiet(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(cmd, q, func(w io.Writer) { printQuiet(w, q) })
		}),
	}
	a.outputFlag(cmd)
	return cmd
}

func printQuiet(w io.Writer, q stacks.Quiet) {
	if q.Why == "" {
		fmt.Fprintln(w, "the service is in charge of what it has recorded")
		return
	}
	fmt.Fprintf(w, "the service is quiet: %s\nits records are of %s; nothing is changed, and no run goes on\n\n", q.Why,
		q.Since.Local().Format(time.DateTime))
	switch {
	case !q.Looked:
		fmt.Fprintln(w, "it is looking at every stack; ask again in a moment")
	case len(q.Differs) == 0:
		fmt.Fprintln(w, "everything in the clouds is as it is recorded")
	default:
		columns(w, "STACK\tRESOURCE\tHOW\tWHAT\tBY", func(row func(string, ...any)) {
			for _, d := range q.Differs {
				row("%s\t%s\t%s\t%s\t%s", cmp.Or(d.Stack, d.Account), cmp.Or(d.Resource, "-"), d.How, d.What,
					cmp.Or(d.By, "-"))
			}
		})
	}
	fmt.Fprintln(w, "\nnext: if this copy is the one that goes on, end every other one, and start it once with: "+
		"undersail serve --in-charge")
}
