package cli

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/accounts"
	"undersail/internal/api/contract"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
	"undersail/internal/review"
)

func (a *app) accountsShowCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "show NAME", Short: "Show who an account is, what it may, what it costs and when it ends", Args: cobra.ExactArgs(1), Example: "  undersail accounts show saltmere-lab",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			d, err := decode[accounts.Detail](c.ShowAccount(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(cmd, d, func(w io.Writer) { printAccount(w, d) })
		}}
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
		row("signed in as\t%s (%s)", review.OrDash(d.Identity.Account), review.OrDash(strings.Join(d.Identity.Roles, ", ")))
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
			row("prices\tof its own, in %s: %d sizes, %d disk types", d.Prices.Currency, len(d.Prices.Sizes), len(d.Prices.DiskTypes))
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
	cmd := &cobra.Command{Use: "test NAME", Short: "Ask the cloud whom the credentials of an account belong to", Args: cobra.ExactArgs(1),
		Long: "Ask the cloud whom the credentials belong to, now. The exit code is 1 when it does not accept them.", Example: "  undersail accounts test saltmere-lab",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			d, err := decode[accounts.Detail](c.TestAccount(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			err = a.print(cmd, d, func(w io.Writer) { printAccount(w, d) })
			if err == nil && d.Problem != "" {
				return &exit{exitFailed, nil}
			}
			return err
		}}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) accountsRenewCommand() *cobra.Command {
	var id, file string
	var from credentialsFrom
	cmd := &cobra.Command{Use: "renew NAME", Short: "Give an account new credentials; runs that wait for them go on", Args: cobra.ExactArgs(1),
		Long:    "Give an account new credentials for the cloud and endpoint that it has. The client secret is asked for, or read\nfrom standard input or a file; of an OpenStack cloud all of them come from a clouds.yaml or the environment. Runs that\nwere parked because the old credentials ended go on.",
		Example: "  undersail accounts renew saltmere-lab < secret\n  undersail accounts renew saltmere-lab --client-id NEW --file secret\n  undersail accounts renew harbour --clouds-file clouds.yaml --entry harbour",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var renewed contract.RenewedCredentials
			endpoint, fields := "", map[string]string{}
			given, err := from.read("openstack", &endpoint, &fields)
			if err != nil {
				return err
			}
			if given {
				renewed.Credentials = &fields
			} else {
				secret, err := secretValue(cmd, "client secret: ", file)
				if err != nil {
					return err
				}
				renewed.ClientSecret = &secret
			}
			if id != "" {
				renewed.ClientId = &id
			}
			d, err := decode[accounts.Detail](c.RenewAccount(cmd.Context(), args[0], renewed))
			if err != nil {
				return err
			}
			return a.print(cmd, d, func(w io.Writer) {
				fmt.Fprintf(w, "account %s has new credentials; they end: %s\n", d.Name, endOf(d.CredentialsEnd, "never, says the cloud"))
			})
		}}
	cmd.Flags().StringVar(&id, "client-id", "", "client id; the one that it has when left out")
	from.flags(cmd)
	cmd.Flags().StringVar(&file, "file", "", "file to read the client secret from")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) accountsRemoveCommand() *cobra.Command {
	var gone bool
	var why string
	cmd := &cobra.Command{Use: "remove NAME", Short: "Forget the credentials of an account and close it", Args: cobra.ExactArgs(1),
		Long: `Forget the credentials of an account and close it. It must have no stacks. One that vanished itself, as a lab
that ended, is closed with --gone: then the cloud must not accept it any more, its stacks are closed with it,
and what was known there last is told and kept in the audit.`,
		Example: "  undersail accounts remove saltmere-lab\n  undersail accounts remove saltmere-lab --gone --why 'the course is over'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			closed, err := decode[accounts.Closed](c.RemoveAccount(cmd.Context(), args[0], &contract.RemoveAccountParams{Gone: &gone, Why: &why}))
			if err != nil {
				return err
			}
			return a.print(cmd, closed, func(w io.Writer) {
				fmt.Fprintf(w, "account %s is closed; its credentials are forgotten\n", closed.Account.Name)
				for _, s := range closed.Stacks {
					fmt.Fprintf(w, "\nstack %s in %s is closed with it; known there last (%.3f an hour):\n", s.Name, s.Region, s.Hour)
					for _, r := range s.Resources {
						fmt.Fprintln(w, "  "+r)
					}
				}
				if len(closed.Kept) > 0 {
					fmt.Fprintf(w, "\nkept there, and not listed any more:\n  %s\n", strings.Join(closed.Kept, "\n  "))
				}
			})
		}}
	cmd.Flags().BoolVar(&gone, "gone", false, "the account itself vanished: close its stacks with it")
	cmd.Flags().StringVar(&why, "why", "", "why, for the audit")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) accountsSetCommand() *cobra.Command {
	var regions, ends, lease, budget string
	var tags []string
	var unreached, second bool
	cmd := &cobra.Command{Use: "set NAME", Short: "Set what an account is held to: regions, budget, end, lease, tags, a second person", Args: cobra.ExactArgs(1),
		Long:    "Set what an account is held to. What is not named stays; none takes a bound away.",
		Example: "  undersail accounts set saltmere-lab --regions north-fell,ember-coast --budget 900\n  undersail accounts set saltmere-lab --ends 2027-01-31 --lease 7d --tag owner=forecasting\n  undersail accounts set saltmere-lab --budget none\n  undersail accounts set saltmere-live --second-person",
		RunE: func(cmd *cobra.Command, args []string) error {
			var b accounts.Bounds
			if cmd.Flags().Changed("unreached") {
				b.Unreached = &unreached
			}
			if cmd.Flags().Changed("second-person") {
				b.SecondPerson = &second
			}
			b, err := boundsOf(b, regions, ends, lease, budget, tags)
			if err != nil {
				return &exit{exitUsage, err}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			d, err := decode[accounts.Detail](c.BoundAccount(cmd.Context(), args[0], b))
			if err != nil {
				return err
			}
			return a.print(cmd, d, func(w io.Writer) { printAccount(w, d) })
		}}
	f := cmd.Flags()
	f.BoolVar(&second, "second-person", false, "somebody else than its author accepts a proposal; =false takes it away")
	f.StringVar(&regions, "regions", "", "the only regions for new stacks, or none")
	f.StringVar(&budget, "budget", "", "what may be spent in a month, or none")
	f.StringVar(&ends, "ends", "", "date at which a lab account is over, such as 2027-01-31, or none")
	f.StringVar(&lease, "lease", "", "how long a stack lives unless it is extended, such as 7d, or none")
	f.BoolVar(&unreached, "unreached", false, "no packets from the service reach its machines: checks that would go there are not asked")
	f.StringArrayVar(&tags, "tag", nil, "tag of every resource as NAME=VALUE, in the place of those that there were; none takes them away")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) accountsPricesCommand() *cobra.Command {
	var file string
	var remove bool
	cmd := &cobra.Command{Use: "prices NAME", Short: "Show or set a price list of the account's own", Args: cobra.ExactArgs(1),
		Long: `Show the price list that an account has of its own, or set it from a YAML file: what was agreed with the cloud, or
what a cloud that tells no prices costs whoever runs it. It comes before what the cloud tells. In another currency
than the cloud's, what it does not name is not told.

  currency: kr
  sizes: {plain-1: 0.02, plain-2: 0.04}      # an hour
  disk_types: {solid: 0.0002}                # a GiB for an hour
  address: 0.005                             # a public address for an hour`,
		Example: "  undersail accounts prices saltmere-lab\n  undersail accounts prices saltmere-lab --file prices.yaml\n  undersail accounts prices saltmere-lab --remove",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var d accounts.Detail
			switch {
			case remove:
				d, err = decode[accounts.Detail](c.BoundAccount(cmd.Context(), args[0], accounts.Bounds{Prices: &offer.PriceList{}}))
			case file != "":
				var text []byte
				if text, err = os.ReadFile(file); err != nil {
					return &exit{exitUsage, err}
				}
				list, err := offer.ReadPriceList(text)
				if err != nil {
					return &exit{exitFindings, fmt.Errorf("%s: %w", file, err)}
				}
				if d, err = decode[accounts.Detail](c.BoundAccount(cmd.Context(), args[0], accounts.Bounds{Prices: &list})); err != nil {
					return err
				}
			default:
				d, err = decode[accounts.Detail](c.ShowAccount(cmd.Context(), args[0]))
			}
			if err != nil {
				return err
			}
			return a.print(cmd, d.Prices, func(w io.Writer) { printPrices(w, d) })
		}}
	cmd.Flags().StringVar(&file, "file", "", "YAML file of the price list")
	cmd.Flags().BoolVar(&remove, "remove", false, "take the list away")
	cmd.MarkFlagsMutuallyExclusive("file", "remove")
	a.outputFlag(cmd)
	return cmd
}

