package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/accounts"
	"undersail/internal/api/contract"
	"undersail/internal/core/resource"
	"undersail/internal/review"
)

func (a *app) accountsShowCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "show NAME",
		Short:   "Show who an account is, what it may, what it costs and when it ends",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail accounts show saltmere-lab",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			d, err := decode[accounts.Detail](c.ShowAccount(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(cmd, d, func(w io.Writer) { printAccount(w, d) })
		}),
	}
	a.outputFlag(cmd)
	return cmd
}

// printAccount writes all that is known of an account.
func printAccount(w io.Writer, d accounts.Detail) {
	fmt.Fprintf(w, "account %s of %s at %s\n\n", d.Name, d.Cloud, d.Endpoint)
	if d.Problem != "" {
		fmt.Fprintf(w, "the cloud does not accept it: %s\nremedy: %s\n\n", d.Problem, d.Remedy)
	}
	columns(w, "WHAT\tIS", func(row func(string, ...any)) {
		if d.ClosedAt != nil {
			row("closed\t%s: %s", d.ClosedAt.Local().Format(time.DateOnly), d.ClosedWhy)
		}
		row("signed in as\t%s (%s)", review.OrDash(d.Identity.Account),
			review.OrDash(strings.Join(d.Identity.Roles, ", ")))
		row("may make\t%s", mayMake(d.Identity.Makes))
		row("credentials end\t%s", endOf(d.CredentialsEnd, "never, says the cloud"))
		row("tested\t%s", endOf(d.TestedAt, "not yet"))
		row("regions\t%s", strings.Join(d.Regions, ", "))
		if d.Unreached {
			row("its machines\tare not reached from here: what would be asked there is not asked")
		}
		if d.SecondPerson {
			row("accepted by\tsomebody else than a proposal's author")
		}
		if len(d.AllowedRegions) > 0 {
			row("stacks only in\t%s", strings.Join(d.AllowedRegions, ", "))
		}
		if d.ClockRate != 1 {
			row("clock\t%g cloud seconds to a real one", d.ClockRate)
		}
		if d.EndsAt != nil {
			row("lab account\tends %s", endOf(d.EndsAt, ""))
		}
		if d.LeaseSeconds > 0 {
			row("lease of a stack\t%s", resource.FormatSpan(d.LeaseSeconds))
		}
		if len(d.Tags) > 0 {
			row("tags\t%s", tagLine(d.Tags))
		}
		if d.Prices != nil {
			row("prices\tof its own, in %s: %d sizes, %d disk types", d.Prices.Currency, len(d.Prices.Sizes),
				len(d.Prices.DiskTypes))
		}
		row("this month\t%s", spending(d))
		if d.MostMonth != nil {
			row("asks for consent\tabove %.0f a month for a stack", *d.MostMonth)
		}
	})
	if len(d.Running) == 0 {
		fmt.Fprintln(w, "\nno stacks")
		return
	}
	fmt.Fprintln(w)
	columns(w, "STACK\tREGION\tSTATE\tHOUR", func(row func(string, ...any)) {
		for _, x := range d.Running {
			row("%s\t%s\t%s\t%.3f %s", x.Name, x.Region, x.State, x.Hour, d.Currency)
		}
	})
}

func mayMake(types []string) string {
	if types == nil {
		return "the cloud does not tell"
	}
	return review.OrDash(strings.Join(types, ", "))
}

func endOf(at *time.Time, otherwise string) string {
	if at == nil {
		return otherwise
	}
	text := at.Local().Format("2006-01-02 15:04")
	if left := time.Until(*at); left > 0 && left < 14*24*time.Hour {
		text += ", in " + resource.FormatSpan(int64(left.Minutes())*60)
	} else if left <= 0 && left > -48*time.Hour {
		text += ", " + resource.FormatSpan(max(60, int64(-left.Minutes())*60)) + " ago"
	}
	return text
}

func tagLine(tags map[string]string) string {
	var out []string
	for _, key := range slices.Sorted(maps.Keys(tags)) {
		out = append(out, key+"="+tags[key])
	}
	return strings.Join(out, ", ")
}

