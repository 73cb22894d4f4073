package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/audit"
	"undersail/internal/review"
	"undersail/internal/secrets"
	"undersail/internal/stacks"
)

func (a *app) revealCommand() *cobra.Command {
	var reason, into string
	cmd := &cobra.Command{Use: "reveal SECRET | reveal STACK NAME", Short: "Hand a secret over, for a reason that the audit keeps", Args: cobra.RangeArgs(1, 2),
		Long: `Hand the value of a secret over: on a terminal, into a pipe, or into a new file for its owner only. It is
for administrators, and for whoever gave the secret or had it drawn. NAME is a secret input of the stack,
a key pair that was drawn for it, or a secret output. Who read what, when and why stays in the audit.`,
		Example: "  undersail reveal intake admin_password --reason 'first sign-in'\n  undersail reveal db-password --reason 'moved to the new server' --to password\n  undersail reveal rota access --reason 'drill' | ssh-add -t 1h -",
		RunE: func(cmd *cobra.Command, args []string) error {
			asked := secrets.Asked{Reference: args[0], Reason: reason}
			if len(args) == 2 {
				asked = secrets.Asked{Stack: args[0], Name: args[1], Reason: reason}
			}
			if asked.Reason == "" {
				var err error
				if asked.Reason, err = askLine(cmd, "what for: "); err != nil {
					return err
				}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			v, err := decode[secrets.Revealed](c.Reveal(cmd.Context(), asked))
			if err != nil {
				return err
			}
			if into != "" {
				return a.revealInto(cmd, v, into)
			}
			if terminalWidth(cmd.OutOrStdout()) > 0 {
				fmt.Fprintln(cmd.OutOrStdout(), shown(v.Value))
				return nil
			}
			_, err = io.WriteString(raw(cmd.OutOrStdout()), v.Value)
			return err
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "what it is needed for; asked for on a terminal")
	cmd.Flags().StringVar(&into, "to", "", "new file to write it to, for its owner only")
	return cmd
}

// revealInto writes a value to a file that is not there yet.
func (a *app) revealInto(cmd *cobra.Command, v secrets.Revealed, path string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, os.ErrExist) {
		return &exit{exitUsage, fmt.Errorf("%s is there already; name a file that is not", path)}
	}
	if err != nil {
		return &exit{exitFailed, err}
	}
	_, err = f.WriteString(v.Value)
	if err := errors.Join(err, f.Close()); err != nil {
		return &exit{exitFailed, err}
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s is in %s, which only you may read\n", v.Reference, path)
	return nil
}

// askLine asks for a line on a terminal; elsewhere nothing is asked.
func askLine(cmd *cobra.Command, prompt string) (string, error) {
	in := fileOf(cmd.InOrStdin())
	if !isTerminal(in) {
		return "", &exit{exitUsage, errors.New("say what it is needed for, with --reason TEXT")}
	}
	fmt.Fprint(cmd.ErrOrStderr(), prompt)
	var line strings.Builder
	one := make([]byte, 1)
	for {
		n, err := in.Read(one)
		if n == 0 || one[0] == '\n' {
			return strings.TrimSpace(line.String()), nil
		}
		if err != nil {
			return "", err
		}
		line.WriteByte(one[0])
	}
}

func (a *app) auditCommand() *cobra.Command {
	var p contract.ListAuditParams
	var who, action, head string
	var limit int
	var check bool
	cmd := &cobra.Command{Use: "audit [SUBJECT]", Short: "Show who did what, or check that nothing was changed afterwards", Args: cobra.MaximumNArgs(1),
		Long: `Show who did what, the newest first: signing in, changes, acceptances with their consents, secrets that were
revealed and why. SUBJECT is a stack, an account, a secret. Whoever is no administrator sees what they did
themselves. With --check every entry is held against its hash; --head takes what an earlier check told, and
shows that nothing was cut off since.`,
		Example: "  undersail audit\n  undersail audit intake --action reveal\n  undersail audit --check\n  undersail audit --check --head 412:9f0c...",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
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
						row("%d\t%s\t%s\t%s\t%s\t%s", e.Number, e.At.Local().Format("2006-01-02 15:04:05"), e.Who, e.Action, review.OrDash(e.Subject), auditDetail(e))
					}
				})
			})
		}}
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
		if v := e.Detail[key]; key != "refused" && v != nil && v != "" && fmt.Sprint(v) != "[]" && fmt.Sprint(v) != "map[]" {
			parts = append(parts, key+" "+review.Value(v))
		}
	}
	return strings.Join(parts, "; ")
}

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