func printPrices(w io.Writer, d accounts.Detail) {
	if d.Prices == nil {
		fmt.Fprintf(w, "account %s has no prices of its own; those of its cloud count\n", d.Name)
		return
	}
	columns(w, "WHAT\tNAME\tPRICE", func(row func(string, ...any)) {
		for _, name := range slices.Sorted(maps.Keys(d.Prices.Sizes)) {
			row("size\t%s\t%g %s an hour", name, d.Prices.Sizes[name], d.Prices.Currency)
		}
		for _, name := range slices.Sorted(maps.Keys(d.Prices.DiskTypes)) {
			row("disk\t%s\t%g %s for a GiB and hour", name, d.Prices.DiskTypes[name], d.Prices.Currency)
		}
		if d.Prices.Address > 0 {
			row("address\t-\t%g %s an hour", d.Prices.Address, d.Prices.Currency)
		}
	})
}

// boundsOf reads what an account is to be held to, beside what is set already.
func boundsOf(b accounts.Bounds, regions, ends, lease, budget string, tags []string) (accounts.Bounds, error) {
	if regions != "" {
		list := []string{}
		if regions != "none" {
			list = strings.Split(regions, ",")
		}
		b.AllowedRegions = &list
	}
	if budget != "" {
		amount := -1.0
		if budget != "none" {
			if _, err := fmt.Sscanf(budget, "%g", &amount); err != nil || amount < 0 {
				return b, fmt.Errorf("--budget takes an amount of money or none, not %q", budget)
			}
		}
		b.Budget = &amount
	}
	if ends != "" {
		var at time.Time
		if ends != "none" {
			day, err := time.ParseInLocation(time.DateOnly, ends, time.Local)
			if err != nil {
				return b, fmt.Errorf("--ends takes a date such as 2027-01-31 or none, not %q", ends)
			}
			at = day.AddDate(0, 0, 1).Add(-time.Second) // the day belongs to it
		}
		b.EndsAt = &at
	}
	if lease != "" {
		var seconds int64
		if lease != "none" {
			var err error
			if seconds, err = resource.ParseSpan(lease); err != nil {
				return b, fmt.Errorf("--lease takes a span of time such as 7d or none: %w", err)
			}
		}
		b.LeaseSeconds = &seconds
	}
	if tags != nil {
		all := map[string]string{}
		for _, pair := range tags {
			key, value, ok := strings.Cut(pair, "=")
			if !ok && pair != "none" {
				return b, fmt.Errorf("--tag takes NAME=VALUE, not %q", pair)
			}
			if ok {
				all[key] = value
			}
		}
		b.Tags = &all
	}
	if b == (accounts.Bounds{}) {
		return b, errors.New("name at least one of --regions, --budget, --ends, --lease, --tag, --unreached")
	}
	return b, nil
}