func spending(d accounts.Detail) string {
	text := strings.TrimSpace(fmt.Sprintf("%.2f %s", d.Spent, d.Currency)) + " spent"
	if d.Budget != nil {
		text += fmt.Sprintf(" of %.2f, %.2f left", *d.Budget, *d.Left)
	}
	return text + fmt.Sprintf("; what runs costs %.2f a month", d.Month)
}

func (a *app) accountsTestCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "test NAME",
		Short:   "Ask the cloud whom the credentials of an account belong to",
		Args:    cobra.ExactArgs(1),
		Long:    "Ask the cloud whom the credentials belong to, now. The exit code is 1 when it does not accept them.",
		Example: "  undersail accounts test saltmere-lab",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			d, err := decode[accounts.Detail](c.TestAccount(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			err = a.print(cmd, d, func(w io.Writer) { printAccount(w, d) })
			if err == nil && d.Problem != "" {
				return &exit{exitFailed, nil}
			}
			return err
		}),
	}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) accountsRemoveCommand() *cobra.Command {
	var gone bool
	var why string
	cmd := &cobra.Command{
		Use:   "remove NAME",
		Short: "Forget the credentials of an account and close it",
		Args:  cobra.ExactArgs(1),
		Long: `Forget the credentials of an account and close it. It must have no stacks. One that vanished itself, as a lab
that ended, is closed with --gone: then the cloud must not accept it any more, its stacks are closed with it,
and what was known there last is told and kept in the audit.`,
		Example: "  undersail accounts remove saltmere-lab\n  undersail accounts remove saltmere-lab --gone --why " +
			"'the course is over'",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			closed, err := decode[accounts.Closed](c.RemoveAccount(cmd.Context(), args[0],
				&contract.RemoveAccountParams{Gone: &gone, Why: &why}))
			if err != nil {
				return err
			}
			return a.print(cmd, closed, func(w io.Writer) {
				fmt.Fprintf(w, "account %s is closed; its credentials are forgotten\n", closed.Account.Name)
				for _, s := range closed.Stacks {
					fmt.Fprintf(w, "\nstack %s in %s is closed with it; known there last (%.3f an hour):\n", s.Name,
						s.Region, s.Hour)
					for _, r := range s.Resources {
						fmt.Fprintln(w, "  "+r)
					}
				}
				if len(closed.Kept) > 0 {
					fmt.Fprintf(w, "\nkept there, and not listed any more:\n  %s\n", strings.Join(closed.Kept, "\n  "))
				}
			})
		}),
	}
	cmd.Flags().BoolVar(&gone, "gone", false, "the account itself vanished: close its stacks with it")
	cmd.Flags().StringVar(&why, "why", "", "why, for the audit")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) accountsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "accounts",
		Short: "List the accounts of clouds",
		Args:  cobra.NoArgs,
		Example: "  undersail accounts\n  undersail accounts add saltmere-lab --cloud larch --endpoint " +
			"http://127.0.0.1:9000 --client-id ID",
		RunE: a.asking(func(cmd *cobra.Command, _ []string, c *contract.Client) error {
			list, err := decode[[]accounts.Account](c.ListAccounts(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				columns(w, "ACCOUNT\tCLOUD\tSTACKS\tCREDENTIALS END\tREGIONS", func(row func(string, ...any)) {
					for _, x := range list {
						end := endOf(x.CredentialsEnd, "-")
						if x.ClosedAt != nil {
							end = "closed " + x.ClosedAt.Local().Format(time.DateOnly)
						}
						row("%s\t%s\t%d\t%s\t%s", x.Name, x.Cloud, x.Stacks, end, strings.Join(x.Regions, ", "))
					}
				})
			})
		}),
	}
	a.outputFlag(cmd)
	cmd.AddCommand(a.accountsAddCommand(), a.accountsShowCommand(), a.accountsTestCommand(), a.accountsRenewCommand(),
		a.accountsSetCommand(), a.accountsPricesCommand(), a.accountsRemoveCommand(), a.accountsRangesCommand(),
		a.accountsLimitCommand())
	return cmd
}
