package cli

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/accounts"
	"undersail/internal/api/contract"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
	"undersail/internal/review"
)

func (a *app) accountsRangesCommand() *cobra.Command {
	var add, remove, about string
	cmd := &cobra.Command{
		Use:   "ranges ACCOUNT",
		Short: "Show and declare ranges that networks of the account must not overlap",
		Args:  cobra.ExactArgs(1),
		Long: "Show the ranges of peers and of the premises that are declared for an account. Networks that " +
			"overlap\none of them are refused, and free ranges are drawn beside them.",
		Example: "  undersail accounts ranges saltmere-lab\n  undersail accounts ranges saltmere-lab --add " +
			"10.200.0.0/16 --about 'the tide office, Saltmere'\n  undersail accounts ranges saltmere-lab --remove " +
			"10.200.0.0/16",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) (err error) {
			var list []accounts.Range
			switch {
			case add != "" && remove != "":
				return &exit{exitUsage, fmt.Errorf("either --add or --remove")}
			case add != "":
				list, err = decode[[]accounts.Range](c.DeclareRange(cmd.Context(), args[0], contract.NewRange{
					Range: add,
					About: &about,
				}))
			case remove != "":
				list, err = decode[[]accounts.Range](c.RemoveRange(cmd.Context(), args[0], &contract.RemoveRangeParams{
					Range: remove,
				}))
			default:
				list, err = decode[[]accounts.Range](c.ListRanges(cmd.Context(), args[0]))
			}
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintf(w, "no ranges are declared for account %s\n", args[0])
					return
				}
				columns(w, "RANGE\tBY\tABOUT", func(row func(string, ...any)) {
					for _, x := range list {
						row("%s\t%s\t%s", x.Range, x.By, review.OrDash(x.About))
					}
				})
			})
		}),
	}
	cmd.Flags().StringVar(&add, "add", "", "range to declare, such as 10.200.0.0/16")
	cmd.Flags().StringVar(&about, "about", "", "whose it is")
	cmd.Flags().StringVar(&remove, "remove", "", "range to take back")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) accountsLimitCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "limit ACCOUNT AMOUNT|none",
		Short:   "Set above which cost of a month proposals ask for a consent",
		Args:    cobra.ExactArgs(2),
		Example: "  undersail accounts limit saltmere-lab 400\n  undersail accounts limit saltmere-lab none",
		RunE: func(cmd *cobra.Command, args []string) error {
			var limit contract.MonthLimit
			if args[1] != "none" {
				amount, err := strconv.ParseFloat(args[1], 64)
				if err != nil || amount < 0 {
					return &exit{exitUsage, fmt.Errorf("give an amount of money or none, not %q", args[1])}
				}
				limit.MostMonth = &amount
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			account, err := decode[accounts.Account](c.LimitAccount(cmd.Context(), args[0], limit))
			if err != nil {
				return err
			}
			return a.print(cmd, account, func(w io.Writer) {
				if account.MostMonth == nil {
					fmt.Fprintf(w, "proposals of account %s ask for no consent to their cost\n", account.Name)
					return
				}
				fmt.Fprintf(w, "proposals of account %s that cost more than %.0f a month ask for the consent `cost`\n",
					account.Name, *account.MostMonth)
			})
		},
	}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) accountsSetCommand() *cobra.Command {
	var regions, ends, lease, budget string
	var tags []string
	var unreached, second bool
	cmd := &cobra.Command{
		Use:   "set NAME",
		Short: "Set what an account is held to: regions, budget, end, lease, tags, a second person",
		Args:  cobra.ExactArgs(1),
		Long:  "Set what an account is held to. What is not named stays; none takes a bound away.",
		Example: "  undersail accounts set saltmere-lab --regions north-fell,ember-coast --budget 900\n  undersail " +
			"accounts set saltmere-lab --ends 2027-01-31 --lease 7d --tag owner=forecasting\n  undersail accounts " +
			"set saltmere-lab --budget none\n  undersail accounts set saltmere-live --second-person",
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
		},
	}
	f := cmd.Flags()
	f.BoolVar(&second, "second-person", false, "somebody else than its author accepts a proposal; =false takes it away")
	f.StringVar(&regions, "regions", "", "the only regions for new stacks, or none")
	f.StringVar(&budget, "budget", "", "what may be spent in a month, or none")
	f.StringVar(&ends, "ends", "", "date at which a lab account is over, such as 2027-01-31, or none")
	f.StringVar(&lease, "lease", "", "how long a stack lives unless it is extended, such as 7d, or none")
	f.BoolVar(&unreached, "unreached", false,
		"no packets from the service reach its machines: checks that would go there are not asked")
	f.StringArrayVar(&tags, "tag", nil,
		"tag of every resource as NAME=VALUE, in the place of those that there were; none takes them away")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) accountsPricesCommand() *cobra.Command {
	var file string
	var remove bool
	cmd := &cobra.Command{
		Use:   "prices NAME",
		Short: "Show or set a price list of the account's own",
		Args:  cobra.ExactArgs(1),
		Long: `Show the price list that an account has of its own, or set it from a YAML file: what was agreed with the cloud, or
what a cloud that tells no prices costs whoever runs it. It comes before what the cloud tells. In another currency
than the cloud's, what it does not name is not told.

  currency: kr
  sizes: {plain-1: 0.02, plain-2: 0.04}      # an hour
  disk_types: {solid: 0.0002}                # a GiB for an hour
  address: 0.005                             # a public address for an hour`,
		Example: "  undersail accounts prices saltmere-lab\n  undersail accounts prices saltmere-lab --file " +
			"prices.yaml\n  undersail accounts prices saltmere-lab --remove",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) (err error) {
			var d accounts.Detail
			switch {
			case remove:
				d, err = decode[accounts.Detail](c.BoundAccount(cmd.Context(), args[0], accounts.Bounds{
					Prices: &offer.PriceList{},
				}))
			case file != "":
				var text []byte
				if text, err = os.ReadFile(file); err != nil {
					return &exit{exitUsage, err}
				}
				list, err := offer.ReadPriceList(text)
				if err != nil {
					return &exit{exitFindings, fmt.Errorf("%s: %w", file, err)}
				}
				if d, err = decode[accounts.Detail](c.BoundAccount(cmd.Context(), args[0], accounts.Bounds{
					Prices: &list,
				})); err != nil {
					return err
				}
			default:
				d, err = decode[accounts.Detail](c.ShowAccount(cmd.Context(), args[0]))
			}
			if err != nil {
				return err
			}
			return a.print(cmd, d.Prices, func(w io.Writer) { printPrices(w, d) })
		}),
	}
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
