package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/audit"
	"undersail/internal/review"
)

func (a *app) auditCommand() *cobra.Command {
	var p contract.ListAuditParams
	var who, action, head string
	var limit int
	var check bool
	cmd := &cobra.Command{
		Use:   "audit [SUBJECT]",
		Short: "Show who did what, or check that nothing was changed afterwards",
		Args:  cobra.MaximumNArgs(1),
		Long: `Show who did what, the newest first: signing in, changes, acceptances with their consents, secrets that were
revealed and why. SUBJECT is a stack, an account, a secret. Whoever is no administrator sees what they did
themselves. With --check every entry is held against its hash; --head takes what an earlier check told, and
shows that nothing was cut off since.`,
		Example: "  undersail audit\n  undersail audit intake --action reveal\n  undersail audit --check\n  " +
			"undersail audit --check --head 412:9f0c...",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			if check || head != "" {
				return a.checkAudit(cmd, c, head)
			}
			if len(args) == 1 {
				p.Subject = &args[0]
			}
			if who != "" {
				p.Who = &who
			}
			if action != "" {
				p.Action = &action
			}
			p.Limit = &limit
			list, err := decode[[]audit.Entry](c.ListAudit(cmd.Context(), &p))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				columns(w, "NUMBER\tAT\tWHO\tDID\tTO\tDETAIL", func(row func(string, ...any)) {
					for _, e := range list {
						row("%d\t%s\t%s\t%s\t%s\t%s", e.Number, e.At.Local().Format("2006-01-02 15:04:05"), e.Who,
							e.Action, review.OrDash(e.Subject), auditDetail(e))
					}
				})
			})
		}),
	}
	f := cmd.Flags()
	f.StringVar(&who, "who", "", "only what this person did")
	f.StringVar(&action, "action", "", "only this, such as reveal, accept or 'sign in'")
	f.IntVar(&limit, "limit", 50, "how many entries, 500 at most")
	f.BoolVar(&check, "check", false, "hold every entry against its hash")
	f.StringVar(&head, "head", "", "with --check: NUMBER:HASH, as an earlier check told it")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) checkAudit(cmd *cobra.Command, c *contract.Client, head string) error {
	p := contract.CheckAuditParams{}
	if head != "" {
		p.Head = &head
	}
	found, err := decode[audit.Chain](c.CheckAudit(cmd.Context(), &p))
	if err != nil {
		return err
	}
	err = a.print(cmd, found, func(w io.Writer) {
		if found.Sound {
			fmt.Fprintf(w, "the audit is as it was written: %d entries\nhead %s\n", found.Entries, found.Head)
			return
		}
		fmt.Fprintf(w, "the audit was changed: %s\n", found.Fault)
	})
	if err == nil && !found.Sound {
		return &exit{exitFindings, nil}
	}
	return err
}

// auditDetail writes the detail of an entry in one line, the reason first.
func auditDetail(e audit.Entry) string {
	var parts []string
	if e.Detail["refused"] != nil {
		parts = append(parts, "refused")
	}
	if e.Reason != "" {
		parts = append(parts, fmt.Sprintf("%q", e.Reason))
	}
	for _, key := range slices.Sorted(maps.Keys(e.Detail)) {
		v := e.Detail[key]
		if key != "refused" && v != nil && v != "" && fmt.Sprint(v) != "[]" && fmt.Sprint(v) != "map[]" {
			parts = append(parts, key+" "+review.Value(v))
		}
	}
	return strings.Join(parts, "; ")
}
